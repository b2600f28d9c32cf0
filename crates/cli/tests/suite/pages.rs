//! The page of every check: its failing sheet fails with exactly the message shown, its clean twin passes.
//! `TRUEPATH_BLESS=1` writes the messages anew.

use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};

use crate::support::Project;
use truepath_core::diagnostic::{CHECKS, Check};

/// The text between a fence that begins with `head` and its end, and what stands behind the head.
fn block<'p>(page: &'p str, head: &str) -> (&'p str, &'p str) {
    let start = page.find(&format!("```{head}")).unwrap_or_else(|| panic!("no {head} in {page}"));
    let rest = &page[start + 3 + head.len()..];
    let (info, body) = rest.split_once('\n').unwrap();
    (info.trim(), &body[..body.find("```").unwrap()])
}

/// Text without what differs from machine to machine: the project's folder, and how much room a disk has.
fn same_everywhere(said: &str, project: &Project) -> String {
    let folder = format!("{}/", project.path("").display()).replace("//", "/");
    let said = said.replace(&folder, "").replace(folder.trim_end_matches('/'), ".");
    let mut lines = Vec::new();
    for line in said.lines() {
        let parts = line.split_once(", and only ").zip(line.rsplit_once(" is free"));
        lines.push(
            parts.map_or(line.to_owned(), |((head, _), (_, tail))| format!("{head}, and only 118 GB is free{tail}")),
        );
    }
    lines.iter().map(|line| format!("{line}\n")).collect::<String>().replace("on 1 core\n", "on 2 cores\n")
}

/// The demo's scenes, some that are damaged or unusual, some sounds, and the files that a part of a page shows.
fn project(sheet: &str, part: &str) -> Project {
    let project = Project::with(sheet);
    project.write("studio.toml", "[defaults]\nsamples = 4\n");
    project.write("scenes/damaged.gltf", "{ not a scene");
    project.write("scenes/harbour.usda", "#usda 1.0\ndef Camera \"quay\" {}\n");
    project.write("scenes/alone/crossing.gltf", std::fs::read(project.path("scenes/crossing.gltf")).unwrap());
    for (name, rate, seconds) in [("ferry", 48_000, 4), ("short", 48_000, 3), ("odd", 22_050, 4)] {
        if part.contains(&format!("sounds/{name}.wav")) {
            project.write(&format!("sounds/{name}.wav"), wave(rate, seconds));
        }
    }
    for (at, _) in
        part.match_indices(" file ").filter(|(at, _)| part[..*at].rsplit('\n').next().unwrap().starts_with("```"))
    {
        let (name, rest) = part[at + 6..].split_once('\n').unwrap();
        let text = rest[..rest.find("```").unwrap()].replace("PROJECT", &project.path("").display().to_string());
        project.write(name.trim(), text.replace("//renders", "/renders"));
    }
    project
}

/// Silence as a WAVE file: one channel of 8 bits.
fn wave(rate: u32, seconds: u32) -> Vec<u8> {
    let length = rate * seconds;
    let mut bytes = b"RIFF".to_vec();
    bytes.extend((36 + length).to_le_bytes());
    bytes.extend(b"WAVEfmt \x10\0\0\0\x01\0\x01\0");
    bytes.extend(rate.to_le_bytes());
    bytes.extend(rate.to_le_bytes());
    bytes.extend(b"\x01\0\x08\0data");
    bytes.extend(length.to_le_bytes());
    bytes.resize(bytes.len() + length as usize, 128);
    bytes
}

/// Whether `explain` says the words of a page in their order, whatever it does about headings, fences and width.
fn is_told(project: &Project, check: &Check, page: &str) -> bool {
    let words = |text: &str| -> Vec<String> {
        let lines = text.lines().filter(|line| !line.starts_with("```"));
        lines.flat_map(|line| line.trim_start().trim_start_matches('#').split_whitespace().map(str::to_owned)).collect()
    };
    let told = project.call(&["explain", check.name]).ended(0).out;
    words(&told) == words(page) && !told.contains("```")
}

