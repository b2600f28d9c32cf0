//! Jobs to series and calls. Symbolic: a series is a pattern and a set of frames, whatever its length, and
//! calls are made one by one. The same input gives the same plan.

mod call;
pub mod film;
mod rivals;
mod series;

use crate::template::token::PathToken;
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::sync::Arc;
use std::time::Duration;

use wildmatch::WildMatch;

use crate::adapter::Adapter;
use crate::catalogue::{Bits, Channels, FileType};
use crate::frames::{self, Frames, Number, Shift};
use crate::picture::{Asked, OddPolicy};
use crate::pins::{Pins, Wanted};
use crate::resolve::{Home, Job, ResolvedRoot, lookup};
use crate::sheet::{ClusterEntry, Existing, Format, Key, PassKind, RunEntry, Sheet, Size, Version};
use crate::source::Spanned;
use crate::template::{Lookup, Pattern, Template, TokenTrouble};

pub use call::{Call, Still, called_together, calls_for, calls_of, marked, movie_calls, next_to_each_other};
pub use film::Film;
pub use rivals::{others, rivals};

/// What follows from a sheet.
#[derive(Clone, Debug)]
pub struct Plan {
    /// The jobs that take part, in the order of the sheet.
    pub jobs: Vec<Arc<Job>>,
    /// The pictures they write, in the same order.
    pub series: Vec<Series>,
    /// The movies made of them.
    pub movies: Vec<Series>,
    /// The project's name.
    pub project: Option<Spanned<String>>,
    /// Looked-up values.
    pub pins: Pins,
    /// The modes, joined with `-`.
    pub mode: Option<String>,
    /// The same, one by one.
    pub modes: Vec<String>,
    /// The modes that have names of their own, joined with `-`: their files and pins are apart from the final ones.
    pub pin_mode: Option<String>,
    /// The roots of the sheet.
    pub roots: Vec<ResolvedRoot>,
    /// Where the sheet is at home.
    pub home: Home,
    /// How calls are run.
    pub run: RunSettings,
    /// What the sheet says of odd pictures.
    pub policy: OddPolicy,
}

/// `[run]` with nothing left open.
#[derive(Clone, Debug)]
pub struct RunSettings {
    /// Invocations at a time.
    pub workers: usize,
    /// Frames per call.
    pub chunk: i64,
    /// How often a failed call is tried again.
    pub retries: i64,
    /// What to do with files that exist.
    pub existing: Existing,
    /// How long one frame may take.
    pub frame_timeout: Option<Duration>,
    /// How long a renderer may be silent.
    pub silence: Option<Duration>,
    /// How many bytes the log of a call may have.
    pub log_limit: u64,
    /// How long a full disk is waited for.
    pub space_wait: Duration,
    /// Commands to run once the plan is over; `{outcome}` is its only token.
    pub after: Vec<Vec<Template>>,
    /// How often a worker that shares the sheet gives a sign of life.
    pub heartbeat: Duration,
    /// How long a worker may give none until its calls are taken over.
    pub takeover: Duration,
    /// How many licences there are, by name.
    pub licences: BTreeMap<String, i64>,
    /// What is asked of a cluster's scheduler.
    pub cluster: ClusterEntry,
}

impl From<&RunEntry> for RunSettings {
    fn from(entry: &RunEntry) -> RunSettings {
        RunSettings {
            workers: entry.workers.and_then(|n| usize::try_from(n).ok()).unwrap_or(1),
            chunk: entry.chunk.unwrap_or(12),
            retries: entry.retries.unwrap_or(1),
            existing: entry.existing.unwrap_or(Existing::Keep),
            frame_timeout: entry.frame_timeout,
            silence: entry.silence,
            space_wait: entry.space_wait.unwrap_or(Duration::from_secs(60)),
            log_limit: entry.log_limit.unwrap_or(LOG_LIMIT),
            after: entry.after.iter().flatten().map(|command| command.value.clone()).collect(),
            heartbeat: entry.heartbeat.unwrap_or(Duration::from_secs(15)),
            takeover: entry.takeover.unwrap_or(TAKEOVER),
            licences: entry.licences.clone(),
            cluster: entry.cluster.clone(),
        }
    }
}

