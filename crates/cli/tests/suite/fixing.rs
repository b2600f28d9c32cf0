//! `check --fix`, what is meant, `--offline`, and findings for other programs.

use std::collections::BTreeMap;

use crate::support::{Project, SMALL};

/// A sheet with everything that can be fixed, once it is spoilt.
const SOUND: &str = r#"sheet = 1
# a ferry at night

[roots]
renders = "renders"   # beside the sheet

[formats.view]
type = "png"
bits = 8
channels = "rgb"

[formats.review]
type = "mp4"
codec = "h264"

[defaults]
adapter = "understudy"
fps = 24
size = "64x36"        # small
format = "view"
path = "{renders}/{job}/{job}_{camera}_{pass}.{frame:4}.{ext}"

[[job]]
name = "crossing"
scene = "scenes/crossing.gltf"
frames = "1-96"
each = { camera = ["quay", "mast"] }

[[job]]
name = "arrival"
scene = "scenes/arrival.gltf"
camera = "pier"
frames = "1-48"
path = "{renders}/{job}/{job}_{pass}_{width}x{height}.{frame:4}.{ext}"

[[movie]]
name = "review"
of = "crossing"
format = "review"
path = "{renders}/{job}_{camera}.{ext}"

[[movie]]
name = "arrival-review"
of = "arrival"
format = "review"
path = "{renders}/{job}.{ext}"
"#;

/// Slips of a tired evening: what stands there, and what is typed instead.
const SLIPS: &[(&str, &str)] = &[
    ("fps = 24", "fsp = 24"),
    ("size = \"64x36\"", "sise = \"64x36\""),
    ("scene = \"scenes/arrival.gltf\"", "scenne = \"scenes/arrival.gltf\""),
    ("{job}_{camera}_{pass}.{frame:4}.{ext}", "{job}_{camera}_{pass}{frame:4}.{ext}"),
    ("{job}_{camera}_{pass}.{frame:4}.{ext}", "{job}_{camera}{pass}.{frame:4}.{ext}"),
    ("{job}_{camera}_{pass}.{frame:4}.{ext}", "{job}_{camra}_{pass}.{frame:4}.{ext}"),
    ("{job}_{camera}_{pass}.{frame:4}.{ext}", "{job}_{camera}_{pass}.{frame:4}.jpg"),
    ("{job}_{camera}_{pass}.{frame:4}.{ext}", "{job}_{camera}_{pass}.{frame:4}"),
    ("{job}_{camera}_{pass}.{frame:4}.{ext}", "{job}_{camera}_{pass}.{ext}"),
    ("{width}x{height}.{frame:4}.{ext}", "{width}{height}.{frame:4}.{ext}"),
    ("{width}x{height}.{frame:4}.{ext}", "{width}x{height}.{frame:4}.png.{ext}"),
    ("frames = \"1-96\"", "frames = \"1-9600\""),
    ("{pass}.{frame:4}.{ext}\"\n\n[[job]]", "{pass}.{frame:1}.{ext}\"\n\n[[job]]"),
    ("of = \"arrival\"", "of = \"arival\""),
    ("path = \"{renders}/{job}.{ext}\"", "path = \"{renders}/{job}.{frame}.{ext}\""),
    ("camera = \"pier\"", "camera = \"peer\""),
    ("codec = \"h264\"", "codec = \"h265\""),
];

/// Findings by check and job, with those of the same cause.
fn counts(project: &Project) -> BTreeMap<(String, String), i64> {
    let mut counts = BTreeMap::new();
    for finding in project.say("check --json").json()["findings"].as_array().unwrap() {
        let key = (finding["check"].to_string(), finding["job"].to_string());
        *counts.entry(key).or_insert(0) += 1;
    }
    counts
}

/// Numbers that are the same in every run (xorshift).
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        usize::try_from(self.0 % sides as u64).unwrap()
    }
}

#[test]
fn the_sound_sheet_is_sound() {
    Project::with(SOUND).say("check --strict").ended(0);
}

