//! The JSON Schema of an adapter, made from the tables that the reader uses.

use serde_json::{Map, Value, json};

use super::exit::Crash;
use super::parse::{AdapterKey, CONDITION, NATIVE, SectionKey, VARIANT, WRITE};
use super::{ARRANGEMENTS, KINDS, LANGUAGES, NATIVE_KINDS, PERS};
use crate::sheet::schema::{object, one_of, table_of, text, texts, titled, words};
use crate::sheet::{FileOption, SYSTEMS};

/// The schema.
#[must_use]
pub fn adapter() -> Value {
    titled(object(keys(&[]), "How one program is driven."), "An adapter of True Path")
}

/// The keys of an adapter but some.
fn keys(but: &[AdapterKey]) -> Map<String, Value> {
    let all = AdapterKey::ALL.iter().filter(|own| !but.contains(own));
    all.map(|own| (own.name().to_owned(), key(*own))).collect()
}

/// A list, or a table of what is put before and after the one of the adapter that this is like.
fn listed(list: Value, what: &str) -> Value {
    let put = |what: &str| (what.to_owned(), list.clone());
    let more = object([put("before"), put("after")].into_iter().collect(), "What is put before and after the list.");
    json!({ "anyOf": [list, more], "description": what })
}

/// A table of tables with some keys.
fn named(keys: &[(&str, &str)], of_key: &dyn Fn(&str, &str) -> Value, what: &str) -> Value {
    let inner = keys.iter().map(|(name, what)| ((*name).to_owned(), of_key(name, what))).collect();
    table_of(object(inner, what), what)
}

fn key(own: AdapterKey) -> Value {
    let what = own.what();
    match own {
        AdapterKey::Adapter => json!({ "const": 1, "description": what }),
        AdapterKey::Name | AdapterKey::Like | AdapterKey::Folder => text(what),
        AdapterKey::Kind => one_of(KINDS.iter().map(|(name, _)| *name), what),
        AdapterKey::Program => {
            let systems: Map<String, Value> =
                SYSTEMS.iter().map(|(name, _)| ((*name).to_owned(), text("The program on this system."))).collect();
            json!({ "anyOf": [text("The same everywhere."), object(systems, "One for each system.")], "description": what })
        }
        AdapterKey::Arguments => arguments(what),
        AdapterKey::Words => {
            let word = json!({ "anyOf": [scalar(), arguments("Several arguments in place of the token.")] });
            table_of(table_of(word, "The program's words for the values of one token."), what)
        }
        AdapterKey::Env => table_of(text("A value."), what),
        AdapterKey::Natives => natives(what),
        AdapterKey::When => condition(what),
        AdapterKey::Write => {
            let one = |key: &str, what: &str| match key {
                "quote" => one_of(LANGUAGES.iter().map(|(name, _)| *name), what),
                _ => text(what),
            };
            named(&WRITE, &one, what)
        }
        AdapterKey::Variants => {
            let mut own = keys(&[
                AdapterKey::Adapter,
                AdapterKey::Name,
                AdapterKey::Kind,
                AdapterKey::Like,
                AdapterKey::Variants,
            ]);
            own.insert(VARIANT[0].0.to_owned(), text(VARIANT[0].1));
            table_of(object(own, "What differs."), what)
        }
        AdapterKey::Frames
        | AdapterKey::Passes
        | AdapterKey::Out
        | AdapterKey::Accepts
        | AdapterKey::Facts
        | AdapterKey::Needs
        | AdapterKey::Log
        | AdapterKey::Exit => {
            let keys = own.section().into_iter().map(|own| (own.name().to_owned(), entry(own)));
            object(keys.collect(), what)
        }
        AdapterKey::Version | AdapterKey::Encoders | AdapterKey::Variable | AdapterKey::Native => {
            listed(texts(what), what)
        }
    }
}

fn scalar() -> Value {
    json!({ "type": ["string", "number", "boolean"] })
}

