//! Files that are moved, and what is believed of a journal: nothing is lost by a kill at any moment, nothing leaves the folders
//! of its sheet, and a state folder of an earlier day is read.

use std::collections::{BTreeMap, BTreeSet};
use std::os::unix::fs::symlink;
use std::path::Path;
use std::process::Command;

use crate::support::{Project, SMALL, Said, has, rendered};

fn project() -> Project {
    let project = Project::with(
        &(SMALL.replace("1-24", "1-4")
            + "\n[modes.draft]\npath = \"{renders}/draft/{job}.{frame:4}.{ext}\"\nsamples = 1\n"),
    );
    project.say("run").ended(0);
    project.say("run --mode draft").ended(0);
    project
}

/// The calls of the system that give a file another place.
const MOVES: &str = "rename,renameat,renameat2,linkat";
/// And those that write a line or remove a file.
const CHANGES: &str = "rename,renameat,renameat2,linkat,write,unlink,unlinkat,rmdir";

/// The program under a tracer that ends it as it makes one of some calls: `which` counts them from 1. False where it made
/// fewer.
fn killed_at(project: &Project, words: &str, calls: &str, which: usize) -> bool {
    let words: Vec<&str> = words.split(' ').collect();
    let said = project.traced(&words, (calls, &format!("signal=KILL:when={which}")), None);
    said.status.code().is_none_or(|code| code > 4)
}

/// Contents of all files below the root, wherever they are by now.
fn pictures(project: &Project) -> BTreeMap<Vec<u8>, usize> {
    let mut all = BTreeMap::new();
    for name in project.files("renders") {
        *all.entry(std::fs::read(project.path("renders").join(name)).unwrap()).or_default() += 1;
    }
    all
}

#[test]
fn a_kill_between_a_line_and_its_move_loses_nothing_to_undo() {
    if !has("strace") {
        return;
    }
    let project = project();
    let (before, names) = (pictures(&project), rendered(&project));
    let mut kills = 0;
    let is_as_before = |project: &Project, words: &str, which: usize| {
        assert_eq!((pictures(project), rendered(project)), (before.clone(), names.clone()), "{words}, {which}");
        project.say("verify --mode draft --sums").ended(0);
    };
    // Put away, killed at every change that it makes; what is still there is as good as before.
    for which in 1.. {
        let ended = !killed_at(&project, "clean --mode draft --yes", CHANGES, which);
        assert_eq!(pictures(&project), before, "{which}");
        let row = project.say("verify --mode draft --json").json()["series"][0].clone();
        assert_eq!((&row["foreign"], &row["broken"], &row["changed"]), (&"".into(), &"".into(), &"".into()), "{row}");
        project.say("clean --undo --mode draft").ended(0);
        is_as_before(&project, "clean", which);
        if ended {
            break;
        }
        kills += 1;
    }
    // Killed while it is brought back.
    for which in 1.. {
        project.say("clean --mode draft --yes").ended(0);
        let ended = !killed_at(&project, "clean --undo --mode draft", CHANGES, which);
        assert_eq!(pictures(&project), before, "{which}");
        project.say("clean --undo --mode draft").ended(0);
        is_as_before(&project, "clean --undo", which);
        assert!(project.say("clean --undo --mode draft").ended(0).err.contains("0 files brought back"), "{which}");
        if ended {
            break;
        }
        kills += 1;
    }
    // Taken under another name, killed; taken, and killed while it is given back.
    let (name, near) = ("renders/crossing/crossing_beauty.0002.png", "renders/crossing/Crossing_beauty.0002.png");
    let near_there = || project.path(near).exists();
    for which in 1.. {
        std::fs::rename(project.path(name), project.path(near)).unwrap();
        let ended = !killed_at(&project, "verify --adopt", CHANGES, which);
        project.say("verify --adopt").ended(0);
        assert!(!near_there(), "{which}");
        project.say("verify --sums").ended(0);
        let undo = !killed_at(&project, "verify --adopt --undo", CHANGES, which);
        assert_eq!(pictures(&project), before, "{which}");
        project.say("verify --adopt --undo").ended(0);
        assert!(near_there() && !project.path(name).exists(), "{which}");
        assert!(project.say("verify --adopt --undo").ended(0).out.contains("0 files given back"), "{which}");
        std::fs::rename(project.path(near), project.path(name)).unwrap();
        kills += usize::from(!ended) + usize::from(!undo);
        if ended && undo {
            break;
        }
    }
    eprintln!("{kills} kills");
}

