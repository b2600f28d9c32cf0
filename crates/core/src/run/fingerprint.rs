//! What a frame depends on: plain names and values that can be printed, kept and compared.
//!
//! Not in it: path, threads, device, chunk, how often a still is saved under way, and what the adapter reads from a log.

use std::fmt;

use crate::adapter::{Adapter, Argument, FileLine, Language, Word};
use crate::plan::{Plan, Series};
use crate::resolve::Job;
use crate::sheet::setting::{Carrier, Changes};
use crate::sheet::{FileOption, Gaps, Key, Layers, OF_MOVIES, spelt};
use crate::source::Spanned;
use crate::template::Template;

/// What could not be looked up now: it is compared with nothing.
pub const UNKNOWN: &str = "?";
/// The version of a renderer whose adapter knows no way to ask for it.
pub const NOT_ASKED: &str = "not asked";

/// Tokens that never change a picture: arguments that hold one do not count.
const HARMLESS: [&str; 7] = ["threads", "device", "checkpoint", "checkpoint_every", "resume", "log", "frames"];
/// What a digest of all frames of a movie is called, and one of its sound: of these it is only said that they differ.
const FRAMES: &str = "its frames";
const SOUND: &str = "its sound";
/// What the digest of the exported file is called that frames were rendered from. An exporter may write the time into its
/// file: the same scene exported again makes nothing stale.
const PRODUCT: &str = "exported file";
/// What the renderer's version is called: the part in which machines may differ.
pub const RENDERER: &str = "renderer version";
/// Longest value of which a difference is said in whole.
const WHOLE: usize = 60;

/// What lies outside the sheet, as far as it could be looked up. Digests are hexadecimal.
#[derive(Clone, Debug, Default)]
pub struct Outside {
    /// The scene's bytes.
    pub scene: Option<String>,
    /// The files that a scene names: as it spells them, with their bytes.
    pub resources: Vec<(String, Option<String>)>,
    /// Whether it is known which files a scene names.
    pub resources_known: bool,
    /// What an exported scene is made of, where one is exported.
    pub export: Option<Option<String>>,
    /// What the renderer says its version is.
    pub version: Option<String>,
}

/// All that the frames of one series are made of, beside the frame itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Fingerprint {
    /// Name and value, by name.
    pub parts: Vec<(String, String)>,
}

/// One part in which two fingerprints differ.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Difference {
    /// The part.
    pub name: String,
    /// What it was; `None` where it was not given.
    pub was: Option<String>,
    /// What it is now; `None` where it is not given.
    pub is: Option<String>,
}

impl fmt::Display for Difference {
    /// `samples 64, was 32`; of long values only the words that differ.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if [FRAMES, SOUND].contains(&self.name.as_str()) && self.is.is_some() && self.was.is_some() {
            return write!(f, "{} changed since it was made", self.name);
        }
        if let (Some(is), Some(was)) = (&self.is, &self.was)
            && is.len().max(was.len()) > WHOLE
        {
            let only = |own: &str, other: &str| {
                let others: Vec<&str> = other.split(' ').collect();
                own.split(' ').filter(|word| !others.contains(word)).collect::<Vec<_>>().join(" ")
            };
            let (more, less) = (only(is, was), only(was, is));
            let more = if more.is_empty() { String::new() } else { format!(", now with {more}") };
            let less = if less.is_empty() { String::new() } else { format!(", no longer with {less}") };
            return write!(f, "{} differ{more}{less}", self.name);
        }
        let spelt = |value: &Option<String>| value.clone().unwrap_or_else(|| "not given".to_owned());
        write!(f, "{} {}, was {}", self.name, spelt(&self.is), spelt(&self.was))
    }
}

impl Fingerprint {
    /// Puts together what changes the pictures of a series, with its renderer and its exporter.
    #[must_use]
    pub fn of(
        plan: &Plan,
        series: &Series,
        (adapter, exporter): (Option<&Adapter>, Option<&Adapter>),
        outside: &Outside,
    ) -> Fingerprint {
        let job = &plan.jobs[series.job];
        let mut parts = settings(job, adapter, exporter);
        let mut add = |name: &str, value: Option<String>| {
            parts.extend(value.map(|value| (name.to_owned(), value)));
        };
        let or_unknown = |value: &Option<String>| Some(value.clone().unwrap_or_else(|| UNKNOWN.to_owned()));
        add("scene bytes", or_unknown(&outside.scene));
        for (name, digest) in &outside.resources {
            add(&format!("bytes of {name}"), or_unknown(digest));
        }
        add("files of the scene", (!outside.resources_known).then(|| UNKNOWN.to_owned()));
        add("exported scene", outside.export.as_ref().and_then(or_unknown));
        add(RENDERER, or_unknown(&outside.version));
        add("size", series.size.map(|size| size.to_string()));
        let passes: Vec<&str> = series.passes.iter().map(|pass| job.passes[*pass].name.value.as_str()).collect();
        add("pass", Some(passes.join("+")));
        add("layers", (job.layers == Layers::Together).then(|| "together".to_owned()));
        let colours = series.passes.iter().filter_map(|pass| job.passes[*pass].colour);
        add("colour", colours.map(|colour| colour.to_string()).next());
        add("type", series.file_type.map(|known| known.name.to_owned()));
        add("bits", series.bits.map(|bits| bits.to_string()));
        add("channels", series.channels.map(|channels| channels.to_string()));
        if let Some(format) = series.format.as_deref() {
            for option in [FileOption::Compression, FileOption::Quality] {
                add(option.name(), spelt(Some(format), option));
            }
        }
        if let Some(adapter) = adapter {
            add("adapter", Some(adapter.name.clone()));
            add("arguments", Some(arguments(adapter).join(" ")));
        }
        parts.sort();
        Fingerprint { parts }
    }

