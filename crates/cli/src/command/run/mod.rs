//! `run`: renders what is needed, here, and goes on where the last run stopped.

mod agree;
mod closing;
mod faulty;
mod look;
mod measure;
mod only;
mod work;

use std::path::PathBuf;
use std::time::Instant;

use truepath_core::frames::Frames;
use truepath_core::pins::Anew;
use truepath_core::plan::Call;
use truepath_core::run::cost::Costs;
use truepath_core::run::event::Event;
use truepath_core::run::fingerprint::Fingerprint;
use truepath_core::run::history::Depth;
use truepath_core::run::outstanding::{outstanding, standing, with_movies};
use truepath_core::sheet::Existing;
use truepath_core::verify::{State, Verdict};

use crate::args::{self, AnewValues, CallOrder, RunArgs};
use truepath_exec::Project;
use truepath_exec::export::{self, Exported, Making};
use truepath_exec::failure::{Cause, Failure, Trouble};
use truepath_exec::landing::recover;
use truepath_exec::process::SystemPrograms;
use truepath_exec::scheduler::{self, Orders, Outcome};
use truepath_exec::share::{self as claims, Claims, Member};
use truepath_exec::state::journal::{self, Journal, Opening};
use truepath_exec::state::{Lock, StateFolder};

use super::report;
use crate::exit_code::Exit;
use crate::lower::Surroundings;
use crate::pipeline::{self, LoadOptions, Loaded, Queue};
use crate::show::progress::Progress;
use crate::show::{self, counted};
use agree::{Edits, Own, living, times};
use closing::Result as Ended;
use look::{again, observe, settled};
use work::Work;

pub use measure::{Measure, measured};

/// What to do where others share the sheet.
const JOIN: &str = "join them with --share, or end them; a run can always be continued";

/// A sheet that is ours to render.
struct Ours {
    sheet: PathBuf,
    journal: Journal,
    _lock: Lock,
}

/// What a run was asked for, and where.
struct RunRequest<'r> {
    args: &'r RunArgs,
    around: &'r Surroundings,
    /// The files that its sheets were read from.
    texts: &'r [PathBuf],
    /// The sheet's place among several.
    at: Option<usize>,
}

/// Renders, stages and lands all frames that are needed, sheet by sheet.
pub fn run(args: &RunArgs, around: &Surroundings) -> Result<Exit, Failure> {
    if args.skip_faulty {
        return faulty::run_others(args, around);
    }
    let mut ours: Vec<Ours> = Vec::new();
    let mut queue = loop {
        let queue = pipeline::load(
            &args.common,
            around,
            LoadOptions {
                // Once they are pinned, they hold.
                anew: AnewValues::of(args.anew.filter(|_| ours.is_empty())),
                starts: true,
                begins_anew: args.begin_anew,
                ..LoadOptions::default()
            },
        )?;
        if ours.is_empty() {
            super::tell_findings(&queue, around);
        }
        if let Some(stop) = queue.stopped_here() {
            if !args.movies {
                faulty::offer(&queue);
            }
            return Ok(stop.into());
        }
        if take(args, &queue, &mut ours, around)? {
            break queue;
        }
    };
    let page = args.report.as_deref().map(|out| report::Page { common: &args.common, out, replace: false, around });
    page.as_ref().map_or(Ok(()), |page| report::may_write(page, &queue))?;
    report::beside(page, || {
        let mut worst = Exit::Well;
        let several = queue.sheets.len() > 1;
        let texts = agree::texts(&queue, around);
        for (at, (loaded, ours)) in queue.sheets.iter_mut().zip(&ours).enumerate() {
            let request = RunRequest { args, around, texts: &texts, at: several.then_some(at) };
            worst = worst.max(sheet(&request, loaded, &ours.journal)?);
            if worst == Exit::Interrupted {
                break;
            }
        }
        Ok(worst)
    })
}

