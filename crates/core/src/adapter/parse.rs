//! Adapter text to an [`Adapter`]. Mistakes are findings at their places, as in a sheet.

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::diagnostic::{Findings, Words, nearest};
use crate::sheet::SYSTEMS;
use crate::sheet::parse::toml_table;
use crate::sheet::read::{Raw, Reader, part_of, scalar};
use crate::source::{FileId, Place, Spanned};
use crate::template::{Template, token};
use regex_lite::Regex;

use super::accepts::{accepts, depths, sizes};
use super::{ARRANGEMENTS, Adapter, AdapterKind, Argument, KINDS, NumberStyle, PERS, Per, Program, Word};

/// The keys of an adapter and what each means.
pub const KEYS: [(&str, &str); 18] = [
    ("adapter", "The version of the adapter's language."),
    ("name", "The adapter's name: that of its file."),
    ("kind", "What the program does: renderer, exporter or encoder."),
    ("program", "The program; truepath is the running binary itself. A table gives one for each system."),
    ("version", "Arguments that ask the program for its version."),
    (
        "encoders",
        "Arguments that make an encoder list what it can encode, so that its own word for a codec is looked for.",
    ),
    ("arguments", "The program's arguments; an inner list is left out when a token in it has no value."),
    ("variable", "Arguments that hand over one variable, with {key} and {value}."),
    ("native", "Arguments that hand over one native setting, with {key} and {value}."),
    ("frames", "How frames are handed over."),
    ("passes", "How passes may be arranged."),
    ("out", "How files are named for the program, and what it really writes."),
    ("words", "The program's own words for our values, by token."),
    ("accepts", "What it can read and write; a list that is left out leaves everything."),
    ("facts", "How it is asked about a scene."),
    ("needs", "What is looked at before anything runs."),
    ("env", "Its environment."),
    ("log", "Regular expressions for lines of its log."),
];

/// The keys of each section and what they mean. `[exit]` is here alone, so that [`KEYS`] need not say it twice.
pub const SECTIONS: &[(&str, &[(&str, &str)])] = &[
    (
        "frames",
        &[
            (
                "per",
                "list ({frames}), range ({first} {last} {step}) or frame ({frame}, one call each); pipe for encoders that read pixels.",
            ),
            ("join", "What stands between the parts of {frames}: a comma unless given."),
            ("range", "What stands between first and last of a part: a minus sign unless given."),
            ("step", "What stands before a step: a slash unless given."),
        ],
    ),
    (
        "passes",
        &[
            ("can", "pass (a call each), call (all in one call), file (all in one file)."),
            ("known", "The passes that it knows; left out: any."),
        ],
    ),
    (
        "out",
        &[
            ("number", "What stands for the frame in {out}: # or @ for each digit, %d, or none."),
            ("writes", "What it really writes, relative to the stage folder."),
        ],
    ),
    (
        "accepts",
        &[
            ("scenes", "Extensions of scenes it reads."),
            ("types", "File types it writes."),
            ("bits", "Depths of a sample it writes."),
            ("channels", "Channels it writes."),
            ("compressions", "Compressions it writes."),
            ("codecs", "Codecs it writes."),
            ("chroma", "Chroma layouts it writes."),
            ("audio_codecs", "Audio codecs it writes."),
            ("depths", "By codec, the depths it writes, where the codec holds more."),
            ("smallest", "By codec, the smallest size it takes, lying or standing."),
            ("largest", "By codec, the largest size it takes, lying or standing."),
        ],
    ),
    ("facts", &[("arguments", "Arguments that make it print the facts of {scene} as one JSON object.")]),
    (
        "needs",
        &[
            ("env", "Environment variables that have to be set."),
            ("files", "Files that have to be there."),
            ("run", "Commands that have to end with exit code 0."),
            ("slots", "Licences, by name."),
        ],
    ),
    (
        "log",
        &[
            ("wrote", "A file is whole: (?<path>...)."),
            ("problem", "Something to tell: (?<text>...)."),
            ("progress", "A frame is being worked on: (?<frame>...)."),
            ("wait", "No licence is free."),
            ("checkpoint", "A checkpoint is whole: (?<path>...)."),
            ("fatal", "The call has failed, whatever its exit code."),
            ("finished", "All that was asked for is done; without such a line, the file written last is not trusted."),
        ],
    ),
    ("exit", &[("ok", "Exit codes of success.")]),
];

