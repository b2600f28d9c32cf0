//! The threads that carry a plan out: each takes a call, sees it through, and takes the next.

use std::collections::BTreeSet;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Condvar, Mutex, PoisonError};
use std::time::Duration;

use truepath_core::frames::Frames;
use truepath_core::plan::Call;
use truepath_core::run::event::Event;
use truepath_core::run::meant::covered;

use super::attempt::{Attempt, Done};
use super::checkpoint;
use super::context::{Context, OwedFile};
use super::feed::Feed;
use super::movies::queue;
use super::orders::{Orders, Outcome};
use super::room::Room;
use super::supply::{HOPELESS, Supply, Taken};
use super::tries::{Halve, Next, Tries, complaint};
use super::waiting::Crew;
use crate::failure::{Cause, Failure, Trouble};
use crate::landing::recover::recover;
use crate::landing::stage::Folders;
use crate::process::Stops;
use crate::share::{Claims, Wish};

/// The pause before a renderer that found no licence is started again, and the longest one.
const PAUSES: (Duration, Duration) = (Duration::from_secs(1), Duration::from_secs(60));

/// A start of which it is not known yet what came of it.
struct UnderWay<'a, 'c> {
    crew: &'a Crew<'c>,
    job: usize,
}

impl Drop for UnderWay<'_, '_> {
    fn drop(&mut self) {
        self.crew.known(self.job);
    }
}

/// What a call holds from try to try.
struct Hold<'a, 'c> {
    taken: Taken<Call>,
    /// The last try, until its outcome is counted.
    under_way: Option<UnderWay<'a, 'c>>,
    /// Stage folders of the last try, which may hold what it wrote elsewhere.
    left_over: Vec<String>,
    /// Stage folders of a try whose files were not believed.
    kept: Vec<String>,
}

/// Makes all calls. `show` is told what happens, and called now and then when nothing does.
///
/// # Errors
/// When what happens can no longer be written down, when claims cannot be read, or when a part of True Path panicked. All
/// renderers have been ended then.
pub fn run(orders: Orders<'_>, mut show: impl FnMut(&[Event])) -> Result<Outcome, Failure> {
    let stops = Stops::new().map_err(|error| Failure::machine("listen for", "interrupts", &error))?;
    let handle = stops.handle();
    let workers = orders.project.command_lines.plan.run.workers;
    let crew = Crew::new(orders, workers);
    let context = &crew.context;
    // While the files of one call land, its worker's next renderer runs already.
    let hands = workers * 2;
    let at_work = AtomicUsize::new(hands);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            stops.each(|| {
                // The first one lets each renderer finish its frame; the second ends them.
                if context.interrupts.fetch_add(1, Ordering::SeqCst) > 0 {
                    context.programs.end_all();
                } else {
                    context.tell(&Event::Interrupted);
                }
                crew.wake();
            });
        });
        scope.spawn(|| context.claims.into_iter().for_each(Claims::live));
        for _ in 0..hands {
            scope.spawn(|| {
                crew.safely(|| crew.work());
                if at_work.fetch_sub(1, Ordering::SeqCst) == 1 {
                    context.events.end();
                    context.claims.inspect(|claims| claims.leave());
                    handle.close();
                }
            });
        }
        let mut shown = true;
        while let Some(events) = context.events.gather() {
            // A display that is broken must not keep anybody from ending.
            shown = shown
                && crew.safely(|| {
                    show(&events);
                    Ok(())
                });
        }
    });
    context.stages.remove();
    context.record_last_oddities()?;
    let failed = crew.failure.lock().unwrap_or_else(PoisonError::into_inner).take();
    failed.map_or(Ok(()), Err)?;
    let supply = crew.supply();
    Ok(Outcome {
        landed: supply.landed,
        gave_up: supply.gave_up(),
        interrupted: context.is_interrupted(),
        full: context.full_disks.lock().unwrap_or_else(PoisonError::into_inner).first().map(|full| full.words.clone()),
        problems: context.problems(),
    })
}

