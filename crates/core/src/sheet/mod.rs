//! A sheet as written: every value optional and with its place. Reading never stops at the first mistake.

pub mod cluster;
pub mod entries;
mod file_option;
pub mod layer;
mod likely;
pub mod machine;
pub mod parse;
pub(crate) mod read;
pub mod schema;
pub mod setting;
pub mod tables;

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

pub use self::read::MOST_WORKERS;
use crate::catalogue::{AsWritten, AudioCodec, Bits, Channels, Chroma, Codec, Compression, Effort};
use crate::diagnostic::Level;
use crate::frames::FrameExpr;
use crate::source::{FileId, Place, Spanned};
use crate::template::Template;
pub use cluster::ClusterEntry;
pub use file_option::{FileOption, OF_MOVIES, OF_PICTURES, spelt};
pub use layer::{Given, Layer, Settings};
pub use setting::{Checkpoint, Colour, Fps, Key, Layers, PassEntry, Setting, Size, Version};

/// The version of the sheet language that is read here.
pub const LANGUAGE: i64 = 1;

/// One sheet, or a part of one.
#[derive(Clone, Debug, Default)]
pub struct Sheet {
    /// The text it was read from.
    pub file: FileId,
    /// Sheets laid below this one, in order.
    pub from: Vec<Spanned<String>>,
    /// `[project] name`.
    pub project: Option<Spanned<String>>,
    /// `[roots]`.
    pub roots: Vec<Root>,
    /// `[formats.*]`.
    pub formats: Vec<Format>,
    /// `[passes.*]`.
    pub passes: Vec<PassTable>,
    /// `[defaults]`.
    pub defaults: Settings,
    /// `[bases.*]`.
    pub bases: Vec<Base>,
    /// `[modes.*]`.
    pub modes: Vec<Mode>,
    /// `[[job]]`.
    pub jobs: Vec<JobEntry>,
    /// `[[movie]]`.
    pub movies: Vec<MovieEntry>,
    /// `[policy]`.
    pub policy: Policy,
    /// `[checks]`.
    pub checks: Vec<CheckRule>,
    /// `[[allow]]`.
    pub allow: Vec<AllowEntry>,
    /// `[run]`.
    pub run: RunEntry,
}

impl Sheet {
    /// Whether a mode means the final names.
    #[must_use]
    pub fn is_final(&self, mode: &str) -> bool {
        self.modes.iter().any(|own| own.name.value == mode && own.is_final)
    }
}

/// A named base folder, as written for each system.
#[derive(Clone, Debug)]
pub struct Root {
    /// Its name, which is a token too.
    pub name: Spanned<String>,
    /// One path for all systems, or one for some of them.
    pub paths: RootPaths,
}

/// Where a root is.
#[derive(Clone, Debug)]
pub enum RootPaths {
    /// The same everywhere.
    Same(Spanned<String>),
    /// By system: `linux`, `macos`, `windows`.
    BySystem(Vec<(System, Spanned<String>)>),
}

/// The systems that names are made for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum System {
    /// Linux.
    Linux,
    /// macOS.
    Macos,
    /// Windows.
    Windows,
}

/// All systems with their names.
pub const SYSTEMS: [(&str, System); 3] =
    [("linux", System::Linux), ("macos", System::Macos), ("windows", System::Windows)];

/// A named set of file options.
#[derive(Clone, Debug)]
pub struct Format {
    /// Its name.
    pub name: Spanned<String>,
    /// The file type's name, known to the catalogue.
    pub kind: Option<Spanned<String>>,
    /// Whether a type was given that could not be read.
    pub kind_unread: bool,
    /// Depth of a sample.
    pub bits: Option<Spanned<Bits>>,
    /// Channels.
    pub channels: Option<Spanned<Channels>>,
    /// Compression, in the catalogue's word.
    pub compression: Option<Spanned<AsWritten<Compression>>>,
    /// 0 to 100.
    pub quality: Option<Spanned<i64>>,
    /// The codec of a movie.
    pub codec: Option<Spanned<AsWritten<&'static Codec>>>,
    /// The chroma layout of a movie: `420`, `422` or `444`.
    pub chroma: Option<Spanned<Chroma>>,
    /// How hard a movie's encoder tries for a smaller file: low, normal or high.
    pub effort: Option<Spanned<Effort>>,
    /// The codec of a movie's sound.
    pub audio_codec: Option<Spanned<AsWritten<&'static AudioCodec>>>,
    /// The quality of a movie's sound, 0 to 100.
    pub audio_quality: Option<Spanned<i64>>,
}

