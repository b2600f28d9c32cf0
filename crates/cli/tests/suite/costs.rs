//! No job costs another a frame, and what True Path keeps beside a sheet is read only as what it is.

use std::collections::BTreeSet;
use std::os::unix::fs::PermissionsExt;

use crate::support::{Project, SMALL, UNDERSTUDY, rendered};
use truepath_core::run::event::{self, Event};

/// Two jobs of one camera: `good` by the understudy, `bad` by a program of the test's own.
fn two_jobs(program: &str) -> Project {
    let sheet = SMALL.replace("[[job]]\nname = \"crossing\"", "[[job]]\nname = \"good\"");
    let (head, tail) = sheet.split_once("[checks]").unwrap();
    let job = "[[job]]\nname = \"bad\"\nadapter = \"bad\"\nscene = \"scenes/crossing.gltf\"\ncamera = \"quay\"\nframes = \"1-24\"\n";
    let first = head.replace("[[job]]", &format!("{job}\n[[job]]"));
    let project = Project::with(&format!("{first}[checks]{tail}workers = 2\n"));
    project.write("bin/bad", program);
    std::fs::set_permissions(project.path("bin/bad"), std::fs::Permissions::from_mode(0o755)).unwrap();
    project.write("adapters/bad.toml", UNDERSTUDY.replace("program = \"truepath\"", "program = \"bin/bad\""));
    project
}

fn of(project: &Project, job: &str) -> BTreeSet<String> {
    rendered(project).into_iter().filter(|name| name.starts_with(&format!("{job}/"))).collect()
}

#[test]
fn a_program_that_cannot_start_and_a_target_that_goes_away_cost_no_other_job_a_frame() {
    let program = env!("CARGO_BIN_EXE_truepath");
    // Once its first call is done, a file takes the place of its folder.
    let away = format!(
        "#!/bin/sh\n[ \"$1\" = understudy ] || exec '{program}' \"$@\"\n'{program}' \"$@\"\n\
         mkdir went 2>/dev/null || exit 0\n\
         until [ -f renders/bad ]; do rm -rf renders/bad; echo in the way > renders/bad; done 2>/dev/null\n"
    );
    for (what, script, words) in [
        ("cannot start", "#!/nowhere/sh\n", "gave up bad: cannot start "),
        ("target goes away", away.as_str(), "gave up bad: cannot "),
    ] {
        let project = two_jobs(script);
        let said = project.say("run").ended(3);
        assert_eq!(of(&project, "good").len(), 24, "{what}: {}", said.err);
        assert!(said.err.contains(words), "{what}: {}", said.err);
        // What was never started has no log to be looked at.
        let hint = if what == "cannot start" { "Fix it: truepath run bad\n" } else { "see why: truepath log bad " };
        assert!(said.err.contains(hint), "{what}: {}", said.err);
        // Put right, the next run makes what is missing and nothing else.
        let good = project.stamps("renders/good");
        let _ = std::fs::remove_file(project.path("renders/bad"));
        project.write("bin/bad", format!("#!/bin/sh\nexec '{program}' \"$@\"\n"));
        project.say("run").ended(0);
        assert_eq!((of(&project, "bad").len(), project.stamps("renders/good")), (24, good), "{what}");
    }
}

#[test]
fn what_an_adapter_needs_stops_its_own_jobs_only() {
    let project = two_jobs("#!/bin/sh\nexit 1\n");
    let adapter = std::fs::read_to_string(project.path("adapters/bad.toml")).unwrap();
    project.write("adapters/bad.toml", format!("{adapter}\n[needs]\nrun = [[\"false\"]]\n"));
    let said = project.say("run").ended(3);
    assert!(said.err.contains("gave up bad: bad needs the command `false` to succeed, and it failed"), "{}", said.err);
    assert_eq!((of(&project, "good").len(), of(&project, "bad").len()), (24, 0));
    // Where nothing else is left, it is the run's own answer.
    assert!(project.say("run").ended(4).err.contains("bad needs the command `false` to succeed"));
}