#[test]
fn after_mending_what_was_mended_is_gone_and_nothing_new_has_come() {
    let mut dice = Dice(0x9e37_79b9_7f4a_7c15);
    for round in 0..40 {
        let mut sheet = SOUND.to_owned();
        for _ in 0..=dice.roll(4) {
            let (right, wrong) = SLIPS[dice.roll(SLIPS.len())];
            sheet = sheet.replacen(right, wrong, 1);
        }
        if round % 3 == 0 {
            sheet = sheet.replace('\n', "\r\n");
        }
        let project = Project::with(&sheet);
        let before = counts(&project);
        let said = project.say("check --fix");
        assert!(said.code < 2, "{sheet}\n{}{}", said.out, said.err);
        let after = counts(&project);
        for (key, count) in &after {
            assert!(before.get(key).is_some_and(|old| old >= count), "{key:?} is new\n{sheet}\n{}", said.out);
        }
        let fixed = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
        assert_eq!(fixed != sheet, said.out.contains(" applied\n"), "{}", said.out);
        if fixed != sheet {
            assert!(after.values().sum::<i64>() < before.values().sum(), "{sheet}\n{}", said.out);
        }
        // Comments and layout stay: every line is there, and all that is no remedy is the same.
        assert_eq!(fixed.matches('\n').count(), sheet.matches('\n').count());
        assert_eq!(fixed.matches("\r\n").count(), sheet.matches("\r\n").count());
        for line in sheet.lines().filter(|line| line.contains('#') && !line.starts_with("si")) {
            assert!(fixed.lines().any(|new| new == line), "{line} is gone");
        }
        let again = project.say("check --fix");
        assert!(again.out.starts_with("no finding has a certain fix\n"), "{}", again.out);
        assert_eq!(std::fs::read_to_string(project.path("truepath.toml")).unwrap(), fixed);
        assert_eq!(project.files("").iter().filter(|name| name.starts_with(".truepath.toml")).count(), 0);
    }
}

#[test]
fn each_certain_slip_alone_is_mended_for_good() {
    for (right, wrong) in SLIPS.iter().take(11) {
        let project = Project::with(&SOUND.replacen(right, wrong, 1));
        let said = project.say("check --fix --strict").ended(0);
        assert!(said.out.contains("1 fix applied\n") && said.out.contains("\n+"), "{wrong}: {}", said.out);
        assert!(said.out.ends_with("\u{2713} truepath.toml: no problems found\n"), "{wrong}: {}", said.out);
    }
}

#[test]
fn a_remedy_that_makes_room_for_another_brings_it_along() {
    let project = Project::with(&SMALL.replace("{job}_{pass}.{frame:4}", "{jib}_{pass}.{frame:1}"));
    let said = project.say("check --fix").ended(0);
    let sheet = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    assert!(sheet.contains("/{job}_{pass}.{frame:1}.{ext}") || sheet.contains("{frame:2}"), "{}", said.out);
}

#[test]
fn sheets_below_are_left_to_their_owners() {
    let project = Project::with(&SMALL.replace("sheet = 1\n", "sheet = 1\nfrom = [\"studio.toml\"]\n"));
    project.write("studio.toml", "[defaults]\nsampels = 4\n");
    let said = project.say("check --fix").ended(1);
    assert!(
        said.out.starts_with("no finding has a certain fix") && said.out.contains("write `samples`"),
        "{}",
        said.out
    );
    assert_eq!(std::fs::read_to_string(project.path("studio.toml")).unwrap(), "[defaults]\nsampels = 4\n");
}

#[test]
fn what_is_meant_is_counted_and_told_with_its_reason() {
    let meant =
        "\n[[allow]]\ncheck = \"scale-outside-mode\"\njob = \"cross*\"\nbecause = \"the bridge screens are small\"\n";
    let scaled = SMALL.replace("size = \"32x18\"", "size = \"64x36\"\nscale = 50");
    Project::with(&scaled).say("check --strict").ended(1);
    let project = Project::with(&format!("{scaled}{meant}"));
    let said = project.say("check --strict").ended(0);
    assert_eq!(said.out, "\u{2713} truepath.toml: no problems found (1 finding allowed)\n");
    let document = project.say("check --json").json();
    assert_eq!((document["warnings"].as_i64(), document["findings"].as_array().unwrap().len()), (Some(0), 0));
    assert_eq!(document["allow"][0]["because"], "the bridge screens are small");
    let sarif = project.say("check --to sarif").json();
    assert_eq!(sarif["runs"][0]["results"][0]["suppressions"][0]["justification"], "the bridge screens are small");
    let other = Project::with(&format!("{scaled}{}", meant.replace("cross*", "arrival")));
    let said = other.say("check --strict").ended(1);
    assert!(said.out.contains("allow-unneeded") && said.out.contains("scale-outside-mode"), "{}", said.out);
}

#[test]
fn offline_the_same_sheet_has_the_same_answer_everywhere() {
    let sheet = SMALL
        .replace("renders = \"renders\"", "renders = { windows = 'R:\\out', macos = \"/Volumes/out\" }")
        .replace("camera = \"quay\"", "camera = \"nobody\"\nsampels = 3");
    let (here, there) = (Project::with(&sheet), Project::with(&sheet));
    std::fs::remove_dir_all(there.path("scenes")).unwrap();
    there.write("config/truepath/config.toml", "[roots]\nrenders = \"/nowhere\"\n");
    let answers = [&here, &there].map(|project| {
        let said = project.say("check --offline").ended(1);
        (said.out, said.err)
    });
    assert_eq!(answers[0], answers[1]);
    assert!(answers[0].0.contains("unknown-key") && !answers[0].0.contains("camera-not-in-scene"));
    let online = here.say("check").ended(1).out;
    assert!(online.contains("camera-not-in-scene") && online.contains("root-missing"), "{online}");
}

