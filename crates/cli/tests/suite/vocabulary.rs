//! An option means one thing, wherever it stands. The options come from the program's own help: a new one fails here until it
//! has its row, and so does one that is spelt otherwise than in other commands.

use std::collections::{BTreeMap, BTreeSet};

use crate::support::{Project, SMALL, options};

/// Commands in which something else is typed behind an option, and what.
type Others = &'static [(&'static str, &'static str)];

/// Options that more than one command has, or that speak of files and forms: the letter, what is typed behind it, and the
/// commands in which that has another name, since it is something else there.
const VOCABULARY: &[(&str, &str, &str, Others)] = &[
    ("--output", "-o", "<FILE>", &[("stack", "<PATTERN>")]),
    ("--into", "", "<DIR>", &[]),
    ("--folder", "", "<DIR>", &[]),
    ("--from", "", "<FILE>", &[]),
    ("--from-help", "", "<FILE>", &[]),
    ("--report", "", "<FILE>", &[]),
    ("--to", "", "<FORM>", &[]),
    ("--json", "", "", &[]),
    ("--events", "", "", &[]),
    ("--yes", "", "", &[]),
    ("--replace", "", "", &[]),
    ("--undo", "", "", &[]),
    ("--final", "", "", &[]),
    ("--missing", "", "", &[]),
    ("--keep-going", "", "", &[]),
    ("--all", "", "", &[]),
    ("--sheet", "-f", "<FILE>", &[]),
    ("--mode", "", "<NAME>", &[]),
    ("--frames", "", "<EXPR>", &[]),
    ("--camera", "", "<NAME>", &[]),
    ("--pass", "", "<NAME>", &[]),
    ("--scale", "", "<PERCENT>", &[]),
    ("--set", "", "<KEY=VALUE>", &[]),
    ("--workers", "", "<N>", &[]),
    ("--chunk", "", "<N>", &[]),
    ("--parts", "", "<N>", &[]),
    ("--anew", "", "[<WHAT>]", &[]),
    ("--type", "", "<NAME>", &[]),
    ("--size", "", "<SIZE>", &[]),
    ("--fps", "", "<FPS>", &[]),
    ("--why", "", "", &[("status", "<FRAME>")]),
    ("--audio", "", "<FILE>", &[]),
    ("--audio-codec", "", "<NAME>", &[]),
    ("--audio-offset", "", "<SECONDS>", &[]),
    ("--audio-quality", "", "<NUMBER>", &[]),
    ("--bits", "", "<NUMBER>", &[]),
    ("--burn", "", "<TEXT>", &[]),
    ("--channels", "", "<NAME>", &[]),
    ("--chroma", "", "<NAME>", &[]),
    ("--codec", "", "<NAME>", &[]),
    ("--colour", "", "<HOW>", &[]),
    ("--effort", "", "<HOW>", &[]),
    ("--encoder", "", "<NAME>", &[]),
    ("--over", "", "<COLOUR>", &[]),
    ("--quality", "", "<NUMBER>", &[]),
    ("--start-timecode", "", "<TIMECODE>", &[]),
    ("--verbose", "-v", "", &[]),
    ("--help", "-h", "", &[]),
    // Two versions to compare, and that of the program itself.
    ("--version", "", "<VERSION>", &[("", "")]),
];

/// What commands say of their options: by option and command, the letter and what is typed behind it.
fn said(project: &Project) -> BTreeMap<String, BTreeMap<String, (String, String)>> {
    let mut all: BTreeMap<String, BTreeMap<String, (String, String)>> = BTreeMap::new();
    for command in options(project).into_keys().filter(|command| !command.starts_with("understudy")) {
        let words: Vec<&str> = command.split_whitespace().chain(["--help"]).collect();
        for line in project.call(&words).ended(0).out.lines().filter(|line| line.trim_start().starts_with('-')) {
            let words: Vec<&str> = line.split_whitespace().map(|word| word.trim_end_matches([',', '.'])).collect();
            let Some(at) = words.iter().position(|word| word.starts_with("--")) else { continue };
            let letter = words[..at].concat();
            let value =
                words.get(at + 1).filter(|word| word.starts_with(['<', '['])).copied().unwrap_or_default().to_owned();
            all.entry(words[at].to_owned()).or_default().insert(command.clone(), (letter, value));
        }
    }
    all
}

