//! Sheets taken for a run: nobody else renders them meanwhile, or only those who share them.

use std::path::PathBuf;

use truepath_core::pins::Anew;
use truepath_exec::export;
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::landing::recover;
use truepath_exec::share as claims;
use truepath_exec::state::journal::{self, Journal, Opening};
use truepath_exec::state::{Lock, StateFolder};

use super::agree::{living, times};
use super::edits::texts;
use super::{Run, RunOptions, TakenSheets};
use crate::listener::{Listener, News, Note};
use crate::open::{LoadOptions, Loaded, Queue, open};
use crate::request::Request;
use crate::surroundings::Surroundings;

/// What to do where others share the sheet.
const JOIN: &str = "join them with --share, or end them; a run can always be continued";

/// A sheet that is ours to render.
pub(super) struct Held {
    sheet: PathBuf,
    pub journal: Journal,
    _lock: Lock,
}

/// Opens sheets and takes them; opens them again where something has changed meanwhile.
pub(super) fn taken(
    (request, options): (&Request, &RunOptions),
    around: &Surroundings,
    listener: &dyn Listener,
) -> Result<TakenSheets, Failure> {
    let mut held: Vec<Held> = Vec::new();
    loop {
        let way = LoadOptions {
            // Once they are pinned, they hold.
            anew: if held.is_empty() { options.anew } else { Anew::default() },
            starts: true,
            begins_anew: options.begin_anew,
            ..LoadOptions::default()
        };
        let queue = open(request, around, way, listener)?;
        if !queue.mistyped().is_empty() {
            return Ok(TakenSheets::Mistyped(Box::new(queue)));
        }
        if held.is_empty() {
            let sheets: Vec<PathBuf> = queue.sheets.iter().map(|loaded| loaded.sheet.clone()).collect();
            listener.hear(News::Opened { sheets: &sheets, findings: &queue.findings(), sources: &queue.sources });
        }
        if let Some(stop) = queue.stopped_here() {
            return Ok(TakenSheets::Stopped(stop, Box::new(queue)));
        }
        if take(options, &queue, &mut held, (around, listener))? {
            let texts = texts(&queue, around);
            let (request, options) = (request.clone(), options.clone());
            return Ok(TakenSheets::Held(Box::new(Run { queue, request, options, held, texts })));
        }
    }
}

/// Takes the sheets for this run and clears up after earlier ones. False where something has changed since they were
/// loaded: they have to be looked at again.
fn take(
    options: &RunOptions,
    queue: &Queue,
    held: &mut Vec<Held>,
    (around, listener): (&Surroundings, &dyn Listener),
) -> Result<bool, Failure> {
    let mut as_loaded = true;
    for loaded in &queue.sheets {
        loaded.guard_start(options.is_final)?;
        let state = &loaded.state;
        if held.iter().any(|own| own.sheet == loaded.sheet) {
            as_loaded &= loaded.pin(Anew::default())?;
            continue;
        }
        let lock = state.lock(&around.host, options.share);
        let lock = lock.map_err(|failure| match claims::others(state).is_empty() {
            true => failure,
            false => failure.help(JOIN),
        })?;
        if !options.share {
            alone(state, loaded, (&around.host, listener))?;
            claims::clear(state);
        }
        let now = around.now().timestamp();
        let opening = Opening {
            host: &around.host,
            at: now.to_string(),
            second: now.as_second(),
            share: options.share,
            task: around.task.clone(),
        };
        let journal = Journal::new(state, &opening, loaded.ground.history.next_turn());
        // Another machine may have made the folder at the same time, and decided on its mark.
        as_loaded &= StateFolder::of(&loaded.sheet)?.mark() == loaded.plan.home.mark;
        as_loaded &= loaded.pin(options.anew)? && journal::list(state) == loaded.ground.history.journals;
        as_loaded &= recovered(options, loaded, &journal, (around, listener))?;
        held.push(Held { sheet: loaded.sheet.clone(), journal, _lock: lock });
    }
    Ok(as_loaded)
}

/// Clears up after runs that were cut short. True where that changed nothing on disk.
fn recovered(
    options: &RunOptions,
    loaded: &Loaded,
    journal: &Journal,
    (around, listener): (&Surroundings, &dyn Listener),
) -> Result<bool, Failure> {
    let sessions = &loaded.ground.history.sessions;
    let dead = |tag: &str| {
        let session = sessions.iter().find(|session| session.began.tag == tag);
        // Without others, whatever is left is left for good; a script holds no lock, and may still run.
        (!options.share && !tag.starts_with(recover::SCRIPT))
            || session.is_some_and(|session| recover::is_over(&session.began))
    };
    export::clear(&loaded.state, &dead)?;
    let found = recover::recover(loaded.project(around), journal, &dead)?;
    if !options.share {
        recover::remove_empty_bases(&loaded.plan);
    }
    if found.ended > 0 {
        let renderers = i64::try_from(found.ended).unwrap_or(i64::MAX);
        listener.hear(News::Note(&Note::EndedRenderers(renderers)));
    }
    for path in &found.aside {
        listener.hear(News::Note(&Note::SetAside(path.clone())));
    }
    if found.landed > 0 {
        listener.hear(News::Note(&Note::LandedLate(found.landed)));
    }
    Ok(found.landed == 0)
}

/// Makes sure that nobody on another machine shares the sheet: the kernel's lock may not reach that far.
fn alone(state: &StateFolder, loaded: &Loaded, (host, listener): (&str, &dyn Listener)) -> Result<(), Failure> {
    let others = claims::others(state);
    let Some(alive) = living(&others, times(loaded), (host, listener)) else { return Ok(()) };
    let worker = &others[alive].worker;
    let message =
        format!("others are rendering this sheet with --share: process {} on {}", worker.process, worker.host);
    Err(Failure::new(Cause::Machine, message).help(JOIN))
}
