//! What goes on beside something that is amiss: jobs with mistakes left out, modes checked apart, final modes, failures told by
//! their causes, and lines that can be pasted.

use std::process::{Command, Stdio};

use crate::support::{Project, SMALL, Said};

/// Three jobs, one of which has a camera that is not in its scene.
fn one_faulty() -> Project {
    let job = |name: &str, scene: &str, camera: &str| {
        format!("\n[[job]]\nname = \"{name}\"\nscene = \"scenes/{scene}\"\ncamera = \"{camera}\"\nframes = \"1-2\"\n")
    };
    let jobs = [
        job("crossing", "crossing.gltf", "quay"),
        job("arrival", "arrival.gltf", "nobody"),
        job("lighthouse", "lighthouse.glb", "cliff"),
    ];
    let (head, rest) = SMALL.split_once("[[job]]").unwrap();
    let tail = rest.split_once("[checks]").unwrap().1;
    Project::with(&format!("{head}{}\n[checks]{tail}", jobs.concat()))
}

#[test]
fn jobs_with_mistakes_are_left_out_by_name_where_that_is_asked_for() {
    let project = one_faulty();
    let said = project.say("run").ended(1);
    let offer =
        "nothing was started: 1 of 3 jobs has a mistake. --skip-faulty leaves out arrival and renders the rest\n";
    assert!(said.err.ends_with(offer), "{}", said.err);
    assert!(!project.path("renders").exists());
    let said = project.say("run --skip-faulty").ended(3);
    assert!(said.err.contains("error[camera-not-in-scene]"), "{}", said.err);
    assert!(said.err.ends_with("left out, since they have mistakes: arrival\n"), "{}", said.err);
    assert_eq!(project.files("renders").len(), 4, "{:?}", project.files("renders"));
    // Two jobs that are in each other's way are both left out; and nothing is left of a sheet in which all are.
    let sheet = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    project.write("truepath.toml", sheet.replace("name = \"lighthouse\"", "name = \"crossing\""));
    let said = project.say("run --skip-faulty").ended(1);
    assert!(said.err.contains("no job is without a mistake"), "{}", said.err);
    // A mistake of no job is in the way of all.
    project.write("truepath.toml", sheet.replace("[run]", "[rum]\nx = 1\n[run]"));
    project.say("run --skip-faulty").ended(1);
}

#[test]
fn what_is_amiss_in_a_mode_only_is_found_and_told_apart() {
    let modes = "\n[modes.draft]\npath = \"{renders}/draft/{job}.{frame:4}.{ext}\"\n[modes.night]\npath = \"{renders}/night/all.{frame:4}.{ext}\"\n";
    let sheet = SMALL
        .replace("camera = \"quay\"", "each = { camera = [\"quay\", \"mast\"] }")
        .replace("{job}_{pass}", "{job}_{camera}_{pass}");
    let project = Project::with(&format!("{sheet}{modes}"));
    let said = project.say("check").ended(0);
    assert!(said.out.ends_with("not checked: the modes draft, night (--all-modes)\n"), "{}", said.out);
    assert_eq!(project.say("check --json").json()["modes_not_checked"], serde_json::json!(["draft", "night"]));
    assert!(!project.say("check --mode draft").ended(1).out.contains("not checked"));
    let said = project.say("check --all-modes").ended(1);
    for mode in ["draft", "night"] {
        assert!(said.out.contains(&format!("1 error in truepath.toml with the mode {mode}.")), "{}", said.out);
    }
    let document = project.say("check --all-modes --json").ended(1).json();
    let of = |mode: &str| document["findings"].as_array().unwrap().iter().filter(|own| own["mode"] == mode).count();
    assert_eq!((of("draft"), of("night"), document["errors"].as_u64()), (1, 1, Some(2)), "{document:#}");
    // Of two sheets each is looked at with its own modes.
    project.write("other.toml", sheet.replace("renders\"", "others\""));
    let both = project.say("check -f truepath.toml -f other.toml --all-modes --json").ended(1).json();
    assert_eq!(both["errors"].as_u64(), Some(2), "{both:#}");
    let sarif = project.say("check --all-modes --to sarif").ended(1).json();
    assert_eq!(sarif["runs"][0]["results"].as_array().unwrap().len(), 2);
}

