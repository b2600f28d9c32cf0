//! One verdict: what a look has found of a file, every command says, until the file changes; and what is advised mends it.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::path::PathBuf;

use crate::support::{Project, SMALL};
use serde_json::Value;

const STATES: [&str; 9] = ["good", "missing", "broken", "wrong", "stale", "changed", "foreign", "odd", "unreadable"];

/// Two passes of two cameras.
fn four() -> Project {
    let sheet = SMALL.replace("camera = \"quay\"", "each = { camera = [\"quay\", \"mast\"] }");
    let sheet = sheet.replace("{job}_{pass}", "{job}_{camera}_{pass}").replace("1-24", "1-8");
    Project::with(&sheet.replace("format = \"view\"", "format = \"view\"\npasses = [\"beauty\", \"mask\"]"))
}

fn file(project: &Project, camera: &str, pass: &str, frame: i64) -> PathBuf {
    project.path(&format!("renders/crossing/crossing_{camera}_{pass}.{frame:04}.png"))
}

/// Other bytes for a file, with the time that it had.
fn damaged(path: &PathBuf, how: impl FnOnce(&mut Vec<u8>)) {
    let (mut bytes, time) = (std::fs::read(path).unwrap(), path.metadata().unwrap().modified().unwrap());
    how(&mut bytes);
    std::fs::write(path, bytes).unwrap();
    File::options().write(true).open(path).unwrap().set_modified(time).unwrap();
}

/// The states of all series, as a document has them.
fn states(document: &Value) -> BTreeMap<String, Vec<String>> {
    let row = |row: &Value| {
        let states = STATES.iter().map(|state| row[*state].as_str().unwrap().to_owned());
        (row["series"].as_str().unwrap().to_owned(), states.collect())
    };
    document["series"].as_array().unwrap().iter().map(row).collect()
}

/// Runs what a document advises, in its order.
fn mend(project: &Project, document: &Value) {
    for line in document["fix"].as_array().unwrap() {
        let words: Vec<&str> = line.as_array().unwrap().iter().map(|word| word.as_str().unwrap()).collect();
        project.call(&words[1..]);
    }
}

/// The middle of the pixels of a PNG: its head and its end are whole.
fn middle(bytes: &mut [u8]) {
    let at = bytes.len() - 30;
    bytes[at] ^= 0xff;
}

#[test]
fn what_a_deep_look_has_found_every_command_says_until_it_is_mended() {
    let project = four();
    project.say("run").ended(0);
    let path = file(&project, "quay", "beauty", 2);
    damaged(&path, |bytes| middle(bytes));
    // Its head is whole, and nothing has been written since it landed.
    project.say("status").ended(0);
    let deep = project.say("verify --deep --json").ended(1).json();
    assert_eq!(deep["fix"], serde_json::json!([["truepath", "run", "--pass", "beauty", "crossing/quay"]]));
    for words in ["verify --json", "status --json", "verify --sums --json"] {
        assert_eq!(states(&project.say(words).ended(1).json()), states(&deep), "{words}");
    }
    assert!(project.say("names").ended(0).out.contains("32 files (31 good, 1 broken)"));
    project.say("report -o night.html").ended(0);
    assert!(std::fs::read_to_string(project.path("night.html")).unwrap().contains("broken 2"));
    let said = project.say("contact -o sheet.png --every 5");
    assert!(said.out.contains("1 broken"), "{said:?}");
    let narrow = project.say("run crossing/mast").ended(0);
    assert!(narrow.err.contains("nothing to render"), "{}", narrow.err);
    // A second sheet of the same plan, another spelling of its path, and another folder say the same.
    let spelt = project.path("scenes/../truepath.toml");
    let spelt = project.call(&["status", "--json", "-f", spelt.to_str().unwrap()]).ended(1).json();
    assert_eq!(states(&spelt), states(&deep));
    let before = project.stamps("renders");
    mend(&project, &deep);
    project.say("verify --deep").ended(0);
    project.say("status").ended(0);
    let after = project.stamps("renders");
    let touched: Vec<&String> = before.iter().filter(|(name, was)| after[*name] != **was).map(|own| own.0).collect();
    assert_eq!(touched, ["crossing/crossing_quay_beauty.0002.png"]);
    // What was found is forgotten with the file, and a file that was put back is what it was.
    damaged(&path, |bytes| middle(bytes));
    project.say("verify --deep").ended(1);
    damaged(&path, |bytes| middle(bytes));
    project.say("status").ended(1);
    project.say("verify --deep").ended(0);
    project.say("status").ended(0);
}

