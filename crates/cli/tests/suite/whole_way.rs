//! From a sheet to verified frames, and back from every way in which frames get lost.

use std::collections::BTreeSet;
use std::process::{Command, Stdio};

use crate::support::{Project, SMALL, Said, has, planned, rendered};

#[test]
fn the_demo_ends_with_exactly_the_files_it_names() {
    let folder = tempfile::tempdir().unwrap();
    let at = |words: &[&str]| -> Said {
        Command::new(env!("CARGO_BIN_EXE_truepath"))
            .current_dir(folder.path())
            .args(words)
            .env_remove("DISPLAY")
            .output()
            .unwrap()
            .into()
    };
    let demo = at(&["demo", "night"]).ended(0);
    for title in [
        "The names",
        "The check",
        "Three mistakes",
        "A script",
        "A draft",
        "The run",
        "The state",
        "The log",
        "One file",
        "The proof",
        "A movie",
        "The look",
        "What next",
    ] {
        assert!(demo.out.contains(&format!("== {title}")), "{}", demo.out);
    }
    let names = at(&["names", "--all", "-f", "night/truepath.toml"]).ended(0).out;
    assert_eq!(names.lines().count(), 579);
    // One job was drafted as well.
    let drafts = at(&["names", "--all", "-f", "night/truepath.toml", "--mode", "draft", "lighthouse"]).ended(0).out;
    let named: BTreeSet<&str> = names.lines().chain(drafts.lines()).collect();
    let mut found = BTreeSet::new();
    let mut waiting = vec![std::fs::canonicalize(folder.path().join("night/renders")).unwrap()];
    while let Some(next) = waiting.pop() {
        for entry in std::fs::read_dir(next).unwrap().map(|entry| entry.unwrap().path()) {
            if entry.is_dir() {
                waiting.push(entry)
            } else {
                found.insert(entry.to_str().unwrap().to_owned());
            }
        }
    }
    assert_eq!(found.iter().map(String::as_str).collect::<BTreeSet<_>>(), named);
    assert_eq!(named.len(), 579 + 12);
    assert!(folder.path().join("night/arrival.mp4").is_file());
    assert!(at(&["demo", "night"]).ended(0).out.contains("complete: 579 files"), "a second walk finds everything done");
    std::fs::create_dir(folder.path().join("mine")).unwrap();
    std::fs::write(folder.path().join("mine/truepath.toml"), "sheet = 1").unwrap();
    at(&["demo", "mine"]).ended(2);
    assert_eq!(std::fs::read_to_string(folder.path().join("mine/truepath.toml")).unwrap(), "sheet = 1");
}

#[test]
fn three_bad_frames_are_named_and_mended_and_nothing_else_is_touched() {
    let project = Project::with(SMALL);
    project.say("run").ended(0);
    assert_eq!(rendered(&project), planned(&project));
    let name = |frame: u32| format!("renders/crossing/crossing_beauty.{frame:04}.png");
    std::fs::remove_file(project.path(&name(3))).unwrap();
    let whole = std::fs::read(project.path(&name(7))).unwrap();
    project.write(&name(7), &whole[..whole.len() / 2]);
    let other = Project::with(&SMALL.replace("32x18", "16x9"));
    other.say("run --frames 9").ended(0);
    project.write(&name(9), std::fs::read(other.path(&name(9))).unwrap());

    let verdict = project.say("verify --json").ended(1).json();
    let series = &verdict["series"][0];
    assert_eq!(verdict["outcome"], "incomplete");
    assert_eq!([&series["missing"], &series["broken"], &series["wrong"]], ["3", "7", "9"]);
    assert_eq!(series["good"], "1-2,4-6,8,10-24");
    let text = project.say("verify").ended(1).out;
    assert!(
        text.contains("\u{2717} missing 3  \u{2717} broken 7  ! wrong 9")
            && text.contains("size is 16x9, should be 32x18"),
        "{text}"
    );

    let mut before = project.stamps("renders");
    let run = project.say("run").ended(1);
    assert!(
        run.err.contains("2 of 2 files landed") && run.err.contains("truepath run --existing renew"),
        "{}",
        run.err
    );
    let renew = project.say("run --existing renew").ended(0);
    assert!(renew.err.contains("1 of 1 file landed"), "{}", renew.err);
    project.say("verify").ended(0);
    let mut after = project.stamps("renders");
    for frame in [3, 7, 9] {
        before.remove(name(frame).strip_prefix("renders/").unwrap());
        after.remove(name(frame).strip_prefix("renders/").unwrap());
    }
    assert_eq!(before, after);
    assert!(project.say("run").ended(0).err.contains("nothing to render"));
    project.say("run --existing stop").ended(1);
}

