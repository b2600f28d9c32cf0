//! Every check of a plan, by family. Decisions stand here, their words in `wording`, their levels in the registry.

mod carried;
mod colour;
mod disk;
mod encoder;
mod frames;
pub mod meeting;
mod movies;
mod names;
mod native;
mod places;
mod renderer;
mod scene;
mod sheet;
mod size;
mod spelling;
mod types;
mod wording;

use std::collections::{BTreeMap, BTreeSet};

use crate::adapter::Adapter;
use crate::diagnostic::{Findings, Slug, Words, find};
use crate::plan::{Adapters, Plan, Series, matches};
use crate::resolve::Job;
use crate::run::fingerprint::Fingerprint;
use crate::run::history::History;
use crate::sheet::read::part_of;
use crate::sheet::{AllowEntry, Sheet};
use crate::source::{Place, Spanned};
use crate::threads::Threads;
use crate::verify::Files;

pub use disk::output_bytes;
pub use wording::disk::bytes;

/// All that checks look at.
#[derive(Clone, Copy)]
pub struct Input<'i> {
    /// The sheet.
    pub sheet: &'i Sheet,
    /// What follows from it, for the jobs asked for.
    pub plan: &'i Plan,
    /// Other plans whose names must not be met: all enabled jobs, other modes, other sheets. Series of `plan` itself may
    /// be among them.
    pub rivals: &'i [Plan],
    /// The adapters of its jobs by name.
    pub adapters: &'i Adapters,
    /// What the disk and the machine say; `None` when they are not asked.
    pub machine: Option<&'i Machine>,
    /// Threads for what is large.
    pub threads: &'i dyn Threads,
    /// Whether `plan` holds every enabled job with all its passes and frames.
    pub whole: bool,
}

/// What disk and machine say. Paths are absolute.
#[derive(Clone, Debug, Default)]
pub struct Machine {
    /// Scenes that are not there.
    pub missing: BTreeSet<String>,
    /// Files with almost the same name in the same folder, by those scenes.
    pub almost: BTreeMap<String, String>,
    /// Scenes that cannot be read, and why.
    pub damaged: BTreeMap<String, String>,
    /// Resources that are not there, by scene.
    pub resources: BTreeMap<String, Vec<String>>,
    /// Copies that are newer than their scenes, by scene.
    pub newer: BTreeMap<String, String>,
    /// Folders for passing things, where outputs do not belong.
    pub temporary: Vec<String>,
    /// Whether all is for another system than this one: then nothing here tells whether its paths are right.
    pub elsewhere: bool,
    /// What stands at each root, by the root's path.
    pub roots: BTreeMap<String, RootState>,
    /// Why the folder for the sheet's state cannot be written.
    pub state: Option<String>,
    /// Adapters whose programs are not here, with the program.
    pub programs: BTreeMap<String, String>,
    /// Adapters whose programs are here and may not be started by this user, with their paths.
    pub not_executable: BTreeMap<String, String>,
    /// What adapters need and is not here, in words, by adapter.
    pub needs: BTreeMap<String, Vec<String>>,
    /// Words that encoders said when they were asked what they can encode, by adapter.
    pub encoders: BTreeMap<String, BTreeSet<String>>,
    /// Versions that programs say of themselves, of adapters none of whose variants fits it, by adapter.
    pub unfit: BTreeMap<String, String>,
    /// Programs under `after` that are not here.
    pub no_after: BTreeSet<String>,
    /// Cores of this machine.
    pub cores: Option<u64>,
    /// Sound files.
    pub sounds: BTreeMap<String, SoundFile>,
    /// The files in output folders that are there, by folder.
    pub folders: BTreeMap<String, Files>,
    /// Where something else stands in the way of files of the plan, by its outputs (series, then movies): where, and what.
    pub blocked: BTreeMap<usize, (String, String)>,
    /// What the journals say.
    pub history: History,
    /// What the frames of each series of the plan would be made of now.
    pub made_of: Vec<Option<Fingerprint>>,
    /// Jobs whose calls cannot be started even for one frame: bytes of the command line and the most allowed, by job.
    pub long_commands: BTreeMap<String, (usize, usize)>,
}