#[test]
fn a_run_that_is_killed_at_any_landing_and_a_parcel_at_any_come_to_their_ends() {
    if !has("strace") {
        return;
    }
    for which in 1..=3 {
        let project = Project::with(&SMALL.replace("1-24", "1-4").replace("chunk = 6", "chunk = 4"));
        assert!(killed_at(&project, "run", MOVES, which));
        project.say("run").ended(0);
        project.say("verify --sums").ended(0);
        assert!(!project.path("renders/.truepath").exists());
        // The same files by way of a parcel.
        std::fs::remove_dir_all(project.path("renders")).unwrap();
        project.say("parcel pack --into parcels").ended(0);
        project.say("parcel render parcels/crossing_1-4").ended(0);
        assert!(killed_at(&project, "parcel collect parcels", MOVES, which));
        project.say("parcel collect parcels").ended(0);
        project.say("verify --sums").ended(0);
        assert_eq!(rendered(&project).len(), 4);
        let left: Vec<String> =
            project.files("renders").into_iter().filter(|name| name.contains(".truepath")).collect();
        project.say("run").ended(0);
        assert!(!project.path("renders/.truepath").exists(), "{left:?}");
    }
}

#[test]
fn an_adopted_frame_that_was_rendered_since_is_nobodys_to_give_back() {
    let project = project();
    let (name, near) = ("renders/crossing/crossing_beauty.0002.png", "renders/crossing/Crossing_beauty.0002.png");
    std::fs::rename(project.path(name), project.path(near)).unwrap();
    project.say("verify --adopt").ended(0);
    project.say("run --existing replace --frames 2").ended(0);
    let before = project.stamps("renders");
    project.say("verify --adopt --undo").ended(0);
    assert_eq!(project.stamps("renders"), before, "a rendered frame keeps its name");
}

/// A line for the newest journal of the sheet, and what a journal needs before it.
fn forge(project: &Project, lines: &[&str]) {
    let state = project.path(".truepath/truepath/journal");
    let began = r#"{"event":"began","truepath":1,"turn":900,"tag":"abcdef","host":"here","process":1,"born":"","boot":"","space":"","at":"2026-12-01T00:00:00Z","share":false,"files":0}"#;
    let text: String = [began].iter().chain(lines).map(|line| format!("{line}\n")).collect();
    std::fs::write(state.join("here-9999999999-abcdef.jsonl"), text).unwrap();
}

