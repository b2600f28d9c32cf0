//! Adapter text to an [`Adapter`]. Mistakes are findings at their places, as in a sheet.
//!
//! An adapter is read in layers: the one it is like first, then its own text, then that of a variant. Each layer writes over
//! what is there: tables merge key by key, lists are replaced or extended.

mod entries;
mod keys;
mod tokens;
mod values;
mod written;

use toml::de::DeTable;

use crate::diagnostic::{Findings, Slug, Words};
use crate::sheet::parse::toml_table;
use crate::sheet::read::{Raw, Reader};
use crate::source::{FileId, Place, Spanned};

use super::accepts::{accepts, depths, sizes};
use super::{ARRANGEMENTS, Adapter, AdapterKind, Arrangement, KINDS, PERS, Program, Variant};
use entries::{conditions, env, natives, program, words};
use values::{
    any_text, arguments, commands, ends, listed, number, one, pattern, plain, plains, templates, unsaved_names,
};

pub use keys::{AdapterKey, CONDITION, NATIVE, SectionKey, VARIANT, WRITE};

/// The text of one layer of an adapter.
#[derive(Clone, Copy, Debug)]
pub struct AdapterLayer<'t> {
    /// Its number.
    pub file: FileId,
    /// The text.
    pub text: &'t str,
}

/// Reads an adapter that is like no other; mistakes are findings.
pub fn adapter(file: FileId, text: &str, findings: &mut Findings) -> Adapter {
    layered(&[AdapterLayer { file, text }], None, findings)
}

/// The adapter that a text says it is like. What is wrong with the text is said when it is read.
#[must_use]
pub fn like(file: FileId, text: &str) -> Option<Spanned<String>> {
    let mut quiet = Findings::default();
    let table = toml_table(file, text, &mut quiet);
    let mut reader = Reader { file, text, findings: &mut quiet, place_of, strays: Vec::new() };
    table.iter().find(|(key, _)| key.get_ref() == "like").and_then(|(_, raw)| reader.text(raw, "like"))
}

