//! Sheet text to a [`Sheet`]: one pass over the TOML, every mistake a finding.

use std::sync::Arc;

use toml::de::{DeTable, DeValue};

use crate::diagnostic::{Findings, Slug, Words};
use crate::frames::{FrameExpr, MOST};
use crate::source::{FileId, Place, Spanned};

use super::likely::{ascending, entry_at, place_of, sides, unquoted};
use super::read::{Raw, Reader, in_order, integer, number, part_of, plain_number, scalar};
use super::setting::{KEYS, ValueKind};
use super::{
    Checkpoint, Colour, Each, Fps, Given, JobEntry, Key, Layer, Layers, PassEntry, Setting, Settings, Sheet, Size,
    Version,
};

/// Reads a sheet. Text that is not TOML is a finding of `not-toml`, and what could be read is returned all the same.
pub fn sheet(file: FileId, text: &str, findings: &mut Findings) -> Sheet {
    let table = toml_table(file, text, findings);
    let mut reader = Reader { file, text, findings, place_of, strays: Vec::new() };
    let mut sheet = Sheet { file, ..Sheet::default() };
    reader.read_sheet(&table, &mut sheet);
    sheet
}

/// Parses TOML as far as it goes, with a finding for each mistake.
pub(crate) fn toml_table<'i>(file: FileId, text: &'i str, findings: &mut Findings) -> DeTable<'i> {
    let (table, errors) = DeTable::parse_recoverable(text);
    for error in errors {
        let at = Place::new(file, error.span().unwrap_or(0..0));
        let words = Words::new(format!("the file is not valid TOML: {}", error.message()), "here");
        let words = match (entry_at(text, at.start as usize), unquoted(text, at.start as usize)) {
            _ if error.message().contains("escape") => {
                Words::new("a backslash in double quotes begins an escape", "here")
                    .help("write / in paths, on every system")
            }
            (Some(name), _) => words.help(format!("write every entry as [[{name}]], with two brackets")),
            (None, Some((key, value))) => words.help(format!("write {key} = \"{value}\", in quotes")),
            (None, None) => words,
        };
        findings.add(Slug::NotToml, Some(at), None, words);
    }
    table.into_inner()
}

/// Whether a text is TOML.
#[must_use]
pub fn is_toml(text: &str) -> bool {
    DeTable::parse(text).is_ok()
}

/// Reads one `KEY = VALUE` typed on the command line.
pub fn command_line(file: FileId, text: &str, findings: &mut Findings) -> Settings {
    let table = toml_table(file, text, findings);
    let mut reader = Reader { file, text, findings, place_of, strays: Vec::new() };
    let entries = reader.setting_entries(&table, "the command line", &[]);
    reader.settings(&entries, Layer::CommandLine)
}