#[test]
fn no_line_of_a_journal_moves_or_shows_anything_outside() {
    let elsewhere = tempfile::tempdir().unwrap();
    let home = std::fs::canonicalize(elsewhere.path()).unwrap();
    let keys = home.join("authorized_keys");
    let secret = home.join("secret");
    std::fs::write(&secret, "what is nobody's to see\n").unwrap();
    let at = |path: &Path| path.display().to_string();
    let gone = |series: &str, to: &str| {
        format!(r#"{{"event":"gone","series":"{series}","frame":1,"to":"{to}","by":"clean"}}"#)
    };
    let series = |name: &str, pattern: &str| {
        format!(r#"{{"event":"series","series":"{name}","pattern":"{pattern}","shift":0,"made":[]}}"#)
    };
    let project = project();
    let before = (project.stamps("renders"), project.stamps("scenes"));
    let inside = at(&project.path("scenes/crossing.gltf"));
    // Nobody else has a file of this name beside the project.
    let unique = home.file_name().unwrap().to_str().unwrap();
    for (what, pattern, to) in [
        ("out of the project, by its full path", at(&keys), at(&secret)),
        ("to a full path", at(&keys), inside.clone()),
        ("from a full path", "{renders}/x.png".to_owned(), at(&secret)),
        ("with dots", format!("{{renders}}/../../x{unique}"), format!("{{renders}}/../../secret{unique}")),
        ("from its own folder", "{renders}/x.png".to_owned(), "{renders}/../.truepath/truepath/id".to_owned()),
        ("over a frame", "{renders}/crossing/crossing_beauty.{frame:4}.png".to_owned(), inside.clone()),
        ("from the state", "{renders}/x.png".to_owned(), at(&project.path(".truepath/truepath/version"))),
        ("into the state", at(&project.path(".truepath/truepath/forged")), inside),
    ] {
        forge(&project, &[&series("x/y", &pattern), &gone("x/y", &to)]);
        let said = project.say("clean --undo");
        assert_eq!(said.code, 1, "{what}: {said:?}");
        assert!(secret.is_file() && !keys.exists(), "{what}");
        assert_eq!((project.stamps("renders"), project.stamps("scenes")), before, "{what}: {said:?}");
        assert!(
            !project.path(".truepath/truepath/forged").exists() && project.path(".truepath/truepath/version").exists(),
            "{what}"
        );
    }
    // Names of adopted files are names.
    let name = "renders/crossing/crossing_beauty.0001.png";
    let bytes = std::fs::read(project.path(name)).unwrap();
    let digest = blake3::hash(&bytes).to_hex().to_string();
    for from in ["../../scenes/stolen.png", "/tmp/stolen.png", "..", "a/b.png"] {
        let landed = format!(
            r#"{{"event":"landed","series":"crossing/beauty","frame":1,"bytes":{},"digest":"{digest}","call":""}}"#,
            bytes.len()
        );
        let adopted = format!(r#"{{"event":"adopted","series":"crossing/beauty","frame":1,"from":"{from}"}}"#);
        forge(
            &project,
            &[&series("crossing/beauty", "{renders}/crossing/crossing_beauty.{frame:4}.png"), &adopted, &landed],
        );
        let said = project.say("verify --adopt --undo");
        assert!(said.code == 1 && said.out.contains("not a name"), "{from}: {said:?}");
        assert_eq!((project.stamps("renders"), project.stamps("scenes")), before, "{from}");
    }
    // Logs: by a full path, by dots, and through a link.
    symlink(&secret, project.path(".truepath/truepath/logs/link.log")).unwrap();
    for log in
        [at(&secret), "logs/../../../truepath.toml".to_owned(), "logs/link.log".to_owned(), "/dev/zero".to_owned()]
    {
        let started = format!(
            r#"{{"event":"started","call":"c","job":"crossing","series":["crossing/beauty"],"frames":"9","worker":1,"process":1,"born":"","log":"{log}","t":0}}"#
        );
        let ended = format!(
            r#"{{"event":"ended","call":"c","code":1,"ok":false,"files":0,"missing":"9","seconds":1,"log":"{log}","t":1}}"#
        );
        let failed = format!(
            r#"{{"event":"failed","call":"c","job":"crossing","series":["crossing/beauty"],"frames":"2","why":"x","log":"{log}"}}"#
        );
        forge(&project, &[&started, &ended, &failed]);
        std::fs::rename(project.path("renders/crossing/crossing_beauty.0002.png"), project.path("kept.png")).unwrap();
        let mut shown = project.say("log crossing").out + &project.say("log crossing --json").out;
        project.say("report -o night.html --replace");
        shown += &std::fs::read_to_string(project.path("night.html")).unwrap();
        assert!(
            !shown.contains("nobody's to see")
                && !shown.contains("nobody&#39;s to see")
                && !shown.contains("sheet = 1"),
            "{log}"
        );
        std::fs::rename(project.path("kept.png"), project.path("renders/crossing/crossing_beauty.0002.png")).unwrap();
    }
}

#[test]
fn what_true_path_keeps_is_never_behind_a_link() {
    let project = project();
    project.say("clean --mode draft --yes").ended(0);
    let elsewhere = tempfile::tempdir().unwrap();
    let stranger = elsewhere.path().join("photos");
    std::fs::create_dir(&stranger).unwrap();
    std::fs::write(stranger.join("one.png"), "a picture of somebody").unwrap();
    let removed = project.path("renders/.truepath/removed");
    std::fs::rename(&removed, project.path("kept")).unwrap();
    symlink(elsewhere.path(), &removed).unwrap();
    for words in ["clean --removed", "clean --removed --yes", "clean --mode draft --yes"] {
        let said = project.say(words);
        assert!(stranger.join("one.png").exists(), "{words}: {said:?}");
        assert!(said.code != 0 && said.err.contains("is a link") || words.contains("draft"), "{words}: {said:?}");
    }
    // The whole folder behind a link.
    std::fs::remove_file(&removed).unwrap();
    std::fs::remove_dir_all(project.path("renders/.truepath")).unwrap();
    std::fs::create_dir(elsewhere.path().join("removed")).unwrap();
    std::fs::create_dir(elsewhere.path().join("removed/2026-01-01T00-00-00")).unwrap();
    symlink(elsewhere.path(), project.path("renders/.truepath")).unwrap();
    let said = project.say("clean --removed --yes");
    assert!(said.code == 1 && said.err.contains("is a link"), "{said:?}");
    assert!(elsewhere.path().join("removed/2026-01-01T00-00-00").exists());
    // A root that is a link itself is where it leads: that is ordinary.
    std::fs::remove_file(project.path("renders/.truepath")).unwrap();
    std::fs::rename(project.path("renders"), project.path("disk")).unwrap();
    symlink(project.path("disk"), project.path("renders")).unwrap();
    project.say("run --mode draft").ended(0);
    project.say("clean --mode draft --yes").ended(0);
    assert!(project.say("clean --undo --mode draft").ended(0).err.contains("4 files brought back"));
    project.say("verify --mode draft").ended(0);
}

#[test]
fn files_that_went_to_a_named_folder_come_back_from_it_when_it_is_named_again() {
    let project = project();
    let before = project.stamps("renders/draft");
    let away = project.path("away-from-roots");
    std::fs::create_dir(&away).unwrap();
    let outside = tempfile::tempdir_in(project.path("..")).unwrap();
    let to = outside.path().display().to_string();
    project.call(&["clean", "--mode", "draft", "--yes", "--into", &to]).ended(0);
    assert!(project.files("renders").iter().all(|name| !name.starts_with("draft/")));
    let said = project.say("clean --undo --mode draft");
    assert!(said.code == 1 && said.err.contains("outside the folder"), "{said:?}");
    project.call(&["clean", "--undo", "--mode", "draft", "--into", &to]).ended(0);
    assert_eq!(project.stamps("renders/draft").keys().collect::<Vec<_>>(), before.keys().collect::<Vec<_>>());
    project.say("verify --mode draft --sums").ended(0);
}

/// The state folder as an earlier True Path left it: journals of a run, of two members, of a script, of a draft that was put
/// away, of an adoption and of a parcel; pins and a parcel.
fn earlier() -> Project {
    fn copy(from: &Path, to: &Path) {
        std::fs::create_dir_all(to).unwrap();
        for entry in std::fs::read_dir(from).unwrap().map(Result::unwrap) {
            // Folders that git keeps under plain names.
            let name = if entry.file_name() == "state" { ".truepath".into() } else { entry.file_name() };
            match entry.file_type().unwrap().is_dir() {
                true => copy(&entry.path(), &to.join(name)),
                false => drop(std::fs::copy(entry.path(), to.join(name)).unwrap()),
            }
        }
    }
    let project = Project::with("");
    std::fs::remove_file(project.path("truepath.toml")).unwrap();
    copy(&Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/fixtures/state-2"), &project.path(""));
    project
}

#[test]
fn a_state_folder_of_an_earlier_day_is_read_and_goes_on() {
    let project = earlier();
    let verdict = project.say("verify --sums --json").ended(0).json();
    let rows = verdict["series"].as_array().unwrap();
    assert_eq!((verdict["outcome"].as_str(), rows.len()), (Some("complete"), 2), "{verdict}");
    assert!(rows.iter().all(|row| row["foreign"] == "" && row["changed"] == ""), "{verdict}");
    // The pinned version is the second one; the first is an older one.
    assert!(project.say("names").ended(0).out.contains("v002"));
    let stamps = project.stamps("renders");
    assert!(project.say("run").ended(0).err.contains("complete: 10 files as planned"));
    assert_eq!(project.stamps("renders"), stamps, "nothing is rendered again");
    let log = project.say("log crossing").ended(0).out;
    assert!(log.contains("frames 1-6") && log.contains("harbour1"), "{log}");
    assert_eq!(project.say("clean --keep 1 --json").ended(0).json()["files"][0]["frames"], "1-6");
    // The draft comes back, the adoption is undone, the parcel is collected again.
    assert!(project.say("clean --undo --mode draft").ended(0).err.contains("10 files brought back"));
    project.say("verify --mode draft --sums").ended(0);
    assert!(project.say("verify --adopt --undo").ended(0).out.contains("1 file given back"));
    assert!(project.path("renders/arrival/v001/Arrival_v001.0004.png").exists());
    let said = project.say("parcel collect parcels/crossing_5-5");
    assert!(said.out.contains("1 already there"), "{said:?}");
    // Scripts and shares of then leave nothing that stops a run of now.
    project.say("run").ended(0);
    project.say("verify --sums").ended(0);
    // A layout or a journal that is not known is refused with a word, and left alone.
    project.write(".truepath/truepath/version", "3\n");
    let said = project.say("status");
    assert!(
        said.code == 2 && said.err.contains("has version `3`") && said.err.contains("move the folder away"),
        "{said:?}"
    );
    project.write(".truepath/truepath/version", "2\n");
    project.write(
        ".truepath/truepath/journal/later-1-000000.jsonl",
        "{\"event\":\"began\",\"truepath\":2,\"turn\":1,\"tag\":\"000000\"}\n",
    );
    let said = project.say("status");
    assert!(said.code == 2 && said.err.contains("has version 2"), "{said:?}");
}

/// Everything that is read from outside, and what stands in its place: none of it ends the program, fills the memory or hangs.
#[test]
fn whatever_stands_where_something_is_read_is_said() {
    let project = project();
    project.say("parcel pack --into parcels").ended(0);
    project.say("parcel render parcels/crossing_1-4").ended(0);
    let parcel_state = "parcels/crossing_1-4/.truepath/truepath";
    let journal = |state: &str| {
        let name = project.files(&format!("{state}/journal")).into_iter().next().unwrap();
        format!("{state}/journal/{name}")
    };
    let log = project.files(".truepath/truepath/logs").into_iter().next().unwrap();
    let places = [
        ("a journal", journal(".truepath/truepath"), vec!["status", "run", "log crossing", "clean --undo"]),
        ("a log", format!(".truepath/truepath/logs/{log}"), vec!["log crossing", "report -o r.html --replace"]),
        ("a parcel's journal", journal(parcel_state), vec!["parcel collect parcels"]),
        ("a parcel's description", "parcels/crossing_1-4/parcel.json".to_owned(), vec!["parcel collect parcels"]),
        (
            "what a look has found",
            ".truepath/truepath/looked/00000001-0.jsonl".to_owned(),
            vec!["status", "verify --deep", "run"],
        ),
        ("a pin", ".truepath/truepath/pins/00000000000000000000000000000000.json".to_owned(), vec!["status", "names"]),
        (
            "a facts file",
            "scenes/crossing.gltf.facts.toml".to_owned(),
            vec!["check", "names", "scene scenes/crossing.gltf"],
        ),
        ("a machine file", "config/truepath/config.toml".to_owned(), vec!["check", "names"]),
    ];
    let mut rows = 0;
    for (what, name, commands) in &places {
        let path = project.path(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        let kept = std::fs::read(&path).ok();
        for hazard in ["pipe", "link", "endless", "folder", "huge", "noise"] {
            let _ = std::fs::remove_file(&path);
            match hazard {
                "pipe" => assert!(Command::new("mkfifo").arg(&path).status().unwrap().success()),
                "link" => symlink("/nowhere/at/all", &path).unwrap(),
                "endless" => symlink("/dev/zero", &path).unwrap(),
                "folder" => std::fs::create_dir(&path).unwrap(),
                "huge" => std::fs::File::create(&path).unwrap().set_len(1 << 30).unwrap(),
                _ => std::fs::write(&path, b"\x00\xff{\"event\":\"landed\"\n[[[\"").unwrap(),
            }
            for words in commands {
                // Memory is bounded, so that what is read without end fails instead of hanging.
                let own = project.command();
                let mut command = Command::new("sh");
                command
                    .arg("-c")
                    .arg(format!("ulimit -v 2500000; exec timeout 900 \"$0\" {words}"))
                    .arg(own.get_program());
                command
                    .current_dir(project.path(""))
                    .env("NO_COLOR", "1")
                    .env("XDG_CONFIG_HOME", project.path("config"));
                let said = Said::from(command.output().unwrap());
                assert!((0..=4).contains(&said.code), "{what}, {hazard}, {words}: {said:?}");
                assert!(
                    !said.err.contains("bug in True Path") && !said.err.contains("memory"),
                    "{what}, {hazard}, {words}: {said:?}"
                );
                rows += 1;
            }
            let _ = if path.is_dir() && !path.is_symlink() {
                std::fs::remove_dir(&path)
            } else {
                std::fs::remove_file(&path)
            };
        }
        if let Some(bytes) = kept {
            std::fs::write(&path, bytes).unwrap();
        }
    }
    eprintln!("{rows} rows");
    project.say("run").ended(0);
    project.say("verify --sums").ended(0);
    let names: BTreeSet<String> = rendered(&project).into_iter().filter(|name| name.starts_with("crossing/")).collect();
    assert_eq!(names.len(), 4);
}