    /// The same, by a renderer that says this of its version; one that is never asked stays so.
    #[must_use]
    pub fn with_version(mut self, version: &str) -> Fingerprint {
        let own = self.parts.iter_mut().find(|(name, was)| name == RENDERER && was != NOT_ASKED);
        own.into_iter().for_each(|(_, own)| version.clone_into(own));
        self
    }

    /// Puts together what a movie is made of. `bytes` is a digest of all its frames, and one of its sound.
    #[must_use]
    pub fn of_movie(plan: &Plan, movie: &Series, encoder: &str, bytes: (String, Option<String>)) -> Fingerprint {
        let mut parts: Vec<(String, String)> = Vec::new();
        let mut add = |name: &str, value: Option<String>| parts.extend(value.map(|value| (name.to_owned(), value)));
        add(FRAMES, Some(bytes.0));
        add(SOUND, bytes.1);
        add("encoder", Some(encoder.to_owned()));
        let Some(film) = movie.film.as_deref() else { return Fingerprint { parts } };
        let shown = film.clips.iter().map(|clip| {
            let (first, last) = clip.span;
            let held = if clip.gaps == Gaps::Hold { format!(" of {first}-{last}") } else { String::new() };
            let colour = clip.colour.map(|colour| format!(" {colour}")).unwrap_or_default();
            format!("{} {}{held}{colour}", plan.series[clip.series].id, clip.frames)
        });
        add("shows", Some(shown.collect::<Vec<_>>().join(", ")));
        add("fps", film.fps.map(|fps| fps.to_string()));
        add("type", movie.file_type.map(|known| known.name.to_owned()));
        add("codec", film.codec.map(|codec| codec.name.to_owned()));
        add("audio_offset", film.audio.as_ref().map(|_| film.audio_offset.to_string()));
        add("colour", Some(film.colour.to_string()));
        add("over", film.over.map(|over| over.to_string()));
        add("burn", film.burn.clone());
        add("start_timecode", film.start.map(|start| start.to_string()));
        add("size", film.size.map(|size| size.to_string()));
        if let Some(format) = movie.format.as_deref() {
            let own = |option: &FileOption| !matches!(option, FileOption::Type | FileOption::Codec);
            for option in OF_MOVIES.into_iter().filter(own).filter(|own| film.audio.is_some() || !own.is_of_sound()) {
                add(option.name(), spelt(Some(format), option));
            }
        }
        parts.sort();
        Fingerprint { parts }
    }

    /// The same, of frames that are rendered from an exported file with some digest.
    #[must_use]
    pub fn with_product(mut self, digest: &str) -> Fingerprint {
        self.parts.push((PRODUCT.to_owned(), digest.to_owned()));
        self.parts.sort();
        self
    }

    /// The same, for a movie of which only its frames are not known.
    #[must_use]
    pub fn with_frames_unknown(mut self) -> Fingerprint {
        self.parts.iter_mut().filter(|(name, _)| name == FRAMES).for_each(|(_, value)| UNKNOWN.clone_into(value));
        self
    }

    /// Where this one differs from what a frame was made of. Parts that could not be looked up are passed over.
    #[must_use]
    pub fn differences(&self, was: &[(String, String)]) -> Vec<Difference> {
        let value = |parts: &[(String, String)], name: &str| {
            parts.iter().find(|(own, _)| own == name).map(|(_, value)| value.clone())
        };
        let names = self.parts.iter().chain(was).map(|(name, _)| name.as_str()).filter(|name| *name != PRODUCT);
        let names: std::collections::BTreeSet<&str> = names.collect();
        let differing = names.into_iter().filter_map(|name| {
            let (was, is) = (value(was, name), value(&self.parts, name));
            let known = |value: &Option<String>| value.as_deref() != Some(UNKNOWN);
            (was != is && known(&was) && known(&is)).then(|| Difference { name: name.to_owned(), was, is })
        });
        differing.collect()
    }

    /// The parts that could not be looked up.
    pub fn unknown(&self) -> impl Iterator<Item = &str> {
        self.parts.iter().filter(|(_, value)| value == UNKNOWN).map(|(name, _)| name.as_str())
    }
}