#[test]
fn a_program_that_may_not_be_started_is_said_before_the_first_frame() {
    let project = two_jobs("#!/bin/sh\nexit 1\n");
    std::fs::set_permissions(project.path("bin/bad"), std::fs::Permissions::from_mode(0o644)).unwrap();
    for words in ["check", "run"] {
        let said = project.say(words).ended(if words == "run" { 4 } else { 1 });
        assert!(format!("{}{}", said.out, said.err).contains("error[program-not-executable]"), "{said:?}");
    }
    assert!(rendered(&project).is_empty());
}

#[test]
fn state_and_journals_of_another_version_are_refused_and_left_alone() {
    let project = Project::with(&SMALL.replace("\"1-24\"", "\"1-4\""));
    project.say("run").ended(0);
    let state = project.path(".truepath/truepath");
    assert_eq!(std::fs::read_to_string(state.join("version")).unwrap(), "2\n");
    let journal = project.files(".truepath/truepath/journal").into_iter().next().unwrap();
    let text = std::fs::read_to_string(state.join("journal").join(&journal)).unwrap();
    let newer = text.replacen("\"truepath\":1", "\"truepath\":7", 1);
    assert_ne!(newer, text);
    for (name, theirs, ours, words) in [
        ("version", "12\n", "2\n", "has version `12`, and this True Path reads version 2"),
        (&*format!("journal/{journal}"), &*newer, &*text, "has version 7, and this True Path reads version 1"),
    ] {
        std::fs::write(state.join(name), theirs).unwrap();
        let before = project.stamps(".");
        for command in ["check", "names", "status", "verify", "run", "log crossing", "build"] {
            let said = project.say(command).ended(2);
            assert!(said.err.contains(words) && said.err.contains("help: "), "{command}: {}", said.err);
        }
        assert_eq!(project.stamps("."), before, "nothing is touched");
        std::fs::write(state.join(name), ours).unwrap();
    }
    project.say("verify").ended(0);
}

#[test]
fn a_run_that_is_killed_before_it_could_write_down_its_renderer_leaves_nothing_running() {
    // The guard is gone, the journal's last lines are lost, and the renderer has left its group: only its mark tells.
    let program = env!("CARGO_BIN_EXE_truepath");
    let project = two_jobs(&format!(
        "#!/bin/sh\n[ \"$1\" = understudy ] || exec '{program}' \"$@\"\nsetsid sleep 876543 &\nsleep 876543\n"
    ));
    let sleeping = || {
        let found = std::process::Command::new("pgrep").args(["-fc", "^sleep 876543"]).output().unwrap();
        String::from_utf8(found.stdout).unwrap().trim().parse::<usize>().unwrap()
    };
    let mut run = project.command().args(["run", "bad"]).stderr(std::process::Stdio::null()).spawn().unwrap();
    crate::support::until("its start", || sleeping() >= 2);
    let guard = ["-KILL", "-P", &run.id().to_string(), "-f", "guard-renderers"];
    assert!(std::process::Command::new("pkill").args(guard).status().unwrap().success());
    run.kill().unwrap();
    run.wait().unwrap();
    for name in project.files(".truepath/truepath/journal") {
        let path = project.path(".truepath/truepath/journal").join(name);
        let text = std::fs::read_to_string(&path).unwrap();
        let kept = event::read(&text).take_while(|event| !matches!(event, Event::Started(_))).count();
        std::fs::write(&path, text.lines().take(kept).map(|line| format!("{line}\n")).collect::<String>()).unwrap();
    }
    assert!(sleeping() >= 2);
    let said = project.say("run good").ended(0);
    assert_eq!(sleeping(), 0, "{}", said.err);
    assert!(said.err.contains("that an interrupted run had left running"), "{}", said.err);
}