impl Format {
    /// A format that gives nothing yet.
    #[must_use]
    pub fn named(name: Spanned<String>) -> Format {
        Format {
            name,
            kind: None,
            kind_unread: false,
            bits: None,
            channels: None,
            compression: None,
            quality: None,
            codec: None,
            chroma: None,
            effort: None,
            audio_codec: None,
            audio_quality: None,
        }
    }
}

/// What a pass is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PassKind {
    /// Looks like something: light and colour.
    Colour,
    /// Numbers: depth, normals.
    Data,
    /// Coverage, 0 to 1.
    Mask,
}

/// The kinds of passes with their names.
pub const PASS_KINDS: [(&str, PassKind); 3] =
    [("colour", PassKind::Colour), ("data", PassKind::Data), ("mask", PassKind::Mask)];

/// `[passes.NAME] kind`.
#[derive(Clone, Debug)]
pub struct PassTable {
    /// The pass.
    pub name: Spanned<String>,
    /// What it is.
    pub kind: Option<PassKind>,
}

/// A named starting point for jobs.
#[derive(Clone, Debug)]
pub struct Base {
    /// Its name.
    pub name: Spanned<String>,
    /// The base below it.
    pub like: Option<Spanned<String>>,
    /// What it gives.
    pub settings: Settings,
}

/// A named set of settings laid over every job for one call.
#[derive(Clone, Debug)]
pub struct Mode {
    /// Its name.
    pub name: Spanned<String>,
    /// Whether it means the final names.
    pub is_final: bool,
    /// What it gives.
    pub settings: Settings,
}

/// A movie made of a sequence, as written.
#[derive(Clone, Debug)]
pub struct MovieEntry {
    /// Its name.
    pub name: Spanned<String>,
    /// The jobs whose frames it shows.
    pub of: Vec<Spanned<String>>,
    /// Whether those are shown one after another in one movie, as a list asks for.
    pub is_reel: bool,
    /// The pass it shows; the first one when left out.
    pub pass: Option<Spanned<String>>,
    /// Which of the job's frames; all when left out.
    pub frames: Option<Spanned<FrameExpr>>,
    /// Its file options.
    pub format: Option<Spanned<String>>,
    /// How its pixels are stored: linear (scene-linear) or display (display-encoded).
    pub colour: Option<Spanned<Colour>>,
    /// Its path.
    pub path: Option<Spanned<Arc<Template>>>,
    /// Its rate; the job's when left out.
    pub fps: Option<Spanned<Fps>>,
    /// Its sound; the job's when left out.
    pub audio: Option<Spanned<String>>,
    /// Seconds by which the sound begins later than the picture; earlier where they are less than none.
    pub audio_offset: Option<Spanned<f64>>,
    /// What becomes of frames that the job leaves out.
    pub gaps: Option<Spanned<Gaps>>,
    /// Its size; that of the frames when left out.
    pub size: Option<Spanned<Size>>,
    /// Percent of the frames' size.
    pub scale: Option<Spanned<f64>>,
    /// What shows through where a frame is transparent and the movie cannot be.
    pub over: Option<Spanned<Backdrop>>,
    /// A line of text below the picture.
    pub burn: Option<Spanned<Arc<Template>>>,
    /// The timecode of its first frame.
    pub start_timecode: Option<Spanned<String>>,
    /// Its encoder; the first that can do it when left out.
    pub adapter: Option<Spanned<String>>,
}

impl MovieEntry {
    /// A movie with a name and nothing else.
    #[must_use]
    pub fn named(name: Spanned<String>) -> MovieEntry {
        MovieEntry {
            name,
            of: Vec::new(),
            is_reel: false,
            pass: None,
            frames: None,
            format: None,
            colour: None,
            path: None,
            fps: None,
            audio: None,
            audio_offset: None,
            gaps: None,
            size: None,
            scale: None,
            over: None,
            burn: None,
            start_timecode: None,
            adapter: None,
        }
    }
}

/// What becomes of frames that are not there to be shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Gaps {
    /// No movie is made.
    Refuse,
    /// The frame before is shown for as long.
    Hold,
    /// The next one follows at once.
    Close,
}

/// The ways with gaps, with their names.
pub const GAPS: [(&str, Gaps); 3] = [("refuse", Gaps::Refuse), ("hold", Gaps::Hold), ("close", Gaps::Close)];

/// What lies behind transparent pictures.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Backdrop {
    /// A colour, as it is displayed.
    Colour([u8; 3]),
    /// Squares of two greys.
    Checker,
}

