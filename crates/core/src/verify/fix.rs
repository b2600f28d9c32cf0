//! What has to be run so that a plan becomes complete: as little as possible, and no good file is made again.

use std::collections::BTreeMap;

use crate::plan::Plan;
use crate::sheet::{Existing, Layers};

use super::{State, Verdict};

/// Jobs that are named one by one before a command is left to find its own.
const MOST_NAMES: usize = 6;

/// One run that is needed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fix {
    /// What it does with files that are there.
    pub existing: Existing,
    /// Combinations; empty for all of the plan.
    pub jobs: Vec<String>,
    /// Passes; empty for all of those jobs.
    pub passes: Vec<String>,
    /// Frames, where it must not touch others.
    pub frames: Option<String>,
}

/// The runs that make a plan's pictures complete, in their order.
#[must_use]
pub fn fixes(plan: &Plan, verdicts: &[Verdict]) -> Vec<Fix> {
    let pictures = || verdicts.iter().filter(|verdict| !verdict.is_movie);
    let again = [State::Wrong, State::Stale];
    let lacking = [State::Missing, State::Broken, State::Wrong, State::Stale];
    let mut all = Vec::new();
    // What is there and good stays in both of these, so that they need no frames.
    if pictures().any(|verdict| verdict.files(&lacking) > 0) {
        let existing =
            if pictures().any(|verdict| verdict.files(&again) > 0) { Existing::Renew } else { Existing::Keep };
        let jobs = jobs(plan, pictures().filter(|verdict| verdict.files(&lacking) > 0));
        all.push(Fix { existing, jobs, passes: Vec::new(), frames: None });
    }
    // A file that is no longer what landed is only made again where that is said of its very frame and pass.
    let mut changed: BTreeMap<(usize, String), Vec<usize>> = BTreeMap::new();
    for verdict in pictures().filter(|verdict| verdict.files(&[State::Changed]) > 0) {
        let job = plan.series[verdict.series].job;
        let frames = verdict.in_state(State::Changed).to_string();
        changed.entry((job, frames)).or_default().push(verdict.series);
    }
    for ((at, frames), series) in changed {
        let job = &plan.jobs[at];
        let whole = job.layers == Layers::Together || series.len() == job.passes.len();
        let labels = series.iter().flat_map(|series| plan.labels(&plan.series[*series]));
        let passes = if whole { Vec::new() } else { labels.map(str::to_owned).collect() };
        all.push(Fix { existing: Existing::Replace, jobs: vec![job.name.clone()], passes, frames: Some(frames) });
    }
    all
}

/// The combinations of some verdicts, where it is worth naming them.
fn jobs<'v>(plan: &Plan, verdicts: impl Iterator<Item = &'v Verdict>) -> Vec<String> {
    let mut jobs: Vec<usize> = verdicts.map(|verdict| plan.series[verdict.series].job).collect();
    jobs.dedup();
    if jobs.len() == plan.jobs.len() || jobs.len() > MOST_NAMES {
        return Vec::new();
    }
    jobs.into_iter().map(|at| plan.jobs[at].name.clone()).collect()
}
