//! TOML values to plain ones, with findings that name the place, the kind that stands there and the kind that belongs there.

use std::borrow::Cow;
use std::collections::BTreeSet;
use std::sync::Arc;

use toml::Spanned as TomlSpanned;
use toml::de::{DeTable, DeValue};

use crate::diagnostic::{Findings, Words, nearest};
use crate::source::{FileId, Place, Spanned};
use crate::template::{Template, TemplateError};

/// A TOML value with its byte range.
pub type Raw<'i> = TomlSpanned<DeValue<'i>>;

/// A key of a table, and its value.
pub type Entry<'t, 'i> = (&'t TomlSpanned<Cow<'i, str>>, &'t Raw<'i>);

/// Renderers at a time on one machine at most: each takes a thread, a pipe and a folder of its own.
pub const MOST_WORKERS: i64 = 1024;

/// Reads values of one text and collects what is wrong with them.
pub struct Reader<'r> {
    /// The text's number.
    pub file: FileId,
    /// The text.
    pub text: &'r str,
    /// Where findings go.
    pub findings: &'r mut Findings,
}

impl Reader<'_> {
    /// The place of a value; of plain strings what is between the quotes, so that a part of it can be pointed at.
    pub fn at(&self, raw: &Raw<'_>) -> Place {
        let range = raw.span();
        if let Some(text) = raw.get_ref().as_str() {
            let between = range.start + 1..range.end.saturating_sub(1);
            if self.text.get(between.clone()) == Some(text) {
                return Place::new(self.file, between);
            }
        }
        Place::new(self.file, range)
    }

    /// A value that is not of the kind it has to be.
    pub fn bad(&mut self, at: Place, key: &str, wanted: &str, got: &str) {
        let words = Words::new(format!("`{key}` must be {wanted}"), got.to_owned());
        self.findings.add("value-not-understood", Some(at), None, words);
    }

    /// A value of the wrong TOML kind.
    pub fn wrong_kind(&mut self, raw: &Raw<'_>, key: &str, wanted: &str) {
        let got = match raw.get_ref() {
            DeValue::String(_) => "this is text",
            DeValue::Integer(_) => "this is a whole number",
            DeValue::Float(_) => "this is a decimal number",
            DeValue::Boolean(_) => "this is true or false",
            DeValue::Datetime(_) => "this is a date",
            DeValue::Array(_) => "this is a list",
            DeValue::Table(_) => "this is a table",
        };
        let at = Place::new(self.file, raw.span());
        self.bad(at, key, wanted, got);
    }

    /// Text that is not empty.
    pub fn text(&mut self, raw: &Raw<'_>, key: &str) -> Option<Spanned<String>> {
        let at = self.at(raw);
        match raw.get_ref().as_str() {
            Some("") => {
                self.bad(Place::new(self.file, raw.span()), key, "text that is not empty", "this text is empty");
                None
            }
            Some(text) => Some(Spanned::new(text.to_owned(), at)),
            None => {
                self.wrong_kind(raw, key, "text in quotes");
                None
            }
        }
    }

    /// Text that is one of a list of names.
    pub fn choice<T: Copy>(&mut self, raw: &Raw<'_>, key: &str, list: &[(&str, T)]) -> Option<Spanned<T>> {
        let names: Vec<&str> = list.iter().map(|(name, _)| *name).collect();
        let chosen = self.chosen(raw, key, &names)?;
        Some(Spanned::new(list[chosen.value].1, chosen.at))
    }

    /// Which of some names a text is.
    fn chosen(&mut self, raw: &Raw<'_>, key: &str, names: &[&str]) -> Option<Spanned<usize>> {
        let Some(written) = scalar(raw) else {
            self.wrong_kind(raw, key, &format!("one of {}", names.join(", ")));
            return None;
        };
        let at = self.at(raw);
        if let Some(chosen) = names.iter().position(|name| *name == written) {
            return Some(Spanned::new(chosen, at));
        }
        let mut words = Words::new(format!("`{key}` must be one of {}", names.join(", ")), "this is not one of these");
        if let Some(near) = nearest(&written, names.iter().copied()) {
            words = words.help(format!("write {near}"));
            if raw.get_ref().is_str() {
                words = words.fix(at, near);
            }
        }
        self.findings.add("value-not-understood", Some(at), None, words);
        None
    }

    /// How many renderers run at a time.
    pub fn workers(&mut self, raw: &Raw<'_>, key: &str) -> Option<i64> {
        let number = self.whole(raw, key, 1)?;
        if number.value > MOST_WORKERS {
            self.bad(number.at, key, &format!("a whole number from 1 to {MOST_WORKERS}"), "this is too large");
            return None;
        }
        Some(number.value)
    }

    /// A whole number of at least `least`.
    pub fn whole(&mut self, raw: &Raw<'_>, key: &str, least: i64) -> Option<Spanned<i64>> {
        let at = self.at(raw);
        let wanted =
            if least == i64::MIN { "a whole number".to_owned() } else { format!("a whole number of at least {least}") };
        match integer(raw) {
            Some(number) if number >= least => Some(Spanned::new(number, at)),
            Some(_) => {
                self.bad(at, key, &wanted, "this is too small");
                None
            }
            None => {
                self.wrong_kind(raw, key, &wanted);
                None
            }
        }
    }

    /// True or false.
    pub fn flag(&mut self, raw: &Raw<'_>, key: &str) -> Option<bool> {
        let flag = raw.get_ref().as_bool();
        if flag.is_none() {
            self.wrong_kind(raw, key, "true or false");
        }
        flag
    }

    /// A list of texts.
    pub fn texts(&mut self, raw: &Raw<'_>, key: &str) -> Option<Vec<Spanned<String>>> {
        let Some(list) = raw.get_ref().as_array() else {
            self.wrong_kind(raw, key, "a list of texts");
            return None;
        };
        Some(list.iter().filter_map(|raw| self.text(raw, key)).collect())
    }

    /// A path template.
    pub fn template(&mut self, raw: &Raw<'_>, key: &str) -> Option<Spanned<Arc<Template>>> {
        let text = self.text(raw, key)?;
        match Template::parse(&text.value) {
            Ok(template) => Some(Spanned::new(Arc::new(template), text.at)),
            Err(TemplateError { message, help, range }) => {
                let at = part_of(&text, range);
                self.findings.add("template-not-understood", Some(at), None, Words::new(message, "here").help(help));
                None
            }
        }
    }

    /// A table.
    pub fn table<'t, 'i>(&mut self, raw: &'t Raw<'i>, key: &str) -> Option<&'t DeTable<'i>> {
        let table = raw.get_ref().as_table();
        if table.is_none() {
            self.wrong_kind(raw, key, "a table");
        }
        table
    }

    /// A key that nothing reads, with the nearest one that something would.
    pub fn unknown(&mut self, key: &TomlSpanned<Cow<'_, str>>, table: &str, known: &[&str]) {
        let at = Place::new(self.file, key.span());
        let (name, place) =
            (key.get_ref(), if table.is_empty() { "at the top of a sheet".to_owned() } else { format!("in {table}") });
        let mut words = Words::new(format!("unknown key `{name}` {place}"), "this key is not read");
        words = match nearest(name, known.iter().copied()) {
            Some(near) => words.help(format!("write `{near}`")).fix(at, near),
            None => {
                let sorted: BTreeSet<&str> = known.iter().copied().collect();
                words.help(format!("the keys here are {}", sorted.into_iter().collect::<Vec<_>>().join(", ")))
            }
        };
        self.findings.add("unknown-key", Some(at), None, words);
    }
}

