//! The JSON Schema of an adapter, made from the tables that the reader uses.

use serde_json::{Map, Value, json};

use super::parse::{KEYS, SECTIONS};
use super::{ARRANGEMENTS, KINDS, PERS};
use crate::catalogue::{AUDIO_CODECS, BITS, CHANNELS, CHROMA, CODECS, types};
use crate::sheet::SYSTEMS;
use crate::sheet::schema::{object, one_of, table_of, text, texts, titled};

/// The schema.
#[must_use]
pub fn adapter() -> Value {
    let of_keys = KEYS.iter().map(|(name, what)| ((*name).to_owned(), key(name, what)));
    let exit = ("exit".to_owned(), section("exit", "Its exit codes."));
    titled(object(of_keys.chain([exit]).collect(), "How one program is driven."), "An adapter of True Path")
}

fn key(name: &str, what: &str) -> Value {
    let scalar = json!({ "type": ["string", "number", "boolean"] });
    match name {
        "adapter" => json!({ "const": 1, "description": what }),
        "name" => text(what),
        "kind" => one_of(KINDS.iter().map(|(name, _)| *name), what),
        "program" => {
            let systems: Map<String, Value> =
                SYSTEMS.iter().map(|(name, _)| ((*name).to_owned(), text("The program on this system."))).collect();
            json!({ "anyOf": [text("The same everywhere."), object(systems, "One for each system.")], "description": what })
        }
        "arguments" => {
            let group = json!({ "type": "array", "items": { "type": "string" } });
            json!({ "type": "array", "items": { "anyOf": [{ "type": "string" }, group] }, "description": what })
        }
        "words" => {
            let word = json!({ "anyOf": [scalar, key("arguments", "Several arguments in place of the token.")] });
            table_of(table_of(word, "The program's words for the values of one token."), what)
        }
        "env" => table_of(text("A value."), what),
        name if SECTIONS.iter().any(|(section, _)| *section == name) => section(name, what),
        _ => texts(what),
    }
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
        ("passes", "can") => list(ARRANGEMENTS.iter().map(|(name, _)| *name).collect()),
        ("out", "number") => one_of(["#", "@", "%d", "none"], what),
        ("accepts", "types") => list(types().map(|known| known.name).collect()),
        ("accepts", "bits") => {
            let mut names: Vec<Value> = BITS.iter().map(|(name, _)| json!(name)).collect();
            names.extend(BITS.iter().filter_map(|(name, _)| name.parse::<i64>().ok()).map(|bits| json!(bits)));
            json!({ "type": "array", "items": { "enum": names }, "description": what })
        }
        ("accepts", "channels") => list(CHANNELS.iter().map(|(name, _)| *name).collect()),
        ("accepts", "codecs") => list(CODECS.iter().map(|known| known.name).collect()),
        ("accepts", "audio_codecs") => list(AUDIO_CODECS.iter().map(|known| known.name).collect()),
        ("accepts", "smallest" | "largest") => {
            table_of(json!({ "type": "string", "pattern": "^\\s*[0-9]+\\s*x\\s*[0-9]+\\s*$" }), what)
        }
        ("accepts", "depths") => table_of(texts("Depths of a sample."), what),
        ("accepts", "chroma") => list(CHROMA.to_vec()),
        ("needs", "run") => json!({ "type": "array", "items": texts("Words."), "description": what }),
        ("log", _) => text(what),
        ("exit", _) => json!({ "type": "array", "items": { "type": "integer" }, "description": what }),
        _ => texts(what),
    }
}