/// What stands at a root.
#[derive(Clone, Debug, Default)]
pub struct RootState {
    /// Whether anything is there.
    pub there: bool,
    /// Whether it is a folder.
    pub folder: bool,
    /// Whether this user can write to it, or, where it does not exist, to the nearest folder above.
    pub writable: bool,
    /// Whether nothing lies in it.
    pub empty: bool,
    /// Whether it lies on the disk that the system itself is on.
    pub system_disk: bool,
    /// Which disk it lies on: roots of one disk share its free space.
    pub disk: u64,
    /// Free bytes for this user.
    pub free: Option<u64>,
}

/// What is known about a sound file.
#[derive(Clone, Debug, PartialEq)]
pub enum SoundFile {
    /// Not there, or no sound file: why.
    Unread(String),
    /// There, in a form whose length nothing here reads.
    Unknown,
    /// Its length in seconds and its sample rate in hertz.
    Known(f64, u32),
}

/// Runs every check, and gives each finding the level that the sheet asks for.
pub fn check(input: Input<'_>, findings: &mut Findings) {
    let mut sink = Sink { input, findings };
    sheet::check(&mut sink);
    names::check(&mut sink);
    spelling::check(&mut sink);
    meeting::check(&mut sink);
    frames::check(&mut sink);
    size::check(&mut sink);
    types::check(&mut sink);
    colour::check(&mut sink);
    scene::check(&mut sink);
    renderer::check(&mut sink);
    places::check(&mut sink);
    disk::check(&mut sink);
    movies::check(&mut sink);
    settle(input, findings);
}

/// The last word on all that was found: left out offline, allowed, given its level by the sheet.
fn settle(input: Input<'_>, findings: &mut Findings) {
    if input.machine.is_none() {
        findings.forget_machine();
    }
    let allowed = &input.sheet.allow;
    let mut used = vec![false; allowed.len()];
    findings.allow(|finding| {
        let fits = |entry: &AllowEntry| {
            let job = entry.job.as_ref().is_none_or(|job| {
                let own = finding.job.as_deref();
                own.is_some_and(|own| {
                    matches(&job.value, own) || matches(&job.value, own.split('/').next().unwrap_or(own))
                })
            });
            entry.check.value == finding.check.name() && job
        };
        let at = allowed.iter().position(fits)?;
        used[at] = true;
        Some(allowed[at].because.clone())
    });
    for (entry, _) in allowed.iter().zip(&used).filter(|(entry, used)| !**used && entry.at.file == input.sheet.file) {
        // Offline nothing can be said about what only the machine knows; nor about jobs that were not asked for.
        let asked = input.machine.is_some() || !find(&entry.check.value).is_some_and(|check| check.asks_machine);
        if asked && input.whole && input.plan.mode.is_none() {
            findings.add(Slug::AllowUnneeded, Some(entry.check.at), None, wording::sheet::allow_unneeded(entry));
        }
    }
    for rule in &input.sheet.checks {
        findings.set_level(&rule.check.value, rule.level);
    }
}

/// Input and findings on their way through the families.
struct Sink<'i, 'f> {
    input: Input<'i>,
    findings: &'f mut Findings,
}

impl<'i> Sink<'i, '_> {
    fn job(&self, series: &Series) -> &'i Job {
        &self.input.plan.jobs[series.job]
    }

    fn add(&mut self, check: Slug, at: Option<Place>, job: &Job, words: Words) {
        self.findings.add(check, at, Some(&job.name), words);
    }

    fn adapter(&self, job: &Job) -> Option<&'i Adapter> {
        self.input.adapters.get(job.adapter.as_deref()?)
    }

    fn series(&self) -> impl Iterator<Item = &'i Series> + use<'i> {
        self.input.plan.series.iter().chain(&self.input.plan.movies)
    }
}

/// The place of a part of a series' path template.
fn in_path(series: &Series, range: std::ops::Range<usize>) -> Option<Place> {
    let path = series.path.as_ref()?;
    Some(part_of(&Spanned::new(path.value.to_string(), path.at), range))
}