/// Runs one page; what is wrong with it.
fn try_page(check: &Check, folder: &Path) -> Result<(), String> {
    let path = folder.join(format!("{}.md", check.name));
    let page = std::fs::read_to_string(&path).unwrap();
    if check.of_files {
        // What is in pictures is found by `verify`: tests/looking.rs has a case for each.
        let level = format!("Level: {}.", check.level.name());
        let parts = page.starts_with(&format!("# {}\n", check.name)) && page.contains(&level);
        let parts = parts && page.contains("## Why") && page.contains("## What to do");
        return if parts && is_told(&Project::with(""), check, &page) {
            Ok(())
        } else {
            Err("its page lacks a part".to_owned())
        };
    }
    let (first, second) = page.split_once("## Passes").unwrap();
    let (args, fails) = block(first, "toml fails");
    let says = &first[first.find("```text\n").ok_or("no message")? + 8..];
    let says = &says[..says.find("```").ok_or("no end of the message")?];
    let (clean_args, passes) = block(second, "toml passes");
    let level = format!("Level: {}.", check.level.name());
    if !page.starts_with(&format!("# {}\n", check.name)) || !page.contains(&level) {
        return Err(format!("its head does not say its name and {level}"));
    }
    let failing = project(fails, first);
    if first.contains("truepath trust") {
        failing.say("trust").ended(0);
    }
    let said = failing.say(&format!("check {args}"));
    let told = failing.say(&format!("check --json {args}"));
    if told.out.is_empty() {
        return Err(format!("said nothing but\n{}", told.err));
    }
    let document = told.json();
    let slugs: Vec<&str> =
        document["findings"].as_array().unwrap().iter().map(|f| f["check"].as_str().unwrap()).collect();
    if !slugs.contains(&check.name) {
        return Err(format!("found {slugs:?}\n{}{}", said.out, said.err));
    }
    if check.asks_machine {
        let offline = failing.say(&format!("check --offline --json {args}"));
        if offline.out.contains(&format!("\"check\": \"{}\"", check.name)) {
            return Err("it asks the machine, and is found offline".to_owned());
        }
    }
    let out = same_everywhere(&said.out, &failing);
    if std::env::var_os("TRUEPATH_BLESS").is_some() {
        std::fs::write(&path, page.replace(&format!("```text\n{says}```"), &format!("```text\n{out}```"))).unwrap();
    } else if out != says {
        return Err(format!("says\n{out}"));
    }
    let clean = project(passes, second);
    if first.contains("truepath trust") {
        clean.say("trust").ended(0);
    }
    let said = clean.say(&format!("check --strict {clean_args}"));
    // What is meant is counted; one page is about just that.
    let said_of =
        said.out.lines().filter(|line| !line.starts_with("not checked: the mode")).collect::<Vec<_>>().join("\n");
    let quiet = said_of.replace(" (1 finding allowed)", "") == "\u{2713} truepath.toml: no problems found";
    if said.code != 0 || !quiet {
        return Err(format!("its clean twin says\n{}{}", said.out, said.err));
    }
    if !is_told(&clean, check, check.page) {
        return Err("`explain` says something else".to_owned());
    }
    Ok(())
}

#[test]
fn every_page_fails_and_passes_as_it_says() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/checks");
    let written = std::fs::read_dir(&folder).unwrap().count();
    assert_eq!(written, CHECKS.len(), "a page for every check, and a check for every page");
    let next = AtomicUsize::new(0);
    let try_some = || {
        let taken = std::iter::from_fn(|| CHECKS.get(next.fetch_add(1, Ordering::Relaxed)));
        let wrong = |check: &Check| try_page(check, &folder).err().map(|why| format!("{}: {why}", check.name));
        taken.filter_map(wrong).collect::<Vec<_>>()
    };
    let wrong: Vec<String> = std::thread::scope(|scope| {
        let workers: Vec<_> = (0..4).map(|_| scope.spawn(try_some)).collect();
        workers.into_iter().flat_map(|worker| worker.join().unwrap()).collect()
    });
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
