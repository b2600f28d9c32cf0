//! Adapter text to an [`Adapter`].

use std::sync::Arc;

use toml::de::DeTable;

use crate::diagnostic::Findings;
use crate::sheet::parse::toml_table;
use crate::sheet::read::{Raw, Reader, integer};
use crate::source::FileId;
use crate::template::Template;

use super::{Adapter, Argument, Arrangement, Per};

/// The keys of an adapter.
const KEYS: &[&str] = &[
    "adapter",
    "name",
    "kind",
    "program",
    "version",
    "arguments",
    "variable",
    "frames",
    "passes",
    "out",
    "accepts",
    "log",
    "exit",
    "facts",
];

/// Reads an adapter; mistakes are findings.
pub fn adapter(file: FileId, text: &str, findings: &mut Findings) -> Adapter {
    let table = toml_table(file, text, findings);
    let mut reader = Reader { file, text, findings };
    let mut adapter = Adapter { ok: vec![0], ..Adapter::default() };
    for (key, raw) in &table {
        match key.get_ref().as_ref() {
            "adapter" => drop(reader.whole(raw, "adapter", 1)),
            "kind" => drop(reader.choice(raw, "kind", &[("renderer", ())])),
            "name" => adapter.name = plain(&mut reader, raw, "name"),
            "program" => adapter.program = plain(&mut reader, raw, "program"),
            "version" => adapter.version = plains(&mut reader, raw, "version"),
            "arguments" => adapter.arguments = arguments(&mut reader, raw),
            "variable" => adapter.variable = templates(&mut reader, raw, "variable"),
            "frames" | "passes" | "out" | "accepts" | "log" | "exit" | "facts" => {
                section(&mut reader, key.get_ref(), raw, &mut adapter)
            }
            _ => reader.unknown(key, "an adapter", KEYS),
        }
    }
    adapter
}

fn section(reader: &mut Reader<'_>, name: &str, raw: &Raw<'_>, adapter: &mut Adapter) {
    let Some(table) = reader.table(raw, name) else { return };
    let get = |key: &str| entry(table, key);
    let text = |reader: &mut Reader<'_>, key: &str| get(key).map(|raw| plain(reader, raw, key));
    match name {
        "frames" => {
            if let Some(per) = get("per").and_then(|raw| reader.choice(raw, "per", &[("list", Per::List)])) {
                adapter.per = per.value;
            }
        }
        "passes" => {
            let ways = [("pass", Arrangement::Pass), ("call", Arrangement::Call), ("file", Arrangement::File)];
            let list = get("can");
            let list = list.and_then(|raw| raw.get_ref().as_array()).into_iter().flatten();
            adapter.can = list.filter_map(|raw| reader.choice(raw, "can", &ways)).map(|way| way.value).collect();
        }
        "facts" => adapter.facts = get("arguments").map(|raw| templates(reader, raw, "arguments")).unwrap_or_default(),
        "out" => adapter.number = text(reader, "number").unwrap_or_default(),
        "accepts" => {
            adapter.scenes = get("scenes").map(|raw| plains(reader, raw, "scenes")).unwrap_or_default();
            adapter.types = get("types").map(|raw| plains(reader, raw, "types")).unwrap_or_default();
        }
        "log" => {
            adapter.log.wrote = text(reader, "wrote");
            adapter.log.problem = text(reader, "problem");
            adapter.log.progress = text(reader, "progress");
        }
        "exit" => {
            let list = get("ok");
            let codes =
                list.and_then(|raw| raw.get_ref().as_array()).map(|list| list.iter().filter_map(integer).collect());
            adapter.ok = codes.unwrap_or_else(|| vec![0]);
        }
        _ => {}
    }
}

fn entry<'t, 'i>(table: &'t DeTable<'i>, key: &str) -> Option<&'t Raw<'i>> {
    table.iter().find(|(name, _)| name.get_ref() == key).map(|(_, raw)| raw)
}

fn plain(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str) -> String {
    reader.text(raw, key).map(|text| text.value).unwrap_or_default()
}

fn plains(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str) -> Vec<String> {
    reader.texts(raw, key).unwrap_or_default().into_iter().map(|text| text.value).collect()
}

fn templates(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str) -> Vec<Template> {
    let list = raw.get_ref().as_array().into_iter().flatten();
    list.filter_map(|raw| reader.template(raw, key)).map(|template| Arc::unwrap_or_clone(template.value)).collect()
}

fn arguments(reader: &mut Reader<'_>, raw: &Raw<'_>) -> Vec<Argument> {
    let mut arguments = Vec::new();
    for raw in raw.get_ref().as_array().into_iter().flatten() {
        if raw.get_ref().is_array() {
            arguments.push(Argument::Group(templates(reader, raw, "arguments")));
        } else {
            arguments.extend(
                reader
                    .template(raw, "arguments")
                    .map(|template| Argument::Always(Arc::unwrap_or_clone(template.value))),
            );
        }
    }
    arguments
}
