//! Completion in real shells, and manual pages.

use std::process::Command;

use crate::support::{Project, SMALL, has};

/// A sheet with two jobs, one of them with a blank in its name, two modes and two cameras.
fn sheet() -> String {
    let jobs = "[[job]]\nname = \"crossing\"\nscene = \"scenes/crossing.gltf\"\neach = { camera = [\"quay\", \"mast\"] }\n\
        passes = [\"beauty\", \"depth\"]\npath = \"{renders}/{job}/{camera}_{pass}{-mode}.{frame:4}.{ext}\"\n\n\
        [[job]]\nname = \"night ferry\"\nscene = \"scenes/arrival.gltf\"\npath = \"{renders}/night{-mode}.{frame:4}.{ext}\"\n\n\
        [modes.draft]\nscale = 25\n\n[modes.dailies]\nscale = 50\n\n[checks]";
    let (head, rest) = SMALL.split_once("[[job]]").unwrap();
    let (_, rest) = rest.split_once("[checks]").unwrap();
    format!("{head}{jobs}{rest}")
}

/// What is offered behind each of these lines.
const LINES: [(&str, &[&str]); 9] = [
    ("truepath names cros", &["crossing", "crossing/mast", "crossing/quay"]),
    ("truepath log crossing/m", &["crossing/mast"]),
    ("truepath run --pass d", &["depth"]),
    ("truepath run --mode d", &["dailies", "draft"]),
    ("truepath status --camera q", &["quay"]),
    ("truepath explain frame-token", &["frame-token-in-movie", "frame-token-missing"]),
    ("truepath types prores-4", &["prores-4444", "prores-4444-xq"]),
    ("truepath adapter show under", &["understudy"]),
    ("truepath run -f other.toml har", &["harbour"]),
];

/// Another sheet, that a line names.
fn project() -> Project {
    let project = Project::with(&sheet());
    project.write("other.toml", SMALL.replace("\"crossing\"", "\"harbour\""));
    project
}

