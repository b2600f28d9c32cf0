//! One sheet of a run: what is needed, rendered.

use std::collections::BTreeMap;
use std::time::Instant;

use truepath_core::diagnostic::counted;
use truepath_core::frames::Frames;
use truepath_core::plan::{Call, Plan};
use truepath_core::run::cost::Costs;
use truepath_core::run::event::Event;
use truepath_core::run::fingerprint::Fingerprint;
use truepath_core::run::history::Depth;
use truepath_core::run::outstanding::{outstanding, standing, with_movies};
use truepath_core::sheet::Existing;
use truepath_core::verify::{State, Verdict};
use truepath_exec::Project;
use truepath_exec::export::{self, Exported, Making};
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::landing::recover;
use truepath_exec::process::SystemPrograms;
use truepath_exec::scheduler::{self, Orders};
use truepath_exec::share::{self as claims, Claims, Member};
use truepath_exec::state::journal::{self, Journal};

use super::agree::{Own, times};
use super::edits::Edits;
use super::ended::{EndedRun, RunOutcome, afterwards};
use super::look::{again, observe, settled};
use super::work::{self, is_export};
use super::{RunOptions, RunRequest, Work};
use crate::listener::{News, Note, Rendering};
use crate::open::Loaded;

/// Makes what is needed of one sheet.
pub(super) fn sheet(request: &RunRequest<'_>, loaded: &mut Loaded, journal: &Journal) -> Result<EndedRun, Failure> {
    let RunRequest { options, around, listener, .. } = *request;
    let choice = options.existing.unwrap_or(loaded.plan.run.existing);
    set_up(loaded, options);
    loaded.look_up_made(around, listener);
    let loaded = &*loaded;
    let mut before = observe(loaded, listener)?;
    let there: i64 = before.iter().map(|verdict| standing(verdict).count()).sum();
    if choice == Existing::Stop && !options.movies && there > 0 {
        let message = format!("{} of this plan already exist, and existing = \"stop\"", counted(there, "file"));
        return Err(Failure::new(Cause::Refused, message).help("`truepath verify` shows them"));
    }
    let mut need = needed(options, loaded, &before, choice)?;
    let exports: Vec<&String> = options.only.iter().filter(|id| is_export(id, loaded)).collect();
    work::guard_protected(loaded, &before, &need)?;
    crate::guards::calls(&loaded.plan, need.iter().map(Frames::count))?;
    if options.exports || !exports.is_empty() && exports.len() == options.only.len() {
        let work = Work { loaded, before: &before, need: &need, spread: false };
        let exported = Some(only_exports(request, &exports, &work, journal)?);
        return Ok(EndedRun { exported, ..EndedRun::default() });
    }
    let own = Own::of(loaded, choice);
    let mut claims = None;
    if options.share && need.iter().any(|frames| !frames.is_empty()) {
        claims = Some(own.join(loaded, Member::own(&around.host, journal), choice, listener)?);
        // While this member was on its way, others may have made all of it.
        before = again(loaded, listener)?;
        need = needed(options, loaded, &before, choice)?;
    }
    let total: i64 = need.iter().map(Frames::count).sum();
    let began = Instant::now();
    let mut ended = EndedRun { total, ..EndedRun::default() };
    let mut last = true;
    if total > 0 {
        let work = Work { loaded, before: &before, need: &need, spread: options.ends_first };
        let edits = Some(Edits::of(request, loaded, choice));
        (ended.outcome, ended.failures, last) = render(request, &work, (journal, claims.take()), edits)?;
    }
    ended.seconds = began.elapsed().as_secs_f64();
    ended.after = match (total, options.share) {
        (0, _) => before,
        (_, false) => again(loaded, listener)?,
        (_, true) => settled(loaded, listener)?,
    };
    let left = |own: &Verdict| own.in_any(&[State::Missing, State::Broken]).intersect(&need[own.series]).count();
    ended.left = ended.after.iter().map(left).sum();
    if total > 0 {
        let (landed, outcome) = (ended.outcome.landed, ended.word().to_owned());
        let (estimated, took) = judged(loaded, journal)?;
        let over = Event::Over { landed, missing: total - landed, outcome, t: journal.t(), estimated, took };
        journal.write(&over)?;
        ended.over = Some(over);
    }
    if total == 0 && options.share {
        last = is_last(loaded, claims, &own)?;
    }
    if last {
        afterwards(loaded, &ended, own.end(), listener)?;
    }
    Ok(ended)
}

