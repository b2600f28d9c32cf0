//! The entries of a sheet beside its jobs: movies, and what is meant.

use toml::de::DeTable;

use crate::diagnostic::{CHECKS, Check, Level, Slug, Words, find, nearest};
use crate::frames::Timecode;
use crate::picture::usual_limit;
use crate::source::{Place, Spanned};

use super::parse::COLOURS;
use super::read::{Raw, Reader, number};
use super::{AllowEntry, Backdrop, CheckRule, GAPS, Key, Layer, MovieEntry, Setting, Sheet};

/// The keys of a movie and what each means.
pub const MOVIE_KEYS: [(&str, &str); 17] = [
    ("name", "The movie's name."),
    (
        "of",
        "The job entry whose frames it shows: one movie for each of its jobs. A list gives one movie that shows them one after another.",
    ),
    ("pass", "The pass it shows; the job's first when left out."),
    ("frames", "Which of the job's frames; all when left out."),
    ("format", "A named set of file options."),
    ("colour", "linear (scene-linear) or display (display-encoded): how its pixels are stored."),
    ("path", "The template of its path."),
    ("fps", "Its rate; the job's when left out."),
    ("audio", "Its sound file; the job's when left out."),
    ("audio_offset", "Seconds by which the sound starts after the picture; a negative number cuts its beginning."),
    ("gaps", "What to do about gaps: refuse, hold (repeat the frame before) or close (skip them)."),
    ("size", "Its size; that of the frames when left out."),
    ("scale", "Percent of the frames' size."),
    ("over", "The background behind transparent frames: black, checker or #rrggbb."),
    ("burn", "A line of text below the picture, with tokens; {name}, {frame} and {timecode} are those of each frame."),
    ("start_timecode", "The timecode of its first frame, hh:mm:ss:ff."),
    ("adapter", "Its encoder; the first that can do it when left out."),
];

/// Levels of checks as they are written.
pub const LEVELS: [(&str, Option<Level>); 4] =
    [("off", None), ("note", Some(Level::Note)), ("warning", Some(Level::Warning)), ("error", Some(Level::Error))];

/// The keys of an entry under `[[allow]]` and what each means.
pub const ALLOW_KEYS: [(&str, &str); 3] = [
    ("check", "The check whose finding is allowed."),
    ("job", "The job or job entry; * and ? are wildcards; all when left out."),
    ("because", "Why it is allowed."),
];