#[test]
fn a_cut_file_of_every_type_is_broken_and_a_stray_one_is_named() {
    for (kind, extension, more) in [
        ("png", "png", "bits = 16"),
        ("jpeg", "jpg", "quality = 80"),
        ("tiff", "tif", "bits = 16"),
        ("exr", "exr", "bits = \"half\""),
    ] {
        let sheet =
            SMALL.replace("type = \"png\"\nbits = 8", &format!("type = \"{kind}\"\n{more}")).replace("1-24", "1-4");
        let project = Project::with(&sheet);
        project.say("run").ended(0);
        let name = |frame: &str| format!("renders/crossing/crossing_beauty.{frame}.{extension}");
        let whole = std::fs::read(project.path(&name("0002"))).unwrap();
        for length in [0, 3, whole.len() / 3, whole.len() - 1] {
            project.write(&name("0002"), &whole[..length]);
            let series = &project.say("verify --json").ended(1).json()["series"][0];
            assert_eq!(
                [&series["broken"], &series["good"]],
                ["2", "1,3-4"],
                "{kind} cut to {length} of {}",
                whole.len()
            );
        }
        project.write(&name("0002"), &whole);
        project.write(&name("0117"), &whole);
        let verdict = project.say("verify --json").ended(0).json();
        assert_eq!(verdict["series"][0]["stray"][0], project.path(&name("0117")).to_str().unwrap());
    }
}

#[test]
fn two_runs_at_once_do_not_meet() {
    let project = Project::with(&SMALL.replace("32x18", "320x180").replace("1-24", "1-90"));
    let mut first = project.command().arg("run").stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    crate::support::until("its journal", || project.path(".truepath/truepath/journal").exists());
    let second = project.say("run").ended(4);
    assert!(second.err.contains(&format!("already being rendered by process {}", first.id())), "{}", second.err);
    assert!(first.wait().unwrap().success());
}

#[test]
fn an_interrupted_run_says_so_and_goes_on() {
    let project = Project::with(&SMALL.replace("32x18", "320x180").replace("1-24", "1-90"));
    let run = project.command().arg("run").stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    crate::support::until("three frames", || rendered(&project).len() >= 3);
    Command::new("kill").args(["-INT", &run.id().to_string()]).status().unwrap();
    let said = Said::from(run.wait_with_output().unwrap()).ended(130);
    assert!(said.err.contains("interrupted. Continue with: truepath run"), "{}", said.err);
    assert!(rendered(&project).len() < 90);
    project.say("run").ended(0);
    assert_eq!(rendered(&project), planned(&project));
}

#[test]
fn scripts_write_exactly_the_planned_files_in_an_empty_environment() {
    let sheet = SMALL.replace("{renders}/{job}/", "{renders}/{job}/it's a $take; {pass}/");
    let sheet = sheet.replace("[checks]", "passes = [\"beauty\", \"mask\"]\n\n[checks]");
    for shell in ["dash", "bash", "zsh"].into_iter().filter(|shell| has(shell)) {
        let project = Project::with(&sheet);
        project.say("build --to sh -o render.sh").ended(0);
        let again = project.say("build --to sh").ended(0).out;
        assert_eq!(again, std::fs::read_to_string(project.path("render.sh")).unwrap(), "the same plan, the same bytes");
        let shell_path =
            String::from_utf8(Command::new("sh").args(["-c", &format!("command -v {shell}")]).output().unwrap().stdout)
                .unwrap();
        let said: Said = Command::new(shell_path.trim())
            .arg(project.path("render.sh"))
            .env_clear()
            .current_dir("/")
            .output()
            .unwrap()
            .into();
        said.ended(0);
        assert_eq!(rendered(&project), planned(&project), "{shell}");
        project.say("verify").ended(0);
        let calls = project.say("build --to json").ended(0).json()["calls"].as_array().unwrap().len();
        assert_eq!(calls, 4);
    }
}

