//! A project opened by a program that is no command line: what is asked for, texts in memory, and what is said of trust.
#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::path::Path;

use truepath_project::{LoadOptions, Queue, Request, Stop, Surroundings, open};

const SHEET: &str = r#"sheet = 1
[roots]
renders = "renders"
[defaults]
scene = "ferry.gltf"
size = "64x36"
path = "{renders}/{job}_{camera}.{frame:4}.png"
[[job]]
name = "crossing"
camera = "quay"
frames = "1-3"
[[job]]
name = "arrival"
camera = "pier"
frames = "1-2"
"#;

fn around(folder: &Path) -> Surroundings {
    Surroundings {
        configuration: Some(folder.join("configuration")),
        variables: ["SEAT".to_owned()].into(),
        ..Surroundings::at(folder)
    }
}

fn opened(folder: &Path, request: &Request, way: LoadOptions<'_>) -> Queue {
    open(request, &around(folder), way, &()).unwrap()
}

/// The names below the folder of the sheet that are planned.
fn names(folder: &Path, queue: &Queue) -> Vec<String> {
    let folder = dunce::canonicalize(folder).unwrap();
    let series = queue.sheets.iter().flat_map(|sheet| &sheet.plan.series);
    let files = series.flat_map(|series| series.files().map(|(_, path)| path).collect::<Vec<_>>());
    files.map(|path| Path::new(&path).strip_prefix(&folder).unwrap().to_string_lossy().replace('\\', "/")).collect()
}

fn checks(queue: &Queue) -> Vec<&'static str> {
    queue.findings().iter().map(|finding| finding.check.name()).collect()
}

#[test]
fn what_is_asked_for_is_planned_and_a_text_in_memory_counts_before_its_file() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("truepath.toml");
    std::fs::write(&path, SHEET).unwrap();
    let offline = LoadOptions { offline: true, ..LoadOptions::default() };
    let request = Request {
        jobs: vec!["crossing".to_owned()],
        settings: vec![("here".to_owned(), "frames=2-3".to_owned())],
        ..Request::default()
    };
    let queue = opened(folder.path(), &request, offline);
    assert_eq!(names(folder.path(), &queue), ["renders/crossing_quay.0002.png", "renders/crossing_quay.0003.png"]);
    // From a folder below, without naming the sheet.
    let below = folder.path().join("scenes");
    std::fs::create_dir(&below).unwrap();
    let cameras = Request { cameras: vec!["pier".to_owned()], ..Request::default() };
    let queue = open(&cameras, &around(&below), offline, &()).unwrap();
    assert_eq!(names(folder.path(), &queue), ["renders/arrival_pier.0001.png", "renders/arrival_pier.0002.png"]);
    // As an editor has it, before it is saved.
    let texts =
        BTreeMap::from([(dunce::canonicalize(&path).unwrap(), SHEET.replace("_{camera}", "").replace("1-2", "5"))]);
    let queue = opened(folder.path(), &Request::default(), LoadOptions { texts: Some(&texts), ..offline });
    let expected = ["crossing.0001", "crossing.0002", "crossing.0003", "arrival.0005"];
    assert_eq!(names(folder.path(), &queue), expected.map(|name| format!("renders/{name}.png")));
    assert!(!folder.path().join(".truepath").exists() && !folder.path().join("renders").exists(), "nothing is written");
}

#[test]
fn what_is_wrong_is_a_finding_and_says_what_it_stops() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("truepath.toml");
    let all = Request::default();
    assert!(open(&all, &around(folder.path()), LoadOptions::default(), &()).is_err(), "there is no sheet");
    // A scene that is not there is a matter of this machine; a camera twice on one name is not.
    for (text, offline, expected, stops) in [
        (SHEET.to_owned(), true, None, None),
        (SHEET.to_owned(), false, Some("scene-missing"), Some(Stop::Errors)),
        (SHEET.replace("{job}_{camera}", "ferry"), true, Some("names-meet"), Some(Stop::Errors)),
        ("sheet = 1\n[[job]\n".to_owned(), true, Some("not-toml"), Some(Stop::Unreadable)),
    ] {
        std::fs::write(&path, &text).unwrap();
        let queue = opened(folder.path(), &all, LoadOptions { offline, ..LoadOptions::default() });
        assert!(expected.is_none_or(|check| checks(&queue).contains(&check)), "{text}: {:?}", checks(&queue));
        assert_eq!(queue.stopped(), stops, "{text}: {:?}", checks(&queue));
    }
}

#[cfg(unix)]
#[test]
fn a_program_that_came_with_a_folder_is_named_and_not_started_and_the_environment_is_what_was_said() {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir().unwrap();
    let sheet = SHEET.replace("[defaults]", "[defaults]\nadapter = \"own\"");
    std::fs::write(folder.path().join("truepath.toml"), sheet).unwrap();
    std::fs::write(folder.path().join("ferry.gltf"), "{\"asset\":{\"version\":\"2.0\"}}").unwrap();
    std::fs::create_dir(folder.path().join("adapters")).unwrap();
    let adapter = "adapter = 1\nname = \"own\"\nprogram = \"./own\"\narguments = [\"{scene}\", \"{out}\"]\nversion = [\"--version\"]\n\
                   [needs]\nenv = [\"SEAT\", \"BERTH\"]\n";
    std::fs::write(folder.path().join("adapters/own.toml"), adapter).unwrap();
    let program = folder.path().join("own");
    std::fs::write(&program, "#!/bin/sh\ntouch \"$0.started\"\necho 1.0\n").unwrap();
    std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o755)).unwrap();
    let queue = opened(folder.path(), &Request::default(), LoadOptions::default());
    assert_eq!(queue.untrusted.len(), 1);
    assert_eq!(queue.untrusted[0].adapters, ["own"]);
    assert_eq!(queue.untrusted[0].folder, dunce::canonicalize(folder.path()).unwrap());
    assert!(!folder.path().join("own.started").exists());
    let missing: Vec<String> =
        queue.findings().iter().filter(|own| own.check == "need-missing").map(|own| own.message.clone()).collect();
    assert!(
        !missing.is_empty() && missing.iter().all(|own| own.contains("BERTH") && !own.contains("SEAT")),
        "{missing:?}"
    );
}
