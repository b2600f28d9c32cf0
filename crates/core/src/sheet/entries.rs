//! The entries of a sheet beside its jobs: movies, and what is meant.

use toml::de::DeTable;

use crate::diagnostic::{CHECKS, Words, nearest};
use crate::source::{Place, Spanned};

use super::parse::COLOURS;
use super::read::{Raw, Reader};
use super::{Key, Layer, MeantEntry, MovieEntry, Setting};

/// The keys of a movie and what each means.
pub const MOVIE_KEYS: [(&str, &str); 9] = [
    ("name", "The movie's name."),
    ("of", "The job whose frames it shows, each of its combinations."),
    ("pass", "The pass it shows; the job's first when left out."),
    ("format", "A named set of file options."),
    ("colour", "linear or display: how its pixels are meant."),
    ("path", "The template of its path."),
    ("fps", "Its rate; the job's when left out."),
    ("audio", "Its sound file; the job's when left out."),
    ("adapter", "Its encoder; the first that can do it when left out."),
];

/// The keys of an entry under `[[meant]]` and what each means.
pub const MEANT_KEYS: [(&str, &str); 3] = [
    ("check", "The check whose finding is meant."),
    ("job", "The job or combination, * and ? allowed; all when left out."),
    ("because", "Why it is meant."),
];

impl Reader<'_> {
    /// A `[[movie]]`.
    pub(super) fn movie(&mut self, raw: &Raw<'_>) -> Option<MovieEntry> {
        let table = self.table(raw, "movie")?;
        let name = Spanned::new(String::new(), Place::new(self.file, raw.span()));
        let mut movie = MovieEntry {
            name,
            of: None,
            pass: None,
            format: None,
            colour: None,
            path: None,
            fps: None,
            audio: None,
            adapter: None,
        };
        for (key, raw) in table {
            match key.get_ref().as_ref() {
                "name" => movie.name = self.text(raw, "name")?,
                "of" => movie.of = self.text(raw, "of"),
                "pass" => movie.pass = self.text(raw, "pass"),
                "format" => movie.format = self.text(raw, "format"),
                "colour" => movie.colour = self.choice(raw, "colour", COLOURS),
                "path" => movie.path = self.template(raw, "path"),
                "fps" => {
                    let given = self.given(&Key::Fps, raw, Layer::Job);
                    movie.fps = given.and_then(|given| match (&*given.value, given.at) {
                        (Setting::Fps(fps), Some(at)) => Some(Spanned::new(*fps, at)),
                        _ => None,
                    });
                }
                "audio" => movie.audio = self.text(raw, "audio"),
                "adapter" => movie.adapter = self.text(raw, "adapter"),
                _ => self.unknown(key, "[[movie]]", &MOVIE_KEYS.map(|(name, _)| name)),
            }
        }
        for (key, given) in
            [("name", !movie.name.value.is_empty()), ("of", movie.of.is_some()), ("path", movie.path.is_some())]
        {
            self.needed(table, &Spanned::new("movie", movie.name.at), key, given);
        }
        Some(movie)
    }

    /// A `[[meant]]`.
    pub(super) fn meant(&mut self, raw: &Raw<'_>) -> Option<MeantEntry> {
        let table = self.table(raw, "meant")?;
        let at = Place::new(self.file, raw.span());
        let (mut check, mut job, mut because) = (None, None, None);
        for (key, raw) in table {
            match key.get_ref().as_ref() {
                "check" => check = self.text(raw, "check"),
                "job" => job = self.text(raw, "job"),
                "because" => because = self.text(raw, "because"),
                _ => self.unknown(key, "[[meant]]", &MEANT_KEYS.map(|(name, _)| name)),
            }
        }
        for (key, given) in [("check", check.is_some()), ("because", because.is_some())] {
            self.needed(table, &Spanned::new("meant entry", at), key, given);
        }
        let check = check?;
        if !CHECKS.iter().any(|known| known.slug == check.value) {
            self.no_check(&check);
            return None;
        }
        Some(MeantEntry { check, job, because: because?.value, at })
    }

    /// A key that an entry cannot do without.
    fn needed(&mut self, table: &DeTable<'_>, entry: &Spanned<&str>, key: &str, given: bool) {
        let (what, at) = (entry.value, entry.at);
        if !given && !table.iter().any(|(name, _)| name.get_ref() == key) {
            let words = Words::new(format!("this {what} has no `{key}`"), format!("this {what}"))
                .help(format!("write {key} = \"...\""));
            self.findings.add("key-missing", Some(at), None, words);
        }
    }

    /// A name that no check bears.
    pub(super) fn no_check(&mut self, name: &Spanned<String>) {
        let mut words = Words::new(format!("there is no check `{}`", name.value), "nothing is called so");
        if let Some(near) = nearest(&name.value, CHECKS.iter().map(|check| check.slug)) {
            words = words.help(format!("write `{near}`")).fix(name.at, near);
        }
        self.findings.add("unknown-key", Some(name.at), None, words);
    }
}
