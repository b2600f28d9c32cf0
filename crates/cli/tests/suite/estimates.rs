//! What frames cost: measured, foretold, compared with what then happened, and cut into parts.

use crate::support::{Project, SMALL};

/// Seconds that a frame is said to take: the last ones longest.
const SECONDS: fn(i64) -> f64 = |frame| 1.0 + 9.0 * (frame - 1) as f64 / 39.0;

fn project() -> Project {
    Project::with(&SMALL.replace("1-24", "1-40").replace("chunk = 6", "chunk = 1"))
}

/// Writes into the journals what frames are said to have taken: what this machine makes of it is nobody's affair.
fn say_seconds(project: &Project) {
    for name in project.files(".truepath/truepath/journal") {
        let name = format!(".truepath/truepath/journal/{name}");
        let text = std::fs::read_to_string(project.path(&name)).unwrap();
        let line = |line: &str| {
            let mut event: serde_json::Value = serde_json::from_str(line).unwrap();
            let frame = event["call"].as_str().and_then(|call| call.rsplit_once('-')?.1.parse::<i64>().ok());
            if let Some(frame) = frame.filter(|_| event["event"] == "ended") {
                event["seconds"] = SECONDS(frame).into();
            }
            format!("{event}\n")
        };
        project.write(&name, text.lines().map(line).collect::<String>());
    }
}

#[test]
fn an_estimate_comes_from_measured_frames_and_is_compared_with_what_happened() {
    let project = project();
    let said = project.say("estimate").ended(1);
    assert!(said.out.contains("truepath estimate --measure +24"), "{}", said.out);
    project.say("estimate --measure first,middle,last").ended(0);
    assert!(
        crate::support::rendered(&project).is_empty() && !project.path("renders/.truepath").exists(),
        "{:?}",
        project.files("renders")
    );
    // Of frames that were measured the newest time counts, also after their pictures are gone.
    project.say("run").ended(0);
    say_seconds(&project);
    std::fs::remove_dir_all(project.path("renders")).unwrap();
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
    // With four machines the last call may end as much later as it takes; no machine can help with a single call.
    assert!(of(4) > seconds / 4.0 - 0.5 && of(4) < seconds / 4.0 + 11.0, "{} {seconds}", of(4));
    assert!((of(4000) - of(400)).abs() < 1e-9 && of(4000) > 9.9, "{}", of(4000));
    project.say("run").ended(0);
    let after = project.say("estimate --json").ended(0).json();
    let is_it =
        |run: &&serde_json::Value| run["estimated"].as_f64().is_some_and(|own| (own - seconds).abs() < 0.01 * seconds);
    let run = after["runs"].as_array().unwrap().iter().find(is_it).unwrap_or_else(|| panic!("{after}"));
    let (estimated, took) = (run["estimated"].as_f64().unwrap(), run["took"].as_f64().unwrap());
    assert!((seconds - (1..=40).map(SECONDS).sum::<f64>()).abs() < 0.01 * seconds, "{foretold}");
    assert!(took > 0.0, "{run}");
    assert!(low < seconds && seconds < high && high < 2.0 * low, "{foretold}");
    let over: Vec<serde_json::Value> = project
        .files(".truepath/truepath/journal")
        .iter()
        .flat_map(|name| {
            let text = std::fs::read_to_string(project.path(&format!(".truepath/truepath/journal/{name}"))).unwrap();
            text.lines().map(|line| serde_json::from_str(line).unwrap()).collect::<Vec<serde_json::Value>>()
        })
        .filter(|event| event["event"] == "over" && event["outcome"] == "complete")
        .collect();
    assert!(
        over.iter().any(|own| own["estimated"].as_f64() == Some((estimated * 1000.0).round() / 1000.0)),
        "{over:?}"
    );

    // Parts by cost, and by count in a project that knows nothing.
    say_seconds(&project);
    let cost = SECONDS;
    let longest = |project: &Project| {
        project.say("build --parts 4 --into parts").ended(0);
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

#[test]
fn frames_that_tell_most_are_measured_and_what_is_not_known_is_said() {
    let project = project();
    let frames = |said: &crate::support::Said| said.json()["measured"].as_i64().unwrap();
    let said = project.say("estimate --measure +6 --json").ended(0);
    assert_eq!(frames(&said), 6);
    // Nobody has measured one twice.
    let said = project.say("estimate --measure +6 --json").ended(0);
    assert_eq!(frames(&said), 12);
    assert!(crate::support::rendered(&project).is_empty());
    let text = project.say("estimate").ended(0).out;
    assert!(
        text.contains("12 measured frames; measure those that tell most: truepath estimate --measure +12"),
        "{text}"
    );
    // Frames beyond all that were measured, and how long a call takes to start, are not known.
    let sheet = SMALL.replace("1-24", "1-400");
    project.write("truepath.toml", sheet.replace("chunk = 6", "chunk = 40"));
    let said = project.say("estimate --json").ended(0).json();
    let unknown: Vec<&str> = said["unknown"].as_array().unwrap().iter().filter_map(|own| own.as_str()).collect();
    assert_eq!(
        unknown,
        [
            "beyond all measured frames: crossing/beauty 41-400",
            "how much of a call is the start of its program: crossing/beauty"
        ]
    );
    let measured = project.say("estimate --measure +14 --json").ended(0);
    assert_eq!(frames(&measured), 26);
    assert_eq!(measured.json()["unknown"], serde_json::json!([]), "{}", measured.out);
    for words in ["+0", "+x", "+1001"] {
        let said = project.say(&format!("estimate --measure {words}")).ended(2);
        assert!(said.err.contains("from +1 to +1000"), "{}", said.err);
    }
    // The calls for a queue say what they were measured to take.
    let calls = project.say("build --to json").ended(0).json();
    let resources = &calls["calls"][0]["resources"];
    assert!(resources["seconds"].as_f64().unwrap() > 0.0 && resources["memory"].as_u64().unwrap() > 0, "{resources}");
}
