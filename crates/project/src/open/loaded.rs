//! What is known of sheets once they are opened.

use std::collections::BTreeMap;
use std::ops::Range;
use std::path::PathBuf;
use std::sync::{Arc, OnceLock};

use truepath_core::adapter::Adapter;
use truepath_core::check::Machine;
use truepath_core::diagnostic::{Finding, Findings, Level, Slug};
use truepath_core::invoke::export::Exports;
use truepath_core::pins::{Pins, Wanted};
use truepath_core::plan::{self, Adapters, Plan, PlanInput, Series};
use truepath_core::resolve::{Job, Stacked};
use truepath_core::scene::Facts;
use truepath_core::sheet::Sheet;
use truepath_core::sheet::machine::MachineFile;
use truepath_core::source::{Place, Sources};
use truepath_core::template::Lookup;
use truepath_core::verify::Verdict;
use truepath_exec::failure::Failure;
use truepath_exec::looking::Looking;
use truepath_exec::observe::Look;
use truepath_exec::state::StateFolder;

use super::trust::Untrusted;
use crate::listener::{Listener, News, Read};

/// The check whose findings make all others guesswork.
pub(super) const NOT_TOML: Slug = Slug::NotToml;

/// What is wrong with a value that was typed, whatever the sheet says.
const MISTAKES: [Slug; 4] = [NOT_TOML, Slug::ValueNotUnderstood, Slug::UnknownKey, Slug::FramesNotUnderstood];
/// What was typed and is not in the sheet.
const UNKNOWN: Slug = Slug::NameUnknown;

/// What steps need to know of this machine.
pub(super) struct Here {
    pub programs: BTreeMap<String, String>,
    pub logs: String,
    /// The folders of what exporters make, and those where scripts and documents have it made.
    pub products: OnceLock<(Vec<String>, Vec<String>)>,
}

/// The sheets of a call, one queue.
pub struct Queue {
    /// Every text that was read.
    pub sources: Sources,
    /// The sheets in the order given.
    pub sheets: Vec<Loaded>,
    /// What was not asked anything, because its folder is not trusted.
    pub untrusted: Vec<Untrusted>,
}

/// Why nothing can be made from a sheet, the gravest last.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Stop {
    /// There are errors.
    Errors,
    /// The sheet is not a text that can be read.
    Unreadable,
    /// All errors are about this machine: they may not be there on another one.
    Machine,
}

/// A sheet on its way through the house, with all that is known about it.
pub struct Loaded {
    /// What is wrong.
    pub findings: Findings,
    /// What follows from the sheet, for the jobs asked for.
    pub plan: Plan,
    /// Plans whose files may stand beside its own: all jobs, asked for or not, each mode, and earlier sheets.
    pub rivals: Vec<Plan>,
    /// The layers of every job, asked for or not.
    pub stacked: Vec<Stacked>,
    /// The sheet with all that was laid below it.
    pub written: Sheet,
    /// The numbers of the texts that were laid below it: sheets that others may share.
    pub(super) below: Range<u16>,
    /// The adapters of its jobs.
    pub adapters: Arc<Adapters>,
    /// The sheet's path.
    pub sheet: PathBuf,
    /// What is made of scenes before they are rendered.
    pub exports: Exports,
    /// Where programs and state are, once somebody has asked.
    pub(super) here: OnceLock<Here>,
    /// What is where on this machine.
    pub machine: MachineFile,
    /// Where its state is.
    pub state: StateFolder,
    /// What disk and journals said.
    pub ground: Machine,
    /// What is known about scenes.
    pub facts: BTreeMap<String, Arc<Facts>>,
    /// Looked-up values, pinned or not.
    pub pins: Pins,
    /// What of them is not pinned yet.
    pub unpinned: Wanted,
    /// Whether the command line sets anything that changes the picture under names that stay the same.
    pub retouched: bool,
}

impl Loaded {
    /// The adapter of a job.
    pub fn adapter(&self, job: &Job) -> Option<&Adapter> {
        self.adapters.get(job.adapter.as_deref()?)
    }

