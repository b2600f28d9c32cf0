//! Frames that are rendered only to be measured.

use std::path::Path;

use truepath_core::frames::Frames;
use truepath_core::run::cost::{Costs, Round, rounds};
use truepath_core::run::event::Event;
use truepath_core::run::history::Depth;
use truepath_core::run::outstanding::outstanding;
use truepath_core::run::trial;
use truepath_core::sheet::Existing;
use truepath_core::verify::Verdict;
use truepath_exec::failure::Failure;
use truepath_exec::landing::{recover, stage};
use truepath_exec::observe::Look;
use truepath_exec::state::journal;

use super::ended::RunOutcome;
use super::render::render;
use super::{Run, RunOptions, RunRequest, TakenSheets, Work, take};
use crate::guards;
use crate::listener::Listener;
use crate::open::{Queue, Stop};
use crate::request::Request;
use crate::surroundings::Surroundings;

/// Which frames are measured.
pub enum Measure {
    /// All that were asked for.
    All,
    /// So many of what is left, those that tell most.
    Next(usize),
}

impl Measure {
    /// What is to be rendered of one sheet.
    fn rounds(&self, queue: &Queue, at: usize, listener: &dyn Listener) -> Result<Vec<Round>, Failure> {
        let loaded = &queue.sheets[at];
        let plan = &loaded.plan;
        let all: Vec<Frames> = plan.series.iter().map(|own| own.frames.clone().unwrap_or_default()).collect();
        let Measure::Next(count) = self else { return Ok(vec![(all, 1)]) };
        let verdicts = queue.verdicts(at, Look::Heads, listener)?;
        let mut left = all;
        for verdict in verdicts.iter().filter(|verdict| !verdict.is_movie) {
            let lost = outstanding(verdict, Existing::Keep);
            // What is all there may still be rendered anew.
            if !lost.is_empty() {
                left[verdict.series] = lost;
            }
        }
        let costs = Costs::of(plan, &journal::read(&loaded.state, Depth::Calls)?, &loaded.ground.made_of);
        Ok(rounds(&costs, plan, &left, *count))
    }
}

/// How measuring ended.
pub enum Measured {
    /// All frames were tried. False where some could not be measured.
    Over(bool),
    /// Somebody has interrupted it.
    Interrupted,
    /// Nothing can be rendered from the sheets.
    Stopped(Stop),
}

/// Renders some frames of a plan to be measured: beside the real ones, and thrown away.
///
/// # Errors
/// As [`Run::take`] and [`Run::render`].
pub fn measure(
    request: &Request,
    which: &Measure,
    around: &Surroundings,
    listener: &dyn Listener,
) -> Result<Measured, Failure> {
    let options = RunOptions { keep_going: true, ..RunOptions::default() };
    let Run { mut queue, held, .. } = match take::taken((request, &options), around, listener)? {
        TakenSheets::Held(run) => *run,
        TakenSheets::Mistyped(_) => return Ok(Measured::Stopped(Stop::Unreadable)),
        TakenSheets::Stopped(stop, _) => return Ok(Measured::Stopped(stop)),
    };
    guards::files(&queue)?;
    let rounds = (0..queue.sheets.len()).map(|at| which.rounds(&queue, at, listener));
    let rounds = rounds.collect::<Result<Vec<_>, Failure>>()?;
    let mut failed = false;
    for (at, (loaded, rounds)) in queue.sheets.iter_mut().zip(rounds).enumerate() {
        let journal = &held[at].journal;
        loaded.look_up_made(around, listener);
        loaded.plan = trial::plan(&loaded.plan);
        let mut outcome = RunOutcome::default();
        for (need, chunk) in &rounds {
            if outcome.interrupted {
                break;
            }
            loaded.plan.run.chunk = *chunk;
            for (series, need) in loaded.plan.series.iter_mut().zip(need) {
                series.frames = Some(need.clone());
            }
            // Nothing stands under these names.
            let mut before = vec![Verdict::default(); need.len()];
            before.iter_mut().enumerate().for_each(|(at, own)| own.series = at);
            let work = Work { loaded, before: &before, need, spread: false };
            let request = RunRequest { asked: request, options: &options, around, listener, texts: &[], at };
            let rendered = render(&request, &work, (journal, None), None);
            for folder in trial::folders(&loaded.plan) {
                // What stays is cleared by the next one, and a folder that is not empty belongs to another sheet.
                let _ = stage::clear(Path::new(&folder));
                let _ = Path::new(&folder).parent().map(std::fs::remove_dir);
            }
            recover::remove_empty_bases(&loaded.plan);
            let (own, failures, _) = rendered?;
            outcome.landed += own.landed;
            outcome.interrupted |= own.interrupted;
            failed |= !failures.is_empty();
        }
        let total: i64 = rounds.iter().flat_map(|(need, _)| need).map(Frames::count).sum();
        let word = if outcome.interrupted { "interrupted" } else { "measured" }.to_owned();
        let (landed, t) = (outcome.landed, journal.t());
        let over = Event::Over { landed, missing: total - landed, outcome: word, t, estimated: None, took: None };
        journal.write(&over)?;
        if outcome.interrupted {
            return Ok(Measured::Interrupted);
        }
    }
    Ok(Measured::Over(!failed))
}
