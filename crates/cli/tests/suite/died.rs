//! A program that died is not believed: after a bad end only what is known to be finished lands, on every path.

use std::os::unix::process::CommandExt;
use std::process::{Command, Stdio};

use crate::support::{Project, SMALL, Said, rendered, until};

/// A project whose renderer is a shell script that copies a whole picture to `frame N`: `draw N` writes it, `at N` is its staged
/// path. `{first}` and `{last}` are the frames of its call.
fn project(frames: &str, chunk: i64, body: &str, log: &str, exit: &str) -> Project {
    let sheet = SMALL
        .replace("1-24", frames)
        .replace("chunk = 6", &format!("chunk = {chunk}"))
        .replace("\"understudy\"", "\"own\"")
        .replace("[checks]", "[checks]\npicture-repeated = \"off\"\nsequence-of-one = \"off\"");
    let project = Project::with(&sheet);
    let picture =
        "understudy render scenes/crossing.gltf --frames 1 --size 32x18 --channels rgb --pass beauty=frame.png";
    project.say(picture).ended(0);
    let head = "first=${2%-*} last=${2#*-} out=$3 home=$PWD\n\
         at() { n=$1; case $out in *####*) n=$(printf %04d \"$1\") ;; esac; echo \"$out\" | sed \"s/##*/$n/\"; }\ndraw() { cp frame.png \"$(at \"$1\")\"; }\n";
    project.script("own", &format!("{head}{body}\n"));
    let adapter = std::fs::read_to_string(project.path("adapters/own.toml")).unwrap();
    project.write("adapters/own.toml", format!("{adapter}\n[log]\n{log}\n[exit]\n{exit}\n"));
    project
}

/// The frames that bear final names.
fn landed(project: &Project) -> Vec<i64> {
    rendered(project).iter().map(|name| name.rsplit('.').nth(1).unwrap().parse().unwrap()).collect()
}

/// Runs the plan as a script for a shell.
fn script(project: &Project) -> Said {
    project.say("build -o render.sh --replace --keep-going").ended_in(&[0]);
    Command::new("sh").arg(project.path("render.sh")).output().unwrap().into()
}

/// What a call leaves at its last frame: each whole to look at, and none finished.
const BAD_ENDS: [(&str, &str); 5] = [
    ("an exit code", "exit 7"),
    ("a signal of its own", "kill -SEGV $$"),
    ("somebody's signal", "kill -KILL $$"),
    ("a time limit", "exec tail -f /dev/null"),
    ("its own word", "echo FATAL: no more memory; exit 0"),
];

#[test]
fn the_file_written_last_never_lands_by_its_looks() {
    for (what, end) in BAD_ENDS {
        // It refines the picture of its one frame in steps, and saves it each time.
        let body = format!("for step in 1 2 3; do draw $first; done\n{end}");
        let limit = "silence = \"1s\"\nretries = 0\n";
        let project = project("1-2", 1, &body, "fatal = '^FATAL'", "ok = [0]");
        let sheet = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
        project.write("truepath.toml", sheet + limit);
        for words in ["run", "run --share"] {
            let said = project.say(words).ended(3);
            assert_eq!(landed(&project), Vec::<i64>::new(), "{what} by {words}: {}", said.err);
        }
        if what != "a time limit" {
            let said = script(&project).ended(3);
            assert_eq!(landed(&project), Vec::<i64>::new(), "{what} by a script: {}", said.err);
            assert!(said.err.contains("perhaps not finished, left in "), "{}", said.err);
        }
    }
}

