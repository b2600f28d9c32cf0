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
use truepath_exec::scheduler::Outcome;
use truepath_exec::state::journal;

use super::work::Work;
use super::{Ours, RunRequest, render, take};
use crate::args::{Common, RunArgs};
use crate::exit_code::Exit;
use crate::lower::Surroundings;
use crate::pipeline::{self, LoadOptions, Queue};
use crate::show;

/// Which frames are measured.
pub enum Measure {
    /// All that were asked for.
    All,
    /// So many of what is left, those that tell most.
    Next(usize),
}

impl Measure {
    /// What is to be rendered of one sheet.
    fn rounds(&self, queue: &Queue, at: usize, around: &Surroundings) -> Result<Vec<Round>, Failure> {
        let loaded = &queue.sheets[at];
        let plan = &loaded.plan;
        let all: Vec<Frames> = plan.series.iter().map(|own| own.frames.clone().unwrap_or_default()).collect();
        let Measure::Next(count) = self else { return Ok(vec![(all, 1)]) };
        let verdicts = pipeline::verdicts(queue, at, Look::Heads, around)?;
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

/// Renders some frames of a plan to be measured: beside the real ones, and thrown away.
pub fn measured(common: &Common, measure: &Measure, around: &Surroundings) -> Result<Exit, Failure> {
    let args = RunArgs { keep_going: true, ..RunArgs::of(common.clone()) };
    let mut ours: Vec<Ours> = Vec::new();
    let mut queue = loop {
        let queue = pipeline::load(common, around, LoadOptions { starts: true, ..LoadOptions::default() })?;
        if ours.is_empty() {
            crate::command::tell_findings(&queue, around);
        }
        if let Some(stop) = queue.stopped_here() {
            return Ok(stop.into());
        }
        if take(&args, &queue, &mut ours, around)? {
            break queue;
        }
    };
    crate::command::guard_files(&queue)?;
    let rounds = (0..queue.sheets.len()).map(|at| measure.rounds(&queue, at, around));
    let rounds = rounds.collect::<Result<Vec<_>, Failure>>()?;
    for ((loaded, ours), rounds) in queue.sheets.iter_mut().zip(&ours).zip(rounds) {
        pipeline::look_up_made(loaded, around);
        loaded.plan = trial::plan(&loaded.plan);
        let mut outcome = Outcome::default();
        let mut failed = false;
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
            let request = RunRequest { args: &args, around, texts: &[], at: None };
            let rendered = render(&request, &work, (&ours.journal, None), None);
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
        let (landed, t) = (outcome.landed, ours.journal.t());
        let over = Event::Over { landed, missing: total - landed, outcome: word, t, estimated: None, took: None };
        ours.journal.write(&over)?;
        if outcome.interrupted {
            return Ok(Exit::Interrupted);
        }
        if failed {
            show::tell("some frames could not be measured; see why: truepath log JOB\n");
        }
    }
    Ok(Exit::Well)
}
