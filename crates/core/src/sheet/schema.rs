//! JSON Schemas (draft 2020-12) of sheet and machine file, made from the same tables that the reader uses, so that an editor completes
//! exactly the keys that are read.

use crate::sheet::FileOption;
use serde_json::{Map, Value, json};

use super::entries::{ALLOW_KEYS, LEVELS, MOVIE_KEYS};
use super::parse::{COLOURS, LAYERS};
use super::setting::{self, KEYS, SettingRow, ValueKind};
use super::tables::RUN_KEYS;
use super::{EXISTING, GAPS, MOST_WORKERS, PASS_KINDS, SYSTEMS, cluster, machine};
use crate::diagnostic::{CHECKS, Check};
use crate::frames::MOST;
use crate::picture::usual_limit;

/// A span of time.
const SPAN: &str = "^[0-9.]+ *[a-z]+([ ,]+[0-9.]+ *[a-z]+)*$";

pub(crate) fn object(properties: Map<String, Value>, what: &str) -> Value {
    json!({ "type": "object", "description": what, "properties": properties, "additionalProperties": false })
}

pub(crate) fn table_of(value: Value, what: &str) -> Value {
    json!({ "type": "object", "description": what, "additionalProperties": value })
}

pub(crate) fn text(what: &str) -> Value {
    json!({ "type": "string", "minLength": 1, "description": what })
}

pub(crate) fn one_of(names: impl IntoIterator<Item = &'static str>, what: &str) -> Value {
    json!({ "enum": names.into_iter().collect::<Vec<_>>(), "description": what })
}

pub(crate) fn texts(what: &str) -> Value {
    json!({ "type": "array", "items": { "type": "string", "minLength": 1 }, "description": what })
}

/// The schema of a sheet. A sheet that is laid below another one needs nothing of what is required here.
#[must_use]
pub fn sheet() -> Value {
    let mut properties = Map::new();
    let mut add = |name: &str, schema: Value| properties.insert(name.to_owned(), schema);
    add("sheet", json!({ "const": 1, "description": "The version of the sheet's language." }));
    add("from", texts("Sheets laid below this one, in order."));
    add("project", object([("name".to_owned(), text("The project's name."))].into_iter().collect(), "The project."));
    let systems: Map<String, Value> =
        SYSTEMS.iter().map(|(name, _)| ((*name).to_owned(), text("The folder on this system."))).collect();
    let root = json!({ "anyOf": [text("A folder; a relative one starts at this file's own."), object(systems, "A folder for each system.")] });
    add("roots", table_of(root, "Named base folders; each is a token."));
    add("formats", table_of(format(), "Named sets of file options."));
    let kinds = [("kind".to_owned(), one_of(PASS_KINDS.map(|(name, _)| name), "What the pass is."))];
    add("passes", table_of(object(kinds.into_iter().collect(), "A pass."), "What passes are."));
    add("defaults", object(settings(), "What every job starts from."));
    add(
        "bases",
        table_of(object(with(&[("like", text("The base below this one."))]), "A base."), "Named starting points."),
    );
    let is_final = json!({ "type": "boolean", "description": "The mode writes the final names." });
    add(
        "modes",
        table_of(object(with(&[("final", is_final)]), "A mode."), "Settings laid over every job for one call."),
    );
    let each = json!({ "description": "Several jobs from one entry: a table of lists gives a job for every combination of values, a list of tables gives a job for every row.",
        "anyOf": [{ "type": "object", "additionalProperties": { "type": "array", "minItems": 1 },
            "properties": { "scene": { "anyOf": [{ "type": "array", "minItems": 1 }, text("A pattern such as scenes/*.gltf: a job for each scene.")] } } }, { "type": "array", "items": { "type": "object" } }] });
    let job = with(&[("name", text("The job's name.")), ("like", text("The base it starts from.")), ("each", each)]);
    add("job", json!({ "type": "array", "items": object(job, "A job."), "description": "Jobs." }));
    add("movie", json!({ "type": "array", "items": movie(), "description": "Movies made of complete sequences." }));
    add("policy", policy());
    let levels = one_of(LEVELS.map(|(name, _)| name), "The level of its findings.");
    let limit = json!({ "type": "number", "exclusiveMinimum": 0, "description": "From where on it finds something." });
    let rule = |check: &Check| {
        let more = usual_limit(check.name).map(|_| ("limit", limit.clone()));
        let table = [("level", levels.clone())].into_iter().chain(more).map(|(name, value)| (name.to_owned(), value));
        let table = object(table.collect(), "Its level and its limit.");
        (check.name.to_owned(), described(&json!({ "anyOf": [levels, table] }), check.summary))
    };
    add("checks", object(CHECKS.iter().map(rule).collect(), "Levels and limits of checks."));
    add(
        "allow",
        json!({ "type": "array", "items": allow(), "description": "Findings that are allowed, with the reason." }),
    );
    add("run", run());
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A sheet of True Path",
        "type": "object", "properties": properties, "additionalProperties": false,
    })
}