/// After how long without a sign of life a member's calls are taken over, unless a sheet says otherwise.
pub const TAKEOVER: Duration = Duration::from_secs(90);
/// The most bytes of a log, unless a sheet says otherwise.
const LOG_LIMIT: u64 = 64_000_000;

/// The frame that stands for the one file of a movie.
pub const MOVIE: i64 = 1;

/// Whether a series is one file or many.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SeriesKind {
    /// A file per frame.
    Sequence,
    /// One picture.
    Still,
    /// One file with all frames.
    Movie,
}

/// The files that one job writes under one pattern.
#[derive(Clone, Debug)]
pub struct Series {
    /// `job/pass` and `@mode`; all passes joined with `+` where they share a file; a movie by its own name.
    pub id: String,
    /// Index into [`Plan::jobs`].
    pub job: usize,
    /// Indices into the job's passes: one, or all where they share a file.
    pub passes: Vec<usize>,
    /// Sequence or still.
    pub kind: SeriesKind,
    /// Absolute names; empty where there is no path or it has troubles.
    pub pattern: Pattern,
    /// The path's template and place.
    pub path: Option<Spanned<Arc<Template>>>,
    /// Tokens that could not be expanded.
    pub troubles: Vec<TokenTrouble>,
    /// Index into [`Plan::roots`] of the root the files lie below.
    pub root: Option<usize>,
    /// Of several passes in one file, what the format of each asks for: depth and channels, by pass.
    pub inside: Vec<(Option<Bits>, Option<Channels>)>,
    /// Where the files lie, the same on every machine: the pattern from its root on, with the root's name in place of its
    /// path. Journals know series by it.
    pub place: String,
    /// The job's frames; `None` where they are unknown.
    pub frames: Option<Frames>,
    /// Whether a part of the path has nothing in it, because what stands there has no value.
    pub hollow: bool,
    /// Added to the frame in names.
    pub shift: Shift,
    /// The file options.
    pub format: Option<Arc<Format>>,
    /// Whether its format is one that nothing defines or whose type could not be read: said once.
    pub format_lost: bool,
    /// The type of the files.
    pub file_type: Option<&'static FileType>,
    /// Depth of a sample, where the sheet gives it.
    pub bits: Option<Bits>,
    /// Channels, where the sheet gives them.
    pub channels: Option<Channels>,
    /// Size in pixels, where anything says it.
    pub size: Option<Size>,
    /// How it is made, of a movie.
    pub film: Option<Arc<Film>>,
}

impl Series {
    /// How many files it has; `None` where its frames are unknown.
    #[must_use]
    pub fn count(&self) -> Option<i64> {
        if self.kind == SeriesKind::Movie { Some(1) } else { self.frames.as_ref().map(Frames::count) }
    }

    /// Whether every name of it is known.
    #[must_use]
    pub fn is_known(&self) -> bool {
        let counted = self.frames.is_some() || self.kind == SeriesKind::Movie;
        self.troubles.is_empty() && !self.pattern.pieces().is_empty() && counted
    }

    /// Whether it is a movie of which all is known that has to be known to make it.
    #[must_use]
    pub fn is_makeable(&self) -> bool {
        self.is_known() && self.film.as_deref().is_some_and(Film::is_known)
    }