/// The entries of a table in the order in which they are written.
pub fn in_order<'t, 'i>(table: &'t DeTable<'i>) -> Vec<Entry<'t, 'i>> {
    let mut entries: Vec<_> = table.iter().collect();
    entries.sort_by_key(|(name, _)| name.span().start);
    entries
}

/// A part of a text value, when its place is known byte for byte; else the whole value.
pub fn part_of(text: &Spanned<String>, range: std::ops::Range<usize>) -> Place {
    if (text.at.end - text.at.start) as usize == text.value.len() { text.at.within(range) } else { text.at }
}

/// A whole number.
pub fn integer(raw: &Raw<'_>) -> Option<i64> {
    let number = raw.get_ref().as_integer()?;
    i64::from_str_radix(number.as_str(), number.radix()).ok()
}

/// Any number.
pub fn number(raw: &Raw<'_>) -> Option<f64> {
    match raw.get_ref() {
        DeValue::Float(float) => float.as_str().replace('_', "").parse().ok(),
        _ => integer(raw).map(|whole| whole as f64),
    }
}

/// A text, a number or a flag as it would be written in text.
pub fn scalar(raw: &Raw<'_>) -> Option<String> {
    match raw.get_ref() {
        DeValue::String(text) => Some(text.to_string()),
        DeValue::Integer(_) => integer(raw).map(|number| number.to_string()),
        DeValue::Float(float) => Some(float.as_str().to_owned()),
        DeValue::Boolean(flag) => Some(flag.to_string()),
        _ => None,
    }
}
