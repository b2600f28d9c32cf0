//! Plain values of an adapter.

use std::sync::Arc;

use regex_lite::Regex;

use crate::adapter::exit::Crash;
use crate::adapter::{Argument, NumberStyle, unsaved};
use crate::sheet::read::{Raw, Reader};
use crate::source::Spanned;
use crate::template::Template;

pub(super) fn number(reader: &mut Reader<'_>, raw: &Raw<'_>) -> Option<NumberStyle> {
    let ways = [
        ("#", NumberStyle::Repeat('#')),
        ("@", NumberStyle::Repeat('@')),
        ("%d", NumberStyle::Printf),
        ("none", NumberStyle::None),
    ];
    reader.choice(raw, "number", &ways).map(|way| way.value)
}

pub(super) fn commands(reader: &mut Reader<'_>, raw: &Raw<'_>, _: &str) -> Vec<Vec<String>> {
    let Some(list) = raw.get_ref().as_array() else {
        reader.wrong_kind(raw, "run", "a list of commands, each a list of words");
        return Vec::new();
    };
    list.iter().map(|raw| plains(reader, raw, "run")).filter(|words| !words.is_empty()).collect()
}

/// A regular expression with the group that is read from it.
pub(super) fn pattern(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str, group: Option<&str>) -> Option<String> {
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

pub(super) fn any_text(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str) -> String {
    match raw.get_ref().as_str() {
        Some(text) => text.to_owned(),
        None => {
            reader.wrong_kind(raw, key, "text in quotes");
            String::new()
        }
    }
}

pub(super) fn plain(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str) -> String {
    reader.text(raw, key).map(|text| text.value).unwrap_or_default()
}

pub(super) fn plains(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str) -> Vec<String> {
    reader.texts(raw, key).unwrap_or_default().into_iter().map(|text| text.value).collect()
}

/// Exit codes and signals: `[0, "SEGV"]`.
pub(super) fn ends(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str) -> (Vec<i64>, Vec<Crash>) {
    let wanted = "a list of exit codes and signals, such as [0, \"SEGV\"]";
    let Some(list) = raw.get_ref().as_array() else {
        reader.wrong_kind(raw, key, wanted);
        return (vec![0], Vec::new());
    };
    let (mut codes, mut crashes) = (Vec::new(), Vec::new());
    for raw in list {
        let Some(name) = raw.get_ref().as_str() else {
            codes.extend(reader.whole(raw, key, i64::MIN).map(|code| code.value));
            continue;
        };
        match Crash::by_name(name) {
            Some(crash) => crashes.push(crash),
            None => {
                let known: Vec<&str> = Crash::names().collect();
                let wanted = format!("an exit code or one of {}", known.join(", "));
                let why = "a program that is ended by another signal, such as KILL or TERM, was stopped by others";
                reader.bad(reader.at(raw), key, &wanted, why);
            }
        }
    }
    (if codes.is_empty() { vec![0] } else { codes }, crashes)
}

pub(super) fn one(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str) -> Option<Spanned<Template>> {
    reader.template(raw, key).map(|template| Spanned::new(Arc::unwrap_or_clone(template.value), template.at))
}

pub(super) fn templates(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str) -> Vec<Spanned<Template>> {
    let Some(list) = raw.get_ref().as_array() else {
        reader.wrong_kind(raw, key, "a list of texts");
        return Vec::new();
    };
    list.iter().filter_map(|raw| one(reader, raw, key)).collect()
}

/// Arguments, inner lists included.
pub(super) fn arguments(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str) -> Vec<Argument> {
    let Some(list) = raw.get_ref().as_array() else {
        reader.wrong_kind(raw, key, "a list of texts and of lists of texts");
        return Vec::new();
    };
    let argument = |raw: &Raw<'_>| match raw.get_ref().is_array() {
        true => Some(Argument::Group(arguments(reader, raw, key))),
        false => one(reader, raw, key).map(Argument::Always),
    };
    list.iter().filter_map(argument).collect()
}

/// A list that replaces another, or a table of what is put before and after that.
pub(super) fn listed<T: Clone>(
    reader: &mut Reader<'_>,
    raw: &Raw<'_>,
    key: &str,
    below: &[T],
    read: impl Fn(&mut Reader<'_>, &Raw<'_>, &str) -> Vec<T>,
) -> Vec<T> {
    let Some(table) = raw.get_ref().as_table() else { return read(reader, raw, key) };
    let (mut before, mut after) = (Vec::new(), Vec::new());
    for (written, raw) in table {
        match written.get_ref().as_ref() {
            "before" => before = read(reader, raw, key),
            "after" => after = read(reader, raw, key),
            _ => reader.unknown(written, key, &["before", "after"]),
        }
    }
    [before, below.to_vec(), after].concat()
}

/// Names of unsaved copies of scenes.
pub(super) fn unsaved_names(reader: &mut Reader<'_>, raw: &Raw<'_>, key: &str) -> Vec<String> {
    let names = plains(reader, raw, key);
    if !names.iter().all(|name| unsaved::is_pattern(name)) {
        let wanted = format!("a list of file names with {}, without folders", unsaved::TOKENS.join(", "));
        reader.wrong_kind(raw, key, &wanted);
    }
    names
}
