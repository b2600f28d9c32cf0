//! The program for Windows, driven under Wine from sheet to verified frames: drive letters, scripts, the lock, a kill. Its
//! path is given by `TRUEPATH_WINDOWS_EXE`; `.ci/run` builds it.

use std::path::PathBuf;
use std::process::{Child, Command, Stdio};

use crate::support::{Project, SMALL, Said, has, rendered, until};

/// Wine with a world of its own.
struct Wine {
    program: PathBuf,
    world: tempfile::TempDir,
}

impl Wine {
    fn here() -> Option<Wine> {
        let program = std::env::var_os("TRUEPATH_WINDOWS_EXE").map(PathBuf::from).filter(|path| path.is_file());
        let required = std::env::var("TRUEPATH_REQUIRE").unwrap_or_default();
        assert!(program.is_some() || !required.contains("windows-exe"), "TRUEPATH_WINDOWS_EXE names no program");
        if program.is_none() {
            eprintln!("SKIPPED: TRUEPATH_WINDOWS_EXE names no program for Windows");
        }
        Some(Wine { program: program?, world: tempfile::tempdir().unwrap() }).filter(|_| has("wine"))
    }

    fn command(&self, project: &Project, words: &[&str]) -> Command {
        let mut command = Command::new("wine");
        command.args(words).current_dir(project.path(""));
        command.env("WINEDEBUG", "-all").env("WINEPREFIX", self.world.path()).env("NO_COLOR", "1");
        command
    }

    fn own<'w>(&'w self, words: &'w str) -> Vec<&'w str> {
        std::iter::once(self.program.to_str().unwrap()).chain(words.split(' ')).collect()
    }

    fn say(&self, project: &Project, words: &str) -> Said {
        self.command(project, &self.own(words)).output().unwrap().into()
    }

    fn start(&self, project: &Project, words: &str) -> Child {
        self.command(project, &self.own(words)).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    }
}

impl Drop for Wine {
    fn drop(&mut self) {
        // Its server would outlive the test, and its folder.
        let _ = Command::new("wineserver").arg("-k").env("WINEPREFIX", self.world.path()).status();
    }
}

/// Processes of the program whose command lines hold some words.
fn processes(words: &str) -> Vec<String> {
    let found = Command::new("pgrep").args(["-f", &format!("truepath.exe {words}")]).output().unwrap();
    String::from_utf8(found.stdout).unwrap().lines().map(str::to_owned).collect()
}

#[test]
fn from_sheet_to_verified_frames_on_windows() {
    let Some(wine) = Wine::here() else { return };
    let project = Project::with(&SMALL.replace("\"1-24\"", "\"1-12\""));
    let names = wine.say(&project, "names --json").ended(0).json();
    let first = names["series"][0]["first"].as_str().unwrap();
    let drive = format!("Z:{}", project.path("renders/crossing/crossing_beauty.0001.png").display());
    assert_eq!(first, drive, "a path begins with its drive");
    wine.say(&project, "check").ended(0);
    let said = wine.say(&project, "run").ended(0);
    assert!(said.err.ends_with("complete: 12 files as planned\n"), "{}", said.err);
    assert_eq!(rendered(&project).len(), 12);
    assert!(wine.say(&project, "verify").ended(0).out.ends_with("complete: 12 files as planned\n"));
    assert!(wine.say(&project, "run").ended(0).err.contains("nothing to render"));
    assert!(!project.path("renders/.truepath").exists(), "nothing is left in stage");
    let whose = wine.say(&project, "whose renders\\crossing\\crossing_beauty.0007.png").ended(0).out;
    assert!(whose.contains("crossing") && whose.contains('7'), "{whose}");
    // To look at it: nothing of what is drawn depends on the system.
    wine.say(&project, "contact -o sheet.png").ended(0);
    let there = std::fs::read(project.path("sheet.png")).unwrap();
    project.say("contact -o here.png").ended(0);
    assert_eq!(std::fs::read(project.path("here.png")).unwrap(), there);
    wine.say(&project, "compare renders renders").ended(0);
    wine.say(&project, "report -o night.html").ended(0);
    assert!(std::fs::read_to_string(project.path("night.html")).unwrap().contains("12 of 12 files"));
    let two = Project::with(&SMALL.replace("\"1-24\"", "\"1-3\"\npasses = [\"beauty\", \"mask\"]"));
    wine.say(&two, "run").ended(0);
    wine.say(&two, "stack -o stacks/{job}.{frame:4}.ora").ended(0);
    two.say("stack -o stacks/{job}.{frame:4}.ora").ended(0);
    assert_eq!(two.files("stacks").len(), 3);
    // The same calls as a script for the command prompt.
    std::fs::remove_dir_all(project.path("renders")).unwrap();
    std::fs::create_dir(project.path("renders")).unwrap();
    wine.say(&project, "build --to cmd -o night.cmd").ended(0);
    let script = wine.command(&project, &["cmd", "/c", "night.cmd"]).output().unwrap();
    assert!(script.status.success(), "{}", String::from_utf8_lossy(&script.stderr));
    assert_eq!(rendered(&project).len(), 12);
    // Its frames are known by its own journal, and a second start has nothing to do.
    let row = wine.say(&project, "verify --json").ended(0).json()["series"][0].clone();
    assert_eq!((&row["good"], &row["foreign"]), (&"1-12".into(), &"".into()), "{row}");
    let again = wine.command(&project, &["cmd", "/c", "night.cmd"]).output().unwrap();
    let said = String::from_utf8_lossy(&again.stdout).into_owned();
    assert!(said.contains("crossing_7-12: already there") && said.contains("12 of 12 files are there"), "{said}");
}

#[test]
fn killed_on_windows_it_leaves_nothing_running_and_goes_on() {
    let Some(wine) = Wine::here() else { return };
    let sheet = SMALL.replace("32x18", "320x180").replace("1-24", "1-60").replace("chunk = 6", "chunk = 30");
    let project = Project::with(&sheet);
    let mut run = wine.start(&project, "run --workers 2");
    until("a frame", || rendered(&project).len() > 2);
    let second = wine.say(&project, "run").ended(4);
    assert!(second.err.contains("already being rendered by process"), "{}", second.err);
    let own = processes("run --workers 2");
    assert!(!own.is_empty() && !processes("understudy render").is_empty());
    assert!(Command::new("kill").arg("-KILL").args(own).status().unwrap().success());
    run.wait().unwrap();
    until("the end of its renderers", || processes("understudy render").is_empty());
    let there = project.stamps("renders/crossing");
    assert!(there.len() < 60, "it was killed under way");
    wine.say(&project, "run").ended(0);
    wine.say(&project, "verify").ended(0);
    let after = project.stamps("renders/crossing");
    assert!(
        after.len() == 60 && there.iter().all(|(name, stamp)| after[name] == *stamp),
        "landed frames are left alone"
    );
}
