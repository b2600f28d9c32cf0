//! The tables of a sheet, one function each.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use bytesize::ByteSize;
use jiff::SignedDuration;
use toml::de::DeTable;

use crate::catalogue::{AsWritten, Choice, types};
use crate::diagnostic::{Slug, Words};
use crate::source::{Place, Spanned};
use crate::template::Template;

use super::read::{Raw, Reader, in_order};
use super::{
    Base, EXISTING, FileOption, Format, LANGUAGE, Layer, Mode, PASS_KINDS, PassTable, Root, RootPaths, SYSTEMS, Sheet,
};

/// Longer than any night: a span beyond it is a slip.
const MOST_SECONDS: u64 = 1_000_000_000;

pub(super) const TABLES: &[&str] = &[
    "sheet", "from", "project", "roots", "formats", "passes", "defaults", "bases", "modes", "job", "movie", "policy",
    "checks", "allow", "run",
];

/// The keys of a format and what each means.
pub fn format_keys() -> [(&'static str, &'static str); 10] {
    FileOption::ALL.map(|option| (option.name(), option.row().what))
}

/// The keys of `[run]` and what each means.
pub const RUN_KEYS: [(&str, &str); 13] = [
    ("workers", "Renderers at a time."),
    ("chunk", "Frames per call of the renderer."),
    ("retries", "How often a failed call is tried again."),
    ("existing", "What to do with files that exist: keep, renew, replace or stop."),
    ("frame_timeout", "How long one frame may take, such as 30m."),
    ("silence", "How long a renderer may say nothing and finish no frame, such as 20m."),
    ("log_limit", "How large the log of a call may grow before its middle is left out; 64 MB by default."),
    ("space_wait", "How long calls wait for space on a full disk before the run stops; 60s by default."),
    (
        "after",
        "Commands to run once the plan is over, as lists of words; {outcome} is complete or incomplete. An interrupted plan is not over.",
    ),
    ("heartbeat", "How often a member of run --share gives a sign of life; 15s by default."),
    ("takeover", "After how long without a sign of life the other members take over its calls; 90s by default."),
    ("licences", "How many licences there are, by the name that an adapter gives in `licences` under [needs]."),
    ("cluster", "What build --to slurm and --to grid-engine request from the cluster."),
];

/// Keys of `[policy]`.
pub(super) const POLICY_KEYS: &[&str] = &["within", "never", "spelling", "tokens", "systems", "one_version"];

