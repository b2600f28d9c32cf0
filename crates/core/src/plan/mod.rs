//! Jobs to series and invocations. Symbolic: a series is a pattern and a set of frames, whatever its length, and
//! invocations are made one by one. The same input gives the same plan.

mod invocation;
mod series;

use std::collections::BTreeSet;

use crate::adapter::Adapter;
use crate::catalogue::{Bits, Channels, FileType};
use crate::frames::Frames;
use crate::resolve::{Home, Job, ResolvedRoot};
use crate::sheet::{Existing, Key, RunEntry, Setting, Sheet, Size};
use crate::source::Spanned;
use crate::template::{Pattern, Template, Trouble};

pub use invocation::{Invocation, invocations, next_to_each_other};

/// What follows from a sheet.
#[derive(Clone, Debug)]
pub struct Plan {
    /// The jobs that take part, in the order of the sheet.
    pub jobs: Vec<Job>,
    /// The files they write, in the same order.
    pub series: Vec<Series>,
    /// The roots of the sheet.
    pub roots: Vec<ResolvedRoot>,
    /// Where the sheet is at home.
    pub home: Home,
    /// How it is run.
    pub run: Run,
}

/// `[run]` with nothing left open.
#[derive(Clone, Copy, Debug)]
pub struct Run {
    /// Invocations at a time.
    pub workers: usize,
    /// Frames per invocation.
    pub chunk: i64,
    /// How often a failed invocation is tried again.
    pub retries: i64,
    /// What becomes of files that are there.
    pub existing: Existing,
}

impl From<&RunEntry> for Run {
    fn from(entry: &RunEntry) -> Run {
        Run {
            workers: entry.workers.and_then(|n| usize::try_from(n).ok()).unwrap_or(1),
            chunk: entry.chunk.unwrap_or(12),
            retries: entry.retries.unwrap_or(1),
            existing: entry.existing.unwrap_or(Existing::Keep),
        }
    }
}

/// Whether a series is one file or many.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SeriesKind {
    /// A file per frame.
    Sequence,
    /// One picture.
    Still,
}

/// The files that one job writes under one pattern.
#[derive(Clone, Debug)]
pub struct Series {
    /// `combination/pass`; all passes joined with `+` where they share a file.
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
    pub path: Option<Spanned<Template>>,
    /// Tokens that could not be expanded.
    pub troubles: Vec<Trouble>,
    /// Index into [`Plan::roots`] of the root the files lie below.
    pub root: Option<usize>,
    /// The job's frames; `None` where they are unknown.
    pub frames: Option<Frames>,
    /// Added to the frame in names.
    pub shift: i64,
    /// The type of the files.
    pub file_type: Option<&'static FileType>,
    /// Depth of a sample, where the sheet gives it.
    pub bits: Option<Bits>,
    /// Channels, where the sheet gives them.
    pub channels: Option<Channels>,
    /// Size in pixels, where anything says it.
    pub size: Option<Size>,
}

impl Series {
    /// Whether every name of it is known.
    #[must_use]
    pub fn is_known(&self) -> bool {
        self.troubles.is_empty() && !self.pattern.pieces().is_empty() && self.frames.is_some()
    }

    /// The file of one of the job's frames.
    #[must_use]
    pub fn name(&self, frame: i64) -> String {
        self.pattern.name(frame.saturating_add(self.shift))
    }

    /// The frames as numbered in names.
    #[must_use]
    pub fn numbers(&self) -> Option<Frames> {
        self.frames.as_ref().map(|frames| frames.shifted(self.shift))
    }

    /// The files' names with their frames, one by one.
    pub fn files(&self) -> impl Iterator<Item = (i64, String)> + '_ {
        self.frames.iter().flat_map(Frames::iter).map(|frame| (frame, self.name(frame)))
    }
}

impl Plan {
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
    /// Jobs or combinations by name, `*` and `?` allowed; empty for all enabled ones.
    pub jobs: Vec<String>,
    /// Only jobs with this camera.
    pub cameras: Vec<String>,
    /// Only these passes.
    pub passes: Vec<String>,
}

impl Selection {
    /// Whether a job takes part. Named jobs do even when they are not enabled.
    #[must_use]
    pub fn takes(&self, job: &Job) -> bool {
        let named = |name: &str| self.jobs.iter().any(|pattern| matches(pattern, name));
        let enabled = !matches!(job.settings.get(&Key::Enabled).map(|given| &*given.value), Some(Setting::Flag(false)));
        let camera = self.cameras.is_empty()
            || job.settings.text(&Key::Camera).is_some_and(|name| self.cameras.iter().any(|c| c == name));
        camera && if self.jobs.is_empty() { enabled } else { named(&job.name) || named(&job.job) }
    }
}

/// Whether `name` fits a pattern with `*` (any text) and `?` (any character).
#[must_use]
pub fn matches(pattern: &str, name: &str) -> bool {
    let (mut pattern, mut name) = (pattern.chars(), name.chars());
    loop {
        match pattern.next() {
            None => return name.next().is_none(),
            Some('*') => {
                let rest = pattern.as_str();
                return (0..=name.as_str().len())
                    .filter(|at| name.as_str().is_char_boundary(*at))
                    .any(|at| matches(rest, &name.as_str()[at..]));
            }
            Some(wanted) => match name.next() {
                Some(found) if wanted == '?' || wanted == found => {}
                _ => return false,
            },
        }
    }
}

/// Makes the plan of the selected jobs.
#[must_use]
pub fn plan(sheet: &Sheet, jobs: Vec<Job>, roots: Vec<ResolvedRoot>, home: &Home, selection: &Selection) -> Plan {
    let variables: BTreeSet<String> = jobs
        .iter()
        .flat_map(|job| job.settings.values.keys())
        .filter_map(|key| if let Key::Var(name) = key { Some(name.clone()) } else { None })
        .collect();
    let jobs: Vec<Job> = jobs.into_iter().filter(|job| selection.takes(job)).collect();
    let mut plan = Plan { jobs, series: Vec::new(), roots, home: home.clone(), run: Run::from(&sheet.run) };
    let wanted = |series: &Series| {
        let passes = series.passes.iter().map(|pass| &plan.jobs[series.job].passes[*pass]);
        selection.passes.is_empty()
            || passes.flat_map(|pass| [&pass.label, &pass.name.value]).any(|name| selection.passes.contains(name))
    };
    let series = plan
        .jobs
        .iter()
        .enumerate()
        .flat_map(|(at, job)| series::of_job(at, job, &plan, sheet.project.as_ref(), &variables));
    plan.series = series.filter(wanted).collect();
    plan
}

/// The adapter of each job, by the names that jobs use.
pub type Adapters = std::collections::BTreeMap<String, Adapter>;