/// Tokens that stand for a pass or its file, so that an inner list with one is repeated per pass.
pub const OF_PASS: [&str; 5] = ["pass", "word", "out", "out_folder", "out_stem"];

/// Reads an adapter; mistakes are findings.
pub fn adapter(file: FileId, text: &str, findings: &mut Findings) -> Adapter {
    let table = toml_table(file, text, findings);
    let mut reader = Reader { file, text, findings };
    let mut adapter = Adapter { file, ok: vec![0], ..Adapter::default() };
    let known: Vec<&str> = KEYS.iter().map(|(name, _)| *name).chain(["exit"]).collect();
    for (key, raw) in &table {
        match key.get_ref().as_ref() {
            "adapter" => language(&mut reader, raw),
            "kind" => adapter.kind = reader.choice(raw, "kind", &KINDS).map(|kind| kind.value).unwrap_or_default(),
            "name" => adapter.name = plain(&mut reader, raw, "name"),
            "program" => adapter.program = program(&mut reader, raw),
            "version" => adapter.version = plains(&mut reader, raw, "version"),
            "encoders" => adapter.encoders = plains(&mut reader, raw, "encoders"),
            "arguments" => adapter.arguments = arguments(&mut reader, raw),
            "variable" => adapter.variable = templates(&mut reader, raw, "variable"),
            "native" => adapter.native = templates(&mut reader, raw, "native"),
            "words" => adapter.words = words(&mut reader, raw),
            "env" => {
                let entries = reader.table(raw, "env").into_iter().flatten();
                adapter.env = entries
                    .filter_map(|(name, raw)| Some((name.get_ref().to_string(), one(&mut reader, raw, "env")?)))
                    .collect();
            }
            name if SECTIONS.iter().any(|(section, _)| *section == name) => {
                section(&mut reader, name, raw, &mut adapter)
            }
            _ => reader.unknown(key, "an adapter", &known),
        }
    }
    for (key, given) in [("name", !adapter.name.is_empty()), ("program", has_program(&adapter))] {
        if !given && !table.is_empty() && !table.iter().any(|(name, _)| name.get_ref() == key) {
            let words = Words::new(format!("this adapter has no `{key}`"), "this adapter");
            let at = Place::new(file, 0..text.lines().next().map_or(0, str::len));
            reader.findings.add("key-missing", Some(at), None, words.help(format!("write {key} = \"...\"")));
        }
    }
    tokens(&mut reader, &adapter);
    adapter
}

/// The version of the language of adapters that is read here.
const LANGUAGE: i64 = 1;

fn language(reader: &mut Reader<'_>, raw: &Raw<'_>) {
    let Some(version) = reader.whole(raw, "adapter", 1).filter(|version| version.value != LANGUAGE) else { return };
    let message = format!("this adapter is written in version {} of the language", version.value);
    let words = Words::new(message, "only version 1 is known here").help("write adapter = 1, or use a newer True Path");
    reader.findings.add("value-not-understood", Some(version.at), None, words);
}

fn has_program(adapter: &Adapter) -> bool {
    !matches!(&adapter.program, Program::Same(program) if program.is_empty())
}

