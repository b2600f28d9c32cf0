//! What adapters are and what they can carry, as tables.

use std::collections::BTreeMap;

use serde_json::{Value, json};
use truepath_core::adapter::{ARRANGEMENTS, Adapter, AdapterKind, KINDS, Native, PERS, is_accepted};
use truepath_core::catalogue::{self, Bits, Channels, Choice};
use truepath_core::sheet::setting::{Carrier, KEYS, Key};
use truepath_core::sheet::{FileOption, OF_MOVIES, OF_PICTURES};
use truepath_exec::record::answer::NoProgram;

use super::KnownAdapters;
use crate::lower::Around;
use crate::pipeline::programs::program as find;
use crate::show::{self, BAD, GOOD, HEAD, QUIET, paint, state};

fn kind(adapter: &Adapter) -> &'static str {
    KINDS.iter().find(|(_, kind)| *kind == adapter.kind).map_or("", |(name, _)| name)
}

/// Where the program is, or its name where it is nowhere.
fn program(adapter: &Adapter, shelf: &KnownAdapters, around: &Around) -> Result<String, NoProgram> {
    let known = BTreeMap::new();
    let places = around.places(&shelf.folder, &known);
    find(adapter, &places).map(|path| path.display().to_string())
}

/// All adapters, a line each.
pub fn list(shelf: &KnownAdapters, around: &Around) -> String {
    let widest = shelf.adapters.keys().map(String::len).max().unwrap_or(0);
    let line = |(name, adapter): (&String, &Adapter)| {
        let program = match program(adapter, shelf, around) {
            Ok(path) => path,
            Err(missing) => state(around.out, BAD, missing),
        };
        let origin = &shelf.sources.get(adapter.file).name;
        let origin = if origin.starts_with("the adapter ") { "built in" } else { origin };
        format!("{}  {:8}  {origin}  {program}\n", paint(around.out, HEAD, format!("{name:widest$}")), kind(adapter))
    };
    shelf.adapters.iter().map(line).collect()
}

/// The same as one document.
pub fn list_json(shelf: &KnownAdapters, around: &Around) -> String {
    let one = |(name, adapter): (&String, &Adapter)| {
        json!({ "name": name, "kind": kind(adapter), "program": program(adapter, shelf, around).ok(),
            "from": shelf.sources.get(adapter.file).name })
    };
    show::json::text(&json!({ "truepath": 1, "adapters": shelf.adapters.iter().map(one).collect::<Vec<_>>() }))
}

/// Settings that a program of this kind may be given at all.
fn settings(adapter: &Adapter) -> Vec<(&'static str, &'static Key)> {
    let own = |key: &Key| matches!(key.row().carrier, Carrier::Own | Carrier::Parts | Carrier::Movies);
    let keys = KEYS.iter().filter(|(_, key)| adapter.kind != AdapterKind::Encoder && !own(key));
    keys.map(|(name, key)| (*name, key)).collect()
}

/// The file options that a program of this kind may be given.
fn options(adapter: &Adapter) -> &'static [FileOption] {
    match adapter.kind {
        AdapterKind::Renderer => &OF_PICTURES,
        AdapterKind::Encoder => &OF_MOVIES,
        AdapterKind::Exporter => &[],
    }
}

/// Each claim of an adapter: what it is about, what it holds, what it does not.
struct AdapterRow {
    about: &'static str,
    yes: Vec<String>,
    no: Vec<String>,
}