/// Runs a script of a shell in the project's folder; what it prints.
fn shell(project: &Project, program: &str, arguments: &[&str], script: &str) -> String {
    project.write("script", script);
    let out = Command::new(program)
        .args(arguments)
        .arg(project.path("script"))
        .current_dir(project.path(""))
        .env("HOME", project.path("home"))
        .env("XDG_CONFIG_HOME", project.path("config"))
        .output()
        .unwrap();
    let (told, wrong) = (String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
    assert!(wrong.is_empty(), "{program}: {wrong}{told}");
    told.into_owned()
}

#[test]
fn bash_completes_names_out_of_the_sheet_and_quotes_blanks() {
    if !has("bash") {
        return;
    }
    let project = project();
    let program = env!("CARGO_BIN_EXE_truepath");
    let ask = "ask() { COMP_WORDS=($1); COMP_CWORD=$((${#COMP_WORDS[@]} - 1)); COMP_TYPE=9; COMPREPLY=()\n\
        _clap_complete_truepath truepath \"${COMP_WORDS[COMP_CWORD]}\" \"\"; printf '%s\\n' \"${COMPREPLY[@]}\"; echo --; }\n";
    let lines = LINES.map(|(line, _)| format!("ask '{line}'\n")).concat();
    let script = format!("source <('{program}' completions bash)\n{ask}{lines}ask 'truepath names night'\n");
    let told = shell(&project, "bash", &["--noprofile", "--norc"], &script);
    let answers: Vec<Vec<&str>> =
        told.trim_end().split("--\n").map(|part| part.lines().map(str::trim).collect()).collect();
    for ((line, offered), answer) in LINES.iter().zip(&answers) {
        let mut answer = answer.clone();
        answer.sort_unstable();
        assert_eq!(answer, *offered, "{line}");
    }
    assert_eq!(answers[LINES.len()].first(), Some(&"night\\ ferry"), "as it can stand on a line");
}

#[test]
fn fish_completes_names_out_of_the_sheet() {
    if !has("fish") {
        return;
    }
    let project = project();
    let program = env!("CARGO_BIN_EXE_truepath");
    let lines = LINES.map(|(line, _)| format!("complete -C '{line}'\necho ==\n")).concat();
    let told = shell(&project, "fish", &["--no-config"], &format!("'{program}' completions fish | source\n{lines}"));
    for ((line, offered), answer) in LINES.iter().zip(told.split("==\n")) {
        let mut names: Vec<&str> = answer.lines().map(|line| line.split('\t').next().unwrap()).collect();
        names.sort_unstable();
        assert_eq!(names, *offered, "{line}");
    }
}

#[test]
fn zsh_reads_its_script_and_is_answered() {
    if !has("zsh") {
        return;
    }
    let project = project();
    let program = env!("CARGO_BIN_EXE_truepath");
    // `_describe` needs a line editor: what it would be given is printed instead.
    let stand_in = "_describe() { print -l -- ${(P)3:-${(P)4}} }\n";
    let asks = LINES.map(|(line, _)| {
        format!("words=(${{=:-{line}}}); CURRENT=${{#words}}; _clap_dynamic_completer_truepath; print -- --\n")
    });
    let script = format!("compdef() {{ : }}\nsource <('{program}' completions zsh)\n{stand_in}{}", asks.concat());
    let told = shell(&project, "zsh", &["-f"], &script);
    for ((line, offered), answer) in LINES.iter().zip(told.split("--\n")) {
        let mut names: Vec<&str> = answer.lines().map(|line| line.split(':').next().unwrap()).collect();
        names.sort_unstable();
        assert_eq!(names, *offered, "{line}");
    }
}

#[test]
fn powershell_gets_a_script_and_a_sheet_with_mistakes_still_completes() {
    let project = project();
    let script = project.say("completions powershell").ended(0).out;
    assert!(script.contains("Register-ArgumentCompleter") && script.contains("TRUEPATH_COMPLETE"), "{script}");
    let ask = |line: &str| {
        let words: Vec<&str> = line.split(' ').collect();
        let index = (words.len() - 1).to_string();
        let out = project
            .command()
            .arg("--")
            .args(&words)
            .env("TRUEPATH_COMPLETE", "fish")
            .env("_CLAP_COMPLETE_INDEX", index)
            .output()
            .unwrap();
        assert!(out.status.success() && out.stderr.is_empty(), "{}", String::from_utf8_lossy(&out.stderr));
        String::from_utf8(out.stdout).unwrap()
    };
    project.write("truepath.toml", sheet().replace("camera =", "camra ="));
    assert!(ask("truepath names cros").starts_with("crossing"));
    // No sheet, or none that can be read, offers nothing and says nothing.
    project.write("truepath.toml", "[[[");
    assert_eq!(ask("truepath names cros"), "");
    std::fs::remove_file(project.path("truepath.toml")).unwrap();
    assert_eq!(ask("truepath names cros"), "");
    assert!(ask("truepath ver").starts_with("verify"));
}

#[test]
fn every_command_has_a_manual_page() {
    let project = Project::with("");
    project.say("man pages").ended(0);
    let pages = project.files("pages");
    let help = project.say("--help").ended(0).out;
    let commands = help.lines().skip_while(|line| *line != "Commands:").skip(1).take_while(|line| !line.is_empty());
    let commands: Vec<&str> = commands
        .filter(|line| line.starts_with("  ") && !line.starts_with("   "))
        .filter_map(|line| line.split_whitespace().next())
        .collect();
    assert!(commands.len() > 25, "{commands:?}");
    for command in commands.into_iter().filter(|command| *command != "help") {
        assert!(pages.contains(&format!("truepath-{command}.1")), "{command}: {pages:?}");
    }
    for page in ["truepath.1", "truepath-adapter-prove.1", "truepath-parcel-collect.1"] {
        assert!(pages.contains(page), "{page}: {pages:?}");
    }
    let run = std::fs::read_to_string(project.path("pages/truepath-run.1")).unwrap();
    for part in ["\\fB\\-\\-share\\fR", "first,middle,last", ".SH NAME", "Possible values"] {
        assert!(run.contains(part), "{part}: {run}");
    }
    // Again, they are written anew; what somebody else wrote there stays; a folder that cannot be made is said.
    let first = std::fs::read(project.path("pages/truepath.1")).unwrap();
    project.say("man pages").ended(0);
    project.write("pages/truepath.1", "torn");
    assert!(project.say("man pages").ended(1).err.contains("True Path did not make it"));
    project.say("man pages --replace").ended(0);
    assert_eq!(std::fs::read(project.path("pages/truepath.1")).unwrap(), first);
    project.write("file", "");
    assert!(project.say("man file/pages").ended(4).err.contains("cannot make the folder file/pages"));
    if has("man") {
        let out =
            Command::new("man").arg("-l").arg(project.path("pages/truepath-run.1")).env("MANWIDTH", "80").output();
        let text = String::from_utf8_lossy(&out.unwrap().stdout).into_owned();
        assert!(text.contains("truepath-run") && text.contains("SYNOPSIS"), "{text}");
    }
}
