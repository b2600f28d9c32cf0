//! `[write.NAME]`: the text of a file, line by line.

use std::ops::Range;

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
    let mut open = OpenLines(vec![(None, Vec::new())]);
    let mut offset = 0;
    for line in text.split_inclusive('\n') {
        let file = reader.file;
        let place = |range: Range<usize>| match start {
            Some(start) => Place::new(file, start + offset + range.start..start + offset + range.end),
            None => whole,
        };
        let at = place(0..line.trim_end_matches(['\n', '\r']).len());
        let trimmed = line.trim();
        if let Some(words) = trimmed.strip_prefix("@each ").map(str::trim) {
            open.each(reader, at, words);
        } else if trimmed == "@end" {
            if !open.close() {
                reader.bad(at, "@end", "after a line with @each", "this line has no @each before it");
            }
        } else {
            open.line(reader, line, &place);
        }
        offset += line.len();
    }
    while open.0.len() > 1 {
        reader.bad(whole, "text", "a text with an @end for every @each", "an @each has no @end");
        open.close();
    }
    open.0.pop().map(|(_, lines)| lines).unwrap_or_default()
}

/// What is open: the lines so far, and the block that they belong to.
struct OpenLines(Vec<(Option<FileLine>, Vec<FileLine>)>);

impl OpenLines {
    /// Begins a block.
    fn each(&mut self, reader: &mut Reader<'_>, at: Place, words: &str) {
        let (name, join) = words.split_once(char::is_whitespace).unwrap_or((words, ""));
        let over = OVERS.iter().find(|(known, _)| *known == name).map(|(_, over)| *over);
        if over.is_none() {
            let names = OVERS.map(|(name, _)| name).join(", ");
            reader.bad(at, "@each", &format!("one of {names}"), "this is not one of these");
        }
        let over = over.unwrap_or(crate::adapter::RepeatOver::Pass);
        self.0.push((Some(FileLine::Each { over, join: join.trim().to_owned(), lines: Vec::new() }), Vec::new()));
    }

    /// Ends a block, where one is open.
    fn close(&mut self) -> bool {
        match self.0.pop() {
            Some((Some(FileLine::Each { over, join, .. }), lines)) => {
                if let Some((_, outer)) = self.0.last_mut() {
                    outer.push(FileLine::Each { over, join, lines });
                }
                true
            }
            other => {
                self.0.extend(other);
                false
            }
        }
    }

    /// Adds a line; `place` gives the place of a part of it.
    fn line(&mut self, reader: &mut Reader<'_>, line: &str, place: &dyn Fn(Range<usize>) -> Place) {
        let at = place(0..line.trim_end_matches(['\n', '\r']).len());
        let indent = line.len() - line.trim_start().len();
        let is_optional = line[indent..].starts_with("? ") || line[indent..].trim_end() == "?";
        // `?` and the blank after it go; what was written before them stays.
        let (head, rest) = line.split_at(indent);
        let body = rest.strip_prefix('?').filter(|_| is_optional).map(|body| body.strip_prefix(' ').unwrap_or(body));
        let body = body.unwrap_or(rest);
        match Template::parse(&format!("{head}{body}")) {
            Ok(template) => {
                if let Some((_, lines)) = self.0.last_mut() {
                    lines.push(FileLine::Text { template: Spanned::new(template, at), is_optional });
                }
            }
            Err(TemplateError { message, help, range }) => {
                let gone = rest.len() - body.len();
                let at = place(gone + range.start..gone + range.end);
                let words = Words::new(message, "here").help(help);
                reader.findings.add(Slug::TemplateNotUnderstood, Some(at), None, words);
            }
        }
    }
}