fn rows(adapter: &Adapter) -> Vec<AdapterRow> {
    let split = |about, all: Vec<(String, bool)>| {
        let (yes, no): (Vec<_>, Vec<_>) = all.into_iter().partition(|(_, yes)| *yes);
        let names = |list: Vec<(String, bool)>| list.into_iter().map(|(name, _)| name).collect();
        AdapterRow { about, yes: names(yes), no: names(no) }
    };
    let accepts = |list: &[String], all: Vec<&str>| {
        all.into_iter().map(|name| (name.to_owned(), is_accepted(list, name))).collect::<Vec<_>>()
    };
    let names = |bits: &[(&'static str, bool)]| bits.iter().map(|(name, yes)| ((*name).to_owned(), *yes)).collect();
    let list = &adapter.accepts;
    let renderer = adapter.kind == AdapterKind::Renderer;
    let mut rows = Vec::new();
    if adapter.kind != AdapterKind::Encoder {
        let keys = settings(adapter).into_iter().map(|(name, key)| (name.to_owned(), adapter.carries(key)));
        rows.push(split("settings", keys.collect()));
        rows.push(split("also", also(adapter)));
    }
    let carried = options(adapter).iter().map(|option| (option.name().to_owned(), adapter.carries_option(*option)));
    rows.push(split("file options", carried.collect()));
    if renderer {
        rows.push(split("frames", names(&PERS.map(|(name, per)| (name, adapter.per == per)))));
        rows.push(split("passes", names(&ARRANGEMENTS.map(|(name, way)| (name, adapter.can(way))))));
        rows.push(split(
            "types",
            accepts(list.of(FileOption::Type), catalogue::PICTURES.iter().map(|known| known.name).collect()),
        ));
        // Of what its types can hold at all, and only where the program can be told.
        let types: Vec<_> =
            catalogue::PICTURES.iter().filter(|known| list.takes(FileOption::Type, known.name)).collect();
        let bits = Bits::ALL.iter().filter(|bits| types.iter().any(|known| known.bits.contains(bits)));
        let channels = Channels::ALL.iter().filter(|layout| types.iter().any(|known| known.channels.contains(layout)));
        if adapter.uses("bits") {
            rows.push(split("bits", accepts(list.of(FileOption::Bits), bits.map(|own| own.word()).collect())));
        }
        if adapter.uses("channels") {
            rows.push(split(
                "channels",
                accepts(list.of(FileOption::Channels), channels.map(|own| own.word()).collect()),
            ));
        }
    }
    if adapter.kind == AdapterKind::Encoder {
        rows.push(split(
            "types",
            accepts(list.of(FileOption::Type), catalogue::CONTAINERS.iter().map(|known| known.name).collect()),
        ));
        rows.push(split("codecs", accepts(list.of(FileOption::Codec), FileOption::Codec.words())));
        rows.push(split("audio codecs", accepts(list.of(FileOption::AudioCodec), FileOption::AudioCodec.words())));
    }
    rows.retain(|row| !row.yes.is_empty() || !row.no.is_empty());
    rows
}

/// What beside settings an adapter passes on or asks.
fn also(adapter: &Adapter) -> Vec<(String, bool)> {
    vec![
        ("variables".to_owned(), !adapter.variable.is_empty()),
        (
            "native settings".to_owned(),
            !adapter.native.is_empty()
                || !adapter.natives.is_empty()
                || adapter.templates().any(|t| t.value.tokens().any(|token| token.name.starts_with("native."))),
        ),
        ("facts of a scene".to_owned(), !adapter.facts.is_empty()),
    ]
}

/// Show which settings an adapter passes on, and what it accepts.
pub fn show(adapter: &Adapter, shelf: &KnownAdapters, around: &Around) -> String {
    let screen = around.out;
    let program = match program(adapter, shelf, around) {
        Ok(path) => path,
        Err(missing) => state(screen, BAD, missing),
    };
    let mut out = format!("{} ({}): {program}\n\n", paint(screen, HEAD, &adapter.name), kind(adapter));
    let column = ((screen.width.max(60) - 16) / 2).min(70);
    out.push_str(&format!(
        "{}\n",
        paint(screen, HEAD, format!("{:14}{:column$}{}", "", "carries or accepts", "does not"))
    ));
    for row in rows(adapter) {
        let (yes, no) = (wrapped(&row.yes.join(" "), column - 2), wrapped(&row.no.join(" "), column - 2));
        for at in 0..yes.len().max(no.len()).max(1) {
            let head = if at == 0 { row.about } else { "" };
            let text = |list: &[String]| list.get(at).cloned().unwrap_or_default();
            let line = format!(
                "{head:14}{}{}",
                paint(screen, GOOD, format!("{:column$}", text(&yes))),
                paint(screen, QUIET, text(&no))
            );
            out.push_str(&format!("{}\n", line.trim_end()));
        }
    }
    if !adapter.accepts.scenes.is_empty() {
        out.push_str(&format!("{:14}{}\n", "scenes", adapter.accepts.scenes.join(" ")));
    }
    for (at, (name, native)) in adapter.natives.iter().enumerate() {
        let values =
            if native.values.is_empty() { native.kind.described().to_owned() } else { native.values.join(" | ") };
        let default = native.default.as_ref().map(|value| format!(", {value} by default")).unwrap_or_default();
        let help = native.help.as_ref().map(|help| format!("  {}", paint(screen, QUIET, help))).unwrap_or_default();
        let head = if at == 0 { "native" } else { "" };
        out.push_str(&format!("{head:14}{name}: {values}{default}{help}\n"));
    }
    if !adapter.below.is_empty() {
        let below: Vec<&str> = adapter.below.iter().rev().map(String::as_str).collect();
        out.push_str(&format!("{:14}{}\n", "like", below.join(", then ")));
    }
    if !adapter.variants.is_empty() && !adapter.name.contains('@') {
        let names: Vec<String> = adapter.variants.iter().map(|own| format!("{}@{}", adapter.name, own.name)).collect();
        out.push_str(&format!("{:14}{}\n", "variants", names.join(" ")));
    }
    out.push_str(&format!("\nTest these claims: truepath adapter prove {}\n", adapter.name));
    out
}

/// A native setting as JSON.
fn native((name, native): (&String, &Native)) -> (String, Value) {
    let about =
        json!({ "kind": native.kind.name(), "values": native.values, "default": native.default, "help": native.help });
    (name.clone(), about)
}

/// The same as one document.
pub fn show_json(adapter: &Adapter) -> String {
    let rows: serde_json::Map<String, Value> = rows(adapter)
        .into_iter()
        .map(|row| (row.about.replace(' ', "_"), json!({ "yes": row.yes, "no": row.no })))
        .collect();
    show::json::text(&json!({
        "truepath": 1, "name": adapter.name, "kind": kind(adapter), "claims": rows, "scenes": adapter.accepts.scenes,
        "natives": adapter.natives.iter().map(native).collect::<serde_json::Map<_, _>>(), "like": adapter.below,
        "variants": adapter.variants.iter().map(|own| &own.name).collect::<Vec<_>>(),
    }))
}

/// Words in lines of at most `width` characters.
fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in text.split_whitespace() {
        match lines.last_mut() {
            Some(line) if line.len() + 1 + word.len() <= width => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}