/// Reads an adapter in layers, the one that all others are like first, then one of its variants. Mistakes of the last text
/// are findings: those of the others are said where they are read for themselves.
pub fn layered(layers: &[AdapterLayer<'_>], variant: Option<&str>, findings: &mut Findings) -> Adapter {
    let mut adapter = Adapter::default();
    let mut quiet = Findings::default();
    let tables: Vec<DeTable<'_>> = layers
        .iter()
        .enumerate()
        .map(|(at, layer)| {
            let is_own = at + 1 == layers.len() && variant.is_none();
            let findings = if is_own { &mut *findings } else { &mut quiet };
            let table = toml_table(layer.file, layer.text, findings);
            // A name belongs to one file.
            adapter.name.clear();
            adapter.file = layer.file;
            adapter.layers.push(layer.file);
            overlay(&mut adapter, *layer, (&table, false), findings);
            table
        })
        .collect();
    let Some((layer, table)) = layers.iter().zip(&tables).next_back() else { return adapter };
    if let Some(variant) = variant {
        for (layer, table) in layers.iter().zip(&tables) {
            lay_variant(&mut adapter, (*layer, table), variant, &mut quiet);
        }
        adapter.name = format!("{}@{variant}", adapter.name);
        return adapter;
    }
    complete(&adapter, *layer, table, findings);
    tokens::check(
        &mut Reader { file: layer.file, text: layer.text, findings, place_of, strays: Vec::new() },
        &adapter,
        None,
    );
    for name in adapter.variants.iter().map(|variant| variant.name.clone()).collect::<Vec<_>>() {
        let mut varied = adapter.clone();
        if lay_variant(&mut varied, (*layer, table), &name, findings) {
            // What the adapter itself says wrongly was said.
            tokens::check(
                &mut Reader { file: layer.file, text: layer.text, findings, place_of, strays: Vec::new() },
                &varied,
                Some(&adapter),
            );
        }
    }
    adapter
}

/// What every adapter has to say.
fn complete(adapter: &Adapter, layer: AdapterLayer<'_>, table: &DeTable<'_>, findings: &mut Findings) {
    let has_program = !matches!(&adapter.program, Program::Same(program) if program.is_empty());
    for (key, given) in [("name", !adapter.name.is_empty()), ("program", has_program)] {
        if !given && !table.is_empty() && !table.iter().any(|(name, _)| name.get_ref() == key) {
            let words = Words::new(format!("`{key}` is missing in this adapter"), "this adapter");
            let at = Place::new(layer.file, 0..layer.text.lines().next().map_or(0, str::len));
            findings.add(Slug::KeyMissing, Some(at), None, words.help(format!("write {key} = \"...\"")));
        }
    }
    // Encoders are handed pictures, and start beside them.
    for (key, _) in table.iter().filter(|_| adapter.kind == AdapterKind::Encoder) {
        if ["write", "folder", "natives"].contains(&key.get_ref().as_ref()) {
            let words = Words::new(format!("an encoder has no `{}`", key.get_ref()), "this key is not read");
            let at = Place::new(layer.file, key.span());
            findings.add(Slug::UnknownKey, Some(at), None, words.help("remove it, or write kind = \"renderer\""));
        }
    }
}

/// Lays the variant of a text over an adapter; whether there is one.
fn lay_variant(
    adapter: &mut Adapter,
    (layer, table): (AdapterLayer<'_>, &DeTable<'_>),
    name: &str,
    findings: &mut Findings,
) -> bool {
    let variants =
        table.iter().find(|(key, _)| key.get_ref() == "variants").and_then(|(_, raw)| raw.get_ref().as_table());
    let own = variants.and_then(|variants| variants.iter().find(|(key, _)| key.get_ref() == name));
    let Some(own) = own.and_then(|(_, raw)| raw.get_ref().as_table()) else { return false };
    let kept = adapter.name.clone();
    overlay(adapter, layer, (own, true), findings);
    adapter.name = kept;
    true
}

/// Lays one table over what is known of an adapter.
fn overlay(
    adapter: &mut Adapter,
    layer: AdapterLayer<'_>,
    (table, is_variant): (&DeTable<'_>, bool),
    findings: &mut Findings,
) {
    let mut reader = Reader { file: layer.file, text: layer.text, findings, place_of, strays: Vec::new() };
    let reader = &mut reader;
    // When a variant is used, is read with its name.
    let own = if is_variant { Some(VARIANT[0].0) } else { None };
    let known: Vec<&str> = AdapterKey::names().chain(own).collect();
    for (key, raw) in reader.keyed(table, "an adapter", &known) {
        let Some(own) = AdapterKey::named(key) else { continue };
        match own {
            AdapterKey::Adapter => language(reader, raw),
            AdapterKey::Kind => {
                adapter.kind = reader.choice(raw, "kind", &KINDS).map(|kind| kind.value).unwrap_or_default()
            }
            AdapterKey::Name => adapter.name = plain(reader, raw, "name"),
            // Where it is found is decided before the text is read.
            AdapterKey::Like => drop(plain(reader, raw, "like")),
            AdapterKey::Program => adapter.program = program(reader, raw),
            AdapterKey::Folder => adapter.folder = one(reader, raw, "folder"),
            AdapterKey::Version => adapter.version = listed(reader, raw, "version", &adapter.version, plains),
            AdapterKey::Encoders => adapter.encoders = listed(reader, raw, "encoders", &adapter.encoders, plains),
            AdapterKey::Arguments => {
                adapter.arguments = listed(reader, raw, "arguments", &adapter.arguments, arguments)
            }
            AdapterKey::Variable => adapter.variable = listed(reader, raw, "variable", &adapter.variable, templates),
            AdapterKey::Native => adapter.native = listed(reader, raw, "native", &adapter.native, templates),
            AdapterKey::Natives => natives(reader, raw, &mut adapter.natives),
            AdapterKey::When => conditions(reader, raw, &mut adapter.conditions),
            AdapterKey::Write => written::files(reader, raw, &mut adapter.files),
            AdapterKey::Words => words(reader, raw, &mut adapter.words),
            AdapterKey::Env => env(reader, raw, &mut adapter.env),
            AdapterKey::Variants => variants(reader, raw, &mut adapter.variants),
            AdapterKey::Frames
            | AdapterKey::Passes
            | AdapterKey::Out
            | AdapterKey::Accepts
            | AdapterKey::Facts
            | AdapterKey::Needs
            | AdapterKey::Log
            | AdapterKey::Exit => section(reader, own, raw, adapter),
        }
    }
}

/// Names of variants, and the versions of the program that each is for. What a variant says is read when it is laid over.
fn variants(reader: &mut Reader<'_>, raw: &Raw<'_>, all: &mut Vec<Variant>) {
    for (key, raw) in reader.table(raw, "variants").into_iter().flatten() {
        let Some(table) = reader.table(raw, key.get_ref()) else { continue };
        let matches = table.iter().find(|(key, _)| key.get_ref() == "matches");
        let matches = matches.and_then(|(_, raw)| pattern(reader, raw, "matches", None));
        for (inner, _) in
            table.iter().filter(|(key, _)| ["name", "like", "variants", "kind"].contains(&key.get_ref().as_ref()))
        {
            let known: Vec<&str> = AdapterKey::names().collect();
            reader.unknown(inner, "a variant", &known);
        }
        let name = key.get_ref().to_string();
        match all.iter_mut().find(|variant| variant.name == name) {
            Some(variant) => variant.matches = matches.or(variant.matches.take()),
            None => all.push(Variant { name, matches }),
        }
    }
}

/// The part of an adapter in which a key belongs.
fn place_of(key: &str) -> Option<&'static str> {
    let of_section = SectionKey::ALL.iter().find(|own| own.name() == key).map(|own| match own.section() {
        AdapterKey::Frames => "[frames]",
        AdapterKey::Passes => "[passes]",
        AdapterKey::Facts => "[facts]",
        AdapterKey::Accepts => "[accepts]",
        AdapterKey::Needs => "[needs]",
        AdapterKey::Log => "[log]",
        AdapterKey::Exit => "[exit]",
        _ => "[out]",
    });
    of_section.or_else(|| AdapterKey::named(key).map(|_| "the head of the adapter"))
}

/// The version of the language of adapters that is read here.
const LANGUAGE: i64 = 1;

fn language(reader: &mut Reader<'_>, raw: &Raw<'_>) {
    let Some(version) = reader.whole(raw, "adapter", 1).filter(|version| version.value != LANGUAGE) else { return };
    let message = format!("this adapter is written for version {} of the language", version.value);
    let words =
        Words::new(message, "this True Path reads version 1").help("write adapter = 1, or use a newer True Path");
    reader.findings.add(Slug::ValueNotUnderstood, Some(version.at), None, words);
}

fn section(reader: &mut Reader<'_>, section: AdapterKey, raw: &Raw<'_>, adapter: &mut Adapter) {
    let (name, keys) = (section.name(), section.section());
    let Some(table) = reader.table(raw, name) else { return };
    let known: Vec<&str> = keys.iter().map(|own| own.name()).collect();
    for (written, raw) in reader.keyed(table, &format!("[{name}]"), &known) {
        let Some(own) = keys.iter().find(|own| own.name() == written) else { continue };
        match own {
            SectionKey::FramesPer => {
                adapter.per = reader.choice(raw, written, &PERS).map(|per| per.value).unwrap_or_default()
            }
            SectionKey::FramesJoin => adapter.spelling.join = any_text(reader, raw, written),
            SectionKey::FramesRange => adapter.spelling.range = any_text(reader, raw, written),
            SectionKey::FramesStep => adapter.spelling.step = any_text(reader, raw, written),
            SectionKey::PassesKnown => {
                adapter.known_passes = listed(reader, raw, written, &adapter.known_passes, plains)
            }
            SectionKey::PassesJoin => adapter.pass_join = Some(any_text(reader, raw, written)),
            SectionKey::PassesItem => adapter.pass_item = one(reader, raw, written),
            SectionKey::PassesCan => adapter.can = Some(arrangements(reader, raw, written)),
            SectionKey::FactsUnsaved => adapter.unsaved = listed(reader, raw, written, &adapter.unsaved, unsaved_names),
            SectionKey::FactsArguments => {
                let list = templates(reader, raw, written);
                adapter.facts = list.into_iter().map(|template| template.value).collect();
            }
            SectionKey::OutNumber => adapter.number = number(reader, raw),
            SectionKey::OutAlso => adapter.also = listed(reader, raw, written, &adapter.also, templates),
            SectionKey::OutKeep => adapter.keep = listed(reader, raw, written, &adapter.keep, templates),
            SectionKey::OutWrites => adapter.writes = listed(reader, raw, written, &adapter.writes, templates),
            SectionKey::AcceptsDepths => adapter.accepts.depths = depths(reader, raw),
            SectionKey::AcceptsSmallest => adapter.accepts.smallest = sizes(reader, written, raw),
            SectionKey::AcceptsLargest => adapter.accepts.largest = sizes(reader, written, raw),
            SectionKey::AcceptsScenes
            | SectionKey::AcceptsTypes
            | SectionKey::AcceptsBits
            | SectionKey::AcceptsChannels
            | SectionKey::AcceptsCompressions
            | SectionKey::AcceptsCodecs
            | SectionKey::AcceptsChroma
            | SectionKey::AcceptsAudioCodecs => accepts(reader, written, raw, adapter),
            SectionKey::NeedsRun => adapter.needs.run = listed(reader, raw, written, &adapter.needs.run, commands),
            SectionKey::NeedsEnv => adapter.needs.env = listed(reader, raw, written, &adapter.needs.env, plains),
            SectionKey::NeedsFiles => adapter.needs.files = listed(reader, raw, written, &adapter.needs.files, plains),
            SectionKey::NeedsLicences => {
                adapter.needs.licences = listed(reader, raw, written, &adapter.needs.licences, plains)
            }
            SectionKey::LogWrote => adapter.log.wrote = pattern(reader, raw, written, Some("path")),
            SectionKey::LogProblem => adapter.log.problem = pattern(reader, raw, written, Some("text")),
            SectionKey::LogProgress => adapter.log.progress = pattern(reader, raw, written, Some("frame")),
            SectionKey::LogCheckpoint => adapter.log.checkpoint = pattern(reader, raw, written, Some("path")),
            SectionKey::LogFatal => adapter.log.fatal = pattern(reader, raw, written, None),
            SectionKey::LogFinished => adapter.log.finished = pattern(reader, raw, written, None),
            SectionKey::LogWait => adapter.log.wait = pattern(reader, raw, written, None),
            SectionKey::ExitWhole => adapter.exit.whole = reader.flag(raw, written).unwrap_or_default(),
            SectionKey::ExitOk => (adapter.exit.ok, adapter.exit.crashes) = ends(reader, raw, written),
        }
    }
}

/// The ways in which passes may share calls and files.
fn arrangements(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str) -> Vec<Arrangement> {
    let list = raw.get_ref().as_array();
    if list.is_none() {
        reader.wrong_kind(raw, key, "a list of pass, call and file");
    }
    list.into_iter().flatten().filter_map(|raw| reader.choice(raw, key, &ARRANGEMENTS)).map(|way| way.value).collect()
}