impl Backdrop {
    /// Reads `black`, `checker` or `#rrggbb`.
    #[must_use]
    pub fn parse(text: &str) -> Option<Backdrop> {
        match text {
            "black" => Some(Backdrop::Colour([0; 3])),
            "checker" => Some(Backdrop::Checker),
            _ => {
                let digits = text.strip_prefix('#').filter(|digits| digits.len() == 6 && digits.is_ascii())?;
                let number = u32::from_str_radix(digits, 16).ok().filter(|_| !digits.starts_with('+'))?;
                let [_, red, green, blue] = number.to_be_bytes();
                Some(Backdrop::Colour([red, green, blue]))
            }
        }
    }
}

impl std::fmt::Display for Backdrop {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Backdrop::Colour([0, 0, 0]) => f.write_str("black"),
            Backdrop::Colour([red, green, blue]) => write!(f, "#{red:02x}{green:02x}{blue:02x}"),
            Backdrop::Checker => f.write_str("checker"),
        }
    }
}

/// What a sheet says of a check, as written under `[checks]`.
#[derive(Clone, Debug)]
pub struct CheckRule {
    /// The check.
    pub check: Spanned<String>,
    /// The level of its findings; `None` turns it off.
    pub level: Option<Level>,
    /// From where on it finds something, for those checks that have such a limit.
    pub limit: Option<f64>,
}

/// A finding that is meant, as written under `[[allow]]`.
#[derive(Clone, Debug)]
pub struct AllowEntry {
    /// The check.
    pub check: Spanned<String>,
    /// The job, `*` and `?` allowed; all when left out.
    pub job: Option<Spanned<String>>,
    /// Why it is allowed.
    pub because: String,
    /// The entry.
    pub at: Place,
}

/// A job as written.
#[derive(Clone, Debug)]
pub struct JobEntry {
    /// Its name; without one the scene's is used.
    pub name: Option<Spanned<String>>,
    /// Its base.
    pub like: Option<Spanned<String>>,
    /// Its jobs: what `each` varies.
    pub each: Option<Each>,
    /// What it gives itself.
    pub settings: Settings,
    /// The job's header.
    pub at: Place,
}

/// The jobs of an entry.
#[derive(Clone, Debug)]
pub enum Each {
    /// A job for every combination of the values.
    Table(Vec<(Spanned<Key>, Vec<Given>)>),
    /// A job for every row.
    Rows(Vec<Settings>),
}

impl JobEntry {
    /// Puts the scenes that fit a pattern under `each` in its place; `find` knows them. The patterns that nothing fits, with
    /// their places: they are taken out.
    pub fn fill_scenes(&mut self, find: &dyn Fn(&str, Place) -> Vec<String>) -> Vec<(String, Place)> {
        let Some(Each::Table(axes)) = &mut self.each else { return Vec::new() };
        let mut empty = Vec::new();
        for (_, values) in axes.iter_mut().filter(|(key, _)| key.value == Key::Scene) {
            let mut filled: Vec<Given> = Vec::new();
            for given in values.drain(..) {
                let pattern = match (&*given.value, given.at) {
                    (Setting::Text(text), Some(at)) if parse::is_pattern(text) => Some((text.clone(), at)),
                    _ => None,
                };
                let Some((pattern, at)) = pattern else {
                    filled.push(given);
                    continue;
                };
                let found = find(&pattern, at);
                if found.is_empty() {
                    empty.push((pattern, at));
                }
                // One that fits two patterns is one scene.
                let is_new =
                    |scene: &String, all: &[Given]| !all.iter().any(|own| *own.value == Setting::Text(scene.clone()));
                for scene in found {
                    if is_new(&scene, &filled) {
                        filled.push(Given { value: Arc::new(Setting::Text(scene)), ..given.clone() });
                    }
                }
            }
            *values = filled;
        }
        empty
    }
}

/// Where outputs may lie and how they may be called.
#[derive(Clone, Debug, Default)]
pub struct Policy {
    /// Roots that outputs lie below; all roots when left out.
    pub within: Option<Vec<Spanned<String>>>,
    /// Folders that no output may be in.
    pub never: Vec<Spanned<String>>,
    /// A regular expression for each part of a path below its root.
    pub spelling: Option<Spanned<String>>,
    /// Tokens that every path must have.
    pub tokens: Vec<Spanned<String>>,
    /// Systems that names are made for; all when left out.
    pub systems: Option<Vec<System>>,
    /// Whether members that share the sheet must have programs of one version.
    pub one_version: Option<bool>,
}

/// What becomes of files that are already there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Existing {
    /// Good ones stay, and so do wrong ones, which are named.
    Keep,
    /// Wrong ones are rendered again.
    Renew,
    /// All are rendered again.
    Replace,
    /// Start nothing if any planned file exists.
    Stop,
}