#[test]
fn what_was_odd_is_told_of_files_that_nobody_has_touched_since() {
    let project = Project::with(&SMALL.replace("1-24", "1-4"));
    project.say("run").ended(0);
    let name = |frame: i64| project.path(&format!("renders/crossing/crossing_beauty.{frame:04}.png"));
    std::fs::copy(name(1), name(2)).unwrap();
    std::fs::remove_dir_all(project.path(".truepath")).unwrap();
    let odd = |words: &str| project.say(words).json()["series"][0]["odd"].as_str().unwrap().to_owned();
    assert_eq!(odd("status --json"), "");
    assert_eq!(odd("verify --deep --json"), "2");
    assert_eq!(odd("status --json"), "2");
    crate::support::written_later(&name(2));
    assert_eq!(odd("status --json"), "");
}

#[test]
fn what_was_found_is_not_taken_back_while_the_sheet_asks_for_something_else() {
    let sheet = SMALL.replace("1-24", "1-3").replace("type = \"png\"", "type = \"tiff\"\ncompression = \"none\"");
    let project = Project::with(&sheet);
    project.say("run").ended(0);
    // A pixel is another: the file is whole, and not what landed.
    damaged(&project.path("renders/crossing/crossing_beauty.0002.tif"), |bytes| {
        let at = bytes.len() / 2;
        bytes[at] ^= 0x40;
    });
    let changed = |words: &str| project.say(words).json()["series"][0]["changed"].as_str().unwrap().to_owned();
    assert_eq!([changed("status --json"), changed("verify --deep --json")], ["", "2"]);
    project.write("truepath.toml", sheet.replace("32x18", "34x18"));
    project.say("verify --deep").ended(1);
    project.write("truepath.toml", &sheet);
    assert_eq!([changed("status --json"), changed("verify --deep --json")], ["2", "2"]);
}

#[test]
fn one_file_is_spoken_of_as_one_and_several_as_several() {
    let project = Project::with(&SMALL.replace("1-24", "1-3"));
    project.say("run").ended(0);
    std::fs::remove_dir_all(project.path(".truepath")).unwrap();
    for (words, says) in [
        (
            "verify --frames 2",
            "1 file is foreign: True Path has no record of it; `truepath verify --adopt` accepts it\n",
        ),
        ("verify", "3 files are foreign: True Path has no record of them; `truepath verify --adopt` accepts them\n"),
    ] {
        assert!(project.say(words).out.contains(says), "{words}");
    }
    for frame in 1..=2 {
        let path = project.path(&format!("renders/crossing/crossing_beauty.{frame:04}.png"));
        std::fs::rename(&path, path.with_file_name(format!("crossing_beauty.{frame:05}.png"))).unwrap();
    }
    for (words, says) in [
        ("verify --frames 2-3", "1 file has almost the name of a missing one; `truepath verify --adopt` accepts it\n"),
        ("verify", "2 files have almost the name of a missing one; `truepath verify --adopt` accepts them\n"),
    ] {
        let said = project.say(words).out;
        assert!(said.contains(says), "{words}: {said}");
    }
}

/// Numbers that are the same each time.
struct Numbers(u64);

impl Numbers {
    fn below(&mut self, most: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % most
    }

    fn one_of<T: Copy>(&mut self, all: &[T]) -> T {
        all[usize::try_from(self.below(all.len() as u64)).unwrap()]
    }
}