impl<'c> Crew<'c> {
    fn new(orders: Orders<'c>, workers: usize) -> Crew<'c> {
        let queue = queue(orders.project.command_lines, orders.calls);
        let context = Context {
            project: orders.project,
            journal: orders.journal,
            programs: orders.programs,
            moves: orders.moves,
            claims: orders.claims,
            before: orders.before,
            need: orders.need,
            events: Feed::default(),
            stages: Folders::default(),
            lines: Mutex::default(),
            interrupts: AtomicUsize::new(0),
            stopped: AtomicBool::new(false),
            problems: Mutex::default(),
            films: Mutex::default(),
            sizes: Mutex::default(),
            odd: Mutex::default(),
            full_disks: Mutex::default(),
            awaited_disks: Mutex::default(),
        };
        Crew {
            context,
            keep_going: orders.keep_going,
            supply: Mutex::new(Supply::new(queue, workers, orders.licences).keep_going(orders.keep_going)),
            bell: Condvar::new(),
            failure: Mutex::default(),
        }
    }

    /// Does a part of the work; what it cannot get over, and a panic, end the run. Returns whether it went well.
    fn safely(&self, work: impl FnOnce() -> Result<(), Failure>) -> bool {
        let failure = match catch_unwind(AssertUnwindSafe(work)) {
            Ok(Ok(())) => return true,
            Ok(Err(failure)) => failure,
            Err(panic) => Failure::bug(&*panic),
        };
        self.failure.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(failure);
        self.context.stopped.store(true, Ordering::SeqCst);
        self.context.programs.end_all();
        self.wake();
        false
    }

    /// One pair of hands: call after call.
    fn work(&self) -> Result<(), Failure> {
        while let Some(taken) = self.take()? {
            match self.persist(taken) {
                Ok(()) => {}
                Err(Trouble::Run(failure) | Trouble::Call(failure)) => return Err(failure),
            }
        }
        Ok(())
    }

    /// Waits for a call and all licences that it needs; where others could make it instead, for a worker, too. `None` when
    /// nothing is left to be done. Whether somebody had begun it before is told beside it.
    fn take(&self) -> Result<Option<(Taken<Call>, bool)>, Failure> {
        let claims = self.context.claims;
        let mut idle = false;
        loop {
            let mut from = 0;
            loop {
                let mut supply = self.supply();
                if self.context.is_stopping() || supply.is_over() {
                    return Ok(None);
                }
                let Some(taken) = supply.take(from, claims.is_some()) else { break };
                drop(supply);
                // What is asked of a shared folder may take its time: nobody else waits for it.
                let (call, plan) = (&taken.order.call, self.context.plan());
                let wish = claims.map_or(Ok(Wish::Granted { again: false }), |claims| {
                    claims.wish(&call.id, &covered(plan, call), idle)
                });
                from = taken.ticket + 1;
                let mut supply = self.supply();
                match wish {
                    Ok(Wish::Granted { again }) => {
                        supply.granted();
                        return Ok(Some((taken, again)));
                    }
                    Ok(Wish::Held) => supply.put_back(taken),
                    Ok(Wish::Over) => supply.dropped(taken),
                    Err(failure) => {
                        supply.put_back(taken);
                        return Err(failure);
                    }
                }
                self.hand_out(supply);
                // Its worker and licences are free again, or no call is left: the waiting threads have to look.
                self.bell.notify_all();
            }
            let supply = self.supply();
            if self.context.is_stopping() || supply.is_over() {
                return Ok(None);
            }
            if claims.is_some() && !idle {
                // Others have the rest; some of it may have been left behind.
                idle = true;
                continue;
            }
            match claims.filter(|_| supply.is_idle()) {
                // Others have the rest: what becomes of it?
                Some(claims) => {
                    drop(self.bell.wait_timeout(supply, claims.patience()));
                    claims.look()?;
                }
                None => drop(self.bell.wait(supply)),
            }
        }
    }

    /// One call of the plan: tried, tried again for what it lacks as often as the sheet allows, then halved until the frames
    /// that fail are known.
    fn persist(&self, (taken, again): (Taken<Call>, bool)) -> Result<(), Trouble> {
        let context = &self.context;
        let whole = taken.order.call.clone();
        let (job, tried) = (taken.order.job, taken.order.tried);
        let mut awaited = match tried {
            0 => self.still_awaited(&whole, again)?,
            _ => taken.order.lacked.clone(),
        };
        let parts = self.context.narrowed(&whole, &awaited);
        let mut tries = match tried {
            0 => Tries::new(parts, context.plan().run.retries),
            // It was retried before others went first.
            _ => Tries::new(parts.iter().flat_map(|part| self.context.halved(part)), 0),
        };
        let (mut failed, mut number, mut pauses) = (Frames::none(), tried, 0u32);
        let mut hold = Hold { taken, under_way: None, left_over: Vec::new(), kept: Vec::new() };
        if self.put_off(&whole, &awaited, &mut hold)? {
            return Ok(());
        }
        let mut stuck = None;
        while let Some((part, left)) = tries.pop() {
            hold.under_way = None;
            self.wait_with_others(&part, &mut hold.taken);
            number += 1;
            let wanted: BTreeSet<OwedFile> = context.awaited(&part).intersection(&awaited).copied().collect();
            let Some(mut done) = self.once(&part, number, wanted, &mut hold)? else {
                if context.is_stopping() {
                    return Ok(());
                }
                // Its job was given up while it waited.
                break;
            };
            context.count_problems(whole.job, done.problems);
            let asked = context.awaited(&part);
            awaited.retain(|place| !asked.contains(place) || done.missing.contains(place));
            if done.lost || context.is_stopping() {
                self.leave(hold.taken, done.files);
                return Ok(());
            }
            if done.waited {
                self.give_back(&mut hold.taken);
                self.pause((PAUSES.0 * 2u32.saturating_pow(pauses)).min(PAUSES.1));
                pauses += 1;
                tries.waited(part, left);
                continue;
            }
            if let Some(full) = context.wants_room(&part, &mut done) {
                self.give_back(&mut hold.taken);
                let room = self.wait_for_room((&part, number), &full)?;
                // A try that landed something, or that others had kept from it, costs none of its retries.
                if room == Room::Found || (room == Room::ItsOwn && done.files > 0) {
                    self.supply().landed += done.files;
                    let rest = context.narrowed(&part, &done.missing);
                    rest.into_iter().rev().for_each(|part| tries.waited(part, left));
                    continue;
                }
                done.why = full.words;
                done.stuck |= room == Room::None;
            }
            // What could not be made at all is told of its own; where others had made all, nothing was in vain.
            let hopeless = if done.stuck || done.missing.is_empty() && done.files == 0 {
                self.supply().landed += done.files;
                None
            } else {
                self.supply().tried(job, (number, done.files), &complaint(&done.why))
            };
            let unbelieved = self.unbelieved(&part, number, &mut done, &mut hold)?;
            if done.missing.is_empty() {
                continue;
            }
            let given_up = self.supply().has_given_up(job);
            if hopeless.is_some() || given_up || unbelieved.is_some() {
                // All that is left of this call fails with it.
                let rest = tries.into_rest().flat_map(|part| part.frames.iter().collect::<Vec<_>>());
                let missing = done.missing.iter().map(|(_, frame)| *frame).chain(rest).collect();
                let words = &done.words;
                let why = |starts| format!("{starts} starts produced nothing{words} (--keep-going continues)");
                stuck = unbelieved.or(hopeless.map(why));
                let frames = Frames::from_any(missing);
                failed = failed.union(&frames);
                context.give_up(&whole, done, frames)?;
                break;
            }
            let frames = Frames::from_any(done.missing.iter().map(|(_, frame)| *frame).collect());
            let can_be_halved = frames.count() > 1 && !done.elsewhere && !done.stuck && done.unbelieved.is_none();
            let has_landed = self.supply().has_landed(job);
            // A call that other members could claim stays with the member that has it.
            let may_wait = !done.stuck && context.claims.is_none() && (can_be_halved || !has_landed);
            if may_wait && self.supply().is_better_later(job, number, tried) {
                self.supply().postpone(hold.taken, number, awaited);
                self.bell.notify_all();
                return Ok(());
            }
            let rest = self.context.narrowed(&part, &done.missing);
            let halve = |part: &Call| self.context.halved(part);
            let halve: Option<Halve<'_, Call>> = can_be_halved.then_some(&halve);
            match tries.missing(left, rest, halve, has_landed) {
                Next::Again if done.unbelieved.is_some() => {}
                Next::Again => hold.left_over = self.context.stage_folders(&part, number),
                Next::GivenUp => {
                    failed = failed.union(&frames);
                    stuck = stuck.or_else(|| done.stuck.then(|| done.why.clone()));
                    context.give_up(&whole, done, frames)?;
                }
            }
        }
        self.over(&whole, &failed, stuck, hold)
    }

    /// A call of the plan is over, whatever came of it.
    fn over(
        &self,
        whole: &Call,
        failed: &Frames,
        stuck: Option<String>,
        mut hold: Hold<'_, 'c>,
    ) -> Result<(), Trouble> {
        if failed.is_empty() {
            hold.kept.iter().try_for_each(|folder| self.context.stages.clear(folder).map_err(Trouble::Call))?;
        }
        self.give_back(&mut hold.taken);
        if let Some(claims) = self.context.claims {
            claims.done(&whole.id, &failed.to_string()).map_err(Trouble::Run)?;
        }
        let judged = self.judge(whole, !failed.is_empty(), stuck);
        self.finished(hold.taken.ticket);
        judged
    }

    /// A try whose files look whole and are not believed: they stay in stage. After some of them, all alike, the rest of the
    /// job is left alone; what is to be said then.
    fn unbelieved(
        &self,
        part: &Call,
        number: u64,
        done: &mut Done,
        hold: &mut Hold<'_, 'c>,
    ) -> Result<Option<String>, Trouble> {
        let job = hold.taken.order.job;
        let count = self.supply().unbelieved(job, done.unbelieved.as_ref().map(|own| own.how.as_str()));
        let Some(own) = &done.unbelieved else { return Ok(None) };
        // One of them is enough.
        hold.kept.drain(..).try_for_each(|folder| self.context.stages.clear(folder).map_err(Trouble::Call))?;
        hold.kept = self.context.stage_folders(part, number);
        let adapter = self.context.adapter(part).map_or("", |adapter| adapter.name.as_str());
        let advice = format!(
            "if {adapter} always ends so and they are whole, write {} in the adapter {adapter}; `truepath run` then lands them",
            own.line
        );
        let stays = format!("{} after it had written all files, which look whole and stay in stage", own.how);
        done.why = if count.is_some() { stays.clone() } else { format!("{stays}; {advice}") };
        Ok(count.map(|count| format!("{adapter} {stays}, {count} times in a row; {advice}")))
    }

    /// The files that a call owes. Of a call that another member had before, only those that are missing.
    fn still_awaited(&self, whole: &Call, again: bool) -> Result<BTreeSet<OwedFile>, Trouble> {
        let context = &self.context;
        let mut awaited = context.awaited(whole);
        if let Some(claims) = context.claims.filter(|_| again) {
            // That member may have left whole frames, and renderers that still run.
            let dead = claims.dead();
            recover(context.project, context.journal, &|tag| dead.iter().any(|dead| dead == tag))?;
            let there = context.landed_meanwhile(claims, &awaited).map_err(Trouble::Run)?;
            awaited.retain(|place| !there.contains(place));
        }
        Ok(awaited)
    }

    /// Gives up a movie whose frames are not as they should be. The movie has not failed: the reason is reported for its
    /// frames. False for a call that can be made.
    fn put_off(&self, whole: &Call, awaited: &BTreeSet<OwedFile>, hold: &mut Hold<'_, 'c>) -> Result<bool, Trouble> {
        let context = &self.context;
        let Some(why) = context.unready(whole).map_err(Trouble::Run)? else { return Ok(false) };
        let done = Done { missing: awaited.clone(), why, ..Done::default() };
        context.give_up(whole, done, whole.frames.clone())?;
        self.give_back(&mut hold.taken);
        if let Some(claims) = context.claims {
            claims.done(&whole.id, &whole.frames.to_string()).map_err(Trouble::Run)?;
        }
        self.finished(hold.taken.ticket);
        Ok(true)
    }

    /// One try of a part. What this machine refuses is told of the try; `None` when the run is being ended.
    fn once<'a>(
        &'a self,
        part: &Call,
        number: u64,
        wanted: BTreeSet<OwedFile>,
        hold: &mut Hold<'a, 'c>,
    ) -> Result<Option<Done>, Trouble> {
        let Hold { taken, under_way, left_over, .. } = hold;
        let stuck = |failure: &Failure| Ok(Some(Done::stuck(wanted.clone(), failure)));
        let part = match self.context.marked(part, number) {
            Ok(part) => part,
            Err(failure) => return stuck(&failure),
        };
        let cleared = left_over.drain(..).try_for_each(|folder| self.context.stages.clear(folder));
        if let Err(failure) = cleared {
            return stuck(&failure);
        }
        if let Some(words) = self.context.has_no_room(&part) {
            let failure = Failure::new(Cause::Machine, words);
            return stuck(&failure);
        }
        let licences = taken.order.licences.clone();
        let free = |worker| self.release(worker, &licences);
        let (attempt, ready) = match Attempt::new(&self.context, &part, wanted.clone(), &free) {
            Ok(Some(both)) => both,
            Ok(None) => return Ok(Some(Done::default())),
            Err(Trouble::Call(failure)) => return stuck(&failure),
            Err(run) => return Err(run),
        };
        let Some(launched) = self.launch(taken, ready) else {
            attempt.leave();
            return Ok(None);
        };
        *under_way = Some(UnderWay { crew: self, job: taken.order.job });
        let done = attempt.make(launched.worker, launched.live)?;
        if done.missing.is_empty() && checkpoint::clear(&part).is_err() {
            tracing::warn!(call = %part.id, "its checkpoints could not be removed");
        }
        Ok(Some(done))
    }

    /// Leaves the rest of a job alone that is hopeless: a call of it could not be made at all, or nothing ever came out.
    fn judge(&self, call: &Call, failed: bool, stuck: Option<String>) -> Result<(), Trouble> {
        let mut supply = self.supply();
        let group = call.group(self.context.plan());
        let hopeless = supply.ended(group, failed) && !self.keep_going;
        let is_stuck = stuck.is_some();
        let why = stuck.or_else(|| {
            hopeless.then(|| format!("its first {HOPELESS} calls produced nothing (--keep-going continues)"))
        });
        let Some(why) = why.filter(|_| supply.give_up(group, is_stuck)) else { return Ok(()) };
        drop(supply);
        self.bell.notify_all();
        let job = self.context.plan().jobs[call.job].name.clone();
        self.context.record(&Event::GaveUp { job, why }).map_err(Trouble::Run)
    }
}
