//! The JSON Schema of an adapter, made from the tables that the reader uses.

use serde_json::{Map, Value, json};

use super::exit::Crash;
use super::parse::{CONDITION, KEYS, NATIVE, SECTIONS, VARIANT, WRITE};
use super::{ARRANGEMENTS, KINDS, LANGUAGES, NATIVE_KINDS, PERS};
use crate::sheet::schema::{object, one_of, table_of, text, texts, titled, words};
use crate::sheet::{FileOption, SYSTEMS};

/// The schema.
#[must_use]
pub fn adapter() -> Value {
    titled(object(keys(&[]), "How one program is driven."), "An adapter of True Path")
}

/// The keys of an adapter but some.
fn keys(but: &[&str]) -> Map<String, Value> {
    let of_keys = KEYS.iter().filter(|(name, _)| !but.contains(name));
    let exit = ("exit".to_owned(), section("exit", "Its exit codes."));
    of_keys.map(|(name, what)| ((*name).to_owned(), key(name, what))).chain([exit]).collect()
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

fn key(name: &str, what: &str) -> Value {
    match name {
        "adapter" => json!({ "const": 1, "description": what }),
        "name" | "like" | "folder" => text(what),
        "kind" => one_of(KINDS.iter().map(|(name, _)| *name), what),
        "program" => {
            let systems: Map<String, Value> =
                SYSTEMS.iter().map(|(name, _)| ((*name).to_owned(), text("The program on this system."))).collect();
            json!({ "anyOf": [text("The same everywhere."), object(systems, "One for each system.")], "description": what })
        }
        "arguments" => arguments(what),
        "words" => {
            let word = json!({ "anyOf": [scalar(), arguments("Several arguments in place of the token.")] });
            table_of(table_of(word, "The program's words for the values of one token."), what)
        }
        "env" => table_of(text("A value."), what),
        "natives" => natives(what),
        "when" => condition(what),
        "write" => {
            let one = |key: &str, what: &str| match key {
                "quote" => one_of(LANGUAGES.iter().map(|(name, _)| *name), what),
                _ => text(what),
            };
            named(&WRITE, &one, what)
        }
        "variants" => {
            let mut own = keys(&["adapter", "name", "kind", "like", "variants"]);
            own.insert(VARIANT[0].0.to_owned(), text(VARIANT[0].1));
            table_of(object(own, "What differs."), what)
        }
        name if SECTIONS.iter().any(|(section, _)| *section == name) => section(name, what),
        _ => listed(texts(what), what),
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

fn section(name: &str, what: &str) -> Value {
    let keys = SECTIONS.iter().filter(|(section, _)| *section == name).flat_map(|(_, keys)| *keys);
    object(keys.map(|(key, what)| ((*key).to_owned(), entry(name, key, what))).collect(), what)
}

fn entry(section: &str, key: &str, what: &str) -> Value {
    let list = |names: Vec<&'static str>| json!({ "type": "array", "items": { "enum": names }, "description": what });
    match (section, key) {
        ("frames", "per") => one_of(PERS.iter().map(|(name, _)| *name), what),
        ("frames", _) => json!({ "type": "string", "description": what }),
        ("passes", "join") => json!({ "type": "string", "description": what }),
        ("passes", "item") => text(what),
        ("passes", "can") => list(ARRANGEMENTS.iter().map(|(name, _)| *name).collect()),
        ("out", "number") => one_of(["#", "@", "%d", "none"], what),
        ("accepts", "smallest" | "largest") => {
            table_of(json!({ "type": "string", "pattern": "^\\s*[0-9]+\\s*x\\s*[0-9]+\\s*$" }), what)
        }
        ("accepts", "depths") => table_of(texts("Depths of a sample."), what),
        ("accepts", key) if let Some(option) = FileOption::accepted(key) => {
            json!({ "type": "array", "items": words(option), "description": what })
        }
        ("needs", "run") => listed(json!({ "type": "array", "items": texts("Words."), "description": what }), what),
        ("log", _) => text(what),
        ("exit", "whole") => json!({ "type": "boolean", "description": what }),
        ("exit", _) => {
            let names: Vec<&str> = Crash::names().collect();
            let items = json!({ "anyOf": [{ "type": "integer" }, { "enum": names }] });
            json!({ "type": "array", "items": items, "description": what })
        }
        ("out" | "needs", _) | ("passes", "known") => listed(texts(what), what),
        _ => texts(what),
    }
}