    /// A movie's own name, without its job.
    #[must_use]
    pub fn own_name<'s>(&'s self, plan: &Plan) -> &'s str {
        let own = self.id.strip_prefix(plan.jobs[self.job].name.as_str()).and_then(|rest| rest.strip_prefix('/'));
        let own = own.unwrap_or(&self.id);
        own.split('@').next().unwrap_or(own)
    }

    /// The file of one of the job's frames.
    #[must_use]
    pub fn name(&self, frame: i64) -> String {
        self.pattern.name(self.number(frame))
    }

    /// The number in the name of one of the job's frames.
    ///
    /// # Panics
    /// For a frame that no sheet can have: beyond [`frames::MOST`] many times over.
    #[must_use]
    pub fn number(&self, frame: i64) -> Number {
        self.shift.number(frame).expect("frames and shifts are bounded where they are read")
    }

    /// The frame whose name has a number; `None` where it is none of its own.
    #[must_use]
    pub fn frame_of(&self, number: Number) -> Option<i64> {
        let frame = self.shift.frame(number)?;
        self.frames.as_ref().is_some_and(|frames| frames.contains(frame)).then_some(frame)
    }

    /// Its frames whose names are among some names of files in its folder.
    #[must_use]
    pub fn among(&self, names: &BTreeSet<String>) -> HashSet<i64> {
        let (_, file) = self.pattern.split_folder();
        let first = self.frames.as_ref().and_then(Frames::first).unwrap_or(MOVIE);
        let frame = |number| if file.frame_width().is_some() { self.frame_of(number) } else { Some(first) };
        names.iter().filter_map(|name| frame(file.read(name)?)).collect()
    }

    /// The frames as numbered in names.
    #[must_use]
    pub fn numbers(&self) -> Option<Frames> {
        self.frames.as_ref().map(|frames| frames.shifted(self.shift.0))
    }

    /// Lists every name, each followed by `end`, through `buffer`; see [`Pattern::list`].
    pub fn list(&self, end: u8, buffer: &mut Vec<u8>, hand_on: &mut dyn FnMut(&mut Vec<u8>) -> bool) -> bool {
        if self.pattern.frame_width().is_none() {
            let once = frames::FrameRun { first: 0, step: 1, count: self.count().unwrap_or(0).min(1) };
            return self.pattern.list(once, end, buffer, hand_on);
        }
        let Some(numbers) = self.numbers() else { return true };
        numbers.sequential().all(|run| self.pattern.list(run, end, buffer, hand_on))
    }

    /// The files' names with their frames, one by one.
    pub fn files(&self) -> impl Iterator<Item = (i64, String)> + '_ {
        self.frames.iter().flat_map(Frames::iter).map(|frame| (frame, self.name(frame)))
    }
}

impl Plan {
    /// What it writes, by number: its series, then its movies.
    ///
    /// # Panics
    /// When there are not so many.
    #[must_use]
    pub fn output(&self, at: usize) -> &Series {
        self.series.get(at).unwrap_or_else(|| &self.movies[at - self.series.len()])
    }

    /// The version that a job's names have, looked up where the sheet does not give a number.
    #[must_use]
    pub fn version_of(&self, job: &Job) -> Option<i64> {
        job.version_number(&self.pins, self.pin_mode.as_deref())
    }

    /// What the passes in the files of a series are called in names.
    #[must_use]
    pub fn labels(&self, series: &Series) -> Vec<&str> {
        series.passes.iter().map(|pass| self.jobs[series.job].passes[*pass].label.as_str()).collect()
    }

    /// What is asked of the pictures of a series.
    #[must_use]
    pub fn asked(&self, series: &Series) -> Asked {
        let first = series.passes.first().map(|pass| &self.jobs[series.job].passes[*pass]);
        let channels = series.inside.first().map_or(series.channels, |(_, channels)| *channels);
        Asked {
            colour: first.is_some_and(|pass| pass.kind == PassKind::Colour),
            alpha: matches!(channels, Some(Channels::Rgba | Channels::GreyAlpha)),
        }
    }

    /// Whether a path is a name of this plan, also of frames that are not asked for now.
    #[must_use]
    pub fn is_named(&self, path: &str) -> bool {
        self.series.iter().chain(&self.movies).any(|series| {
            let frames = self.jobs[series.job].own_frames.as_ref();
            let owns = |number| series.shift.frame(number).zip(frames).is_some_and(|(frame, own)| own.contains(frame));
            series.pattern.read(path).is_some_and(|number| series.pattern.frame_width().is_none() || owns(number))
        })
    }