#[test]
fn what_the_log_names_lands_after_any_end_and_nothing_else_after_a_good_one() {
    let named = "for n in $(seq $first $last); do draw $n; [ $n -eq 4 ] || echo \"wrote $(at $n)\"; done";
    for (end, code) in [("exit 0", 3), ("exit 7", 3), ("kill -ABRT $$", 3)] {
        let make = || project("1-6", 6, &format!("{named}\n{end}"), "wrote = '^wrote (?<path>.+)$'", "ok = [0]");
        let (by_run, by_script) = (make(), make());
        let sheet = std::fs::read_to_string(by_run.path("truepath.toml")).unwrap() + "retries = 0\n";
        by_run.write("truepath.toml", &sheet);
        let said = by_run.say("run").ended(code);
        assert_eq!(landed(&by_run), [1, 2, 3, 5, 6], "{end}: {}", said.err);
        let said = script(&by_script).ended(3);
        assert_eq!(landed(&by_script), [1, 2, 3, 5, 6], "{end}: {}", said.err);
    }
    // A name that is the end of another name names nothing else.
    let project = project(
        "1-12",
        12,
        "for n in $(seq $first $last); do draw $n; done; echo \"wrote $(at 11)\"; exit 3",
        "wrote = '^wrote (?<path>.+)$'",
        "ok = [0]",
    );
    let sheet = std::fs::read_to_string(project.path("truepath.toml")).unwrap().replace("{frame:4}", "{frame:1}");
    project.write("truepath.toml", sheet);
    script(&project);
    assert_eq!(landed(&project), [11]);
}

#[test]
fn frames_that_are_written_at_once_are_not_finished_because_later_ones_are_there() {
    // Three at a time, each cut at another part, and the program dies.
    let body = "for n in 1 2 3; do cp frame.png \"$(at $n)\"; truncate -s $((n * 200)) \"$(at $n)\"; done\nexit 1";
    let project = project("1-3", 3, body, "", "ok = [0]");
    let said = script(&project).ended(3);
    assert_eq!(landed(&project), Vec::<i64>::new(), "{}", said.err);
    assert!(said.err.contains("kept until `truepath run` has looked at it"), "{}", said.err);
    project.say("run").ended(3);
    assert_eq!(landed(&project), Vec::<i64>::new());
}

#[test]
fn a_frame_that_the_program_moved_on_from_lands_and_one_that_it_came_back_to_is_taken_back() {
    // It begins frames until the first has landed, comes back to that, and dies there.
    let body = "first_landed=$home/renders/crossing/crossing_beauty.0001.png\n\
         for n in $(seq 1 40); do draw $n\n\
         [ $first -eq 1 ] && [ $last -gt 1 ] || continue\n\
         for look in $(seq 1 300); do [ ! -e $first_landed ] || break 2; sleep 0.02; done; done\n\
         COME_BACK\nexit 9";
    let stays = project("1-40", 40, &body.replace("COME_BACK", ":"), "", "ok = [0]");
    let sheet = std::fs::read_to_string(stays.path("truepath.toml")).unwrap() + "retries = 0\n";
    stays.write("truepath.toml", &sheet);
    stays.say("run").ended(3);
    assert!(landed(&stays).contains(&1), "{:?}", landed(&stays));
    let again = project("1-40", 40, &body.replace("COME_BACK", "cp frame.png \"$(at 1)\""), "", "ok = [0]");
    again.write("truepath.toml", sheet);
    let said = again.say("run").ended(3);
    assert!(!landed(&again).contains(&1), "{}", said.err);
    let row = again.say("verify --json").json()["series"][0].clone();
    assert_eq!(row["foreign"], "", "{row}");
    assert!(row["missing"].as_str().unwrap().starts_with("1"), "{row}");
}