#[test]
fn a_script_tells_when_a_frame_did_not_come_out() {
    let project = Project::with(SMALL);
    let script = project.say("build --to sh").ended(0).out.replace("--camera quay", "--camera nobody");
    project.write("broken.sh", script);
    let said: Said = Command::new("sh").arg(project.path("broken.sh")).output().unwrap().into();
    let said = said.ended(3);
    assert!(said.err.contains("missing: ") && said.out.contains("no camera 'nobody'"), "{said:?}");
    assert_eq!(rendered(&project), BTreeSet::new());
}

#[test]
fn layers_together_make_one_file_and_are_verified_by_name() {
    let sheet = SMALL.replace("type = \"png\"\nbits = 8\nchannels = \"rgb\"", "type = \"exr\"\nbits = \"float\"");
    let sheet = sheet
        .replace("_{pass}", "{_pass}")
        .replace("[[job]]", "[[job]]\nlayers = \"together\"\npasses = [\"beauty\", \"depth\", \"normal\"]")
        .replace("1-24", "1-3");
    let project = Project::with(&sheet);
    project.say("run").ended(0);
    assert_eq!(rendered(&project).into_iter().next().unwrap(), "crossing/crossing.0001.exr");
    assert_eq!(project.say("names --json").json()["series"][0]["series"], "crossing/beauty+depth+normal");
    project.write("truepath.toml", sheet.replace("\"normal\"", "\"mask\""));
    let verdict = project.say("verify").ended(1).out;
    assert!(verdict.contains("layers mask are missing"), "{verdict}");
}

#[test]
fn settings_of_the_command_line_do_not_end_up_under_final_names() {
    let project = Project::with(SMALL);
    let refused = project.say("run --set samples=1").ended(2);
    assert!(refused.err.contains("--final"), "{}", refused.err);
    project.say("run --scale 50").ended(2);
    assert_eq!(rendered(&project), BTreeSet::new());
    project
        .call(&["run", "--scale", "50", "--set", "path={renders}/draft/{job}.{frame:4}.{ext}", "--frames", "all/8"])
        .ended(0);
    assert_eq!(rendered(&project), ["0001", "0009", "0017"].map(|frame| format!("draft/crossing.{frame}.png")).into());
    project.say("run --frames 5 --set samples=1 --final").ended(0);
    assert_eq!(rendered(&project).len(), 4);
}

#[test]
fn a_disk_that_cannot_ends_the_run_with_its_own_code() {
    let project = Project::with(SMALL);
    project.write("renders", "a file where a folder should be");
    let said = project.say("run").ended(4);
    assert!(said.err.contains("a file has this name"), "{}", said.err);
    std::fs::remove_file(project.path("renders")).unwrap();
    project.say("run").ended(0);
}

#[test]
fn only_what_changes_a_picture_is_kept_from_final_names() {
    let project = Project::with(&SMALL.replace("\"1-24\"", "\"1-2\""));
    project.write("adapters/other.toml", crate::support::UNDERSTUDY.replace("\"understudy\"\nkind", "\"other\"\nkind"));
    // The same table answers that decides what frames are made of.
    for (set, harmless) in [
        ("version=4", true),
        ("shift=100", true),
        ("threads=1", true),
        ("enabled=true", true),
        ("adapter=other", false),
        ("samples=2", false),
        ("fps=25", false),
        ("vars.weather=fog", false),
    ] {
        let said = project.call(&["build", "--set", set]);
        assert_eq!(said.code, if harmless { 0 } else { 2 }, "{set}: {}", said.err);
        assert_eq!(said.err.contains("the files would have the final names"), !harmless, "{set}: {}", said.err);
    }
}

#[test]
fn a_path_beside_the_sheets_folder_is_shown_whole() {
    let project = Project::with("");
    let sheet = SMALL.replace("renders = \"renders\"", "renders = \"../d-renders\"");
    project.write("d/truepath.toml", sheet.replace("scenes/", "../scenes/"));
    for words in ["names", "verify", "run", "verify", "log crossing", "status --why 1"] {
        let said = project.say(&format!("{words} -f d/truepath.toml"));
        let text = format!("{}{}", said.out, said.err);
        let whole = project.path("d-renders").display().to_string();
        assert!(!text.contains(" -renders/"), "{words}: {text}");
        assert!(!text.contains("d-renders/") || text.contains(&whole), "{words}: {text}");
    }
}