/// All ways with existing files, with their names.
pub const EXISTING: [(&str, Existing); 4] =
    [("keep", Existing::Keep), ("renew", Existing::Renew), ("replace", Existing::Replace), ("stop", Existing::Stop)];

/// Whether a text has anything of a sheet: a line that gives one of its keys or begins one of its tables. Of any other file
/// nothing is shown.
#[must_use]
pub fn looks_like_one(text: &str) -> bool {
    let is_key = |line: &str| {
        let line = line.trim_start().trim_start_matches('[');
        let end = line.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(line.len());
        let (name, rest) = line.split_at(end);
        tables::TABLES.contains(&name) && rest.trim_start().starts_with(['=', ']', '.'])
    };
    text.lines().any(is_key)
}

/// `[run]`, as written.
#[derive(Clone, Debug, Default)]
pub struct RunEntry {
    /// Invocations at a time.
    pub workers: Option<i64>,
    /// Frames per call.
    pub chunk: Option<i64>,
    /// How often a failed call is tried again.
    pub retries: Option<i64>,
    /// What to do with files that exist.
    pub existing: Option<Existing>,
    /// How long one frame may take.
    pub frame_timeout: Option<Duration>,
    /// How long a renderer may be silent.
    pub silence: Option<Duration>,
    /// How many bytes the log of a call may have.
    pub log_limit: Option<u64>,
    /// How long a full disk is waited for.
    pub space_wait: Option<Duration>,
    /// Commands to run once the plan is over.
    pub after: Option<Vec<Spanned<Vec<Template>>>>,
    /// How often a worker that shares the sheet gives a sign of life.
    pub heartbeat: Option<Duration>,
    /// How long a worker may give none until its calls are taken over.
    pub takeover: Option<Duration>,
    /// How many licences there are, by name.
    pub licences: BTreeMap<String, i64>,
    /// `[run.cluster]`.
    pub cluster: ClusterEntry,
}

impl Sheet {
    /// This sheet laid over a lower one: entries of the same name replace, settings are layered, lists follow on.
    #[must_use]
    pub fn over(self, below: Sheet) -> Sheet {
        fn named<T>(upper: Vec<T>, lower: Vec<T>, name: impl Fn(&T) -> &str) -> Vec<T> {
            let mut all: Vec<T> =
                lower.into_iter().filter(|old| !upper.iter().any(|new| name(new) == name(old))).collect();
            all.extend(upper);
            all
        }
        let (policy, low) = (self.policy, below.policy);
        Sheet {
            file: self.file,
            from: self.from,
            project: self.project.or(below.project),
            roots: named(self.roots, below.roots, |root| &root.name.value),
            formats: named(self.formats, below.formats, |format| &format.name.value),
            passes: named(self.passes, below.passes, |pass| &pass.name.value),
            defaults: self.defaults.over(&below.defaults),
            bases: named(self.bases, below.bases, |base| &base.name.value),
            modes: named(self.modes, below.modes, |mode| &mode.name.value),
            jobs: below.jobs.into_iter().chain(self.jobs).collect(),
            movies: below.movies.into_iter().chain(self.movies).collect(),
            policy: Policy {
                within: policy.within.or(low.within),
                never: low.never.into_iter().chain(policy.never).collect(),
                spelling: policy.spelling.or(low.spelling),
                tokens: if policy.tokens.is_empty() { low.tokens } else { policy.tokens },
                systems: policy.systems.or(low.systems),
                one_version: policy.one_version.or(low.one_version),
            },
            checks: below.checks.into_iter().chain(self.checks).collect(),
            allow: below.allow.into_iter().chain(self.allow).collect(),
            run: RunEntry {
                workers: self.run.workers.or(below.run.workers),
                chunk: self.run.chunk.or(below.run.chunk),
                retries: self.run.retries.or(below.run.retries),
                existing: self.run.existing.or(below.run.existing),
                frame_timeout: self.run.frame_timeout.or(below.run.frame_timeout),
                silence: self.run.silence.or(below.run.silence),
                space_wait: self.run.space_wait.or(below.run.space_wait),
                log_limit: self.run.log_limit.or(below.run.log_limit),
                after: self.run.after.or(below.run.after),
                heartbeat: self.run.heartbeat.or(below.run.heartbeat),
                takeover: self.run.takeover.or(below.run.takeover),
                licences: below.run.licences.into_iter().chain(self.run.licences).collect(),
                cluster: self.run.cluster.over(below.run.cluster),
            },
        }
    }
}