#[test]
fn sarif_has_the_shape_that_its_standard_asks_for() {
    let schema: serde_json::Value = serde_json::from_str(include_str!("support/sarif-2.1.0-used-part.json")).unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    for (right, wrong) in SLIPS {
        let project = Project::with(&SOUND.replacen(right, wrong, 1));
        let document = project.say("check --to sarif").json();
        let errors: Vec<String> = validator.iter_errors(&document).map(|error| error.to_string()).collect();
        assert!(errors.is_empty(), "{errors:?}\n{document:#}");
        let plain = project.say("check --json").json();
        let (run, findings) = (&document["runs"][0], plain["findings"].as_array().unwrap());
        for (result, finding) in run["results"].as_array().unwrap().iter().zip(findings) {
            assert_eq!((&result["ruleId"], &result["level"]), (&finding["check"], &finding["level"]));
            let rule = usize::try_from(result["ruleIndex"].as_u64().unwrap()).unwrap();
            assert_eq!(run["tool"]["driver"]["rules"][rule]["id"], finding["check"]);
            let place = &result["locations"][0]["physicalLocation"];
            assert_eq!(place["artifactLocation"]["uri"], "truepath.toml");
            assert_eq!(place["region"]["startLine"], finding["at"]["line"]);
            assert_eq!(result["fixes"].is_array(), finding["fix"].is_object());
        }
        assert_eq!(run["results"].as_array().unwrap().len(), findings.len());
    }
}

#[test]
fn one_cause_that_hits_many_is_said_once() {
    let cameras: Vec<String> = (0..512).map(|n| format!("\"c{n}\"")).collect();
    let sheet = SMALL.replace("camera = \"quay\"", &format!("each = {{ camera = [{}] }}", cameras.join(", ")));
    let sheet = sheet.replace("{job}_{pass}", "{job}_{camera}_{pass}_{first}");
    let said = Project::with(&sheet).say("check --offline --strict").ended(0);
    assert!(said.out.contains("no problems found"), "{}", said.out);
    let said = Project::with(&sheet.replace("_{first}", "_7{first}")).say("check --offline").ended(0).out;
    assert_eq!(said.matches("numbers-touch]").count(), 1, "{said}");
    assert!(said.contains("same problem in 511 more jobs"), "{said}");
}

#[test]
fn names_of_files_that_are_there_never_change() {
    let sheet = SMALL.replace("1-24", "1-4").replace("{job}_{pass}.{frame:4}", "{job}_{pass}{frame:4}");
    let project = Project::with(&sheet);
    project.say("run").ended(0);
    let before = project.stamps("renders");
    let said = project.say("check --fix").ended(0);
    let left = "not changed: 4 files that are there would no longer be found under their names";
    assert!(said.out.contains("frame-not-separated: ") && said.out.contains(left), "{}", said.out);
    assert!(said.out.contains("nothing applied; move or remove those files first"), "{}", said.out);
    assert!(project.stamps("renders") == before);
    assert_eq!(std::fs::read_to_string(project.path("truepath.toml")).unwrap(), sheet);
    // Offline too: whether files are there is asked all the same.
    assert!(project.say("check --fix --offline").ended(0).out.contains(left));
    project.say("verify").ended(0);
    std::fs::remove_dir_all(project.path("renders")).unwrap();
    assert!(project.say("check --fix").ended(0).out.contains("1 fix applied"));
}

#[test]
fn a_movie_takes_another_size_and_its_frames_keep_theirs() {
    let sheet = SOUND.replace("64x36", "63x35");
    for sheet in [sheet.clone(), sheet.replace('\n', "\r\n")] {
        let project = Project::with(&sheet);
        let said = project.say("check --fix --strict").ended(0);
        assert!(said.out.contains("2 fixes applied"), "{}", said.out);
        let fixed = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
        assert!(fixed.contains("size = \"63x35\"        # small"), "{fixed}");
        assert_eq!(fixed.matches("size = \"64x36\"").count(), 2, "{fixed}");
        assert_eq!(
            fixed.matches('\n').count() - fixed.matches("\r\n").count(),
            if sheet.contains('\r') { 0 } else { fixed.matches('\n').count() }
        );
    }
}