/// Takes the sheets for this run and clears up after earlier ones. False where something has changed since they were
/// loaded: they have to be looked at again.
fn take(args: &RunArgs, queue: &Queue, ours: &mut Vec<Ours>, around: &Surroundings) -> Result<bool, Failure> {
    let mut as_loaded = true;
    for loaded in &queue.sheets {
        super::guard_final(loaded, args.is_final)?;
        super::need_adapters(loaded)?;
        let state = &loaded.state;
        if !ours.iter().any(|own| own.sheet == loaded.sheet) {
            let lock = state.lock(&around.host, args.share);
            let lock = lock.map_err(|failure| match claims::others(state).is_empty() {
                true => failure,
                false => failure.help(JOIN),
            })?;
            if !args.share {
                alone(state, loaded, around)?;
                claims::clear(state);
            }
            let now = around.now().timestamp();
            let opening = Opening {
                host: &around.host,
                at: now.to_string(),
                second: now.as_second(),
                share: args.share,
                task: around.task.clone(),
            };
            let journal = Journal::new(state, &opening, loaded.ground.history.next_turn());
            ours.push(Ours { sheet: loaded.sheet.clone(), journal, _lock: lock });
            // Another machine may have made the folder at the same time, and decided on its mark.
            as_loaded &= StateFolder::of(&loaded.sheet)?.mark() == loaded.plan.home.mark;
            as_loaded &= super::pin(loaded, AnewValues::of(args.anew))?
                && journal::list(state) == loaded.ground.history.journals;
            let Some(own) = ours.last() else { continue };
            as_loaded &= recovered(args, loaded, &own.journal, around)?;
        } else {
            as_loaded &= super::pin(loaded, Anew::default())?;
        }
    }
    Ok(as_loaded)
}

/// Clears up after runs that were cut short. True where that changed nothing on disk.
fn recovered(args: &RunArgs, loaded: &Loaded, journal: &Journal, around: &Surroundings) -> Result<bool, Failure> {
    let sessions = &loaded.ground.history.sessions;
    let dead = |tag: &str| {
        let session = sessions.iter().find(|session| session.began.tag == tag);
        // Without others, whatever is left is left for good; a script holds no lock, and may still run.
        (!args.share && !tag.starts_with(recover::SCRIPT))
            || session.is_some_and(|session| recover::is_over(&session.began))
    };
    export::clear(&loaded.state, &dead)?;
    let found = recover::recover(loaded.project(around), journal, &dead).map_err(only)?;
    if !args.share {
        recover::remove_empty_bases(&loaded.plan);
    }
    if found.ended > 0 {
        let renderers = counted(i64::try_from(found.ended).unwrap_or(i64::MAX), "renderer");
        show::tell(&format!("ended {renderers} that an interrupted run had left running\n"));
    }
    for path in &found.aside {
        show::tell(&format!("this file crashed the checker in an earlier run and was set aside: {}\n", path.display()));
    }
    if found.landed > 0 {
        show::tell(&format!("{} of an interrupted run landed\n", counted(found.landed, "whole file")));
    }
    Ok(found.landed == 0)
}

/// Makes sure that nobody on another machine shares the sheet: the kernel's lock may not reach that far.
fn alone(state: &StateFolder, loaded: &Loaded, around: &Surroundings) -> Result<(), Failure> {
    let others = claims::others(state);
    let Some(alive) = living(&others, times(loaded), around) else { return Ok(()) };
    let worker = &others[alive].worker;
    let message =
        format!("others are rendering this sheet with --share: process {} on {}", worker.process, worker.host);
    Err(Failure::new(Cause::Machine, message).help(JOIN))
}

