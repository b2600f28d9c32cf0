//! The house keeps its shape: imports flow down the list of modules, and no file grows out of reading.
#![allow(clippy::unwrap_used)]

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

/// The core's modules in the order in which a sheet travels; each may use those before it.
const CORE: [&str; 19] = [
    "threads",
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
fn imports_of_the_core_flow_down() {
    let mut pairs = BTreeSet::new();
    for (name, text) in all().iter().filter(|(name, _)| name.starts_with("core/src/") && !name.ends_with("tests.rs")) {
        let own = name["core/src/".len()..].split(['/', '.']).next().unwrap().to_owned();
        for part in shipped(text).split("crate::").skip(1) {
            let used: String = part.chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect();
            pairs.insert((own.clone(), used, name.clone()));
        }
    }
    let place = |name: &str| CORE.iter().position(|known| *known == name);
    for (own, used, file) in &pairs {
        if own == "lib" || used == own {
            continue;
        }
        let (own_at, used_at) =
            (place(own), place(used).unwrap_or_else(|| panic!("{file} uses crate::{used}, which is not on the list")));
        assert!(
            used_at < own_at.unwrap_or_else(|| panic!("{own} is not on the list")),
            "{file}: {own} must not import {used}, which stands below it"
        );
    }
    assert!(pairs.len() > 40, "only {} imports were seen: this test has gone blind", pairs.len());
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
        for word in forbidden {
            assert!(!shipped(&text).contains(word), "{name} must not know {word}");
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