/// What was set, and what programs set by themselves where nothing was.
fn settings(job: &Job, adapter: Option<&Adapter>, exporter: Option<&Adapter>) -> Vec<(String, String)> {
    let mut parts: Vec<(String, String)> = Vec::new();
    let mut add = |name: &str, value: Option<String>| {
        parts.extend(value.map(|value| (name.to_owned(), value)));
    };
    // Some enter as they were resolved, below: the scene by its bytes, sizes after scale, file options one by one.
    let resolved = |key: &Key| match key {
        Key::Scene | Key::Size | Key::Scale | Key::Format | Key::Layers | Key::Colour | Key::Passes => true,
        Key::Adapter | Key::Export => true,
        Key::Camera | Key::Fps | Key::PixelAspect | Key::Region | Key::View | Key::Samples => false,
        Key::Frames | Key::Handles | Key::Shift | Key::Path | Key::Version | Key::Threads => false,
        Key::Device | Key::Checkpoint | Key::Audio | Key::Enabled => false,
        Key::Var(_) | Key::Env(_) | Key::Native(_) => false,
    };
    let counts = |key: &Key| match key.row().carrier {
        Carrier::Variables => adapter.into_iter().chain(exporter).any(|own| is_handed_over(job, own, key)),
        _ => key.row().changes == Changes::Picture && !resolved(key),
    };
    for (key, given) in job.given.values.iter().filter(|(key, _)| counts(key)) {
        add(&key.to_string(), Some(given.value.to_string()));
    }
    for (own, of) in [(adapter, ""), (exporter, "exporter ")] {
        let Some(own) = own else { continue };
        let open = |name: &&String| !job.native.contains_key(*name);
        for name in own.natives.keys().filter(open) {
            let left = job.given.leave.contains_key(&Key::Native(name.clone()));
            add(&format!("{of}native.{name}"), own.natives[name].default.clone().filter(|_| !left));
        }
    }
    parts
}

/// The digest of the exported file among the parts of what a frame was made of.
#[must_use]
pub fn product(made: &[(String, String)]) -> Option<&str> {
    made.iter().find(|(name, _)| name == PRODUCT).map(|(_, digest)| digest.as_str())
}

/// How an adapter calls its program, as far as that can change a picture.
#[must_use]
pub fn arguments(adapter: &Adapter) -> Vec<String> {
    let groups = adapter.arguments.iter().map(Argument::templates);
    let own = adapter.natives.values().map(|native| native.arguments.iter().collect());
    let names = adapter.files.values().filter_map(|file| file.file.as_ref());
    let rest = [
        adapter.env.iter().map(|(_, template)| template).collect(),
        adapter.variable.iter().collect(),
        adapter.native.iter().collect(),
        adapter.folder.iter().chain(&adapter.pass_item).chain(names).collect(),
    ];
    let lines = adapter.files.values().flat_map(|file| &file.lines).flat_map(FileLine::templates);
    let counts = |group: &Vec<&Spanned<Template>>| {
        !group.iter().any(|template| HARMLESS.iter().any(|token| template.value.has(token)))
    };
    let all = groups.chain(own).chain(rest).chain(lines.map(|(line, _)| vec![line])).filter(counts);
    let conditions = adapter.conditions.iter().map(|(name, condition)| format!("{name}: {condition:?}"));
    let words = adapter.words.iter().flat_map(|(token, words)| {
        words.iter().map(move |(value, word)| match word {
            Word::Text(word) => format!("{token}.{value}={word}"),
            Word::Arguments(list) => {
                let list = list.iter().flat_map(Argument::templates).map(|template| template.value.to_string());
                format!("{token}.{value}={}", list.collect::<Vec<_>>().join(" "))
            }
        })
    });
    let quotes = adapter.files.iter().filter(|(_, file)| file.language != Language::None);
    let quotes = quotes.map(|(name, file)| format!("{name} in {:?}", file.language));
    let templates = all.flatten().map(|template| template.value.to_string().trim_end().to_owned());
    templates.chain(conditions).chain(words).chain(quotes).chain(adapter.pass_join.clone()).collect()
}

/// Whether the pictures of a job depend on a variable.
fn is_handed_over(job: &Job, adapter: &Adapter, key: &Key) -> bool {
    let Key::Var(name) = key else { return false };
    let uses = |template: &Template| template.has(name) || template.has(&format!("var.{name}"));
    adapter.hands_over(key) || job.native.values().any(|value| Template::parse(value).is_ok_and(|value| uses(&value)))
}

#[cfg(test)]
mod tests {
    use super::{Fingerprint, UNKNOWN};

    fn parts(pairs: &[(&str, &str)]) -> Vec<(String, String)> {
        pairs.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect()
    }

    #[test]
    fn differences_are_said_and_what_is_unknown_is_not_compared() {
        let now = Fingerprint { parts: parts(&[("samples", "64"), ("scene bytes", UNKNOWN), ("vars.weather", "fog")]) };
        let was = parts(&[("samples", "32"), ("scene bytes", "1a"), ("region", "0,0,8,8"), ("vars.weather", "fog")]);
        let said: Vec<String> = now.differences(&was).iter().map(ToString::to_string).collect();
        assert_eq!(said, ["region not given, was 0,0,8,8", "samples 64, was 32"]);
        assert!(now.differences(&now.parts).is_empty());
    }
}
