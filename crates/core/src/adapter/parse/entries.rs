//! The tables of an adapter: the program by system, its words, its environment, conditions and native settings.

use crate::template::token::PathToken;
use std::collections::BTreeMap;

use crate::adapter::{Condition, NATIVE_KINDS, Native, NativeKind, Program, Word};
use crate::sheet::SYSTEMS;
use crate::sheet::read::{Raw, Reader, scalar};
use crate::source::Spanned;
use crate::template::{Template, token};

use super::keys::{CONDITION, NATIVE};
use super::values::{arguments, listed, one, plain, plains, templates};

pub(super) fn program(reader: &mut Reader<'_>, raw: &Raw<'_>) -> Program {
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

/// The program's own words, by token: of one, or of several joined with `+`.
pub(super) fn words(reader: &mut Reader<'_>, raw: &Raw<'_>, all: &mut BTreeMap<String, BTreeMap<String, Word>>) {
    for (key, raw) in reader.table(raw, "words").into_iter().flatten() {
        let name = key.get_ref().as_ref();
        if !name.split('+').all(token::is_built_in) {
            let known: Vec<&str> = PathToken::names().collect();
            reader.unknown(key, "[words]", &known);
            continue;
        }
        let entries = reader.table(raw, name).into_iter().flatten();
        let own = all.entry(name.to_owned()).or_default();
        for (value, raw) in entries {
            let list = raw.get_ref().is_array().then(|| Word::Arguments(arguments(reader, raw, "words")));
            match list.or_else(|| scalar(raw).map(Word::Text)) {
                Some(word) => drop(own.insert(value.get_ref().to_string(), word)),
                None => reader.wrong_kind(raw, value.get_ref(), "the program's word: text or a number"),
            }
        }
    }
}

/// The environment: a name that is already there gets another value.
pub(super) fn env(reader: &mut Reader<'_>, raw: &Raw<'_>, all: &mut Vec<(String, Spanned<Template>)>) {
    for (name, raw) in reader.table(raw, "env").into_iter().flatten() {
        let Some(value) = one(reader, raw, "env") else { continue };
        all.retain(|(other, _)| other != name.get_ref());
        all.push((name.get_ref().to_string(), value));
    }
}

/// Conditions by name.
pub(super) fn conditions(reader: &mut Reader<'_>, raw: &Raw<'_>, all: &mut BTreeMap<String, Condition>) {
    for (name, raw) in reader.table(raw, "when").into_iter().flatten() {
        let Some(table) = reader.table(raw, name.get_ref()) else { continue };
        let mut condition = Condition::default();
        for (key, raw) in table {
            let written = key.get_ref().as_ref();
            match written {
                "system" => {
                    let names = SYSTEMS.map(|(name, _)| (name, name));
                    let systems = one_or_more(raw).into_iter().filter_map(|raw| reader.choice(raw, written, &names));
                    condition.systems = systems.map(|system| system.value.to_owned()).collect();
                }
                "given" => condition.given = plains(reader, raw, written),
                "absent" => condition.absent = plains(reader, raw, written),
                token if is_token(token) => {
                    let list = one_or_more(raw);
                    let values: Vec<String> = list.iter().filter_map(|raw| scalar(raw)).collect();
                    if values.len() < list.len() {
                        reader.wrong_kind(raw, token, "a value, or a list of values");
                    }
                    condition.values.push((token.to_owned(), values));
                }
                _ => {
                    let known: Vec<&str> = CONDITION.iter().map(|(name, _)| *name).chain(known_tokens()).collect();
                    reader.unknown(key, "a condition", &known);
                }
            }
        }
        let unknown = condition.tokens().find(|token| !is_token(token)).map(str::to_owned);
        if let Some(token) = unknown {
            reader.bad(
                reader.at(raw),
                name.get_ref(),
                "a condition on tokens",
                &format!("there is no token `{token}`"),
            );
        }
        all.insert(name.get_ref().to_string(), condition);
    }
}

/// The values of a list, or the one that is given without a list.
fn one_or_more<'r, 't>(raw: &'r Raw<'t>) -> Vec<&'r Raw<'t>> {
    raw.get_ref().as_array().map_or_else(|| vec![raw], |list| list.iter().collect())
}

fn known_tokens() -> impl Iterator<Item = &'static str> {
    token::names()
}

/// Whether a condition can ask for a token.
fn is_token(name: &str) -> bool {
    let of_table = ["native.", "var.", "root."].iter().any(|table| name.starts_with(table));
    of_table || token::is_built_in(name)
}

/// Native settings by name.
pub(super) fn natives(reader: &mut Reader<'_>, raw: &Raw<'_>, all: &mut BTreeMap<String, Native>) {
    for (name, raw) in reader.table(raw, "natives").into_iter().flatten() {
        let Some(table) = reader.table(raw, name.get_ref()) else { continue };
        let native = all.entry(name.get_ref().to_string()).or_default();
        let mut default = None;
        for (key, raw) in table {
            match key.get_ref().as_ref() {
                "kind" => {
                    native.kind = reader.choice(raw, "kind", &NATIVE_KINDS).map_or(NativeKind::Text, |kind| kind.value);
                }
                "values" => {
                    let list = raw.get_ref().as_array();
                    if list.is_none() {
                        reader.wrong_kind(raw, "values", "a list of values");
                    }
                    for raw in list.into_iter().flatten().filter(|raw| scalar(raw).is_none()) {
                        reader.wrong_kind(raw, "values", "text, a number, true or false");
                    }
                    native.values = list.into_iter().flatten().filter_map(scalar).collect();
                }
                "default" => {
                    native.default = scalar(raw);
                    default = Some(raw);
                    if native.default.is_none() {
                        reader.wrong_kind(raw, "default", "text, a number, true or false");
                    }
                }
                "help" => native.help = Some(plain(reader, raw, "help")),
                "arguments" => {
                    native.arguments = listed(reader, raw, "arguments", &native.arguments, templates);
                }
                _ => reader.unknown(key, "a native setting", &NATIVE.map(|(name, _)| name)),
            }
        }
        if let (Some(value), Some(raw)) = (&native.default, default)
            && !native.takes(value)
        {
            reader.bad(reader.at(raw), "default", "one of its own values", "this is not one of these");
        }
    }
}