fn section(reader: &mut Reader<'_>, name: &str, raw: &Raw<'_>, adapter: &mut Adapter) {
    let Some(table) = reader.table(raw, name) else { return };
    let keys: Vec<&str> = SECTIONS
        .iter()
        .filter(|(section, _)| *section == name)
        .flat_map(|(_, keys)| *keys)
        .map(|(key, _)| *key)
        .collect();
    for (key, raw) in table {
        let written = key.get_ref().as_ref();
        if !keys.contains(&written) {
            reader.unknown(key, &format!("[{name}]"), &keys);
            continue;
        }
        match (name, written) {
            ("frames", "per") => {
                adapter.per = reader.choice(raw, written, &PERS).map(|per| per.value).unwrap_or_default()
            }
            ("frames", "join") => adapter.spelling.join = any_text(reader, raw, written),
            ("frames", "range") => adapter.spelling.range = any_text(reader, raw, written),
            ("frames", "step") => adapter.spelling.step = any_text(reader, raw, written),
            ("passes", "known") => adapter.known_passes = plains(reader, raw, written),
            ("passes", _) => {
                let list = raw.get_ref().as_array();
                if list.is_none() {
                    reader.wrong_kind(raw, written, "a list of pass, call and file");
                }
                let ways = list.into_iter().flatten().filter_map(|raw| reader.choice(raw, written, &ARRANGEMENTS));
                adapter.can = Some(ways.map(|way| way.value).collect());
            }
            ("facts", _) => {
                let list = templates(reader, raw, written);
                adapter.facts = list.into_iter().map(|template| template.value).collect();
            }
            ("out", "number") => adapter.number = number(reader, raw),
            ("out", _) => adapter.writes = templates(reader, raw, written),
            ("accepts", "depths") => adapter.accepts.depths = depths(reader, raw),
            ("accepts", "smallest") => adapter.accepts.smallest = sizes(reader, written, raw),
            ("accepts", "largest") => adapter.accepts.largest = sizes(reader, written, raw),
            ("accepts", _) => accepts(reader, written, raw, adapter),
            ("needs", "run") => adapter.needs.run = commands(reader, raw),
            ("needs", "env") => adapter.needs.env = plains(reader, raw, written),
            ("needs", "files") => adapter.needs.files = plains(reader, raw, written),
            ("needs", _) => adapter.needs.slots = plains(reader, raw, written),
            ("log", "wrote") => adapter.log.wrote = pattern(reader, raw, written, Some("path")),
            ("log", "problem") => adapter.log.problem = pattern(reader, raw, written, Some("text")),
            ("log", "progress") => adapter.log.progress = pattern(reader, raw, written, Some("frame")),
            ("log", "checkpoint") => adapter.log.checkpoint = pattern(reader, raw, written, Some("path")),
            ("log", "fatal") => adapter.log.fatal = pattern(reader, raw, written, None),
            ("log", "finished") => adapter.log.finished = pattern(reader, raw, written, None),
            ("log", _) => adapter.log.wait = pattern(reader, raw, written, None),
            _ => {
                let list = raw.get_ref().as_array();
                if list.is_none() {
                    reader.wrong_kind(raw, written, "a list of whole numbers");
                }
                let codes = list.into_iter().flatten().filter_map(|raw| reader.whole(raw, written, i64::MIN));
                let codes: Vec<i64> = codes.map(|code| code.value).collect();
                adapter.ok = if codes.is_empty() { vec![0] } else { codes };
            }
        }
    }
}

fn program(reader: &mut Reader<'_>, raw: &Raw<'_>) -> Program {
    let Some(table) = raw.get_ref().as_table() else { return Program::Same(plain(reader, raw, "program")) };
    let mut programs = Vec::new();
    for (key, raw) in table {
        match SYSTEMS.iter().find(|(known, _)| known == key.get_ref()) {
            Some((name, system)) => programs.push((*system, plain(reader, raw, name))),
            None => reader.unknown(key, "a program", &SYSTEMS.map(|(name, _)| name)),
        }
    }
    Program::BySystem(programs)
}

fn number(reader: &mut Reader<'_>, raw: &Raw<'_>) -> Option<NumberStyle> {
    let ways = [
        ("#", NumberStyle::Repeat('#')),
        ("@", NumberStyle::Repeat('@')),
        ("%d", NumberStyle::Printf),
        ("none", NumberStyle::None),
    ];
    reader.choice(raw, "number", &ways).map(|way| way.value)
}

fn words(reader: &mut Reader<'_>, raw: &Raw<'_>) -> BTreeMap<String, BTreeMap<String, Word>> {
    let mut all = BTreeMap::new();
    for (key, raw) in reader.table(raw, "words").into_iter().flatten() {
        let name = key.get_ref().as_ref();
        if !token::is_built_in(name) {
            let known: Vec<&str> = token::PATH.iter().map(|(name, _)| *name).collect();
            reader.unknown(key, "[words]", &known);
            continue;
        }
        let entries = reader.table(raw, name).into_iter().flatten();
        let mut own = BTreeMap::new();
        for (value, raw) in entries {
            let list = raw.get_ref().is_array().then(|| Word::Arguments(arguments(reader, raw)));
            match list.or_else(|| scalar(raw).map(Word::Text)) {
                Some(word) => drop(own.insert(value.get_ref().to_string(), word)),
                None => reader.wrong_kind(raw, value.get_ref(), "the program's word: text or a number"),
            }
        }
        all.insert(name.to_owned(), own);
    }
    all
}

fn commands(reader: &mut Reader<'_>, raw: &Raw<'_>) -> Vec<Vec<String>> {
    let Some(list) = raw.get_ref().as_array() else {
        reader.wrong_kind(raw, "run", "a list of commands, each a list of words");
        return Vec::new();
    };
    list.iter().map(|raw| plains(reader, raw, "run")).filter(|words| !words.is_empty()).collect()
}