#[test]
fn an_option_is_spelt_and_means_the_same_in_every_command() {
    let project = Project::with(SMALL);
    let all = said(&project);
    let mut wrong = Vec::new();
    for (option, commands) in &all {
        let Some((_, letter, value, others)) = VOCABULARY.iter().find(|(name, ..)| name == option) else {
            if commands.len() > 1 {
                wrong.push(format!("{option} has no row: {commands:?}"));
            }
            continue;
        };
        for (command, own) in commands {
            let other = others.iter().find(|(name, _)| name == command).map(|(_, value)| *value);
            let value = other.unwrap_or(value);
            if own.1 != value || (own.0 != *letter && other != Some("")) {
                wrong.push(format!("{command} {option}: {own:?}, and the table has {letter} {value}"));
            }
        }
    }
    // What names a file or a folder has a row, even in one command only.
    let file = |value: &str| ["FILE", "DIR", "FORM"].iter().any(|name| value.contains(name));
    for (option, commands) in &all {
        let is_known = VOCABULARY.iter().any(|(name, ..)| name == option);
        if !is_known && commands.values().any(|(_, value)| file(value)) && option != "--scene" {
            wrong.push(format!("{option} names a file and has no row"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    let unused: Vec<_> = VOCABULARY.iter().filter(|(option, ..)| !all.contains_key(*option)).collect();
    assert!(unused.is_empty(), "{unused:?}");
}

/// A call of every command that has `--json`.
const DOCUMENTS: &[(&str, &[&str])] = &[
    ("names", &["names", "names crossing"]),
    ("check", &["check", "check --all-modes"]),
    ("scene", &["scene scenes/crossing.gltf"]),
    ("types", &["types", "types exr"]),
    ("whose", &["whose renders/crossing/crossing_beauty.0001.png nobodys.png"]),
    ("adapter list", &["adapter list"]),
    ("adapter show", &["adapter show understudy"]),
    ("adapter prove", &["adapter prove understudy --set samples=1"]),
    ("build", &["build", "build --to json"]),
    ("run", &["run", "run --frames 1", "run --exports", "run --existing renew"]),
    ("estimate", &["estimate"]),
    // It takes two machines: `sharing` tries it.
    ("share-test", &[]),
    ("parcel pack", &["parcel pack --into sent"]),
    ("parcel render", &["parcel render PARCEL"]),
    ("parcel collect", &["parcel collect sent"]),
    ("status", &["status"]),
    ("log", &["log crossing"]),
    (
        "verify",
        &[
            "verify",
            "verify --deep",
            "verify --folder renders",
            "verify renders/crossing/crossing_beauty.{frame:4}.png",
        ],
    ),
    ("contact", &["contact -o made.png"]),
    ("compare", &["compare renders renders"]),
    ("report", &["report -o made.html"]),
    ("clean", &["clean --left-over", "clean --stage"]),
    ("movie", &["movie", "movie renders/crossing/crossing_beauty.{frame:4}.png --fps 24 -o made.avi"]),
    ("stack", &["stack crossing"]),
];

#[test]
fn json_is_one_document_everywhere_and_events_are_lines() {
    let project = Project::with(&SMALL.replace("1-24", "1-2"));
    let all = options(&project);
    let with = |option: &str| -> BTreeSet<String> {
        let named = all.iter().filter(|(_, options)| options.iter().any(|own| own == option));
        named.map(|(command, _)| command.clone()).collect()
    };
    let rows: BTreeSet<String> = DOCUMENTS.iter().map(|(command, _)| (*command).to_owned()).collect();
    assert_eq!(with("--json"), rows, "every command with --json has its row");
    assert_eq!(with("--events"), ["movie", "run"].map(str::to_owned).into());
    // Two documents with pictures come from one run.
    let events = project.say("run --events").ended(0).out;
    let events: Vec<serde_json::Value> = events.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert!(events.iter().all(|event| event["event"].is_string()), "{events:?}");
    assert_eq!((events[0]["event"].as_str(), events.last().unwrap()["event"].as_str()), (Some("began"), Some("over")));
    let validator =
        |name: &str| jsonschema::validator_for(&project.say(&format!("schema {name}")).ended(0).json()).unwrap();
    let (of_event, mut wrong) = (validator("events"), Vec::new());
    for event in &events {
        wrong.extend(of_event.iter_errors(event).map(|error| format!("{event}: {error}")));
    }
    let mut parcel = String::new();
    for (command, calls) in DOCUMENTS {
        for words in *calls {
            let said = project.say(&format!("{words} --json").replace("PARCEL", &parcel));
            let Ok(document) = serde_json::from_str::<serde_json::Value>(&said.out) else {
                wrong.push(format!("{words}: {said:?}"));
                continue;
            };
            if *command == "parcel pack" {
                document["parcels"][0]["path"].as_str().unwrap().clone_into(&mut parcel);
            }
            let name = match (*command, document.get("files"), document.get("path")) {
                ("verify", Some(_), _) => "verify-files".to_owned(),
                ("movie", _, None) => "run".to_owned(),
                (command, ..) => command.replace(' ', "-"),
            };
            let errors = validator(&name);
            wrong
                .extend(errors.iter_errors(&document).map(|error| format!("{words} {}: {error}", error.instance_path)));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    let run = project.say("run --existing replace --frames 1 --json").ended(0).json();
    let told = ["outcome", "needed", "landed", "left", "failed"].map(|key| run[key].to_string());
    assert_eq!(told, ["\"complete\"", "1", "1", "0", "[]"], "{run}");
    assert_eq!(run["series"][0]["good"], "1", "{run}");
}
