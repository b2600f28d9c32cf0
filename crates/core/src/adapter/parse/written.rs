//! `[write.NAME]`: the text of a file, line by line.

use std::collections::BTreeMap;

use crate::adapter::{FileLine, LANGUAGES, Language, OVERS, WrittenFile};
use crate::diagnostic::{Slug, Words};
use crate::sheet::read::{Raw, Reader};
use crate::source::{Place, Spanned};
use crate::template::{Template, TemplateError};

use super::keys::WRITE;
use super::values::one;

/// Files by name.
pub(super) fn files(reader: &mut Reader<'_>, raw: &Raw<'_>, all: &mut BTreeMap<String, WrittenFile>) {
    for (name, raw) in reader.table(raw, "write").into_iter().flatten() {
        let Some(table) = reader.table(raw, name.get_ref()) else { continue };
        let file = all.entry(name.get_ref().to_string()).or_default();
        for (key, raw) in table {
            match key.get_ref().as_ref() {
                "file" => {
                    file.file = one(reader, raw, "file");
                    let folders = |name: &Spanned<Template>| name.value.to_string().contains(['/', '\\']);
                    if file.file.as_ref().is_some_and(folders) {
                        reader.bad(reader.at(raw), "file", "a name without folders", "it has a folder in it");
                    }
                }
                "text" => file.lines = text(reader, raw),
                "quote" => {
                    let language = reader.choice(raw, "quote", &LANGUAGES);
                    file.language = language.map_or(Language::None, |language| language.value);
                }
                _ => reader.unknown(key, "a written file", &WRITE.map(|(name, _)| name)),
            }
        }
        for (key, lacks) in [("file", file.file.is_none()), ("text", file.lines.is_empty())] {
            if lacks && !table.iter().any(|(written, _)| written.get_ref() == key) {
                let words = Words::new(format!("`{key}` is missing in the file `{}`", name.get_ref()), "this file");
                let at = Place::new(reader.file, name.span());
                reader.findings.add(Slug::KeyMissing, Some(at), None, words.help(format!("write {key} = \"...\"")));
            }
        }
    }
}

fn text(reader: &mut Reader<'_>, raw: &Raw<'_>) -> Vec<FileLine> {
    let Some(text) = reader.text(raw, "text").and_then(|_| raw.get_ref().as_str()) else { return Vec::new() };
    let whole = Place::new(reader.file, raw.span());
    // Where the text stands in the sheet just as it is, each line of it has a place of its own.
    let start = reader.text.get(raw.span()).and_then(|written| written.find(text)).map(|at| raw.span().start + at);
    // What is open: the lines so far, and the block that they belong to.
    let mut open: Vec<(Option<FileLine>, Vec<FileLine>)> = vec![(None, Vec::new())];
    let mut offset = 0;
    for line in text.split_inclusive('\n') {
        let place = |range: std::ops::Range<usize>| match start {
            Some(start) => Place::new(reader.file, start + offset + range.start..start + offset + range.end),
            None => whole,
        };
        let at = place(0..line.trim_end_matches(['\n', '\r']).len());
        let trimmed = line.trim();
        let words = trimmed.strip_prefix("@each ").map(str::trim);
        if let Some(words) = words {
            let (name, join) = words.split_once(char::is_whitespace).unwrap_or((words, ""));
            let over = OVERS.iter().find(|(known, _)| *known == name).map(|(_, over)| *over);
            if over.is_none() {
                let names = OVERS.map(|(name, _)| name).join(", ");
                reader.bad(at, "@each", &format!("one of {names}"), "this is not one of these");
            }
            let over = over.unwrap_or(crate::adapter::RepeatOver::Pass);
            open.push((Some(FileLine::Each { over, join: join.trim().to_owned(), lines: Vec::new() }), Vec::new()));
        } else if trimmed == "@end" {
            match open.pop() {
                Some((Some(FileLine::Each { over, join, .. }), lines)) => {
                    if let Some((_, outer)) = open.last_mut() {
                        outer.push(FileLine::Each { over, join, lines });
                    }
                }
                other => {
                    open.extend(other);
                    reader.bad(at, "@end", "after a line with @each", "this line has no @each before it");
                }
            }
        } else {
            let indent = line.len() - line.trim_start().len();
            let is_optional = line[indent..].starts_with("? ") || line[indent..].trim_end() == "?";
            // `?` and the blank after it go; what was written before them stays.
            let (head, rest) = line.split_at(indent);
            let body =
                rest.strip_prefix('?').filter(|_| is_optional).map(|body| body.strip_prefix(' ').unwrap_or(body));
            let body = body.unwrap_or(rest);
            match Template::parse(&format!("{head}{body}")) {
                Ok(template) => {
                    if let Some((_, lines)) = open.last_mut() {
                        lines.push(FileLine::Text { template: Spanned::new(template, at), is_optional });
                    }
                }
                Err(TemplateError { message, help, range }) => {
                    let gone = rest.len() - body.len();
                    let at = place(gone + range.start..gone + range.end);
                    reader.findings.add(
                        Slug::TemplateNotUnderstood,
                        Some(at),
                        None,
                        Words::new(message, "here").help(help),
                    );
                }
            }
        }
        offset += line.len();
    }
    while open.len() > 1 {
        reader.bad(whole, "text", "a text with an @end for every @each", "an @each has no @end");
        if let (Some((Some(FileLine::Each { over, join, .. }), lines)), Some((_, outer))) =
            (open.pop(), open.last_mut())
        {
            outer.push(FileLine::Each { over, join, lines });
        }
    }
    open.pop().map(|(_, lines)| lines).unwrap_or_default()
}