fn described(schema: &Value, what: &str) -> Value {
    let mut schema = schema.clone();
    schema["description"] = json!(what);
    schema
}

/// The settings of a job with some more keys.
fn with(more: &[(&str, Value)]) -> Map<String, Value> {
    let mut all = settings();
    all.extend(more.iter().map(|(name, schema)| ((*name).to_owned(), schema.clone())));
    all
}

fn settings() -> Map<String, Value> {
    let row = |row: SettingRow| described(&kind(row.kind), row.meaning);
    let mut all: Map<String, Value> = KEYS.iter().map(|(name, key)| ((*name).to_owned(), row(key.row()))).collect();
    for row in setting::tables() {
        all.insert(row.name.to_owned(), table_of(kind(row.kind), row.meaning));
    }
    all.insert("leave".to_owned(), texts("Settings that are left to the scene."));
    all
}

fn kind(kind: ValueKind) -> Value {
    let text = || json!({ "type": "string", "minLength": 1 });
    let whole = |least: i64| json!({ "type": "integer", "minimum": least });
    let moved = |least: i64| json!({ "type": "integer", "minimum": least, "maximum": MOST });
    match kind {
        ValueKind::Text | ValueKind::Path => text(),
        ValueKind::Region => {
            json!({ "type": "string", "pattern": "^[0-9. ]+%?(,[0-9. ]+%?){3}$", "examples": ["0,0,640,360"] })
        }
        ValueKind::Scalar => json!({ "type": ["string", "number", "boolean"] }),
        ValueKind::Frames => {
            json!({ "type": ["string", "integer"], "examples": ["1-96", "1-96/4", "1-10,20-30", "1-96 except 40-44"] })
        }
        ValueKind::Fps => json!({ "type": ["integer", "number", "string"], "examples": [24, "24000/1001"] }),
        ValueKind::Size => {
            json!({ "type": "string", "pattern": "^\\s*[0-9]+\\s*x\\s*[0-9]+\\s*$", "examples": ["1280x720"] })
        }
        ValueKind::Positive => json!({ "type": "number", "exclusiveMinimum": 0 }),
        ValueKind::Handles => {
            json!({ "anyOf": [moved(0), { "type": "array", "items": moved(0), "minItems": 2, "maxItems": 2 }] })
        }
        ValueKind::Moved => moved(-MOST),
        ValueKind::Count => whole(1),
        ValueKind::Flag => json!({ "type": "boolean" }),
        ValueKind::Layers => json!({ "enum": LAYERS.iter().map(|(name, _)| name).collect::<Vec<_>>() }),
        ValueKind::Colour => json!({ "enum": COLOURS.iter().map(|(name, _)| name).collect::<Vec<_>>() }),
        ValueKind::Version => json!({ "anyOf": [whole(0), { "enum": ["next", "latest"] }] }),
        ValueKind::Checkpoint => {
            let every = json!({ "type": "string", "pattern": SPAN, "examples": ["20m"] });
            let keys = [("every".to_owned(), every), ("keep".to_owned(), whole(1))];
            let mut table = object(keys.into_iter().collect(), "How often, and how many of the last ones are kept.");
            table["required"] = json!(["every"]);
            table
        }
        ValueKind::Passes => json!({ "type": "array", "minItems": 1, "items": { "anyOf": [text(), pass()] } }),
    }
}

fn pass() -> Value {
    let keys = [
        ("name", text("The renderer's pass.")),
        ("as", text("What it is called in names.")),
        (
            "colour",
            one_of(
                ["linear", "display"],
                "How its pixels are stored: linear (scene-linear) or display (display-encoded).",
            ),
        ),
        ("format", text("Its own format.")),
        ("path", text("Its own path.")),
    ];
    let mut pass = object(
        keys.into_iter().map(|(name, schema)| (name.to_owned(), schema)).collect(),
        "A pass with what it changes.",
    );
    pass["required"] = json!(["name"]);
    pass
}

/// The words of a file option; those that are numbers may be written as such, those of 0 to 100 only so.
pub(crate) fn words(option: FileOption) -> Value {
    let words = option.words();
    if words.is_empty() {
        return json!({ "type": "integer", "minimum": 0, "maximum": 100 });
    }
    let numbers = words.iter().filter_map(|word| word.parse::<i64>().ok()).map(|number| json!(number));
    json!({ "enum": words.iter().map(|word| json!(word)).chain(numbers).collect::<Vec<_>>() })
}

fn format() -> Value {
    let option = |option: FileOption| {
        let mut schema = words(option);
        schema["description"] = json!(option.row().what);
        (option.name().to_owned(), schema)
    };
    object(FileOption::ALL.map(option).into_iter().collect(), "A format.")
}

