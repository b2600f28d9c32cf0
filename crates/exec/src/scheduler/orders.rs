//! What a run is given, and how it ended.

use std::collections::BTreeMap;

use truepath_core::frames::Frames;
use truepath_core::plan::Call;
use truepath_core::verify::Verdict;

use crate::Project;
use crate::landing::{Disk, Moves};
use crate::process::Programs;
use crate::share::Claims;
use crate::state::journal::Journal;

/// What is to be done, and with what.
pub struct Orders<'o> {
    /// The plan with all that running it needs to know.
    pub project: Project<'o>,
    /// Where events are written down first.
    pub journal: &'o Journal,
    /// What can start programs.
    pub programs: &'o dyn Programs,
    /// What can move files.
    pub moves: &'o dyn Moves,
    /// Where other members are met.
    pub claims: Option<&'o Claims>,
    /// What stood before, by series.
    pub before: &'o [Verdict],
    /// What is to be rendered, by series.
    pub need: &'o [Frames],
    /// The calls, in their order.
    pub calls: Vec<Call>,
    /// Licences that there are, by name.
    pub licences: BTreeMap<String, i64>,
    /// Whether jobs that fail again and again are continued.
    pub keep_going: bool,
}

impl<'o> Orders<'o> {
    /// Calls of a project with the file systems of this machine, alone and with every licence.
    #[must_use]
    pub fn new(project: Project<'o>, journal: &'o Journal, programs: &'o dyn Programs, calls: Vec<Call>) -> Orders<'o> {
        Orders {
            project,
            journal,
            programs,
            moves: &Disk,
            claims: None,
            before: &[],
            need: &[],
            calls,
            licences: project.command_lines.plan.run.licences.clone(),
            keep_going: false,
        }
    }
}

/// How a run ended.
#[derive(Debug, Default)]
pub struct RunOutcome {
    /// Files that landed.
    pub landed: i64,
    /// Whether someone ended it.
    pub interrupted: bool,
    /// Whether hopeless jobs were left alone.
    pub gave_up: bool,
    /// The words on a disk that had no room left for the plan.
    pub full: Option<String>,
    /// Problems that renderers reported, by job.
    pub problems: BTreeMap<String, u64>,
}