/// What was asked for stands above the machine file, and that above the sheet.
fn set_up(loaded: &mut Loaded, options: &RunOptions) {
    let here = loaded.machine.workers.and_then(|workers| usize::try_from(workers).ok());
    if let Some(chunk) = options.chunk {
        loaded.plan.run.chunk = chunk;
    }
    loaded.plan.run.workers = options.workers.or(here).unwrap_or(loaded.plan.run.workers).max(1);
    work::share_threads(loaded);
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
fn needed(options: &RunOptions, loaded: &Loaded, before: &[Verdict], choice: Existing) -> Result<Vec<Frames>, Failure> {
    let mut need: Vec<Frames> = before.iter().map(|verdict| outstanding(verdict, choice)).collect();
    with_movies(&loaded.plan, &mut need, before);
    if options.movies {
        need[..loaded.plan.series.len()].fill(Frames::none());
    }
    let only: Vec<&String> = options.only.iter().filter(|id| !is_export(id, loaded)).collect();
    if !only.is_empty() {
        work::keep_only(&only, loaded, &mut need)?;
    }
    Ok(need)
}

/// Makes nothing but what comes before the first frame; of exports those that are named, where any are. How many there are.
fn only_exports(
    request: &RunRequest<'_>,
    named: &[&String],
    work: &Work<'_>,
    journal: &Journal,
) -> Result<i64, Failure> {
    let (loaded, around) = (work.loaded, request.around);
    let lines = loaded.command_lines(around);
    let is_wanted = |call: &Call| named.is_empty() || lines.export_of(call.job).is_some_and(|id| named.contains(&id));
    let calls = work.calls(&[], false).into_iter().filter(is_wanted);
    let parts: Vec<_> = calls.flat_map(|call| lines.narrowed(&call, work.need)).collect();
    let made = lines.exports(&parts, "").len();
    let programs = SystemPrograms::guarded(&around.program);
    let blocked = prepare(request, loaded, &parts, (journal, &programs))?.blocked;
    match blocked.into_values().next() {
        Some(first) => Err(first),
        None => Ok(i64::try_from(made).unwrap_or(i64::MAX)),
    }
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
pub(super) fn render(
    request: &RunRequest<'_>,
    work: &Work<'_>,
    (journal, claims): (&Journal, Option<Claims>),
    mut edits: Option<Edits<'_>>,
) -> Result<(RunOutcome, Vec<Event>, bool), Failure> {
    let RunRequest { options, around, listener, .. } = *request;
    let loaded = work.loaded;
    let mut calls = work.calls(&options.only, options.share);
    claims.iter().for_each(|claims| begin_elsewhere(&mut calls, claims, &loaded.plan));
    let files: i64 = work.need.iter().map(Frames::count).sum();
    let loads = work.loads(&calls);
    listener.hear(News::Rendering(Rendering { plan: &loaded.plan, loads: &loads, files }));
    let mut failures: Vec<Event> = Vec::new();
    let mut hear = |events: &[Event]| {
        let fails = |event: &&Event| matches!(event, Event::Failed { .. } | Event::GaveUp { .. });
        failures.extend(events.iter().filter(fails).cloned());
        listener.hear(News::Events(events));
    };
    let began = journal.began(files, &loaded.pins);
    journal.write(&began)?;
    hear(&[began]);
    let parts: Vec<_> = calls.iter().flat_map(|call| loaded.command_lines(around).narrowed(call, work.need)).collect();
    let programs = SystemPrograms::guarded(&around.program);
    let Exported { digests, blocked } = prepare(request, loaded, &parts, (journal, &programs))?;
    for (job, failure) in &blocked {
        let job = loaded.plan.jobs[*job].name.clone();
        let event = Event::GaveUp { job, why: failure.message.clone() };
        journal.write(&event)?;
        hear(&[event]);
    }
    let calls: Vec<_> = calls.into_iter().filter(|call| !blocked.contains_key(&call.job)).collect();
    if let (true, Some(first)) = (calls.is_empty(), blocked.into_values().next()) {
        listener.hear(News::RenderingOver);
        return Err(first);
    }
    let made = made_of(loaded, &digests);
    let project = Project { made: &made, ..loaded.project(around) };
    let mut orders = Orders::new(project, journal, &programs, calls);
    orders.claims = claims.as_ref();
    work.put_into(&mut orders, options.keep_going);
    let mut unwritten: Option<Failure> = None;
    let outcome = scheduler::run(orders, |events| {
        hear(events);
        if let Some(what) = edits.as_mut().and_then(|edits| edits.noticed(events)) {
            let event = Event::Edited { what };
            unwritten = unwritten.take().or(journal.write(&event).err());
            hear(&[event]);
        }
    });
    listener.hear(News::RenderingOver);
    if claims::others(&loaded.state).is_empty() {
        recover::remove_empty_bases(&loaded.plan);
    }
    unwritten.map_or(Ok(()), Err)?;
    let outcome = outcome?;
    let last = ends_round(request, loaded, claims, &outcome);
    Ok((outcome, failures, last))
}

/// Members begin at different calls. Movies come last, as they do in the plan.
fn begin_elsewhere(calls: &mut [Call], claims: &Claims, plan: &Plan) {
    let rendering = calls.iter().position(|call| call.is_movie(plan)).unwrap_or(calls.len());
    calls[..rendering].rotate_left(claims.beginning(rendering));
}

/// What each series is made of, with the products of its exporter.
fn made_of(loaded: &Loaded, digests: &BTreeMap<usize, String>) -> Vec<Option<Fingerprint>> {
    let read = |(at, made): (usize, &Option<Fingerprint>)| {
        let digest = loaded.plan.series.get(at).and_then(|series| digests.get(&series.job));
        made.clone().map(|made| digest.map_or(made.clone(), |digest| made.with_product(digest)))
    };
    loaded.ground.made_of.iter().enumerate().map(read).collect()
}

/// Whether this member ends the round.
fn ends_round(request: &RunRequest<'_>, loaded: &Loaded, claims: Option<Claims>, outcome: &RunOutcome) -> bool {
    match claims {
        None => true,
        // Whoever makes some calls only does not know what becomes of the others.
        Some(_) if outcome.interrupted || !request.options.only.is_empty() => false,
        Some(claims) if outcome.gave_up => claims::others(&loaded.state).is_empty() && claims.end_round(),
        Some(claims) => claims.end_round(),
    }
}

/// What comes before the first frame. Jobs for which it cannot be done are returned with the reason.
fn prepare(
    request: &RunRequest<'_>,
    loaded: &Loaded,
    calls: &[Call],
    (journal, programs): (&Journal, &SystemPrograms),
) -> Result<Exported, Failure> {
    let RunRequest { options, around, listener, .. } = *request;
    let blocked = export::needs(&loaded.plan, &loaded.adapters, calls, &around.program);
    let free: Vec<_> = calls.iter().filter(|call| !blocked.contains_key(&call.job)).cloned().collect();
    let member = Member::own(&around.host, journal);
    let mut exported = export::make(
        Making {
            project: loaded.project(around),
            journal,
            programs,
            named: &|at| loaded.product(at, around),
            member: options.share.then(|| (&member, times(loaded))),
            told: &|words| listener.hear(News::Note(&Note::Export(words.to_owned()))),
        },
        &free,
    )?;
    exported.blocked.extend(blocked);
    Ok(exported)
}