/// One sheet of a call.
fn sheet(request: &RunRequest<'_>, loaded: &mut Loaded, journal: &Journal) -> Result<Exit, Failure> {
    let RunRequest { args, around, at, .. } = *request;
    let choice = args.existing.map(existing).unwrap_or(loaded.plan.run.existing);
    let here = loaded.machine.workers.and_then(|workers| usize::try_from(workers).ok());
    if let Some(chunk) = args.chunk {
        loaded.plan.run.chunk = chunk;
    }
    loaded.plan.run.workers = args.workers.or(here).unwrap_or(loaded.plan.run.workers).max(1);
    work::share_threads(loaded);
    pipeline::look_up_made(loaded, around);
    let loaded = &*loaded;
    let mut before = observe(loaded, around)?;
    if choice == Existing::Stop && !args.movies && before.iter().any(|verdict| !standing(verdict).is_empty()) {
        let there: i64 = before.iter().map(|verdict| standing(verdict).count()).sum();
        let message = format!("{} of this plan already exist, and existing = \"stop\"", counted(there, "file"));
        return Err(Failure::new(Cause::Refused, message).help("`truepath verify` shows them"));
    }
    let mut need = needed(args, loaded, &before, choice)?;
    let exports: Vec<&String> = args.only.iter().filter(|id| only::is_export(id, loaded)).collect();
    work::guard_protected(loaded, &before, &need)?;
    super::guard_calls(&loaded.plan, need.iter().map(Frames::count))?;
    if args.exports || !exports.is_empty() && exports.len() == args.only.len() {
        let work = Work { loaded, before: &before, need: &need, spread: false };
        return only::exports(request, &exports, &work, journal);
    }
    let own = Own::of(loaded, choice);
    let mut claims = None;
    if args.share && need.iter().any(|frames| !frames.is_empty()) {
        claims = Some(own.join(loaded, journal, choice, around)?);
        // While this member was on its way, others may have made all of it.
        before = again(loaded, around)?;
        need = needed(args, loaded, &before, choice)?;
    }
    let total: i64 = need.iter().map(Frames::count).sum();
    let began = Instant::now();
    let mut ended = Ended { total, ..Ended::default() };
    let mut last = true;
    if total > 0 {
        let work = Work { loaded, before: &before, need: &need, spread: args.order == CallOrder::EndsFirst };
        let edits = Some(Edits::of(request, loaded, choice));
        (ended.outcome, ended.failures, last) = render(request, &work, (journal, claims.take()), edits)?;
    }
    ended.seconds = began.elapsed().as_secs_f64();
    ended.after = match (total, args.share) {
        (0, _) => before,
        (_, false) => again(loaded, around)?,
        (_, true) => settled(loaded, around)?,
    };
    let left = |own: &Verdict| own.in_any(&[State::Missing, State::Broken]).intersect(&need[own.series]).count();
    ended.left = ended.after.iter().map(left).sum();
    ended.fixes = super::fixes_of(loaded, &ended.after, &args.common, at);
    if total > 0 {
        let (landed, outcome) = (ended.outcome.landed, ended.word().to_owned());
        let (estimated, took) = judged(loaded, journal)?;
        let over = Event::Over { landed, missing: total - landed, outcome, t: journal.t(), estimated, took };
        journal.write(&over)?;
        if args.common.json {
            show::print_exact(&over.line())?;
        }
    }
    if total == 0 && args.share {
        last = is_last(loaded, claims, &own)?;
    }
    if last {
        closing::afterwards(loaded, &ended, own.end())?;
    }
    if !args.common.json {
        show::tell(&closing::summary(args, loaded, &ended, around));
    }
    if args.open {
        closing::open(loaded);
    }
    Ok(ended.exit(args))
}

/// What this run was expected to take, and what it took.
fn judged(loaded: &Loaded, journal: &Journal) -> Result<(Option<f64>, Option<f64>), Failure> {
    let history = journal::read(&loaded.state, Depth::Calls)?;
    let costs = Costs::of(&loaded.plan, &history, &loaded.ground.made_of);
    let own = costs.runs().iter().find(|run| run.tag == journal.tag());
    let rounded = |seconds: f64| (seconds * 1000.0).round() / 1000.0;
    Ok((own.map(|run| rounded(run.estimated)), own.map(|run| rounded(run.took))))
}

/// What has to be made, by output.
fn needed(args: &RunArgs, loaded: &Loaded, before: &[Verdict], choice: Existing) -> Result<Vec<Frames>, Failure> {
    let mut need: Vec<Frames> = before.iter().map(|verdict| outstanding(verdict, choice)).collect();
    with_movies(&loaded.plan, &mut need, before);
    if args.movies {
        need[..loaded.plan.series.len()].fill(Frames::none());
    }
    let only: Vec<&String> = args.only.iter().filter(|id| !only::is_export(id, loaded)).collect();
    if !only.is_empty() {
        work::keep_only(&only, loaded, &mut need)?;
    }
    Ok(need)
}

/// Whether a member that finds nothing to do ends a round: only one whose members were all cut short. A round that it has begun
/// itself is closed, and was none.
fn is_last(loaded: &Loaded, claims: Option<Claims>, own: &Own) -> Result<bool, Failure> {
    if let Some(claims) = claims {
        claims.leave();
        if claims.is_new() {
            claims.end_round();
            return Ok(false);
        }
    }
    own.end_left(&loaded.state)
}