#[test]
fn a_program_that_always_crashes_on_its_way_out_costs_no_night() {
    for (chunk, end, ok) in [
        (4, "kill -SEGV $$", "ok = [0, \"SEGV\"]\nwhole = true"),
        (1, "kill -SEGV $$", "ok = [0, \"SEGV\"]\nwhole = true"),
        (4, "exit 3", "ok = [0, 3]"),
        (1, "sh -c 'kill -ABRT $$'; exit $?", "ok = [0, \"ABRT\"]\nwhole = true"),
    ] {
        let body = format!("echo run >> $home/starts; for n in $(seq $first $last); do draw $n; done\n{end}");
        let starts =
            |project: &Project| std::fs::read_to_string(project.path("starts")).unwrap_or_default().lines().count();
        let make = || project("1-12", chunk, &body, "", "ok = [0]");
        let by_run = make();
        let said = by_run.say("run").ended(3);
        // On a slow machine the run may have seen that a call moved on from a frame; never from its last one.
        assert!(landed(&by_run).iter().all(|frame| frame % chunk != 0), "{end}: {}", said.err);
        // One may be under way when the third has ended.
        let began = starts(&by_run);
        assert!([3, 4].contains(&began), "{end}: {}", said.err);
        let hint = match end {
            "exit 3" => "ok = [0, 3] under [exit]",
            "kill -SEGV $$" => "ok = [0, \"SEGV\"] and whole = true under [exit]",
            _ => "ok = [0, 134] under [exit]",
        };
        assert!(
            said.err.contains("which look whole and stay in stage") && said.err.contains(hint),
            "{end}: {}",
            said.err
        );
        // The line is written: what is there lands, and only the rest is rendered.
        let believed = |project: &Project| {
            let adapter = std::fs::read_to_string(project.path("adapters/own.toml")).unwrap();
            project.write("adapters/own.toml", adapter.replace("ok = [0]", ok));
        };
        believed(&by_run);
        let kept = by_run.files("renders").len();
        assert!(kept >= chunk as usize, "{:?}", by_run.files("renders"));
        let said = by_run.say("run").ended(0);
        assert!(said.err.contains("of an interrupted run landed"), "{}", said.err);
        assert_eq!(
            (landed(&by_run), starts(&by_run)),
            ((1..=12).collect(), began + (12 - kept).div_ceil(chunk as usize)),
            "{end}"
        );
        assert!(!by_run.path("renders/.truepath").exists(), "{:?}", by_run.files("renders"));
        by_run.say("verify --sums").ended(0);
        // By a script the same, and by members that share.
        let by_script = make();
        script(&by_script).ended(3);
        assert_eq!(landed(&by_script), Vec::<i64>::new(), "{end}");
        believed(&by_script);
        let before = starts(&by_script);
        by_script.say("run").ended(0);
        assert_eq!(
            (landed(&by_script), starts(&by_script)),
            ((1..=12).collect(), before),
            "{end}: what a script left lands"
        );
        let by_believed_script = make();
        believed(&by_believed_script);
        script(&by_believed_script).ended(0);
        assert_eq!(landed(&by_believed_script), (1..=12).collect::<Vec<i64>>());
        let shared = make();
        believed(&shared);
        shared.say("run --share").ended(0);
        assert_eq!(landed(&shared), (1..=12).collect::<Vec<i64>>());
    }
}

#[test]
fn signals_that_others_send_are_no_end_of_a_program() {
    for (value, word) in [
        ("\"KILL\"", "stopped by others"),
        ("\"TERM\"", "stopped by others"),
        ("\"segv\"", "SEGV"),
        ("true", "whole number"),
    ] {
        let project = project("1-2", 1, "draw $first", "", &format!("ok = [0, {value}]"));
        let said = project.say("check").ended(1).out;
        assert!(said.contains(word), "{value}: {said}");
    }
}

#[test]
fn what_a_killed_run_left_in_stage_lands_only_where_its_log_names_it() {
    for names in [true, false] {
        let (word, rule) = if names { ("echo \"wrote $(at $n)\"", "wrote = '^wrote (?<path>.+)$'") } else { (":", "") };
        // Frames that look whole, and a program that still works on them.
        let body = format!(
            "for n in 1 2 3; do draw $n; done; n=2; {word}\ntouch $home/drawn; until [ -e $home/go ]; do sleep 0.02; done\ndraw $last"
        );
        let project = project("1-4", 4, &body, rule, "ok = [0]");
        let mut run = project.command();
        let mut run = run.arg("run").stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        until("three frames in stage", || project.path("drawn").exists());
        // What the program said counts once the run has heard it.
        let log = ".truepath/truepath/logs";
        let heard = |name: &String| {
            std::fs::read_to_string(project.path(log).join(name)).is_ok_and(|text| text.contains("wrote "))
        };
        until("the line in the log", || !names || project.files(log).iter().any(heard));
        run.kill().unwrap();
        run.wait().unwrap();
        // It lands from stage what is known, and renders the rest.
        project.write("go", "");
        let before = landed(&project);
        let said = project.say("run");
        let of_stage = said.err.contains("of an interrupted run landed") || !before.is_empty();
        assert_eq!(of_stage, names, "{}", said.err);
        if !names {
            assert_eq!(landed(&project), [1, 2, 3, 4], "{}", said.err);
        }
    }
}

