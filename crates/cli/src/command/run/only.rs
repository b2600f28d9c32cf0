//! Parts of a run: what comes before its first frame, and some frames that are only measured.

use std::path::Path;

use truepath_core::frames::Frames;
use truepath_core::plan::Call;
use truepath_core::run::event::Event;
use truepath_core::run::trial;
use truepath_core::verify::Verdict;
use truepath_exec::failure::Failure;
use truepath_exec::landing::{recover, stage};
use truepath_exec::process::SystemPrograms;
use truepath_exec::state::journal::Journal;

use super::work::Work;
use super::{Ours, RunRequest, prepare, render, take};
use crate::args::{Common, RunArgs};
use crate::exit_code::Exit;
use crate::lower::Surroundings;
use crate::pipeline::{self, LoadOptions, Loaded};
use crate::show::{self, counted};

/// Whether a call's name is that of an export.
pub fn is_export(id: &str, loaded: &Loaded) -> bool {
    loaded.exports.all.iter().any(|export| export.id == id)
}

/// Makes nothing but what comes before the first frame; of exports those that are named, where any are.
pub(super) fn exports(
    request: &RunRequest<'_>,
    named: &[&String],
    work: &Work<'_>,
    journal: &Journal,
) -> Result<Exit, Failure> {
    let (loaded, around) = (work.loaded, request.around);
    let lines = loaded.command_lines(around);
    let is_wanted = |call: &Call| named.is_empty() || lines.export_of(call.job).is_some_and(|id| named.contains(&id));
    let calls = work.calls(&[], false).into_iter().filter(is_wanted);
    let parts: Vec<_> = calls.flat_map(|call| lines.narrowed(&call, work.need)).collect();
    let made = lines.exports(&parts, "").len();
    let programs = SystemPrograms::guarded(&around.program);
    let blocked = prepare(request, loaded, &parts, (journal, &programs))?.blocked;
    if let Some(first) = blocked.into_values().next() {
        return Err(first);
    }
    show::tell(&format!("{} ready\n", counted(i64::try_from(made).unwrap_or(i64::MAX), "exported scene")));
    Ok(Exit::Well)
}

/// Renders some frames of a plan to be measured: beside the real ones, and thrown away.
pub fn measured(common: &Common, around: &Surroundings) -> Result<Exit, Failure> {
    let args = RunArgs { keep_going: true, ..RunArgs::of(common.clone()) };
    let mut ours: Vec<Ours> = Vec::new();
    let mut queue = loop {
        let queue = pipeline::load(common, around, LoadOptions { starts: true, ..LoadOptions::default() })?;
        if ours.is_empty() {
            crate::command::tell_findings(&queue, around);
        }
        if let Some(exit) = queue.stopped_here() {
            return Ok(exit);
        }
        if take(&args, &queue, &mut ours, around)? {
            break queue;
        }
    };
    for (loaded, ours) in queue.sheets.iter_mut().zip(&ours) {
        loaded.look_up_made(around);
        loaded.plan = trial::plan(&loaded.plan);
        // Each frame in a call of its own: their times are not to be mixed.
        loaded.plan.run.chunk = 1;
        let need: Vec<Frames> = loaded.plan.series.iter().map(|own| own.frames.clone().unwrap_or_default()).collect();
        // Nothing stands under these names.
        let mut before = vec![Verdict::default(); need.len()];
        before.iter_mut().enumerate().for_each(|(at, own)| own.series = at);
        let work = Work { loaded, before: &before, need: &need, spread: false };
        let request = RunRequest { args: &args, around, texts: &[], at: None };
        let rendered = render(&request, &work, (&ours.journal, None), None);
        for folder in trial::folders(&loaded.plan) {
            // What stays is cleared by the next one, and a folder that is not empty belongs to another sheet.
            let _ = stage::clear(Path::new(&folder));
            let _ = Path::new(&folder).parent().map(std::fs::remove_dir);
        }
        recover::remove_empty_bases(&loaded.plan);
        let (outcome, failures, _) = rendered?;
        let total: i64 = need.iter().map(Frames::count).sum();
        let word = if outcome.interrupted { "interrupted" } else { "measured" }.to_owned();
        let (landed, t) = (outcome.landed, ours.journal.t());
        let over = Event::Over { landed, missing: total - landed, outcome: word, t, estimated: None, took: None };
        ours.journal.write(&over)?;
        if outcome.interrupted {
            return Ok(Exit::Interrupted);
        }
        if !failures.is_empty() {
            show::tell("some frames could not be measured; see why: truepath log JOB\n");
        }
    }
    Ok(Exit::Well)
}