impl Reader<'_> {
    /// The entries of a table of settings; `others` are the keys that the caller reads itself.
    pub(super) fn setting_entries<'t, 'i>(
        &mut self,
        table: &'t DeTable<'i>,
        place: &str,
        others: &[&'static str],
    ) -> Vec<(&'static str, &'t Raw<'i>)> {
        let known = KEYS.iter().map(|(name, _)| *name).chain(["vars", "env", "native", "leave"]);
        let known: Vec<&'static str> = known.chain(others.iter().copied()).collect();
        self.keyed(table, place, &known)
    }

    /// Reads the settings among some entries.
    pub(super) fn settings(&mut self, entries: &[(&str, &Raw<'_>)], layer: Layer) -> Settings {
        let mut settings = Settings::default();
        settings.unread.extend(self.strays.drain(..).map(Key::Var));
        for (key, raw) in entries.iter().copied() {
            match key {
                "vars" | "env" | "native" => {
                    let Some(entries) = self.table(raw, key) else { continue };
                    for (entry, raw) in entries {
                        if let Some(full) = Key::parse(&format!("{key}.{}", entry.get_ref())) {
                            self.take(full, raw, layer, &mut settings);
                        }
                    }
                }
                "leave" => settings.leave.extend(self.leave(raw)),
                _ => {
                    if let Some(known) = Key::parse(key) {
                        self.take(known, raw, layer, &mut settings);
                    }
                }
            }
        }
        settings
    }

    fn take(&mut self, key: Key, raw: &Raw<'_>, layer: Layer, settings: &mut Settings) {
        match self.given(&key, raw, layer) {
            Some(given) => {
                settings.values.insert(key, given);
            }
            None => {
                settings.unread.insert(key);
            }
        }
    }

    fn leave(&mut self, raw: &Raw<'_>) -> Vec<(Key, Option<Place>)> {
        let names = self.texts(raw, "leave").unwrap_or_default();
        let mut keys = Vec::new();
        for name in names {
            match Key::parse(&name.value) {
                Some(key) => keys.push((key, Some(name.at))),
                None => self.bad(name.at, "leave", "a list of job settings", "this setting does not exist"),
            }
        }
        keys
    }

    /// One setting's value, or a finding.
    pub(crate) fn given(&mut self, key: &Key, raw: &Raw<'_>, layer: Layer) -> Option<Given> {
        let at = self.at(raw);
        let name = key.to_string();
        let setting = match key.row().kind {
            ValueKind::Text => Setting::Text(self.text(raw, &name)?.value),
            ValueKind::Scalar => {
                let text = scalar(raw);
                if text.is_none() {
                    self.wrong_kind(raw, &name, "text, a number, true or false");
                }
                Setting::Text(text?)
            }
            ValueKind::Count => Setting::Whole(self.whole(raw, &name, 1)?.value),
            ValueKind::Moved => Setting::Whole(self.bounded(raw, &name, -MOST)?),
            ValueKind::Positive => self.positive(raw, &name)?,
            ValueKind::Flag => Setting::Flag(self.flag(raw, &name)?),
            ValueKind::Frames => self.frames(raw)?,
            ValueKind::Fps => self.fps(raw)?,
            ValueKind::Size => self.size(raw)?,
            ValueKind::Region => self.region(raw)?,
            ValueKind::Handles => self.handles(raw)?,
            ValueKind::Layers => Setting::Layers(self.choice(raw, &name, LAYERS)?.value),
            ValueKind::Colour => Setting::Colour(self.choice(raw, &name, COLOURS)?.value),
            ValueKind::Passes => Setting::Passes(self.passes(raw)?),
            ValueKind::Path => Setting::Path(self.path(raw, &name)?.value),
            ValueKind::Version => self.version(raw)?,
            ValueKind::Checkpoint => self.checkpoint(raw)?,
        };
        Some(Given { value: Arc::new(setting), at: Some(at), layer })
    }

    /// A whole number that frames can be moved by.
    fn bounded(&mut self, raw: &Raw<'_>, key: &str, least: i64) -> Option<i64> {
        let found = self.whole(raw, key, least)?;
        if found.value > MOST {
            self.bad(found.at, key, &format!("a whole number of at most {MOST}"), "this is too large");
            return None;
        }
        Some(found.value)
    }

    fn checkpoint(&mut self, raw: &Raw<'_>) -> Option<Setting> {
        let table = self.table(raw, "checkpoint")?;
        let (mut every, mut keep) = (None, 5);
        for (key, raw) in self.keyed(table, "checkpoint", &["every", "keep"]) {
            match key {
                "every" => every = self.duration(raw, "every"),
                _ => keep = self.whole(raw, "keep", 1)?.value,
            }
        }
        if every.is_none() && !table.contains_key("every") {
            let at = self.at(raw);
            self.bad(at, "checkpoint", "a table such as { every = \"20m\", keep = 5 }", "`every` is missing");
        }
        Some(Setting::Checkpoint(Checkpoint { every: every?, keep }))
    }

    fn positive(&mut self, raw: &Raw<'_>, key: &str) -> Option<Setting> {
        let found = number(raw).filter(|number| number.is_finite() && *number > 0.0);
        if let Some(text) = plain_number(raw).filter(|text| text.parse::<f64>().is_ok_and(|number| number > 0.0)) {
            self.misspelt(raw, key, ("a number above 0", text));
            return text.parse().ok().map(Setting::Number);
        }
        if found.is_none() {
            let at = self.at(raw);
            self.bad(at, key, "a number above 0", "this is not one");
        }
        found.map(Setting::Number)
    }

    fn version(&mut self, raw: &Raw<'_>) -> Option<Setting> {
        let version = match raw.get_ref().as_str() {
            Some("next") => Version::Next,
            Some("latest") => Version::Latest,
            Some(_) => {
                if let Some(number) = plain_number(raw).and_then(|text| text.parse().ok()) {
                    self.misspelt(raw, "version", ("a whole number, \"next\" or \"latest\"", &format!("{number}")));
                    return Some(Setting::Version(Version::Number(number)));
                }
                let at = self.at(raw);
                self.bad(at, "version", "a whole number, \"next\" or \"latest\"", "this is not one of these");
                return None;
            }
            None => Version::Number(self.whole(raw, "version", 0)?.value),
        };
        Some(Setting::Version(version))
    }

    /// `x,y,w,h`, all in pixels or all in percent.
    fn region(&mut self, raw: &Raw<'_>) -> Option<Setting> {
        let text = self.text(raw, "region")?;
        let parts: Vec<&str> = text.value.split(',').map(str::trim).collect();
        let percent = parts.iter().all(|part| part.ends_with('%'));
        let numbers: Vec<f64> = parts.iter().filter_map(|part| part.trim_end_matches('%').parse().ok()).collect();
        let plain = percent || parts.iter().all(|part| part.bytes().all(|byte| byte.is_ascii_digit()));
        let inside =
            !percent || (numbers.len() == 4 && numbers[0] + numbers[2] <= 100.0 && numbers[1] + numbers[3] <= 100.0);
        let fits = plain
            && inside
            && numbers.len() == 4
            && numbers.iter().all(|n| *n >= 0.0)
            && numbers[2] > 0.0
            && numbers[3] > 0.0;
        if !fits {
            self.bad(text.at, "region", "x,y,w,h within the picture, in pixels or in percent", "this is not one");
        }
        fits.then_some(Setting::Text(text.value))
    }

    fn frames(&mut self, raw: &Raw<'_>) -> Option<Setting> {
        let text = match integer(raw) {
            Some(frame) => Spanned::new(frame.to_string(), self.at(raw)),
            None => self.text(raw, "frames")?,
        };
        match FrameExpr::parse(&text.value) {
            Ok(frames) => Some(Setting::Frames(frames)),
            Err(error) => {
                let at = part_of(&text, error.range);
                let words = Words::new(error.message, "here");
                let Some((meant, frames)) = ascending(&text.value) else {
                    self.findings.add(Slug::FramesNotUnderstood, Some(at), None, words);
                    return None;
                };
                let words = words.help(format!("write {meant}")).fix(text.at, meant);
                self.findings.add(Slug::FramesNotUnderstood, Some(at), None, words);
                Some(Setting::Frames(frames))
            }
        }
    }

    fn fps(&mut self, raw: &Raw<'_>) -> Option<Setting> {
        let written = scalar(raw).unwrap_or_default();
        let at = self.at(raw);
        // The decimals that stand for a fraction of 1001 in the trade (SMPTE ST 12-1).
        let known = [("23.976", 24), ("23.98", 24), ("29.97", 30), ("47.952", 48), ("59.94", 60), ("119.88", 120)];
        if let Some((decimal, whole)) = known.iter().find(|(decimal, _)| *decimal == written) {
            let exact = format!("{}/1001", whole * 1000);
            let words = Words::new(format!("{decimal} frames per second is read as {exact}"), "this rate is rounded");
            self.findings.add(Slug::FpsRounded, Some(at), None, words.help(format!("write fps = \"{exact}\"")));
            return Fps::new(whole * 1000, 1001).map(Setting::Fps);
        }
        let (frames, seconds) = written.split_once('/').unwrap_or((&written, "1"));
        let fps = frames.trim().parse().ok().zip(seconds.trim().parse().ok());
        let fps = fps.and_then(|(frames, seconds)| Fps::new(frames, seconds));
        if let (None, Some(text)) = (fps, plain_number(raw)) {
            let meant = text.parse().ok().and_then(|frames| Fps::new(frames, 1));
            if meant.is_some() {
                self.misspelt(raw, "fps", ("a whole number or a fraction", text));
                return meant.map(Setting::Fps);
            }
        }
        if fps.is_none() {
            let words = Words::new("`fps` must be a whole number or a fraction", "this is not one");
            self.findings.add(Slug::ValueNotUnderstood, Some(at), None, words.help("write 24 or \"24000/1001\""));
        }
        fps.map(Setting::Fps)
    }

    fn size(&mut self, raw: &Raw<'_>) -> Option<Setting> {
        const WANTED: &str = "width x height in pixels, such as \"1280x720\"";
        if let Some(size) = sides(raw) {
            self.misspelt(raw, "size", (WANTED, &format!("\"{size}\"")));
            return Some(Setting::Size(size));
        }
        if !raw.get_ref().is_str() {
            self.wrong_kind(raw, "size", WANTED);
            return None;
        }
        let text = self.text(raw, "size")?;
        let side = |text: &str| text.trim().parse::<u32>().ok().filter(|side| *side > 0);
        let size = text
            .value
            .split_once('x')
            .and_then(|(width, height)| Some(Size { width: side(width)?, height: side(height)? }));
        if size.is_none() {
            self.bad(text.at, "size", WANTED, "this is not one");
        }
        size.map(Setting::Size)
    }

    fn handles(&mut self, raw: &Raw<'_>) -> Option<Setting> {
        if let Some([before, after]) = raw.get_ref().as_array().map(|list| list.iter().collect::<Vec<_>>()).as_deref() {
            return Some(Setting::Handles(self.bounded(before, "handles", 0)?, self.bounded(after, "handles", 0)?));
        }
        if raw.get_ref().is_array() {
            self.wrong_kind(raw, "handles", "a whole number, or a list of two: before and after");
            return None;
        }
        self.bounded(raw, "handles", 0).map(|both| Setting::Handles(both, both))
    }

    fn passes(&mut self, raw: &Raw<'_>) -> Option<Vec<PassEntry>> {
        let Some(list) = raw.get_ref().as_array().filter(|list| !list.is_empty()) else {
            self.wrong_kind(raw, "passes", "a list of passes that is not empty");
            return None;
        };
        Some(list.iter().filter_map(|raw| self.pass(raw)).collect())
    }

    fn pass(&mut self, raw: &Raw<'_>) -> Option<PassEntry> {
        let DeValue::Table(table) = raw.get_ref() else {
            let name = self.text(raw, "passes")?;
            return Some(PassEntry { name, label: None, colour: None, format: None, path: None });
        };
        let mut entry = PassEntry {
            name: Spanned::new(String::new(), self.at(raw)),
            label: None,
            colour: None,
            format: None,
            path: None,
        };
        for (key, raw) in self.keyed(table, "a pass", &["name", "as", "colour", "format", "path"]) {
            match key {
                "name" => entry.name = self.text(raw, "name")?,
                "as" => entry.label = self.text(raw, "as"),
                "colour" => entry.colour = self.choice(raw, "colour", COLOURS),
                "format" => entry.format = self.text(raw, "format"),
                _ => entry.path = self.path(raw, "path"),
            }
        }
        if entry.name.value.is_empty() {
            self.bad(entry.name.at, "passes", "a list of texts or of tables with a `name`", "the name is missing");
            return None;
        }
        Some(entry)
    }

    /// A `[[job]]`.
    pub(super) fn job(&mut self, raw: &Raw<'_>) -> Option<JobEntry> {
        let table = self.table(raw, "job")?;
        let mut job = JobEntry {
            name: None,
            like: None,
            each: None,
            settings: Settings::default(),
            at: Place::new(self.file, raw.span()),
        };
        let entries = self.setting_entries(table, "[[job]]", &["name", "like", "each"]);
        for (key, raw) in entries.iter().copied() {
            match key {
                "name" => job.name = self.text(raw, "name"),
                "like" => job.like = self.text(raw, "like"),
                "each" => job.each = self.each(raw),
                _ => {}
            }
        }
        job.settings = self.settings(&entries, Layer::Job);
        Some(job)
    }

    fn each(&mut self, raw: &Raw<'_>) -> Option<Each> {
        if let Some(rows) = raw.get_ref().as_array() {
            let row = |raw: &Raw<'_>, reader: &mut Self| {
                let table = reader.table(raw, "each")?;
                let mut row = Settings::default();
                for (name, raw) in table {
                    let key = each_key(name.get_ref());
                    let given = reader.given(&key, raw, Layer::Each);
                    row.values.extend(given.map(|given| (key, given)));
                }
                Some(row)
            };
            return Some(Each::Rows(rows.iter().filter_map(|raw| row(raw, self)).collect()));
        }
        let table = raw.get_ref().as_table();
        let Some(table) = table else {
            self.wrong_kind(raw, "each", "a table of lists (every combination) or a list of tables (a row each)");
            return None;
        };
        let mut axes = Vec::new();
        for (name, raw) in in_order(table) {
            let key = each_key(name.get_ref());
            // Scenes may be given by a pattern, which whoever knows the disk replaces by what fits it.
            let pattern = raw.get_ref().as_str().filter(|text| key == Key::Scene && is_pattern(text));
            let one = pattern.map(|_| std::slice::from_ref(raw));
            let list = raw.get_ref().as_array().map(|list| &list[..]).filter(|list| !list.is_empty()).or(one);
            let single = (key != Key::Scene && scalar(raw).is_some()).then(|| std::slice::from_ref(raw));
            if let (None, Some(_)) = (list, single) {
                let at = self.at(raw);
                let words = Words::new(
                    format!("`{}` under `each` must be a list of values", name.get_ref()),
                    "this is one value",
                );
                let bracketed = self.text.get(raw.span()).map(|written| format!("[{written}]"));
                let words = match bracketed {
                    Some(list) => words.help(format!("write {list}")).fix(Place::new(self.file, raw.span()), list),
                    None => words,
                };
                self.findings.add(Slug::ValueNotUnderstood, Some(at), None, words);
            }
            let Some(list) = list.or(single) else {
                let what = if key == Key::Scene {
                    "a list of scenes, or a pattern such as \"scenes/*.gltf\""
                } else {
                    "a list of values that is not empty"
                };
                self.wrong_kind(raw, name.get_ref(), what);
                continue;
            };
            let values = list.iter().filter_map(|raw| self.given(&key, raw, Layer::Each)).collect();
            axes.push((Spanned::new(key, Place::new(self.file, name.span())), values));
        }
        Some(Each::Table(axes))
    }
}

/// How passes may be laid into files.
pub(super) const LAYERS: &[(&str, Layers)] = &[("apart", Layers::Apart), ("together", Layers::Together)];
/// How pixels may be meant.
pub(super) const COLOURS: &[(&str, Colour)] = &[("linear", Colour::Linear), ("display", Colour::Display)];

/// Whether a scene under `each` is a pattern for several.
#[must_use]
pub fn is_pattern(scene: &str) -> bool {
    scene.contains(['*', '?'])
}

/// A key under `each` that is a job setting sets it; any other is a variable.
fn each_key(name: &str) -> Key {
    Key::parse(name).unwrap_or_else(|| Key::Var(name.to_owned()))
}