/// A shell that hears every signal, whatever this test was started with: what is ignored at its start, a shell cannot heed.
fn heeding(shell: &str) -> Command {
    if !cfg!(target_os = "linux") {
        return Command::new(shell);
    }
    let mut command = Command::new("env");
    command.args(["--default-signal=INT,TERM,HUP", shell]);
    command
}

#[test]
fn an_interrupt_of_a_script_loses_no_frame_that_was_said_to_be_finished() {
    let body = "for n in $(seq $first $last); do draw $n; echo \"wrote $(at $n)\"; [ $n -ne 3 ] || { draw 4; touch $home/three; until [ -e $home/go ]; do sleep 0.02; done; }; done";
    for signal in ["-INT", "-TERM", "-HUP"] {
        let project = project("1-6", 6, body, "wrote = '^wrote (?<path>.+)$'", "ok = [0]");
        project.say("build -o render.sh").ended(0);
        for shell in
            ["sh", "bash", "dash", "zsh"].into_iter().filter(|shell| *shell == "sh" || crate::support::has(shell))
        {
            let _ = std::fs::remove_dir_all(project.path("renders"));
            let _ = std::fs::remove_file(project.path("three"));
            let mut start = heeding(shell);
            start.arg(project.path("render.sh")).current_dir(project.path("")).process_group(0);
            let script = start.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
            until("three frames", || project.path("three").exists());
            // As a terminal does: to all that it has started.
            let group = format!("-{}", script.id());
            assert!(Command::new("kill").args([signal, "--", &group]).status().unwrap().success());
            let said = Said::from(script.wait_with_output().unwrap()).ended(130);
            assert_eq!(landed(&project), [1, 2, 3], "{shell} {signal}: {said:?}");
            assert!(said.err.contains("kept until `truepath run` has looked at it"), "{shell} {signal}: {said:?}");
            assert!(
                project
                    .files("renders")
                    .iter()
                    .any(|name| name.contains(".truepath/stage") && name.ends_with("0004.png"))
            );
            // A second start goes on.
            let stamps = project.stamps("renders");
            project.write("go", "");
            Said::from(Command::new(shell).arg(project.path("render.sh")).output().unwrap()).ended(0);
            assert_eq!(landed(&project), [1, 2, 3, 4, 5, 6], "{shell} {signal}");
            let after = project.stamps("renders");
            assert!(
                stamps
                    .iter()
                    .filter(|(name, _)| !name.contains(".truepath"))
                    .all(|(name, stamp)| after[name] == *stamp)
            );
            assert!(!project.path("renders/.truepath").exists(), "{:?}", project.files("renders"));
            std::fs::remove_file(project.path("go")).unwrap();
        }
        // Or `truepath run` goes on: it looks at what is in stage.
        let _ = std::fs::remove_dir_all(project.path("renders"));
        let _ = std::fs::remove_file(project.path("three"));
        let mut start = Command::new("sh");
        start.arg(project.path("render.sh")).current_dir(project.path("")).process_group(0);
        let script = start.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        until("three frames, and their names in the log", || {
            let logs = std::fs::read_dir(project.path(".truepath/truepath/logs"));
            project.path("three").exists()
                && logs.into_iter().flatten().flatten().any(|log| {
                    log.path().extension().is_some_and(|kind| kind == "log")
                        && std::fs::read_to_string(log.path()).unwrap_or_default().contains("0003.png\n")
                })
        });
        let group = format!("-{}", script.id());
        assert!(Command::new("kill").args(["-KILL", "--", &group]).status().unwrap().success());
        script.wait_with_output().unwrap();
        project.write("go", "");
        let said = project.say("run").ended(0);
        assert!(said.err.contains("3 whole files of an interrupted run landed"), "{}", said.err);
        assert_eq!(landed(&project), [1, 2, 3, 4, 5, 6]);
        assert!(!project.path("renders/.truepath").exists(), "{:?}", project.files("renders"));
    }
}
