//! What frames cost: measured, foretold, compared with what then happened, and cut into parts.
#![cfg(unix)]
#![allow(clippy::unwrap_used)]

mod support;

use support::{Project, SMALL, UNDERSTUDY};

/// A frame takes between 10 and 100 ms, the last ones longest.
const SECONDS: fn(i64) -> f64 = |frame| 0.01 + 0.09 * (frame - 1) as f64 / 39.0;

fn project() -> Project {
    let sheet = SMALL.replace("1-24", "1-40").replace("chunk = 6", "chunk = 1").replace("\"understudy\"", "\"slow\"");
    let project = Project::with(&sheet);
    let own = env!("CARGO_BIN_EXE_truepath");
    // The understudy is started once for all frames of a call; here each call has one.
    let body = format!(
        "case \"$1\" in understudy) ;; *) exec {own} \"$@\" ;; esac\n\
         for word do case $before in --frames) frame=$word ;; esac; before=$word; done\n\
         sleep $(awk \"BEGIN {{ print 0.01 + 0.09 * ($frame - 1) / 39 }}\")\nexec {own} \"$@\""
    );
    project.script("slow", &format!("before=\n{body}"));
    let adapter = UNDERSTUDY.replace("program = \"truepath\"", "program = \"bin/slow\"");
    project.write("adapters/slow.toml", adapter.replace("name = \"understudy\"", "name = \"slow\""));
    project
}

#[test]
fn an_estimate_comes_from_measured_frames_and_is_compared_with_what_happened() {
    let project = project();
    let said = project.say("estimate").ended(1);
    assert!(said.out.contains("truepath estimate --measure first,middle,last"), "{}", said.out);
    project.say("estimate --measure first,middle,last").ended(0);
    assert!(
        support::rendered(&project).is_empty() && !project.path("renders/.truepath").exists(),
        "{:?}",
        project.files("renders")
    );
    let foretold = project.say("estimate --json").ended(0).json();
    let (seconds, low, high) = (
        foretold["seconds"].as_f64().unwrap(),
        foretold["lowest"].as_f64().unwrap(),
        foretold["highest"].as_f64().unwrap(),
    );
    assert_eq!(
        (foretold["series"][0]["left"].as_i64(), foretold["series"][0]["measured"].as_i64()),
        (Some(40), Some(40))
    );
    assert!(foretold["series"][0]["bytes"].as_f64().unwrap() > 1000.0);
    let of = |machines: i64| {
        project.say(&format!("estimate --machines {machines} --json")).json()["seconds"].as_f64().unwrap()
    };
    assert!((of(4) - seconds / 4.0).abs() < 0.01 * seconds && of(4000) < of(400) + 1e-9 && of(4000) > 0.0);
    project.say("run").ended(0);
    let after = project.say("estimate --json").ended(0).json();
    let run = &after["runs"][0];
    let (estimated, took) = (run["estimated"].as_f64().unwrap(), run["took"].as_f64().unwrap());
    // The sum of what the frames were made to wait is the least that it can have taken.
    assert!(took >= (1..=40).map(SECONDS).sum::<f64>());
    assert!((estimated - seconds).abs() < 0.01 * seconds, "{estimated} {seconds}");
    assert!(low < seconds && seconds < high && (0.6..1.7).contains(&(took / estimated)), "{took} {estimated}");
    let over: Vec<serde_json::Value> = project
        .files(".truepath/truepath/journal")
        .iter()
        .flat_map(|name| {
            let text = std::fs::read_to_string(project.path(&format!(".truepath/truepath/journal/{name}"))).unwrap();
            text.lines().map(|line| serde_json::from_str(line).unwrap()).collect::<Vec<serde_json::Value>>()
        })
        .filter(|event| event["event"] == "over" && event["outcome"] == "complete")
        .collect();
    assert_eq!(over[0]["estimated"].as_f64(), Some((estimated * 1000.0).round() / 1000.0));

    // Parts by cost, and by count in a project that knows nothing.
    let start = (took - (1..=40).map(SECONDS).sum::<f64>()) / 40.0;
    let cost = |frame: i64| start + SECONDS(frame);
    let longest = |project: &Project| {
        project.say("build --parts 4 -o parts").ended(0);
        let span = |name: &str| {
            let (first, last) = name.trim_end_matches(".sh").rsplit_once('_').unwrap().1.split_once('-').unwrap();
            (first.parse::<i64>().unwrap()..=last.parse().unwrap()).map(cost).sum::<f64>()
        };
        let parts = project.files("parts");
        assert_eq!(parts.len(), 4, "{parts:?}");
        parts.iter().map(|name| span(name)).fold(0.0, f64::max) / ((1..=40).map(cost).sum::<f64>() / 4.0)
    };
    let (by_cost, by_count) = (longest(&project), longest(&self::project()));
    assert!(by_cost < 1.1 && by_count > 1.25, "by cost {by_cost}, by count {by_count}");
}