    /// Every token of paths with its value for a series: built-in ones, roots and variables.
    pub fn tokens(&self, series: &Series) -> Vec<(String, Lookup)> {
        let plan = &self.plan;
        let ground = PlanInput {
            sheet: &self.written,
            roots: &plan.roots,
            home: &plan.home,
            modes: &plan.modes,
            pins: &self.pins,
            looking: false,
        };
        plan::tokens(ground, plan, series)
    }

    /// Whether the sheet could be read as text at all.
    pub fn is_readable(&self) -> bool {
        !self.findings.iter().any(|finding| finding.check == NOT_TOML)
    }

    /// Its findings. One about a single job points at that job, also where its cause is in a sheet that others share.
    fn found(&self) -> Vec<Finding> {
        let mut found = self.findings.clone().sorted();
        let is_shared = |at: Place| self.below.contains(&at.file.0);
        for finding in found.iter_mut().filter(|finding| finding.more == 0) {
            let Some(name) = finding.job.as_deref().filter(|_| finding.at.as_ref().is_some_and(|at| is_shared(at.at)))
            else {
                continue;
            };
            let job = self.plan.jobs.iter().find(|job| job.name == name).map(|job| job.at);
            if let Some(at) = job.filter(|at| !is_shared(*at)) {
                finding.point_at(at);
            }
        }
        found
    }

    /// Why nothing can be made from it; `None` where something can.
    pub fn stopped(&self) -> Option<Stop> {
        match (self.is_readable(), self.findings.has_errors()) {
            (false, _) => Some(Stop::Unreadable),
            (true, true) => Some(Stop::Errors),
            (true, false) => None,
        }
    }
}

impl Queue {
    /// Why nothing can be made from any of its sheets; `None` where something can.
    pub fn stopped(&self) -> Option<Stop> {
        self.sheets.iter().filter_map(Loaded::stopped).max()
    }

    /// The same, where errors that are about this machine alone are told apart.
    pub fn stopped_here(&self) -> Option<Stop> {
        let stopped = self.stopped()?;
        let errors = self.sheets.iter().flat_map(|sheet| sheet.findings.iter());
        let mut errors = errors.filter(|finding| finding.level == Level::Error && finding.allowed.is_none());
        let here = errors.all(|finding| finding.check.check().here_only);
        Some(if stopped == Stop::Errors && here { Stop::Machine } else { stopped })
    }

    /// The verdicts on all that a sheet's plan writes, movies last. The listener hears of every file that is read.
    ///
    /// # Errors
    /// When a journal cannot be read, or a folder of the plan.
    pub fn verdicts(&self, at: usize, look: Look, listener: &dyn Listener) -> Result<Vec<Verdict>, Failure> {
        let told = |files: u64| listener.hear(News::Reading(Read::Files, files));
        let sheet = &self.sheets[at];
        let beside: Vec<&Plan> = self.plans().collect();
        let (plan, machine, state) = (&sheet.plan, &sheet.ground, &sheet.state);
        let verdicts = Looking { plan, machine, state, look, beside: &beside, told: &told }.all();
        listener.hear(News::ReadingOver);
        verdicts
    }

    /// Every plan whose names are taken: all jobs, asked for or not, and each mode.
    pub fn plans(&self) -> impl Iterator<Item = &Plan> {
        self.sheets.iter().flat_map(|sheet| sheet.rivals.iter().chain([&sheet.plan]))
    }

    /// Whether a finding is an error in the request itself: in the text of an option, or a name that no sheet has.
    pub fn is_of_request(&self, finding: &Finding) -> bool {
        let is_typed = match &finding.at {
            // Settings of a request have the names of their options.
            Some(at) => self.sources.get(at.at.file).name.starts_with("--"),
            None => finding.check == UNKNOWN,
        };
        is_typed && finding.level == Level::Error && finding.allowed.is_none()
    }

    /// What of the request has no meaning, whatever the sheets say: values that cannot be read, and names that no sheet has.
    pub fn mistyped(&self) -> Vec<Finding> {
        let is_meant = |finding: &Finding| finding.at.is_none() || MISTAKES.contains(&finding.check);
        let all = self.findings().into_iter();
        all.filter(|finding| self.is_of_request(finding) && is_meant(finding)).collect()
    }

    /// All findings in the order of the sheets.
    pub fn findings(&self) -> Vec<Finding> {
        self.sheets.iter().flat_map(Loaded::found).collect()
    }
}
