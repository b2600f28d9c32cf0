//! The house keeps its shape: imports flow down the list of modules, and no file grows out of reading.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// The modules of each crate in the order in which a sheet travels; each may use those before it.
const ORDER: [(&str, &[&str]); 9] = [
    (
        "core",
        &[
            "threads",
            "flaw",
            "source",
            "diagnostic",
            "picture",
            "frames",
            "template",
            "catalogue",
            "sheet",
            "scene",
            "adapter",
            "pins",
            "resolve",
            "plan",
            "verify",
            "run",
            "invoke",
            "check",
            "whose",
            "parcel",
        ],
    ),
    (
        "media",
        &[
            "samples", "exif", "source", "stats", "sound", "dpx", "exr", "jpeg", "png", "raw", "tiff", "webp", "movie",
            "pixels", "exact",
        ],
    ),
    ("pictures", &["conversion", "letters", "canvas", "thumbnail", "contact", "difference", "stack", "pairs"]),
    ("movie", &["error", "sound", "burn", "encode", "mux", "pipe"]),
    ("disk", &["failure", "threads", "disk", "guard", "observe"]),
    ("exec", &["process", "state", "typed", "looking", "record", "landing", "share", "export", "scheduler"]),
    (
        "project",
        &[
            "request",
            "surroundings",
            "listener",
            "open",
            "alone",
            "guards",
            "adopt",
            "build",
            "clean",
            "movie",
            "parcel",
            "run",
        ],
    ),
    (
        "understudy",
        &["args", "scene", "frames", "motion", "load", "facts", "harbour", "raster", "still", "write", "render"],
    ),
    ("cli", &["exit_code", "lower", "documents", "args", "show", "pipeline", "completing", "command"]),
];

const CRATES: [&str; 9] = ["core", "media", "pictures", "movie", "disk", "exec", "project", "understudy", "cli"];

fn sources(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
        if entry.is_dir() {
            sources(&entry, found);
        } else if entry.extension().is_some_and(|extension| extension == "rs") {
            found.push(entry);
        }
    }
}

fn all() -> Vec<(String, String)> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let mut found = Vec::new();
    for name in CRATES {
        sources(&root.join(name).join("src"), &mut found);
    }
    let name = |path: &Path| path.strip_prefix(&root).unwrap().to_string_lossy().into_owned();
    found.iter().map(|path| (name(path), std::fs::read_to_string(path).unwrap())).collect()
}

/// What stands before the tests of a file.
fn shipped(text: &str) -> &str {
    text.split("\n#[cfg(test)]\nmod tests {").next().unwrap()
}

#[test]
fn imports_flow_down_in_every_crate() {
    assert_eq!(ORDER.map(|(name, _)| name).iter().collect::<BTreeSet<_>>(), CRATES.iter().collect());
    let (all, mut seen) = (all(), 0);
    for (crate_name, order) in ORDER {
        let own: Vec<_> = all.iter().filter(|(name, _)| name.starts_with(&format!("{crate_name}/src/"))).collect();
        let top = |name: &str| module(name).split('/').next().unwrap().to_owned();
        let modules: BTreeSet<String> = own.iter().map(|(name, _)| top(name)).collect();
        let place = |name: &str| order.iter().position(|known| *known == name);
        for (name, text) in own.iter().filter(|(name, _)| !name.ends_with("tests.rs")) {
            let from = top(name);
            if ["lib", "main"].contains(&from.as_str()) {
                continue;
            }
            let at = place(&from).unwrap_or_else(|| panic!("{name}: {from} is not on the list of {crate_name}"));
            // From a file of the crate's own folder, `super` is the crate.
            let whole = if module(name).contains('/') || name.ends_with("/mod.rs") { "crate::" } else { "super::" };
            let paths = ["crate::", whole].into_iter().collect::<BTreeSet<_>>();
            for part in paths.iter().flat_map(|path| shipped(text).split(path).skip(1)) {
                let used: String = part.chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect();
                if used == from || !modules.contains(&used) {
                    continue;
                }
                seen += 1;
                assert!(
                    place(&used).is_some_and(|used| used < at),
                    "{name}: {from} must not import {used}, which stands below it"
                );
            }
        }
    }
    assert!(seen > 400, "only {seen} imports were seen: this test has gone blind");
}

