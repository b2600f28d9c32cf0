//! TOML values to plain ones, with findings that name the place, the kind that stands there and the kind that belongs there.

use std::borrow::Cow;
use std::collections::BTreeSet;
use std::sync::Arc;

use toml::Spanned as TomlSpanned;
use toml::de::{DeTable, DeValue};

use crate::diagnostic::{Findings, Slug, Words, nearest, usual};
use crate::source::{FileId, Place, Spanned};
use crate::template::{Template, TemplateError};

/// A TOML value with its byte range.
pub type Raw<'i> = TomlSpanned<DeValue<'i>>;

/// A key of a table, and its value.
pub type Entry<'t, 'i> = (&'t TomlSpanned<Cow<'i, str>>, &'t Raw<'i>);

/// Renderers at a time on one machine at most: each takes a thread, a pipe and a folder of its own.
pub const MOST_WORKERS: i64 = 1024;

/// Tables of a sheet that hold entries.
const MANY: [&str; 9] = ["roots", "formats", "passes", "bases", "modes", "job", "movie", "checks", "allow"];

/// The table of a language in which a key belongs, as it is named to people.
pub type PlaceOf = fn(&str) -> Option<&'static str>;

/// Reads values of one text and collects what is wrong with them.
pub struct Reader<'r> {
    /// The text's number.
    pub file: FileId,
    /// Where keys of its language belong: one may stand in the wrong table.
    pub place_of: PlaceOf,
    /// Keys that mean nothing, and stand in a path as tokens: most likely variables.
    pub strays: Vec<String>,
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
        self.findings.add(Slug::ValueNotUnderstood, Some(at), None, words);
    }

    /// A value that is clearly meant and spelt in another way than it has to be: `write` is what has to stand there.
    pub fn misspelt(&mut self, raw: &Raw<'_>, key: &str, (wanted, write): (&str, &str)) {
        let at = Place::new(self.file, raw.span());
        let words =
            Words::new(format!("`{key}` must be {wanted}"), "this is not one").help(format!("write {key} = {write}"));
        self.findings.add(Slug::ValueNotUnderstood, Some(at), None, words.fix(at, write));
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
        let near = nearest(&written, names.iter().copied());
        if let Some(near) = near {
            words = words.help(format!("write {near}"));
            if raw.get_ref().is_str() {
                words = words.fix(at, near);
            }
        }
        self.findings.add(Slug::ValueNotUnderstood, Some(at), None, words);
        // What is clearly meant is read on with, so that one slip is one finding.
        let meant = names.iter().position(|name| Some(*name) == near)?;
        Some(Spanned::new(meant, at))
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
                let meant =
                    plain_number(raw).and_then(|text| text.parse::<i64>().ok()).filter(|number| *number >= least);
                match meant {
                    Some(number) => self.misspelt(raw, key, (&wanted, &number.to_string())),
                    None => self.wrong_kind(raw, key, &wanted),
                }
                meant.map(|number| Spanned::new(number, at))
            }
        }
    }

    /// True or false.
    pub fn flag(&mut self, raw: &Raw<'_>, key: &str) -> Option<bool> {
        let flag = raw.get_ref().as_bool();
        let meant = raw.get_ref().as_str().and_then(|text| text.to_lowercase().parse::<bool>().ok());
        if let Some(meant) = meant {
            self.misspelt(raw, key, ("true or false", &meant.to_string()));
            return Some(meant);
        }
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
                self.findings.add(Slug::TemplateNotUnderstood, Some(at), None, Words::new(message, "here").help(help));
                None
            }
        }
    }

    /// A template for a path, in which a backslash is a slip: the sheet would mean something else on another system.
    pub fn path(&mut self, raw: &Raw<'_>, key: &str) -> Option<Spanned<Arc<Template>>> {
        let Some(text) = raw.get_ref().as_str().filter(|text| text.contains('\\')) else {
            return self.template(raw, key);
        };
        let (at, right) = (self.at(raw), text.replace('\\', "/"));
        let is_inner = (at.end - at.start) as usize == text.len();
        let write = if is_inner { right.clone() } else { format!("\"{right}\"") };
        let words =
            Words::new("a path is written with / on every system, not with a backslash", "this has backslashes");
        self.findings.add(Slug::TemplateNotUnderstood, Some(at), None, words.help("write / instead").fix(at, write));
        // What is wrong besides is found once this is mended.
        Some(Spanned::new(Arc::new(Template::parse(&right).ok()?), at))
    }

    /// A table.
    pub fn table<'t, 'i>(&mut self, raw: &'t Raw<'i>, key: &str) -> Option<&'t DeTable<'i>> {
        let table = raw.get_ref().as_table();
        if table.is_none() {
            self.wrong_kind(raw, key, "a table");
        }
        table
    }

    /// The entries of a table in the order in which they are written, by the keys that are known here. One whose key is not
    /// known is a finding; where it is clear which key was meant, and nothing else has that one, it is read as that, so that one
    /// slip is one finding.
    pub fn keyed<'t, 'i, 'k>(
        &mut self,
        table: &'t DeTable<'i>,
        place: &str,
        known: &[&'k str],
    ) -> Vec<(&'k str, &'t Raw<'i>)> {
        let mut entries: Vec<(&str, &Raw<'_>)> = Vec::new();
        for (key, raw) in in_order(table) {
            let name = key.get_ref().as_ref();
            if let Some(known) = known.iter().find(|known| **known == name) {
                entries.push((known, raw));
                continue;
            }
            let meant = self.meant(key, place, known).filter(|near| {
                // Of what there may be any number of, more is read.
                let is_there = table.iter().any(|(key, _)| key.get_ref() == near)
                    || entries.iter().any(|(taken, _)| taken == near);
                !is_there || (place.is_empty() && MANY.contains(near))
            });
            entries.extend(meant.map(|near| (near, raw)));
        }
        entries
    }

    /// A key that nothing reads, with the nearest one that something would.
    pub fn unknown(&mut self, key: &TomlSpanned<Cow<'_, str>>, table: &str, known: &[&str]) {
        self.meant(key, table, known);
    }

    /// The same; the key that was most likely meant.
    fn meant<'k>(&mut self, key: &TomlSpanned<Cow<'_, str>>, table: &str, known: &[&'k str]) -> Option<&'k str> {
        let at = Place::new(self.file, key.span());
        let (name, place) =
            (key.get_ref(), if table.is_empty() { "at the top of a sheet".to_owned() } else { format!("in {table}") });
        let mut words = Words::new(format!("unknown key `{name}` {place}"), "this key is not read");
        let is_token = self.text.contains(&format!("{{{name}}}")) || self.text.contains(&format!("{{_{name}}}"));
        let may_be_variable = is_token && known.contains(&"vars");
        // What is a key elsewhere is no slip for one of these.
        let mut meant = usual(name, known);
        words = match (meant, (self.place_of)(name), may_be_variable) {
            (Some(near), ..) => words.help(format!("write `{near}`")).fix(at, near),
            (None, _, true) => {
                self.strays.push(name.to_string());
                words.help(format!("if it is a variable, write vars.{name}")).fix(at, format!("vars.{name}"))
            }
            (None, Some(place), _) => words.help(format!("`{name}` belongs under {place}")),
            _ => {
                meant = nearest(name, known.iter().copied());
                match meant {
                    Some(near) => words.help(format!("write `{near}`")).fix(at, near),
                    None => {
                        let sorted: BTreeSet<&str> = known.iter().copied().collect();
                        words.help(format!("the keys here are {}", sorted.into_iter().collect::<Vec<_>>().join(", ")))
                    }
                }
            }
        };
        self.findings.add(Slug::UnknownKey, Some(at), None, words);
        meant
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

/// A number that was written as a text, with a unit or a sign behind it: `"75"`, `"50%"`, `"24fps"`, `"v3"`.
pub fn plain_number<'t>(raw: &'t Raw<'_>) -> Option<&'t str> {
    let text = raw.get_ref().as_str()?.trim();
    let text = ["%", "fps", "px", "s"].iter().find_map(|unit| text.strip_suffix(unit)).unwrap_or(text);
    let text = text.strip_prefix(['v', 'V']).unwrap_or(text).trim();
    text.bytes().next().filter(u8::is_ascii_digit)?;
    Some(text.trim_start_matches('0')).filter(|text| !text.is_empty() && text.parse::<f64>().is_ok())
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