/// Renders; what failed for good, and whether this is the member that ends the round.
fn render(
    request: &RunRequest<'_>,
    work: &Work<'_>,
    (journal, claims): (&Journal, Option<Claims>),
    mut edits: Option<Edits<'_>>,
) -> Result<(Outcome, Vec<Event>, bool), Failure> {
    let RunRequest { args, around, .. } = *request;
    let loaded = work.loaded;
    let mut calls = work.calls(&args.only, args.share);
    if let Some(claims) = &claims {
        // Movies come last, as they do in the plan.
        let rendering = calls.iter().position(|call| call.is_movie(&loaded.plan)).unwrap_or(calls.len());
        calls[..rendering].rotate_left(claims.beginning(rendering));
    }
    let total: i64 = work.need.iter().map(Frames::count).sum();
    let mut progress = Progress::new(&loaded.plan, work.loads(&calls), total, (args.common.json, around.err));
    let began = journal.began(total, &loaded.pins);
    journal.write(&began)?;
    progress.show(&began);
    let parts: Vec<_> = calls.iter().flat_map(|call| loaded.command_lines(around).narrowed(call, work.need)).collect();
    let programs = SystemPrograms::guarded(&around.program);
    let Exported { digests, blocked } = prepare(request, loaded, &parts, (journal, &programs))?;
    for (job, failure) in &blocked {
        let job = loaded.plan.jobs[*job].name.clone();
        let event = Event::GaveUp { job, why: failure.message.clone() };
        journal.write(&event)?;
        progress.show(&event);
    }
    let calls: Vec<_> = calls.into_iter().filter(|call| !blocked.contains_key(&call.job)).collect();
    if let (true, Some(first)) = (calls.is_empty(), blocked.into_values().next()) {
        progress.end();
        return Err(first);
    }
    let read = |(at, made): (usize, &Option<Fingerprint>)| {
        let digest = loaded.plan.series.get(at).and_then(|series| digests.get(&series.job));
        made.clone().map(|made| digest.map_or(made.clone(), |digest| made.with_product(digest)))
    };
    let made: Vec<_> = loaded.ground.made_of.iter().enumerate().map(read).collect();
    let project = Project { made: &made, ..loaded.project(around) };
    let mut orders = Orders::new(project, journal, &programs, calls);
    orders.claims = claims.as_ref();
    orders.before = work.before;
    orders.need = work.need;
    orders.keep_going = args.keep_going;
    for (name, count) in &loaded.machine.licences {
        let own = orders.licences.entry(name.clone()).or_insert(*count);
        *own = (*own).min(*count);
    }
    let mut unwritten: Option<Failure> = None;
    let outcome = scheduler::run(orders, |events| {
        progress.follow(events);
        if let Some(what) = edits.as_mut().and_then(|edits| edits.noticed(events)) {
            let event = Event::Edited { what };
            unwritten = unwritten.take().or(journal.write(&event).err());
            progress.show(&event);
        }
    });
    progress.end();
    let failures = progress.into_failures();
    if claims::others(&loaded.state).is_empty() {
        recover::remove_empty_bases(&loaded.plan);
    }
    unwritten.map_or(Ok(()), Err)?;
    let outcome = outcome?;
    let last = match claims {
        None => true,
        // Whoever makes some calls only does not know what becomes of the others.
        Some(_) if outcome.interrupted || !args.only.is_empty() => false,
        Some(claims) if outcome.gave_up => claims::others(&loaded.state).is_empty() && claims.end_round(),
        Some(claims) => claims.end_round(),
    };
    Ok((outcome, failures, last))
}

/// What comes before the first frame. Jobs for which it cannot be done are returned with the reason.
fn prepare(
    request: &RunRequest<'_>,
    loaded: &Loaded,
    calls: &[Call],
    (journal, programs): (&Journal, &SystemPrograms),
) -> Result<Exported, Failure> {
    let RunRequest { args, around, .. } = *request;
    let blocked = export::needs(&loaded.plan, &loaded.adapters, calls, &around.program);
    let free: Vec<_> = calls.iter().filter(|call| !blocked.contains_key(&call.job)).cloned().collect();
    let member = Member::own(&around.host, journal);
    let mut exported = export::make(
        Making {
            project: loaded.project(around),
            journal,
            programs,
            named: &|at| loaded.product(at, around),
            member: args.share.then(|| (&member, times(loaded))),
            told: &|words| show::tell(&format!("{words}\n")),
        },
        &free,
    )?;
    exported.blocked.extend(blocked);
    Ok(exported)
}

/// What went wrong, where it makes no difference how far it reaches.
fn only(trouble: Trouble) -> Failure {
    match trouble {
        Trouble::Call(failure) | Trouble::Run(failure) => failure,
    }
}

fn existing(choice: args::ExistingFiles) -> Existing {
    match choice {
        args::ExistingFiles::Keep => Existing::Keep,
        args::ExistingFiles::Renew => Existing::Renew,
        args::ExistingFiles::Replace => Existing::Replace,
        args::ExistingFiles::Stop => Existing::Stop,
    }
}