#[test]
fn no_type_has_a_name_twice() {
    let mut names: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for (name, text) in all() {
        // What differs from system to system has one name.
        let place = name.replace("process/windows.rs", "process/unix.rs");
        for line in shipped(&text).lines() {
            let bare = line.trim_start();
            let bare = bare.strip_prefix("pub").map_or(bare, |rest| rest.trim_start_matches(|c| c != ' ').trim_start());
            let Some((kind, rest)) = bare.split_once(' ') else { continue };
            // A type of a trait belongs to it.
            let declares =
                ["struct", "enum", "trait", "union"].contains(&kind) || kind == "type" && !line.starts_with(' ');
            // A macro's own place for a name is none.
            if declares && !rest.starts_with('$') {
                let declared: String = rest.chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect();
                names.entry(declared).or_default().insert(place.clone());
            }
        }
    }
    assert!(names.len() > 600, "only {} types were seen: this test has gone blind", names.len());
    let twice: Vec<_> = names.iter().filter(|(_, places)| places.len() > 1).collect();
    assert!(twice.is_empty(), "{twice:?}");
}

#[test]
fn crates_know_only_what_they_may() {
    for (name, text) in all() {
        let forbidden: &[&str] = match name.split('/').next().unwrap() {
            "core" => &[
                "truepath_media",
                "truepath_exec",
                "truepath_understudy",
                "rayon",
                "clap",
                "std::fs",
                "std::process",
                "std::env",
                "std::thread",
            ],
            "media" => &["truepath_understudy", "truepath_exec", "clap", "truepath_core::sheet", "truepath_core::plan"],
            "disk" => {
                &["truepath_exec", "truepath_understudy", "clap", "std::process", "println!", "eprintln!", "print!("]
            }
            "exec" => {
                &["truepath_understudy", "clap", "annotate_snippets", "anstyle", "println!", "eprintln!", "print!("]
            }
            "project" => &[
                "truepath_understudy",
                "clap",
                "annotate_snippets",
                "anstyle",
                "std::env",
                "println!",
                "eprintln!",
                "print!(",
                "Observation",
            ],
            // What a look finds is kept, whichever command looks: `truepath_exec::looking` is the one way.
            "cli" => &["Observation"],
            "understudy" => &["truepath_core", "truepath_media", "truepath_disk", "truepath_exec", "truepath_project"],
            _ => &[],
        };
        let code: String = shipped(&text).lines().filter(|line| !line.trim_start().starts_with("//")).collect();
        for word in forbidden {
            assert!(!code.contains(word), "{name} must not know {word}");
        }
        let reads_environment =
            text.contains("std::env::var") && !text.contains("//! The one place that reads the environment");
        assert!(
            !name.starts_with("cli/") || !reads_environment,
            "{name} reads the environment; crates/cli/src/lower.rs does that"
        );
    }
}

#[test]
fn no_file_outgrows_reading_and_no_import_is_a_glob() {
    for (name, text) in all() {
        let code =
            shipped(&text).lines().filter(|line| !line.trim().is_empty() && !line.trim().starts_with("//")).count();
        assert!(code <= 400, "{name} has {code} lines of code; it wants to be two files");
        let glob = Some(shipped(&text))
            .filter(|_| !name.ends_with("tests.rs"))
            .unwrap_or("")
            .lines()
            .find(|line| line.trim_start().starts_with("use ") && line.contains("::*"));
        assert_eq!(glob, None, "{name} imports a glob");
        let stem = Path::new(&name).file_stem().unwrap().to_string_lossy().into_owned();
        assert!(
            !["utils", "helpers", "common", "misc", "manager"].contains(&stem.as_str()),
            "{name} says nothing by its name"
        );
    }
}

/// A file's place in its crate: `scheduler/crew`, `scheduler` for its `mod.rs`.
fn module(name: &str) -> String {
    let (_, path) = name.split_once("/src/").unwrap();
    path.trim_end_matches(".rs").trim_end_matches("/mod").to_owned()
}

