//! A mistake on the command line: every command says it, shows nothing else, and ends with 2.

use crate::support::{Project, SMALL, options};

/// What a command needs beside its options.
const NEEDED: [(&str, &str); 9] = [
    ("contact", "-o made.png"),
    ("report", "-o made.html"),
    ("compare", "crossing crossing"),
    ("parcel pack", "--into made"),
    ("parcel collect", "scenes"),
    ("stack", "crossing -o made.exr"),
    ("whose", "a.png"),
    ("log", "crossing"),
    ("encode", "renders/crossing/crossing_beauty.{frame:4}.png -o made.mp4 --fps 24"),
];

/// Options that are not those of a sheet: the program of an adapter, the renderer in the box, a movie of a pattern.
const OTHERS: [(&str, &str); 3] = [("adapter prove", "--"), ("understudy", "--"), ("movie", "--frames")];

/// Mistakes: an option, its value, and what has to be said of it.
const MISTAKES: [(&str, &str, &str); 14] = [
    ("--frames", "1-1O", "'1O' is not a frame"),
    ("--measure", "1-1O", "'1O' is not a frame"),
    ("--frames", "", "frame"),
    ("--frames", "9-", "frame"),
    ("--mode", "drft", "there is no mode `drft`"),
    ("--set", "sample=3", "unknown key `sample`"),
    ("--set", "samples=many", "`samples`"),
    ("--set", "fps=0", "`fps`"),
    ("--scale", "50%", "`scale` must be a number above 0"),
    ("--scale", "0", "`scale` must be a number above 0"),
    ("--scale", "-10", "`scale` must be a number above 0"),
    ("--camera", "nobody", "no job has the camera `nobody`"),
    ("JOBS", "nobody", "there is no job `nobody`"),
    ("--pass", "beatuy", "no job has the pass `beatuy`"),
];

#[test]
fn every_command_says_what_is_wrong_with_its_options_and_nothing_else() {
    let project = Project::with(&format!(
        "{}\n[modes.draft]\npath = \"{{renders}}/draft/{{job}}.{{frame:4}}.{{ext}}\"\n",
        SMALL.replace("1-24", "1-2")
    ));
    project.say("run").ended(0);
    let before = project.stamps("");
    let mut rows = 0;
    let mut wrong = Vec::new();
    for (command, options) in options(&project) {
        let needed = NEEDED.iter().find(|(name, _)| *name == command).map_or("", |(_, words)| words);
        for (option, value, says) in MISTAKES.iter().filter(|(option, ..)| options.iter().any(|own| own == option)) {
            if OTHERS.iter().any(|(own, name)| command.starts_with(own) && option.starts_with(name)) {
                continue;
            }
            for json in [false, true] {
                if json && !options.iter().any(|own| own == "--json") {
                    continue;
                }
                let typed = if *option == "JOBS" { (*value).to_owned() } else { format!("{option}={value}") };
                let words = command.split(' ').chain(needed.split_whitespace()).chain([typed.as_str()]);
                let words: Vec<&str> = words.chain(json.then_some("--json")).collect();
                let said = project.call(&words);
                let told = if json { &said.out } else { &said.err };
                let is_document = || {
                    let document: serde_json::Value = serde_json::from_str(&said.out).unwrap_or_default();
                    document["findings"].as_array().is_some_and(|all| !all.is_empty())
                };
                let is_quiet = if json { is_document() } else { said.out.is_empty() };
                rows += 1;
                if said.code != 2 || !is_quiet || !told.contains(says) {
                    wrong.push(format!("{words:?}: {said:?}"));
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{} of {rows}:\n{}", wrong.len(), wrong.join("\n"));
    assert!(rows > 150, "{rows}");
    assert_eq!(project.stamps(""), before, "nothing was written");
}

/// Options that name a file to be written; what else they take beside it is in [`NEEDED`].
const WRITTEN: [&str; 2] = ["--output", "--report"];

#[test]
fn a_folder_that_is_not_there_ends_every_command_that_would_write_into_it_with_1() {
    let project = Project::with(&SMALL.replace("1-24", "1-2"));
    project.say("run").ended(0);
    let mut wrong = Vec::new();
    let mut rows = 0;
    for (command, options) in options(&project) {
        // A parcel is a folder, and made with those above it; so are the folders of a stack, which follow from its tokens.
        if ["parcel", "understudy", "stack"].iter().any(|own| command.starts_with(own)) {
            continue;
        }
        for option in WRITTEN.iter().filter(|option| options.iter().any(|own| own == *option)) {
            let needed = NEEDED.iter().find(|(name, _)| *name == command).map_or("", |(_, words)| words);
            let needed = needed.split(" -o ").next().unwrap().trim_start_matches("-o ");
            let ending = match command.as_str() {
                "contact" | "compare" => "png",
                "report" | "run" => "html",
                "movie" | "encode" => "mp4",
                _ => "sh",
            };
            let needed = if needed.starts_with("made") { "" } else { needed };
            let pattern = "renders/crossing/crossing_beauty.{frame:4}.png --fps 24";
            let two = "renders/crossing/crossing_beauty.0001.png renders/crossing/crossing_beauty.0002.png";
            let needed = match command.as_str() {
                "movie" | "encode" => pattern,
                "compare" => two,
                _ => needed,
            };
            let typed = format!("{option}=no/such/made.{ending}");
            let said = project.say(&format!("{command} {needed} {typed}"));
            rows += 1;
            if said.code != 1 || !said.err.contains("there is no folder no/such") {
                wrong.push(format!("{command} {needed} {typed}: {said:?}"));
            }
        }
    }
    assert!(wrong.is_empty(), "{} of {rows}:\n{}", wrong.len(), wrong.join("\n"));
    assert!(rows >= 7, "{rows}");
    assert!(!project.path("no").exists());
    project.say("explain no-such-check").ended(2);
}