    /// All that it writes, with its number: its series, then its movies.
    pub fn outputs(&self) -> impl Iterator<Item = (usize, &Series)> {
        self.series.iter().chain(&self.movies).enumerate()
    }

    /// How many outputs it has.
    #[must_use]
    pub fn outputs_count(&self) -> usize {
        self.series.len() + self.movies.len()
    }

    /// The series of one job, as indices into [`Plan::series`].
    #[must_use]
    pub fn series_of(&self, job: usize) -> std::ops::Range<usize> {
        let start = self.series.partition_point(|series| series.job < job);
        start..self.series.partition_point(|series| series.job <= job)
    }
}

/// Which jobs and passes take part.
#[derive(Clone, Debug, Default)]
pub struct Selection {
    /// Jobs by name, `*` and `?` allowed; empty for all enabled ones.
    pub jobs: Vec<String>,
    /// Only jobs with this camera.
    pub cameras: Vec<String>,
    /// Only these passes.
    pub passes: Vec<String>,
}

impl Selection {
    /// Whether it takes every enabled job with all its passes.
    #[must_use]
    pub fn is_everything(&self) -> bool {
        self.jobs.is_empty() && self.cameras.is_empty() && self.passes.is_empty()
    }

    /// Whether the jobs asked for by name hold a job or its entry.
    #[must_use]
    pub fn names(&self, name: &str, entry: &str) -> bool {
        self.jobs.iter().any(|pattern| matches(pattern, name) || matches(pattern, entry))
    }

    /// Whether a job takes part. Named jobs do even when they are not enabled.
    #[must_use]
    pub fn takes(&self, job: &Job) -> bool {
        let camera =
            self.cameras.is_empty() || job.camera.as_deref().is_some_and(|name| self.cameras.iter().any(|c| c == name));
        camera && if self.jobs.is_empty() { job.enabled } else { self.names(&job.name, &job.job) }
    }
}

/// Whether `name` fits a pattern with `*` (any text) and `?` (any character).
#[must_use]
pub fn matches(pattern: &str, name: &str) -> bool {
    WildMatch::new(pattern).matches(name)
}

/// All that a plan is made of, beside its jobs.
#[derive(Clone, Copy, Debug)]
pub struct PlanInput<'g> {
    /// The sheet.
    pub sheet: &'g Sheet,
    /// Its roots.
    pub roots: &'g [ResolvedRoot],
    /// Where it is at home.
    pub home: &'g Home,
    /// The modes that were laid over the jobs.
    pub modes: &'g [String],
    /// Looked-up values.
    pub pins: &'g Pins,
    /// Whether versions are being looked for on disk.
    pub looking: bool,
}

/// Makes the plan of the selected jobs.
#[must_use]
pub fn plan(ground: PlanInput<'_>, jobs: &[Arc<Job>], selection: &Selection) -> Plan {
    let (all, variables) = (jobs, variables(jobs));
    let jobs: Vec<Arc<Job>> = jobs.iter().filter(|job| selection.takes(job)).cloned().collect();
    let mode = (!ground.modes.is_empty()).then(|| ground.modes.join("-"));
    let modes = ground.modes.to_vec();
    let mut plan = Plan {
        jobs,
        series: Vec::new(),
        movies: Vec::new(),
        mode,
        modes,
        pin_mode: pin_mode(ground.sheet, ground.modes),
        project: ground.sheet.project.clone(),
        pins: ground.pins.clone(),
        roots: ground.roots.to_vec(),
        home: ground.home.clone(),
        run: RunSettings::from(&ground.sheet.run),
        policy: policy(ground.sheet),
    };
    let wanted = |series: &Series| {
        let passes = series.passes.iter().map(|pass| &plan.jobs[series.job].passes[*pass]);
        selection.passes.is_empty()
            || passes.flat_map(|pass| [&pass.label, &pass.name.value]).any(|name| selection.passes.contains(name))
    };
    let maker = series::Maker { ground, plan: &plan, variables: &variables };
    let of_jobs = plan.jobs.iter().enumerate();
    let series: Vec<Series> = of_jobs.clone().flat_map(|(at, job)| maker.pictures(at, job)).filter(wanted).collect();
    // Whoever asks for some frames only asks for no movie: one of them would bear the whole one's name.
    let whole = of_jobs.clone().filter(|(_, job)| !job.is_asked);
    let movies: Vec<Series> = whole
        .flat_map(|(at, job)| job.movies.iter().map(move |movie| (at, movie)))
        .filter(|(_, movie)| maker.takes_whole(all, movie))
        .map(|(at, movie)| maker.movie(at, movie, &series))
        .filter(wanted)
        .collect();
    plan.series = series;
    plan.movies = movies;
    plan
}

