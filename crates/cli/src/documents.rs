//! The JSON Schema of every document and event that is printed, made from one table: `documents.toml` says how to read it.

use std::sync::OnceLock;

use serde_json::{Map, Value, json};

/// The table, read once.
fn table() -> &'static toml::Table {
    static TABLE: OnceLock<toml::Table> = OnceLock::new();
    // It is compiled in, and a test reads all of it.
    TABLE.get_or_init(|| include_str!("documents.toml").parse().unwrap_or_default())
}

fn rows(name: &str) -> impl Iterator<Item = (&'static str, &'static str)> {
    let rows = table().get(name).and_then(toml::Value::as_table).into_iter().flatten();
    rows.filter_map(|(name, row)| Some((name.as_str(), row.as_str()?)))
}

fn row(table: &str, name: &str) -> Option<&'static str> {
    rows(table).find(|(own, _)| *own == name).map(|(_, row)| row)
}

/// The name under which the schema of all events is printed.
pub const EVENTS: &str = "events";

/// The names of all documents; a command of two words has a hyphen between them.
pub fn names() -> impl Iterator<Item = &'static str> {
    rows("documents").map(|(name, _)| name).chain([EVENTS])
}

/// The JSON Schema (draft 2020-12) of a document, or of an event; `None` where there is no such document.
pub fn schema(name: &str) -> Option<Value> {
    let mut schema = match name {
        EVENTS => events(),
        name => object(&format!("truepath {}", row("documents", name)?)),
    };
    schema["$schema"] = json!("https://json-schema.org/draft/2020-12/schema");
    schema["title"] = json!(match name {
        EVENTS => "one event of `truepath run --events`, and one line of a journal".to_owned(),
        name => format!("the document of `truepath {} --json`", name.replace('-', " ")),
    });
    Some(schema)
}

fn events() -> Value {
    let one = |(name, shape): (&str, &str)| {
        let mut event = object(&format!("event {shape}"));
        event["properties"]["event"]["const"] = json!(name);
        event
    };
    json!({ "oneOf": rows("events").map(one).collect::<Vec<_>>() })
}

/// A closed object of a shape.
fn object(shape: &str) -> Value {
    let (mut properties, mut required) = (Map::new(), Vec::new());
    let mut rest = shape.trim();
    while !rest.is_empty() {
        if let Some(named) = rest.strip_prefix('@') {
            let end = named.find(' ').unwrap_or(named.len());
            let inner = object(row("shapes", &named[..end]).unwrap_or_default());
            properties.extend(inner["properties"].as_object().cloned().unwrap_or_default());
            required.extend(inner["required"].as_array().cloned().unwrap_or_default());
            rest = named[end..].trim_start();
            continue;
        }
        let (key, behind) = next(rest);
        rest = behind;
        if !key.is_optional {
            required.push(json!(key.name));
        }
        properties.insert(key.name.to_owned(), key.schema());
    }
    json!({ "type": "object", "properties": properties, "required": required, "additionalProperties": false })
}

/// One key of a shape.
#[derive(Default)]
struct ShapeKey<'s> {
    name: &'s str,
    /// Its type, where it is not the usual one.
    kind: Option<&'s str>,
    is_optional: bool,
    is_nullable: bool,
    /// Whether an object has names of any kind for keys, each with such an object behind it.
    is_map: bool,
    /// What an object holds, or each object of a list.
    inner: Option<(bool, &'s str)>,
}

/// The first key of a shape, and what stands behind it.
fn next(shape: &str) -> (ShapeKey<'_>, &str) {
    let is_word = |letter: char| letter.is_ascii_alphanumeric() || letter == '_' || letter == '-';
    let word = |text: &'_ str| text.find(|letter| !is_word(letter)).unwrap_or(text.len());
    let end = word(shape);
    let (name, mut rest) = shape.split_at(end);
    let mut key = ShapeKey { name, ..ShapeKey::default() };
    loop {
        match rest.chars().next() {
            Some('~') => key.is_optional = true,
            Some('?') => key.is_nullable = true,
            Some('%') => key.is_map = true,
            Some('=') => {
                let end = word(&rest[1..]) + 1;
                key.kind = Some(&rest[1..end]);
                rest = &rest[end..];
                continue;
            }
            Some(open @ ('{' | '[')) => {
                let end = closing(rest);
                key.inner = Some((open == '[', &rest[1..end]));
                rest = &rest[end..];
            }
            _ => break,
        }
        rest = &rest[1..];
    }
    (key, rest.trim_start())
}

/// Where the bracket is closed that a text begins with.
fn closing(text: &str) -> usize {
    let mut depth = 0usize;
    let end = text.char_indices().find(|(_, letter)| {
        match letter {
            '{' | '[' => depth += 1,
            '}' | ']' => depth = depth.saturating_sub(1),
            _ => {}
        }
        depth == 0
    });
    end.map_or(text.len(), |(at, _)| at)
}

impl ShapeKey<'_> {
    fn schema(&self) -> Value {
        let about = row("keys", self.name).and_then(|row| row.split_once(": "));
        let mut own = match self.inner {
            Some((true, inner)) => json!({ "type": "array", "items": object(inner) }),
            Some((false, inner)) if self.is_map => json!({ "type": "object", "additionalProperties": object(inner) }),
            Some((false, inner)) => object(inner),
            None => self.leaf(about.map_or("", |(kind, _)| kind)),
        };
        if self.is_nullable {
            let kinds = match own["type"].take() {
                Value::Array(kinds) => kinds,
                kind => vec![kind],
            };
            own["type"] = kinds.into_iter().chain([json!("null")]).collect();
        }
        // A list of objects, or another type than usual, is described by what it holds.
        if let (Some((_, words)), None, None) = (about, self.inner, self.kind) {
            own["description"] = json!(words);
        }
        own
    }

    fn leaf(&self, usual: &str) -> Value {
        match self.kind.unwrap_or(usual) {
            EVENTS => json!({ "type": "array", "items": events() }),
            kind => {
                let known = table().get("types").and_then(|types| types.get(kind));
                known.and_then(|known| serde_json::to_value(known).ok()).unwrap_or_default()
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use serde_json::Value;

    use super::{names, rows, schema};

    /// Every key of a schema that is of no type, or has no words where it needs some.
    fn nameless(schema: &Value, path: &str, found: &mut Vec<String>) {
        for (key, own) in schema["properties"].as_object().into_iter().flatten() {
            let path = format!("{path}/{key}");
            if own["type"].is_null() {
                found.push(path.clone());
            }
            nameless(own, &path, found);
            nameless(&own["items"], &path, found);
            nameless(&own["additionalProperties"], &path, found);
        }
        for own in schema["oneOf"].as_array().into_iter().flatten() {
            nameless(own, path, found);
        }
    }

    #[test]
    fn every_key_of_every_document_has_a_type_and_every_word_is_used() {
        let mut found = Vec::new();
        let all: Vec<String> = names()
            .map(|name| {
                let schema = schema(name).unwrap_or_default();
                nameless(&schema, name, &mut found);
                schema.to_string()
            })
            .collect();
        assert_eq!(found, Vec::<String>::new());
        let unused: Vec<&str> = rows("keys")
            .map(|(key, _)| key)
            .filter(|key| !all.iter().any(|schema| schema.contains(&format!("\"{key}\":{{"))))
            .collect();
        assert_eq!(unused, Vec::<&str>::new());
    }
}