fn arguments(what: &str) -> Value {
    let mut group = json!({ "type": "array", "items": { "type": "string" } });
    // Lists lie two deep at most in any adapter that people write.
    for _ in 0..2 {
        group = json!({ "type": "array", "items": { "anyOf": [{ "type": "string" }, group] } });
    }
    listed(group, what)
}

fn natives(what: &str) -> Value {
    let one = |key: &str, what: &str| match key {
        "kind" => one_of(NATIVE_KINDS.iter().map(|(name, _)| *name), what),
        "values" => json!({ "type": "array", "items": scalar(), "description": what }),
        "default" => json!({ "type": ["string", "number", "boolean"], "description": what }),
        "help" => text(what),
        _ => listed(texts(what), what),
    };
    named(&NATIVE, &one, what)
}

fn condition(what: &str) -> Value {
    let list = json!({ "anyOf": [scalar(), { "type": "array", "items": scalar() }] });
    let mut own: Map<String, Value> = CONDITION.iter().map(|(name, what)| ((*name).to_owned(), texts(what))).collect();
    let systems: Vec<&str> = SYSTEMS.iter().map(|(name, _)| *name).collect();
    let system = json!({ "enum": systems });
    own.insert(
        "system".to_owned(),
        json!({ "anyOf": [system, { "type": "array", "items": system }], "description": CONDITION[0].1 }),
    );
    table_of(json!({ "type": "object", "properties": own, "additionalProperties": list, "description": what }), what)
}

fn entry(own: SectionKey) -> Value {
    let what = own.what();
    let list = |names: Vec<&'static str>| json!({ "type": "array", "items": { "enum": names }, "description": what });
    match own {
        SectionKey::FramesPer => one_of(PERS.iter().map(|(name, _)| *name), what),
        // Nothing between the parts is a wish, too.
        SectionKey::FramesJoin | SectionKey::FramesRange | SectionKey::FramesStep | SectionKey::PassesJoin => {
            json!({ "type": "string", "description": what })
        }
        SectionKey::PassesItem => text(what),
        SectionKey::PassesCan => list(ARRANGEMENTS.iter().map(|(name, _)| *name).collect()),
        SectionKey::OutNumber => one_of(["#", "@", "%d", "none"], what),
        SectionKey::AcceptsScenes | SectionKey::FactsArguments => texts(what),
        SectionKey::AcceptsTypes
        | SectionKey::AcceptsBits
        | SectionKey::AcceptsChannels
        | SectionKey::AcceptsCompressions
        | SectionKey::AcceptsCodecs
        | SectionKey::AcceptsChroma
        | SectionKey::AcceptsAudioCodecs => {
            let items = FileOption::accepted(own.name()).map_or_else(|| json!({ "type": "string" }), words);
            json!({ "type": "array", "items": items, "description": what })
        }
        SectionKey::AcceptsSmallest | SectionKey::AcceptsLargest => {
            table_of(json!({ "type": "string", "pattern": "^\\s*[0-9]+\\s*x\\s*[0-9]+\\s*$" }), what)
        }
        SectionKey::AcceptsDepths => table_of(texts("Depths of a sample."), what),
        SectionKey::NeedsRun => listed(json!({ "type": "array", "items": texts("Words."), "description": what }), what),
        SectionKey::LogWrote
        | SectionKey::LogProblem
        | SectionKey::LogProgress
        | SectionKey::LogWait
        | SectionKey::LogCheckpoint
        | SectionKey::LogFatal
        | SectionKey::LogFinished => text(what),
        SectionKey::ExitWhole => json!({ "type": "boolean", "description": what }),
        SectionKey::ExitOk => {
            let names: Vec<&str> = Crash::names().collect();
            let items = json!({ "anyOf": [{ "type": "integer" }, { "enum": names }] });
            json!({ "type": "array", "items": items, "description": what })
        }
        SectionKey::PassesKnown
        | SectionKey::OutWrites
        | SectionKey::OutAlso
        | SectionKey::OutKeep
        | SectionKey::FactsUnsaved
        | SectionKey::NeedsEnv
        | SectionKey::NeedsFiles
        | SectionKey::NeedsLicences => listed(texts(what), what),
    }
}
