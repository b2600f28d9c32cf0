//! The house keeps its shape: imports flow down the list of modules, and no file grows out of reading.
#![allow(clippy::unwrap_used)]

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

/// The core's modules in the order in which a sheet travels; each may use those before it.
const CORE: [&str; 16] = [
    "source",
    "diagnostic",
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
    "check",
    "invoke",
    "whose",
];

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
    for name in ["core", "media", "understudy", "cli"] {
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
            "core" => {
                &["truepath_media", "truepath_understudy", "clap", "anyhow", "std::fs", "std::process", "std::env"]
            }
            "media" => &["truepath_understudy", "clap", "truepath_core::sheet", "truepath_core::plan"],
            "understudy" => &["truepath_core", "truepath_media"],
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
