//! What has to be run so that a plan becomes complete: as little as possible, and no good file is made again.

use std::collections::{BTreeMap, BTreeSet};

use crate::plan::{Plan, movie_calls};
use crate::sheet::{Existing, Layers};

use super::{State, Verdict};

/// Jobs that are named one by one before a command is left to find its own.
const MOST_NAMES: usize = 6;

/// One run that is needed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NeededRun {
    /// What it does with files that are there.
    pub existing: Existing,
    /// Jobs; empty for all of the plan.
    pub jobs: Vec<String>,
    /// Passes; empty for all of those jobs.
    pub passes: Vec<String>,
    /// Frames, where it must not touch others.
    pub frames: Option<String>,
    /// Whether it makes movies and nothing else.
    pub movies: bool,
    /// Calls by their names, where only these may be made.
    pub only: Vec<String>,
}

/// The runs that make a plan complete, in their order: its pictures, then what movies of them are not made on the way.
#[must_use]
pub fn fixes(plan: &Plan, verdicts: &[Verdict]) -> Vec<NeededRun> {
    let pictures = || verdicts.iter().filter(|verdict| !verdict.is_movie);
    let again = [State::Wrong, State::Stale];
    let missing = [State::Missing, State::Broken, State::Wrong, State::Stale];
    let mut all = Vec::new();
    // What is there and good stays in both of these, so that they need no frames.
    if pictures().any(|verdict| verdict.files(&missing) > 0) {
        let existing =
            if pictures().any(|verdict| verdict.files(&again) > 0) { Existing::Renew } else { Existing::Keep };
        let needed: Vec<&Verdict> = pictures().filter(|verdict| verdict.files(&missing) > 0).collect();
        let is_there = needed.iter().any(|verdict| verdict.files(&missing) > verdict.files(&[State::Missing]));
        // Where files are there to be made again, no other pass is touched.
        let passes = if is_there { passes(plan, &needed) } else { Vec::new() };
        let jobs = jobs(plan, needed.into_iter());
        all.push(NeededRun { existing, jobs, passes, frames: None, movies: false, only: Vec::new() });
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
        let jobs = vec![job.name.clone()];
        all.push(NeededRun {
            existing: Existing::Replace,
            jobs,
            passes,
            frames: Some(frames),
            movies: false,
            only: Vec::new(),
        });
    }
    movies(plan, verdicts, &mut all);
    all
}

/// The movies that the runs for pictures cannot make: those of pictures that are good already, those whose frames are made
/// again one by one, and those that have to be written over.
fn movies(plan: &Plan, verdicts: &[Verdict], all: &mut Vec<NeededRun>) {
    let by_pictures = all.first().filter(|fix| fix.frames.is_none()).cloned();
    let changed: Vec<usize> =
        verdicts.iter().filter(|own| own.files(&[State::Changed]) > 0).map(|own| own.series).collect();
    // A run for some jobs makes frames of a movie that needs others, too, and leaves that movie behind.
    let again = [State::Missing, State::Broken, State::Wrong, State::Stale];
    let pictures = verdicts.iter().filter(|own| !own.is_movie);
    let made: Vec<usize> = pictures.filter(|own| own.files(&again) > 0).map(|own| own.series).collect();
    let (mut jobs, mut only): (Vec<String>, Vec<String>) = (Vec::new(), Vec::new());
    for verdict in verdicts.iter().filter(|verdict| verdict.is_movie) {
        let Some(film) = plan.output(verdict.series).film.as_deref() else { continue };
        let parts = || film.clips.iter().map(|clip| &plan.jobs[plan.series[clip.series].job].name);
        let touched = film.clips.iter().any(|clip| changed.contains(&clip.series));
        let outdated = film.clips.iter().any(|clip| made.contains(&clip.series));
        let shown = || film.clips.iter().flat_map(|clip| plan.labels(&plan.series[clip.series]));
        let covers = |fix: &NeededRun| {
            (fix.jobs.is_empty() || parts().all(|job| fix.jobs.contains(job)))
                && (fix.passes.is_empty() || shown().all(|label| fix.passes.iter().any(|own| own == label)))
        };
        let made_before = !touched && by_pictures.as_ref().is_some_and(covers);
        let renewed = made_before && by_pictures.as_ref().is_some_and(|fix| fix.existing == Existing::Renew);
        if verdict.files(&[State::Changed]) > 0 || (verdict.files(&[State::Wrong]) > 0 && !renewed) {
            // It is written over, and no other movie of its jobs.
            only.extend(movie_calls(plan).find(|call| call.series == [verdict.series]).map(|call| call.id));
        } else if !made_before
            && (verdict.files(&[State::Missing, State::Broken, State::Stale]) > 0 || touched || outdated)
        {
            jobs.extend(parts().cloned());
        }
    }
    jobs.sort();
    jobs.dedup();
    if !jobs.is_empty() {
        if jobs.len() == plan.jobs.len() || jobs.len() > MOST_NAMES {
            jobs.clear();
        }
        let (existing, only) = (Existing::Keep, Vec::new());
        all.push(NeededRun { existing, jobs, passes: Vec::new(), frames: None, movies: true, only });
    }
    if !only.is_empty() {
        let existing = Existing::Replace;
        all.push(NeededRun { existing, jobs: Vec::new(), passes: Vec::new(), frames: None, movies: true, only });
    }
}

/// The passes of some verdicts, where their jobs have others, too, and it is worth naming them.
fn passes(plan: &Plan, needed: &[&Verdict]) -> Vec<String> {
    let labels = |series: &mut dyn Iterator<Item = usize>| -> BTreeSet<String> {
        series.flat_map(|at| plan.labels(&plan.series[at])).map(str::to_owned).collect()
    };
    let own = labels(&mut needed.iter().map(|verdict| verdict.series));
    let all = labels(&mut needed.iter().flat_map(|verdict| plan.series_of(plan.series[verdict.series].job)));
    if own.len() == all.len() || own.len() > MOST_NAMES { Vec::new() } else { own.into_iter().collect() }
}

/// The jobs of some verdicts, where it is worth naming them.
fn jobs<'v>(plan: &Plan, verdicts: impl Iterator<Item = &'v Verdict>) -> Vec<String> {
    let mut jobs: Vec<usize> = verdicts.map(|verdict| plan.series[verdict.series].job).collect();
    jobs.dedup();
    if jobs.len() == plan.jobs.len() || jobs.len() > MOST_NAMES {
        return Vec::new();
    }
    jobs.into_iter().map(|at| plan.jobs[at].name.clone()).collect()
}