/// The modules of its own crate that a file imports, as far as they are files.
fn imported(own: &str, text: &str, known: &BTreeSet<String>) -> BTreeSet<String> {
    let mut used = BTreeSet::new();
    let mut follow = |base: &str, rest: &str| {
        // The longest part of the path that is a file; a list of names in braces is followed name by name.
        let (path, list) = rest.split_once('{').map_or((rest, ""), |(path, list)| (path, list));
        let names: Vec<&str> =
            if list.is_empty() { vec![""] } else { list.split(['}', ';']).next().unwrap().split(',').collect() };
        for name in names {
            let mut at = base.to_owned();
            let parts = path
                .split("::")
                .chain([name])
                .map(|part| part.trim().split([' ', '(', '<', ';', ')', ',']).next().unwrap().to_owned());
            for part in parts.filter(|part| !part.is_empty()).collect::<Vec<_>>() {
                let deeper = if at.is_empty() { part } else { format!("{at}/{part}") };
                if !known.contains(&deeper) {
                    break;
                }
                at = deeper;
            }
            if at != own && !at.is_empty() {
                used.insert(at);
            }
        }
    };
    let parent = own.rsplit_once('/').map_or("", |(parent, _)| parent).to_owned();
    for (at, _) in text.match_indices("crate::") {
        let tail = &text[at + 7..];
        follow("", &tail[..tail.find(';').unwrap_or(tail.len()).min(400)]);
    }
    for (at, _) in text.match_indices("super::") {
        let tail = &text[at + 7..];
        if !text[..at].ends_with("super::") {
            follow(&parent, &tail[..tail.find(';').unwrap_or(tail.len()).min(400)]);
        }
    }
    used
}

#[test]
fn no_two_modules_import_each_other() {
    let (all, mut seen) = (all(), 0);
    for name in CRATES {
        let own: Vec<&(String, String)> = all
            .iter()
            .filter(|(path, _)| path.starts_with(&format!("{name}/src/")) && !path.ends_with("tests.rs"))
            .collect();
        let known: BTreeSet<String> = own.iter().map(|(path, _)| module(path)).collect();
        let uses: Vec<(String, BTreeSet<String>)> =
            own.iter().map(|(path, text)| (module(path), imported(&module(path), shipped(text), &known))).collect();
        seen += uses.iter().map(|(_, used)| used.len()).sum::<usize>();
        for (module, used) in &uses {
            for other in used {
                let back = uses.iter().find(|(name, _)| name == other).is_some_and(|(_, used)| used.contains(module));
                // A folder's own file speaks for all that is in it, and hands out what they share.
                let kin = other.starts_with(&format!("{module}/")) || module.starts_with(&format!("{other}/"));
                assert!(!back || kin, "{name}: {module} and {other} import each other");
            }
        }
    }
    assert!(seen > 300, "only {seen} imports were seen: this test has gone blind");
}

/// The parameters of a function: one for each, and one for each part of a tuple that is taken apart.
fn parameters(signature: &str) -> usize {
    let (mut depth, mut count, mut any) = (0usize, 0, false);
    let mut in_pattern = None;
    let text: Vec<char> = signature.chars().collect();
    for (at, sign) in text.iter().enumerate() {
        match sign {
            '(' | '[' | '{' | '<' => {
                let starts = signature.chars().take(at).collect::<String>();
                if *sign == '('
                    && depth == 0
                    && starts.trim_end().chars().next_back().is_none_or(|before| before == ',')
                {
                    in_pattern = Some(depth);
                }
                depth += 1;
            }
            ')' | ']' | '}' => {
                depth = depth.saturating_sub(1);
                if in_pattern == Some(depth) {
                    in_pattern = None;
                }
            }
            '>' if at > 0 && !['-', '='].contains(&text[at - 1]) => depth = depth.saturating_sub(1),
            ',' if depth == 0 || (in_pattern.is_some() && depth == 1) => {
                count += usize::from(any);
                any = false;
                continue;
            }
            _ => {}
        }
        any |= !sign.is_whitespace();
    }
    count + usize::from(any)
}

#[test]
fn no_function_takes_more_than_five_parameters_not_even_in_tuples() {
    assert_eq!([parameters("a: &A, (b, c): (B, C)"), parameters("&self, f: impl Fn(u8, u8) -> Vec<A>")], [3, 2]);
    let mut seen = 0;
    for (name, text) in all() {
        let code: String =
            shipped(&text).lines().filter(|line| !line.trim_start().starts_with("//")).collect::<Vec<_>>().join("\n");
        for (at, _) in code.match_indices("fn ") {
            let head = &code[at..];
            let Some(open) = head.find('(').filter(|open| !head[..*open].contains([';', '{', '=', '"'])) else {
                continue;
            };
            let mut depth = 0usize;
            let end = head[open..].char_indices().find(|(_, sign)| {
                depth = match sign {
                    '(' => depth + 1,
                    ')' => depth - 1,
                    _ => depth,
                };
                depth == 0
            });
            let Some((end, _)) = end else { continue };
            let count = parameters(&head[open + 1..open + end]);
            assert!(count <= 5, "{name}: {} has {count} parameters", &head[..open]);
            seen += 1;
        }
    }
    assert!(seen > 800, "only {seen} functions were seen: this test has gone blind");
}