#[test]
fn after_what_is_advised_the_same_look_says_complete_and_no_good_file_was_touched() {
    let (mut paths, mut damages, mut looks) = (BTreeSet::new(), 0, BTreeSet::new());
    for seed in 0..12 {
        let mut numbers = Numbers(seed);
        let project = four();
        project.say("run").ended(0);
        for _ in 0..=numbers.below(5) {
            let (camera, pass) = (numbers.one_of(&["quay", "mast"]), numbers.one_of(&["beauty", "mask"]));
            let path = file(&project, camera, pass, 1 + numbers.below(8) as i64);
            if !path.exists() {
                continue;
            }
            damages += 1;
            match numbers.below(6) {
                0 => std::fs::remove_file(&path).unwrap(),
                1 => damaged(&path, |bytes| bytes.truncate(bytes.len() / 2)),
                2 => damaged(&path, |bytes| middle(bytes)),
                3 => {
                    damaged(&path, |bytes| middle(bytes));
                    crate::support::written_later(&path);
                }
                4 => {
                    // Another frame: whole, as planned, and not what landed.
                    let other = std::fs::read(file(&project, "quay", "beauty", 1)).unwrap();
                    damaged(&path, |bytes| *bytes = other);
                }
                _ => {
                    let cut = std::fs::read(&path).unwrap();
                    std::fs::write(&path, &cut[..cut.len() - 5]).unwrap();
                }
            }
        }
        let narrow = numbers.one_of(&[
            "",
            " --pass beauty",
            " --frames 2-6",
            " crossing/quay",
            " --camera mast --frames 1,3,5,7",
        ]);
        let look = numbers.one_of(&["verify --deep --json", "verify --sums --json", "verify --json", "status --json"]);
        looks.insert((look, narrow));
        let look = format!("{look}{narrow}");
        let seen = project.say(&look).json();
        let all = states(&seen);
        for other in ["verify --json", "status --json"] {
            let said = project.say(&format!("{other}{narrow}")).json();
            if look.contains("deep") || other.starts_with("status") {
                assert_eq!((states(&said), &said["fix"]), (all.clone(), &seen["fix"]), "{seed}: {other} after {look}");
            }
        }
        // What is not named as other than good stays what it is.
        let bad: usize = seen["series"]
            .as_array()
            .unwrap()
            .iter()
            .map(|row| {
                let states = ["missing", "broken", "wrong", "stale", "changed"];
                states.iter().filter_map(|state| row[*state].as_str()).map(count).sum::<usize>()
            })
            .sum();
        let before = project.stamps("renders");
        mend(&project, &seen);
        let after = project.say(&look).ended(0).json();
        // A look at the states ends with 0 where all is complete.
        assert_eq!(after["fix"], serde_json::json!([]), "{seed}: {look}");
        let now = project.stamps("renders");
        let touched = now.iter().filter(|(name, own)| before.get(*name) != Some(own)).count();
        assert_eq!(touched, bad, "{seed}: {look}: {seen:#}");
        paths.extend(now.into_keys());
    }
    assert!(damages > 20 && looks.len() > 6 && paths.len() == 32, "{damages} {} {}", looks.len(), paths.len());
}

/// How many frames an expression has.
fn count(frames: &str) -> usize {
    let one = |part: &str| match part.split_once('-') {
        Some((first, last)) => last.parse::<usize>().unwrap() - first.parse::<usize>().unwrap() + 1,
        None => 1,
    };
    frames.split(',').filter(|part| !part.is_empty()).map(one).sum()
}

#[test]
fn a_contact_sheet_counts_all_planned_frames_and_shows_the_bad_ones_first() {
    let project = Project::with(SMALL);
    project.say("run").ended(0);
    let name = |frame: i64| project.path(&format!("renders/crossing/crossing_beauty.{frame:04}.png"));
    for frame in [2, 3, 11, 20] {
        std::fs::remove_file(name(frame)).unwrap();
    }
    let shown = |words: &str| {
        let said = project.say(&format!("contact -o sheet.png --replace {words} --json")).ended(0).json();
        assert_eq!(said["rows"][0]["states"], serde_json::json!({ "missing": 4 }), "{words}");
        let frames = said["rows"][0]["frames"].as_array().unwrap().clone();
        frames.iter().map(|own| own["frame"].as_i64().unwrap()).collect::<Vec<i64>>()
    };
    assert_eq!(shown("--every 6"), [2, 3, 11, 20]);
    assert_eq!(shown("--every 4"), [2, 3, 11, 13, 17, 20]);
    assert_eq!(shown("--every 24"), [2]);
    assert_eq!(shown("").len(), 24);
    let said = project.say("contact -o sheet.png --replace --every 6").ended(0).out;
    assert!(said.contains("24 frames (4 shown), 4 missing"), "{said}");
}