impl Reader<'_> {
    pub(super) fn read_sheet(&mut self, table: &DeTable<'_>, sheet: &mut Sheet) {
        for (key, raw) in self.keyed(table, "", TABLES) {
            match key {
                "sheet" => self.language(raw),
                "project" => self.project(raw, sheet),
                "roots" => self.each_entry(raw, "roots", |reader, name, raw| {
                    let root = reader.root(name, raw);
                    sheet.roots.extend(root);
                }),
                "formats" => self.each_entry(raw, "formats", |reader, name, raw| {
                    let format = reader.format(name, raw);
                    sheet.formats.extend(format);
                }),
                "passes" => self.each_entry(raw, "passes", |reader, name, raw| {
                    let pass = reader.pass_kind(name, raw);
                    sheet.passes.extend(pass);
                }),
                "defaults" => {
                    if let Some(table) = self.table(raw, "defaults") {
                        let entries = self.setting_entries(table, "[defaults]", &[]);
                        sheet.defaults = self.settings(&entries, Layer::Defaults);
                    }
                }
                "bases" => self.each_entry(raw, "bases", |reader, name, raw| {
                    let base = reader.base(name, raw);
                    sheet.bases.extend(base);
                }),
                "job" => match raw.get_ref().as_array() {
                    Some(jobs) => sheet.jobs.extend(jobs.iter().filter_map(|raw| self.job(raw))),
                    None => self.wrong_kind(raw, "job", "written as [[job]], with two brackets"),
                },
                "from" => sheet.from = self.texts(raw, "from").unwrap_or_default(),
                "modes" => self.each_entry(raw, "modes", |reader, name, raw| {
                    let mode = reader.mode(name, raw);
                    sheet.modes.extend(mode);
                }),
                "movie" => match raw.get_ref().as_array() {
                    Some(movies) => sheet.movies.extend(movies.iter().filter_map(|raw| self.movie(raw))),
                    None => self.wrong_kind(raw, "movie", "written as [[movie]], with two brackets"),
                },
                "policy" => self.policy(raw, sheet),
                "checks" => self.checks(raw, sheet),
                "allow" => match raw.get_ref().as_array() {
                    Some(entries) => sheet.allow.extend(entries.iter().filter_map(|raw| self.allow(raw))),
                    None => self.wrong_kind(raw, "allow", "written as [[allow]], with two brackets"),
                },
                "run" => self.run(raw, sheet),
                _ => {}
            }
        }
    }

    pub(super) fn each_entry(
        &mut self,
        raw: &Raw<'_>,
        key: &str,
        mut read: impl FnMut(&mut Self, Spanned<String>, &Raw<'_>),
    ) {
        let Some(table) = self.table(raw, key) else { return };
        for (name, raw) in in_order(table) {
            let name = Spanned::new(name.get_ref().to_string(), Place::new(self.file, name.span()));
            read(self, name, raw);
        }
    }

    fn language(&mut self, raw: &Raw<'_>) {
        if let Some(version) = self.whole(raw, "sheet", 1).filter(|version| version.value != LANGUAGE) {
            let words = Words::new(
                format!("this sheet is written for version {} of the language", version.value),
                "this True Path reads version 1",
            );
            self.findings.add(
                Slug::ValueNotUnderstood,
                Some(version.at),
                None,
                words.help("write sheet = 1, or use a newer True Path"),
            );
        }
    }

    fn project(&mut self, raw: &Raw<'_>, sheet: &mut Sheet) {
        let Some(table) = self.table(raw, "project") else { return };
        for (_, raw) in self.keyed(table, "[project]", &["name"]) {
            sheet.project = self.text(raw, "name");
        }
    }

    fn root(&mut self, name: Spanned<String>, raw: &Raw<'_>) -> Option<Root> {
        let Some(table) = raw.get_ref().as_table() else {
            let path = self.text(raw, &name.value)?;
            return Some(Root { name, paths: RootPaths::Same(path) });
        };
        let mut paths = Vec::new();
        for (key, raw) in self.keyed(table, "a root", &SYSTEMS.map(|(name, _)| name)) {
            if let Some((_, system)) = SYSTEMS.iter().find(|(known, _)| *known == key) {
                paths.extend(self.text(raw, key).map(|path| (*system, path)));
            }
        }
        Some(Root { name, paths: RootPaths::BySystem(paths) })
    }

    fn format(&mut self, name: Spanned<String>, raw: &Raw<'_>) -> Option<Format> {
        let table = self.table(raw, &format!("formats.{}", name.value))?;
        let place = format!("[formats.{}]", name.value);
        let mut format = Format::named(name);
        for (key, raw) in self.keyed(table, &place, &format_keys().map(|(name, _)| name)) {
            let Some(option) = FileOption::named(key) else { continue };
            match option {
                FileOption::Type => {
                    let types: Vec<&str> = types().map(|known| known.name).collect();
                    format.kind = self.one_of(raw, key, &types);
                    format.kind_unread = format.kind.is_none();
                }
                FileOption::Bits => format.bits = self.choice(raw, key, &Choice::pairs()),
                FileOption::Channels => format.channels = self.choice(raw, key, &Choice::pairs()),
                FileOption::Compression => format.compression = self.as_written(raw, key),
                FileOption::Quality => format.quality = self.percent(raw, key),
                FileOption::Codec => format.codec = self.as_written(raw, key),
                FileOption::Chroma => format.chroma = self.choice(raw, key, &Choice::pairs()),
                FileOption::Effort => format.effort = self.choice(raw, key, &Choice::pairs()),
                FileOption::AudioCodec => format.audio_codec = self.as_written(raw, key),
                FileOption::AudioQuality => format.audio_quality = self.percent(raw, key),
            }
        }
        if format.kind.is_none() && !format.kind_unread {
            self.words_of_no_type(&format);
        }
        Some(format)
    }

    /// One of some names.
    fn one_of(&mut self, raw: &Raw<'_>, key: &str, names: &[&str]) -> Option<Spanned<String>> {
        let pairs: Vec<(&str, &str)> = names.iter().map(|name| (*name, *name)).collect();
        let found = self.choice(raw, key, &pairs)?;
        Some(Spanned::new(found.value.to_owned(), found.at))
    }

    /// Words that no type has, in a format that does not say its type; of the others, checks know which their type has.
    fn words_of_no_type(&mut self, format: &Format) {
        for option in [FileOption::Compression, FileOption::Codec, FileOption::AudioCodec] {
            let words = option.words();
            if let Some(given) = option.given(format).filter(|given| !words.contains(&given.value.as_str())) {
                self.bad(given.at, option.name(), &format!("one of {}", words.join(", ")), "no file type has this");
            }
        }
    }

    /// A word that the type at hand may have: checks say which it has.
    fn as_written<T: Choice>(&mut self, raw: &Raw<'_>, key: &str) -> Option<Spanned<AsWritten<T>>> {
        let text = self.text(raw, key)?;
        Some(Spanned::new(AsWritten::of(&text.value), text.at))
    }

    fn percent(&mut self, raw: &Raw<'_>, key: &str) -> Option<Spanned<i64>> {
        let found = self.whole(raw, key, 0)?;
        if found.value > 100 {
            self.bad(found.at, key, "a whole number from 0 to 100", "this is too large");
            return None;
        }
        Some(found)
    }

    fn pass_kind(&mut self, name: Spanned<String>, raw: &Raw<'_>) -> Option<PassTable> {
        let table = self.table(raw, &format!("passes.{}", name.value))?;
        let mut pass = PassTable { name, kind: None };
        for (_, raw) in self.keyed(table, "[passes.*]", &["kind"]) {
            pass.kind = self.choice(raw, "kind", &PASS_KINDS).map(|kind| kind.value);
        }
        Some(pass)
    }

    fn base(&mut self, name: Spanned<String>, raw: &Raw<'_>) -> Option<Base> {
        let table = self.table(raw, &format!("bases.{}", name.value))?;
        let entries = self.setting_entries(table, &format!("[bases.{}]", name.value), &["like"]);
        let like = entries.iter().find(|(key, _)| *key == "like").and_then(|(_, raw)| self.text(raw, "like"));
        let settings = self.settings(&entries, Layer::Base);
        Some(Base { name, like, settings })
    }

    fn mode(&mut self, name: Spanned<String>, raw: &Raw<'_>) -> Option<Mode> {
        let table = self.table(raw, &format!("modes.{}", name.value))?;
        let entries = self.setting_entries(table, &format!("[modes.{}]", name.value), &["final"]);
        let is_final = entries.iter().find(|(key, _)| *key == "final").and_then(|(_, raw)| self.flag(raw, "final"));
        let settings = self.settings(&entries, Layer::Mode);
        Some(Mode { name, is_final: is_final.unwrap_or(false), settings })
    }

    fn policy(&mut self, raw: &Raw<'_>, sheet: &mut Sheet) {
        let Some(table) = self.table(raw, "policy") else { return };
        for (key, raw) in self.keyed(table, "[policy]", POLICY_KEYS) {
            match key {
                "within" => sheet.policy.within = self.texts(raw, "within"),
                "never" => sheet.policy.never = self.texts(raw, "never").unwrap_or_default(),
                "spelling" => sheet.policy.spelling = self.text(raw, "spelling"),
                "tokens" => sheet.policy.tokens = self.texts(raw, "tokens").unwrap_or_default(),
                "one_version" => sheet.policy.one_version = self.flag(raw, "one_version"),
                "systems" => {
                    let Some(list) = raw.get_ref().as_array() else {
                        self.wrong_kind(raw, "systems", "a list of systems");
                        continue;
                    };
                    sheet.policy.systems = Some(
                        list.iter()
                            .filter_map(|raw| self.choice(raw, "systems", &SYSTEMS))
                            .map(|system| system.value)
                            .collect(),
                    );
                }
                _ => {}
            }
        }
    }

    fn run(&mut self, raw: &Raw<'_>, sheet: &mut Sheet) {
        let Some(table) = self.table(raw, "run") else { return };
        for (key, raw) in self.keyed(table, "[run]", &RUN_KEYS.map(|(name, _)| name)) {
            match key {
                "workers" => sheet.run.workers = self.workers(raw, "workers"),
                "chunk" => sheet.run.chunk = self.whole(raw, "chunk", 1).map(|n| n.value),
                "retries" => sheet.run.retries = self.whole(raw, "retries", 0).map(|n| n.value),
                "existing" => {
                    sheet.run.existing = self.choice(raw, "existing", &EXISTING).map(|existing| existing.value)
                }
                "frame_timeout" => sheet.run.frame_timeout = self.duration(raw, "frame_timeout"),
                "silence" => sheet.run.silence = self.duration(raw, "silence"),
                "space_wait" => sheet.run.space_wait = self.duration(raw, "space_wait"),
                "log_limit" => sheet.run.log_limit = self.bytes(raw, "log_limit"),
                "after" => sheet.run.after = self.commands(raw, "after"),
                "heartbeat" => sheet.run.heartbeat = self.duration(raw, "heartbeat"),
                "takeover" => sheet.run.takeover = self.duration(raw, "takeover"),
                "licences" => sheet.run.licences = self.licences(raw),
                "cluster" => sheet.run.cluster = self.cluster(raw),
                _ => {}
            }
        }
    }

    /// Counts of licences by name.
    pub(super) fn licences(&mut self, raw: &Raw<'_>) -> BTreeMap<String, i64> {
        let Some(table) = self.table(raw, "licences") else { return BTreeMap::new() };
        let count = |(name, raw): (&toml::Spanned<std::borrow::Cow<'_, str>>, &Raw<'_>), reader: &mut Self| {
            Some((name.get_ref().to_string(), reader.whole(raw, name.get_ref(), 1)?.value))
        };
        table.iter().filter_map(|pair| count(pair, self)).collect()
    }

    /// A count of bytes, such as `64 MB`.
    pub(super) fn bytes(&mut self, raw: &Raw<'_>, key: &str) -> Option<u64> {
        let text = self.text(raw, key)?;
        let count = text.value.parse::<ByteSize>().ok().map(|count| count.as_u64()).filter(|count| *count > 0);
        if count.is_none() {
            self.bad(text.at, key, "a size such as \"64 MB\" or \"500 kB\"", "this is not one");
        }
        count
    }

    /// A span of time, such as `90s`, `30m` or `1h 30m`.
    pub(super) fn duration(&mut self, raw: &Raw<'_>, key: &str) -> Option<Duration> {
        let text = self.text(raw, key)?;
        let span = text.value.parse::<SignedDuration>().ok().and_then(|span| Duration::try_from(span).ok());
        let span = span.filter(|span| !span.is_zero() && span.as_secs() < MOST_SECONDS);
        if span.is_none() {
            self.bad(text.at, key, "a span of time such as \"90s\", \"30m\" or \"2h\"", "this is not one");
        }
        span
    }

    /// A list of commands, each a list of words.
    fn commands(&mut self, raw: &Raw<'_>, key: &str) -> Option<Vec<Spanned<Vec<Template>>>> {
        let wanted = "a list of commands, each a list of words: [[\"notify\", \"{outcome}\"]]";
        let Some(list) = raw.get_ref().as_array() else {
            self.wrong_kind(raw, key, wanted);
            return None;
        };
        let mut commands = Vec::new();
        for raw in list {
            let Some(words) = raw.get_ref().as_array().filter(|words| !words.is_empty()) else {
                self.wrong_kind(raw, key, wanted);
                continue;
            };
            let words: Vec<Spanned<Arc<Template>>> = words.iter().filter_map(|raw| self.template(raw, key)).collect();
            for word in &words {
                for token in word.value.tokens().filter(|token| token.name != "outcome") {
                    let text = Spanned::new(word.value.to_string(), word.at);
                    let at = super::read::part_of(&text, token.range.clone());
                    let message = format!("there is no token `{}` in a command", token.name);
                    self.findings.add(
                        Slug::TokenUnknown,
                        Some(at),
                        None,
                        Words::new(message, "not defined").help("{outcome} is the only token here"),
                    );
                }
            }
            let Some(at) = words.first().map(|program| program.at) else { continue };
            commands.push(Spanned::new(words.into_iter().map(|word| Arc::unwrap_or_clone(word.value)).collect(), at));
        }
        Some(commands)
    }
}