fn policy(sheet: &Sheet) -> OddPolicy {
    let mut policy = OddPolicy::default();
    for rule in &sheet.checks {
        policy.set(&rule.check.value, rule.level, rule.limit);
    }
    policy
}

/// Every token of paths with its value for one series: built-in ones, roots and variables.
#[must_use]
pub fn tokens(ground: PlanInput<'_>, plan: &Plan, series: &Series) -> Vec<(String, Lookup)> {
    let variables = variables(&plan.jobs);
    let maker = series::Maker { ground, plan, variables: &variables };
    let job = &plan.jobs[series.job];
    let movie = job.movies.iter().find(|movie| series.kind == SeriesKind::Movie && series.path == movie.pass.path);
    let own = || series.passes.first().and_then(|pass| job.passes.get(*pass));
    let Some(pass) = movie.map(|movie| &movie.pass).or_else(own) else { return Vec::new() };
    let names = PathToken::names().map(str::to_owned);
    let names = names.chain(plan.roots.iter().map(|root| root.name.clone())).chain(variables.iter().cloned());
    names.map(|name| (name.clone(), lookup(maker.seen(job, pass, series.passes.len() > 1), &name))).collect()
}

fn variables(jobs: &[Arc<Job>]) -> BTreeSet<String> {
    let keys = jobs.iter().flat_map(|job| job.given.values.keys());
    keys.filter_map(|key| if let Key::Var(name) = key { Some(name.clone()) } else { None }).collect()
}

/// The modes that have names of their own, joined with `-`: those that are not final.
#[must_use]
pub fn pin_mode(sheet: &Sheet, modes: &[String]) -> Option<String> {
    let apart: Vec<&str> = modes.iter().filter(|name| !sheet.is_final(name)).map(String::as_str).collect();
    (!apart.is_empty()).then(|| apart.join("-"))
}

/// What the paths of jobs, and the lines below their movies, want looked up.
#[must_use]
pub fn wanted<'j>(jobs: impl IntoIterator<Item = &'j Arc<Job>>) -> Wanted {
    let mut all = Wanted::default();
    for job in jobs {
        // What one job needs, its entry needs.
        let mut wanted = all.jobs.get(&job.job).copied().unwrap_or_default();
        let paths =
            job.passes.iter().chain(job.movies.iter().map(|movie| &movie.pass)).filter_map(|pass| pass.path.as_ref());
        let lines = job.movies.iter().filter_map(|movie| movie.entry.burn.as_ref());
        for token in paths.chain(lines).flat_map(|path| path.value.tokens()) {
            match token.name.as_str() {
                "date" | "time" => wanted.clock = true,
                "user" => wanted.user = true,
                "host" => wanted.host = true,
                _ => {}
            }
        }
        match job.version {
            Some(Version::Number(version)) => wanted.given = Some(version),
            Some(version) => wanted.version = Some(version == Version::Next),
            None => {}
        }
        all.add(&job.job, wanted);
    }
    all
}

/// The adapter of each job, by the names that jobs use.
pub type Adapters = BTreeMap<String, Adapter>;