/// The functions of a text, each with its name and how many lines of code it has.
fn functions(text: &str) -> Vec<(String, usize)> {
    let lines: Vec<&str> = text.lines().collect();
    let mut found = Vec::new();
    for (at, line) in lines.iter().enumerate() {
        let bare = line.trim_start();
        let indent = &line[..line.len() - bare.len()];
        let words = bare.split_whitespace().take_while(|word| !word.contains('(') || word.starts_with("pub("));
        let is_one = words.clone().any(|word| word == "fn") || bare.starts_with("fn ");
        if !is_one || bare.starts_with("//") || bare.ends_with(';') {
            continue;
        }
        let name = bare.split("fn ").nth(1).unwrap_or_default().split(['(', '<']).next().unwrap_or_default();
        let end = (at..lines.len()).find(|end| lines[*end].starts_with(&format!("{indent}}}"))).unwrap_or(at);
        let code = lines[at..=end].iter().map(|line| line.trim());
        let code = code.filter(|line| !line.is_empty() && !line.starts_with("//"));
        found.push((name.to_owned(), code.count()));
    }
    found
}

#[test]
fn no_function_outgrows_reading() {
    let mut seen = 0;
    for (name, text) in all().into_iter().filter(|(name, _)| !name.ends_with("tests.rs")) {
        for (function, lines) in functions(shipped(&text)) {
            assert!(lines <= 60, "{name}: {function} has {lines} lines of code; it wants to be two functions");
            seen += 1;
        }
    }
    assert!(seen > 3000, "only {seen} functions were seen: this test has gone blind");
}

#[test]
fn no_error_is_a_string_and_no_test_waits_by_itself() {
    let wrong = regex_lite::Regex::new(r"Result<([^;{<>]|<([^<>]|<[^<>]*>)*>)*, (String|&'static str)>").unwrap();
    for (name, text) in all() {
        assert_eq!(wrong.find(shipped(&text)).map(|found| found.as_str()), None, "{name}: give the error a type");
    }
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let mut tests = Vec::new();
    CRATES.iter().for_each(|name| {
        let folder = root.join(name).join("tests");
        if folder.is_dir() {
            sources(&folder, &mut tests);
        }
    });
    let sleep = ["thread", "sleep("].join("::");
    let waits: Vec<String> = tests
        .iter()
        .filter(|path| std::fs::read_to_string(path).unwrap().contains(&sleep))
        .map(|path| path.strip_prefix(&root).unwrap().to_string_lossy().into_owned())
        .collect();
    // The one helper of each crate that starts something, and a renderer that takes its time.
    let known = [
        "exec/tests/suite/support/mod.rs",
        "cli/tests/suite/support/mod.rs",
        "cli/tests/suite/support/odd_renderer.rs",
    ];
    assert!(waits.iter().all(|path| known.contains(&path.as_str())), "{waits:?} wait: `support::until` is for that");
}

/// Letters and digits alone: `BitsNotHeld`, `bits_not_held` and `bits-not-held` are one.
fn plain(text: &str) -> String {
    text.chars().filter(|sign| sign.is_alphanumeric()).collect::<String>().to_lowercase()
}

#[test]
fn every_recipe_leads_to_its_example() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let text = std::fs::read_to_string(root.join("ARCHITECTURE.md")).unwrap();
    let recipes = text.split("## Where a thing goes").nth(1).unwrap().split("## Habits").next().unwrap();
    let mut seen = 0;
    for recipe in recipes.split("\n- ").skip(1) {
        let quoted: Vec<&str> = recipe.split('`').skip(1).step_by(2).collect();
        let mut example = None;
        for (at, word) in quoted.iter().enumerate() {
            let before = recipe.split('`').nth(2 * at).unwrap();
            if before.trim_end().ends_with("(like") {
                example = Some(plain(word));
            } else if let Some(example) = &example
                && word.contains('/')
                && !word.contains(['{', '*'])
                && !before.contains("holds every document")
            {
                let place = if root.join(word).exists() { root.join(word) } else { root.join("crates").join(word) };
                let file = std::fs::read_to_string(&place);
                let file = file.unwrap_or_else(|error| panic!("{word}, in ARCHITECTURE.md: {error}"));
                if !word.ends_with("vocabulary.rs") {
                    assert!(plain(&file).contains(example), "{word} has nothing of {example}");
                    seen += 1;
                }
            }
        }
    }
    assert!(seen > 25, "only {seen} places were seen: this test has gone blind");
}