#[test]
fn a_final_mode_writes_the_final_names_and_a_draft_takes_no_version_from_the_finals() {
    let sheet = SMALL
        .replace("1-24", "1-2")
        .replace("frames = \"1-2\"", "frames = \"1-2\"\nversion = \"next\"")
        .replace("{renders}/{job}/{job}_{pass}", "{renders}/{version}/{job}{-mode}_{pass}");
    let modes = "\n[modes.draft]\nsamples = 1\n[modes.full]\nfinal = true\nsamples = 4\n";
    let project = Project::with(&format!("{sheet}{modes}"));
    let names = |mode: &str| {
        let document = project.say(&format!("names --json {mode}")).ended(0).json();
        document["series"][0]["pattern"].as_str().unwrap().rsplit("renders/").next().unwrap().to_owned()
    };
    let (own, draft) = ("crossing_beauty.{frame:4}.png", "crossing-draft_beauty.{frame:4}.png");
    assert_eq!(names(""), format!("v001/{own}"));
    assert_eq!(names("--mode full"), format!("v001/{own}"), "final names, whatever the mode is called");
    // Two drafts come first, and the finals still begin with v001.
    project.say("run --mode draft").ended(0);
    project.say("run --mode draft --anew version").ended(0);
    assert_eq!(names("--mode draft"), format!("v002/{draft}"));
    assert_eq!(names(""), format!("v001/{own}"));
    project.say("run --mode full").ended(0);
    assert_eq!(names(""), format!("v001/{own}"));
    assert!(project.say("verify --mode full").ended(0).out.ends_with(" files as planned\n"));
    // The finals' next version is the one after theirs, and a draft's the one after all that is begun.
    project.say("run --mode full --anew version").ended(0);
    assert_eq!(names(""), format!("v002/{own}"));
    project.say("run --mode draft --anew version").ended(0);
    assert_eq!(names("--mode draft"), format!("v003/{draft}"));
}

#[test]
fn failures_are_told_by_their_causes_and_no_job_is_hidden() {
    let cameras: Vec<String> = (0..30).map(|at| format!("\"c{at:02}\"")).collect();
    let sheet = SMALL
        .replace("camera = \"quay\"", &format!("each = {{ camera = [{}] }}", cameras.join(", ")))
        .replace("{job}_{pass}", "{job}_{camera}_{pass}")
        .replace("adapter = \"understudy\"", "adapter = \"lamp\"")
        .replace("[checks]", "[checks]\ncamera-not-in-scene = \"off\"");
    let project = Project::with(&sheet);
    project.script("lamp", "echo \"no licence 12 for frame $2\"; exit 3\n");
    let said = project.say("run").ended(3);
    let closing = said.err.split(" files landed in ").nth(1).unwrap();
    let told = closing.matches("gave up").count();
    assert_eq!(told, 1, "{closing}");
    for at in 0..30 {
        assert!(closing.contains(&format!("crossing/c{at:02}")), "c{at:02} is hidden: {closing}");
    }
    assert!(!closing.contains("more\n") && !closing.contains("failed "), "{closing}");
    // What is said of trying it by hand runs as it stands.
    let log = project.say("log crossing/c00").ended(0).out;
    let line = log.rsplit("to try it by hand:\n").next().unwrap().trim();
    assert!(line.starts_with("mkdir -p "), "{line}");
    let tried = Said::from(Command::new("sh").args(["-c", line]).current_dir("/").output().unwrap()).ended(3);
    assert!(tried.out.starts_with("no licence 12 for frame"), "{tried:?}");
}

#[test]
fn a_setting_typed_as_an_option_is_answered_with_how_it_is_given() {
    let project = Project::with(SMALL);
    for (typed, says) in [
        ("run --samples 2", "write --set samples=2"),
        ("names --fps=25", "write --set fps=25"),
        ("check --resolution 64x36", "write --set size=64x36"),
        ("status --pixel-aspect 2", "write --set pixel_aspect=2"),
        ("run --adapter", "write --set adapter=VALUE"),
    ] {
        let said = project.say(typed).ended(2);
        assert!(said.err.contains(says) && said.out.is_empty(), "{typed}: {}", said.err);
    }
    // Commands that read no sheet take none.
    for typed in ["types --samples 2", "run --nothing 2"] {
        assert!(!project.say(typed).ended(2).err.contains("--set"), "{typed}");
    }
}

#[test]
fn the_user_is_known_where_the_environment_says_nothing() {
    let project = Project::with(&SMALL.replace("{job}_{pass}", "{user}_{pass}"));
    let own = Command::new("id").arg("-un").output().unwrap().stdout;
    let own = String::from_utf8(own).unwrap();
    let mut command = project.command();
    for name in ["USER", "LOGNAME", "USERNAME"] {
        command.env_remove(name);
    }
    let said = Said::from(command.args(["names", "--json"]).output().unwrap()).ended(0).json();
    let first = said["series"][0]["pattern"].as_str().unwrap();
    assert!(first.ends_with(&format!("/{}_beauty.{{frame:4}}.png", own.trim())), "{first}");
}

#[test]
fn a_queue_ends_with_3_when_a_call_failed_or_only_an_export() {
    if !["python3"].iter().all(|name| Command::new(name).arg("-V").stdout(Stdio::null()).status().is_ok()) {
        eprintln!("SKIPPED: python3 is not here");
        return;
    }
    let queue = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/examples/queue.py");
    let all = |exporter: &str| {
        let project = crate::support::exporting(SMALL, "1-4", exporter);
        let calls = project.say("build --to json").ended(0).out;
        project.write("calls.json", calls);
        let calls = std::fs::File::open(project.path("calls.json")).unwrap();
        Said::from(Command::new("python3").arg(&queue).stdin(calls).current_dir(project.path("")).output().unwrap())
    };
    all("exec cp \"$1\" \"$2\"\n").ended(0);
    let failed = all("exit 1\n").ended(3);
    assert!(failed.err.starts_with("not done: "), "{failed:?}");
}
