//! Every check of a plan, by family. Decisions stand here, their words in [`wording`], their levels in the registry.

mod frames;
pub mod meeting;
mod names;
mod places;
mod renderer;
mod scene;
mod sheet;
mod types;
mod wording;

use std::collections::{BTreeMap, BTreeSet};

use crate::diagnostic::{Findings, Words};
use crate::plan::{Adapters, Plan, Series};
use crate::resolve::Job;
use crate::sheet::Sheet;
use crate::sheet::read::part_of;
use crate::source::{Place, Spanned};

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
}

/// What was asked of disk and machine.
#[derive(Clone, Debug, Default)]
pub struct Machine {
    /// Scenes that are not there, by absolute path.
    pub missing: BTreeSet<String>,
    /// Scenes that cannot be read, and why.
    pub damaged: BTreeMap<String, String>,
    /// Resources that are not there, by scene.
    pub resources: BTreeMap<String, Vec<String>>,
    /// Folders for passing things, where outputs do not belong.
    pub temporary: Vec<String>,
}

/// Runs every check.
pub fn check(input: Input<'_>, findings: &mut Findings) {
    let mut sink = Sink { input, findings };
    sheet::check(&mut sink);
    names::check(&mut sink);
    meeting::check(&mut sink);
    frames::check(&mut sink);
    types::check(&mut sink);
    scene::check(&mut sink);
    renderer::check(&mut sink);
    places::check(&mut sink);
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

    fn add(&mut self, check: &'static str, at: Option<Place>, job: &Job, words: Words) {
        self.findings.add(check, at, Some(&job.name), words);
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