fn movie() -> Value {
    let schema = |name: &str, what: &str| match name {
        "colour" => one_of(["linear", "display"], what),
        "of" => json!({ "anyOf": [text("A job."), texts("Jobs, one after another.")], "description": what }),
        "fps" => described(&kind(ValueKind::Fps), what),
        "frames" => described(&kind(ValueKind::Frames), what),
        "size" => described(&kind(ValueKind::Size), what),
        "scale" => described(&kind(ValueKind::Positive), what),
        "gaps" => one_of(GAPS.iter().map(|(name, _)| *name), what),
        "audio_offset" => json!({ "type": "number", "description": what }),
        "over" => json!({ "type": "string", "pattern": "^(black|checker|#[0-9a-fA-F]{6})$", "description": what }),
        "start_timecode" => {
            json!({ "type": "string", "pattern": "^[0-9]{2}:[0-9]{2}:[0-9]{2}[:;][0-9]{2}$", "description": what })
        }
        _ => text(what),
    };
    let keys = MOVIE_KEYS.iter().map(|(name, what)| ((*name).to_owned(), schema(name, what)));
    let mut movie = object(keys.collect(), "A movie.");
    movie["required"] = json!(["name", "of", "path"]);
    movie
}

fn allow() -> Value {
    let schema = |name: &str, what: &str| match name {
        "check" => one_of(CHECKS.iter().map(|check| check.name), what),
        _ => text(what),
    };
    let keys = ALLOW_KEYS.iter().map(|(name, what)| ((*name).to_owned(), schema(name, what)));
    let mut entry = object(keys.collect(), "A finding that is allowed.");
    entry["required"] = json!(["check", "because"]);
    entry
}

fn policy() -> Value {
    let systems = json!({ "type": "array", "items": { "enum": SYSTEMS.map(|(name, _)| name) }, "description": "Systems that names are made for." });
    let keys = [
        ("within", texts("Roots that all outputs must be below.")),
        ("never", texts("Folders that no output may be in.")),
        ("spelling", text("A regular expression for each part of a path below its root.")),
        ("tokens", texts("Tokens that every path must have.")),
        ("systems", systems),
        (
            "one_version",
            json!({ "type": "boolean", "description": "Whether machines that share the sheet must have one version of each program." }),
        ),
    ];
    object(
        keys.into_iter().map(|(name, schema)| (name.to_owned(), schema)).collect(),
        "Rules for output paths and names.",
    )
}

fn run() -> Value {
    let schema = |name: &str, what: &str| match name {
        "workers" => workers(what),
        "chunk" => json!({ "type": "integer", "minimum": 1, "description": what }),
        "retries" => json!({ "type": "integer", "minimum": 0, "description": what }),
        "licences" => counts(what),
        "cluster" => cluster(what),
        "existing" => one_of(EXISTING.iter().map(|(name, _)| *name), what),
        "after" => {
            json!({ "type": "array", "items": { "type": "array", "items": { "type": "string" }, "minItems": 1 }, "description": what })
        }
        "log_limit" => bytes(what),
        _ => json!({ "type": "string", "pattern": SPAN, "description": what }),
    };
    object(RUN_KEYS.iter().map(|(name, what)| ((*name).to_owned(), schema(name, what))).collect(), "How calls are run.")
}

fn cluster(what: &str) -> Value {
    let schema = |name: &str, what: &str| match name {
        "licences" => counts(what),
        "time" => json!({ "type": "string", "pattern": SPAN, "description": what }),
        "memory" => bytes(what),
        "threads" | "at_once" => json!({ "type": "integer", "minimum": 1, "description": what }),
        "priority" => json!({ "type": "integer", "minimum": -1023, "description": what }),
        "options" => texts(what),
        _ => text(what),
    };
    object(cluster::KEYS.iter().map(|(name, what)| ((*name).to_owned(), schema(name, what))).collect(), what)
}

/// Renderers at a time.
fn workers(what: &str) -> Value {
    json!({ "type": "integer", "minimum": 1, "maximum": MOST_WORKERS, "description": what })
}

/// A count of bytes.
fn bytes(what: &str) -> Value {
    json!({ "type": "string", "pattern": "^[0-9.]+ *[kMGTKmgt]?i?[bB]?$", "description": what })
}

/// Numbers of licences by name.
fn counts(what: &str) -> Value {
    table_of(json!({ "type": "integer", "minimum": 1 }), what)
}

/// The schema of a machine file.
#[must_use]
pub fn machine() -> Value {
    let schema = |name: &str, what: &str| match name {
        "workers" => workers(what),
        "licences" => counts(what),
        _ => table_of(text("A full path."), what),
    };
    let keys = machine::KEYS.iter().map(|(name, what)| ((*name).to_owned(), schema(name, what)));
    titled(object(keys.collect(), "Where things are on this machine."), "The machine file of True Path")
}

pub(crate) fn titled(mut schema: Value, title: &str) -> Value {
    schema["$schema"] = json!("https://json-schema.org/draft/2020-12/schema");
    schema["title"] = json!(title);
    schema
}