impl Reader<'_> {
    /// A `[[movie]]`.
    pub(super) fn movie(&mut self, raw: &Raw<'_>) -> Option<MovieEntry> {
        let table = self.table(raw, "movie")?;
        let mut movie = MovieEntry::named(Spanned::new(String::new(), Place::new(self.file, raw.span())));
        for (key, raw) in self.keyed(table, "[[movie]]", &MOVIE_KEYS.map(|(name, _)| name)) {
            match key {
                "name" => movie.name = self.text(raw, "name")?,
                "of" if raw.get_ref().is_array() => {
                    movie.of = self.texts(raw, "of").unwrap_or_default();
                    movie.is_reel = true;
                }
                "of" => movie.of = self.text(raw, "of").into_iter().collect(),
                "pass" => movie.pass = self.text(raw, "pass"),
                "path" => movie.path = self.path(raw, "path"),
                "adapter" => movie.adapter = self.text(raw, "adapter"),
                _ => self.look_of_movie(&mut movie, key, raw),
            }
        }
        for (key, given) in
            [("name", !movie.name.value.is_empty()), ("of", !movie.of.is_empty()), ("path", movie.path.is_some())]
        {
            self.needed(table, &Spanned::new("movie", movie.name.at), key, given);
        }
        Some(movie)
    }

    /// What a movie shows of its frames, and how.
    fn look_of_movie(&mut self, movie: &mut MovieEntry, key: &str, raw: &Raw<'_>) {
        match key {
            "frames" => {
                movie.frames = self.setting(&Key::Frames, raw, |value| match value {
                    Setting::Frames(frames) => Some(frames.clone()),
                    _ => None,
                });
            }
            "format" => movie.format = self.text(raw, "format"),
            "colour" => movie.colour = self.choice(raw, "colour", COLOURS),
            "fps" => {
                movie.fps = self.setting(&Key::Fps, raw, |value| match value {
                    Setting::Fps(fps) => Some(*fps),
                    _ => None,
                });
            }
            "audio" => movie.audio = self.text(raw, "audio"),
            "audio_offset" => movie.audio_offset = self.offset(raw),
            "gaps" => movie.gaps = self.choice(raw, "gaps", &GAPS),
            "size" => {
                movie.size = self.setting(&Key::Size, raw, |value| match value {
                    Setting::Size(size) => Some(*size),
                    _ => None,
                });
            }
            "scale" => {
                movie.scale = self.setting(&Key::Scale, raw, |value| match value {
                    Setting::Number(scale) => Some(*scale),
                    _ => None,
                });
            }
            "over" => movie.over = self.backdrop(raw),
            "burn" => movie.burn = self.template(raw, "burn"),
            "start_timecode" => movie.start_timecode = self.timecode(raw),
            _ => {}
        }
    }

    /// Seconds by which a sound begins later.
    fn offset(&mut self, raw: &Raw<'_>) -> Option<Spanned<f64>> {
        let offset = number(raw).filter(|seconds| seconds.is_finite() && seconds.abs() < 1e6);
        if offset.is_none() {
            self.wrong_kind(raw, "audio_offset", "a number of seconds");
        }
        offset.map(|seconds| Spanned::new(seconds, self.at(raw)))
    }

    /// What lies behind frames with an alpha.
    fn backdrop(&mut self, raw: &Raw<'_>) -> Option<Spanned<Backdrop>> {
        let text = self.text(raw, "over")?;
        let over = Backdrop::parse(&text.value);
        if over.is_none() {
            self.bad(text.at, "over", "black, checker or a colour such as \"#102030\"", "this is not one of these");
        }
        over.map(|over| Spanned::new(over, text.at))
    }

    fn timecode(&mut self, raw: &Raw<'_>) -> Option<Spanned<String>> {
        let text = self.text(raw, "start_timecode")?;
        let is_spelt = Timecode::is_spelt(&text.value);
        if !is_spelt {
            self.bad(text.at, "start_timecode", "a timecode such as \"01:00:00:00\"", "this is not one");
        }
        Some(text).filter(|_| is_spelt)
    }

    /// A value that is read as the job's setting of the same name is.
    fn setting<T>(&mut self, key: &Key, raw: &Raw<'_>, pick: fn(&Setting) -> Option<T>) -> Option<Spanned<T>> {
        let given = self.given(key, raw, Layer::Job)?;
        Some(Spanned::new(pick(&given.value)?, given.at?))
    }

    /// A `[[allow]]`.
    pub(super) fn allow(&mut self, raw: &Raw<'_>) -> Option<AllowEntry> {
        let table = self.table(raw, "meant")?;
        let at = Place::new(self.file, raw.span());
        let (mut check, mut job, mut because) = (None, None, None);
        for (key, raw) in self.keyed(table, "[[allow]]", &ALLOW_KEYS.map(|(name, _)| name)) {
            match key {
                "check" => check = self.text(raw, "check"),
                "job" => job = self.text(raw, "job"),
                _ => because = self.text(raw, "because"),
            }
        }
        for (key, given) in [("check", check.is_some()), ("because", because.is_some())] {
            self.needed(table, &Spanned::new("allow entry", at), key, given);
        }
        let check = check?;
        if !CHECKS.iter().any(|known| known.name == check.value) {
            let near = self.no_check(&check)?.name.to_owned();
            return Some(AllowEntry { check: Spanned::new(near, check.at), job, because: because?.value, at });
        }
        Some(AllowEntry { check, job, because: because?.value, at })
    }

    /// A key that an entry cannot do without.
    fn needed(&mut self, table: &DeTable<'_>, entry: &Spanned<&str>, key: &str, given: bool) {
        let (what, at) = (entry.value, entry.at);
        if !given && !table.iter().any(|(name, _)| name.get_ref() == key) {
            let words = Words::new(format!("`{key}` is missing in this {what}"), format!("this {what}"))
                .help(format!("write {key} = \"...\""));
            self.findings.add(Slug::KeyMissing, Some(at), None, words);
        }
    }

    /// `[checks]`: a level, or a table of a level and a limit.
    pub(super) fn checks(&mut self, raw: &Raw<'_>, sheet: &mut Sheet) {
        self.each_entry(raw, "checks", |reader, name, raw| {
            let known = CHECKS.iter().find(|check| check.name == name.value);
            let Some(check) = known.or_else(|| reader.no_check(&name)) else { return };
            let name = Spanned::new(check.name.to_owned(), name.at);
            let Some(table) = raw.get_ref().as_table() else {
                if let Some(level) = reader.choice(raw, &name.value, &LEVELS) {
                    sheet.checks.push(CheckRule { check: name, level: level.value, limit: None });
                }
                return;
            };
            let mut rule = CheckRule { check: name, level: Some(check.level), limit: None };
            let limit = usual_limit(check.name).is_some();
            let known: &[&str] = if limit { &["level", "limit"] } else { &["level"] };
            for (key, raw) in reader.keyed(table, &format!("`{}`", check.name), known) {
                match key {
                    "level" => {
                        rule.level = reader.choice(raw, "level", &LEVELS).map_or(rule.level, |level| level.value)
                    }
                    _ => match number(raw).filter(|limit| *limit > 0.0) {
                        Some(limit) => rule.limit = Some(limit),
                        None => {
                            let at = reader.at(raw);
                            reader.bad(at, "limit", "a number above zero", "this is not one");
                        }
                    },
                }
            }
            sheet.checks.push(rule);
        });
    }

    /// A name that no check bears; the check that was most likely meant.
    pub(super) fn no_check(&mut self, name: &Spanned<String>) -> Option<&'static Check> {
        let mut words = Words::new(format!("there is no check `{}`", name.value), "not defined");
        let near = nearest(&name.value, CHECKS.iter().map(|check| check.name));
        if let Some(near) = near {
            words = words.help(format!("write `{near}`")).fix(name.at, near);
        }
        self.findings.add(Slug::UnknownKey, Some(name.at), None, words);
        find(near?)
    }
}