/// A regular expression with the group that is read from it.
fn pattern(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str, group: Option<&str>) -> Option<String> {
    let text = reader.text(raw, key)?;
    let wrong = match Regex::new(&text.value) {
        Err(error) => Some(error.to_string().lines().last().unwrap_or("").trim().to_owned()),
        Ok(regex) => group
            .filter(|group| !regex.capture_names().flatten().any(|name| name == *group))
            .map(|group| format!("the group (?<{group}>...) is missing")),
    };
    if let Some(why) = wrong {
        reader.bad(text.at, key, "a regular expression", &why);
        return None;
    }
    Some(text.value)
}

fn any_text(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str) -> String {
    match raw.get_ref().as_str() {
        Some(text) => text.to_owned(),
        None => {
            reader.wrong_kind(raw, key, "text in quotes");
            String::new()
        }
    }
}

fn plain(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str) -> String {
    reader.text(raw, key).map(|text| text.value).unwrap_or_default()
}

fn plains(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str) -> Vec<String> {
    reader.texts(raw, key).unwrap_or_default().into_iter().map(|text| text.value).collect()
}

fn one(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str) -> Option<Spanned<Template>> {
    reader.template(raw, key).map(|template| Spanned::new(Arc::unwrap_or_clone(template.value), template.at))
}

fn templates(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str) -> Vec<Spanned<Template>> {
    let Some(list) = raw.get_ref().as_array() else {
        reader.wrong_kind(raw, key, "a list of texts");
        return Vec::new();
    };
    list.iter().filter_map(|raw| one(reader, raw, key)).collect()
}

fn arguments(reader: &mut Reader<'_>, raw: &Raw<'_>) -> Vec<Argument> {
    let Some(list) = raw.get_ref().as_array() else {
        reader.wrong_kind(raw, "arguments", "a list of texts and of lists of texts");
        return Vec::new();
    };
    let mut arguments = Vec::new();
    for raw in list {
        if raw.get_ref().is_array() {
            arguments.push(Argument::Group(templates(reader, raw, "arguments")));
        } else {
            arguments.extend(one(reader, raw, "arguments").map(Argument::Always));
        }
    }
    arguments
}

/// Tokens in arguments that nothing knows, or that nothing will ever fill in this adapter.
fn tokens(reader: &mut Reader<'_>, adapter: &Adapter) {
    let known = || token::PATH.iter().map(|(name, _)| *name).chain(token::ADAPTER.iter().copied());
    let single: Vec<&Spanned<Template>> = adapter.variable.iter().chain(&adapter.native).collect();
    for template in adapter.templates() {
        for used in template.value.tokens() {
            let at = part_of(&Spanned::new(template.value.to_string(), template.at), used.range.clone());
            let name = used.name.as_str();
            if name.strip_prefix("native.").is_some_and(|key| !key.is_empty()) {
                continue;
            }
            if !token::is_built_in(name) {
                let words = Words::new(format!("there is no token `{name}` in an adapter"), "nothing is called so");
                let words = match nearest(name, known()) {
                    Some(near) => words.help(format!("write {{{near}}}")),
                    None => {
                        words.help("variables go through `variable`, settings of the renderer's own through native")
                    }
                };
                reader.findings.add("token-unknown", Some(at), None, words);
                continue;
            }
            let inside = single.iter().any(|one| one.at == template.at);
            if let Some(why) = never_filled(adapter, name, inside) {
                let words = Words::new(format!("nothing ever fills {{{name}}} here"), why);
                reader.findings.add("argument-never-filled", Some(at), None, words.help("take it out"));
            }
        }
    }
}

/// Why a token never has a value in an adapter.
fn never_filled(adapter: &Adapter, name: &str, in_single: bool) -> Option<&'static str> {
    match name {
        "key" | "value" => (!in_single).then_some("it belongs into `variable` or `native`"),
        "any" => Some("it belongs into [out] writes"),
        "outcome" => Some("it belongs into `after` of a sheet"),
        "frame" => (adapter.per != Per::Frame && adapter.kind == AdapterKind::Renderer)
            .then_some("only adapters that are called once per frame know one: [frames] per = \"frame\""),
        "input" | "input_first" => (adapter.kind != AdapterKind::Encoder).then_some("only encoders are given pictures"),
        "resume" | "checkpoint" | "checkpoint_every" | "device" | "threads" | "samples" => {
            (adapter.kind == AdapterKind::Encoder).then_some("encoders are not given this")
        }
        _ => None,
    }
}
