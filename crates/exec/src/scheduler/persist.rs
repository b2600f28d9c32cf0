//! One call of the plan, seen through: tried, tried again, halved, put off, given up, or over.

use std::collections::BTreeSet;
use std::time::Duration;

use truepath_core::frames::Frames;
use truepath_core::plan::Call;
use truepath_core::run::event::Event;

use super::attempt::{Attempt, Done};
use super::checkpoint;
use super::context::OwedFile;
use super::room::Room;
use super::supply::{HOPELESS, TakenOrder};
use super::tries::{After, EndedTry, Halve, Tries, after, complaint};
use super::waiting::Crew;
use crate::failure::{Cause, Failure, Trouble};
use crate::landing::recover::recover;

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
    taken: TakenOrder<Call>,
    /// The last try, until its outcome is counted.
    under_way: Option<UnderWay<'a, 'c>>,
    /// Stage folders of the last try, which may hold what it wrote elsewhere.
    left_over: Vec<String>,
    /// Stage folders of a try whose files were not believed.
    kept: Vec<String>,
}

/// A call of the plan on its way.
struct OnItsWay<'a, 'c> {
    whole: Call,
    /// Files that it still owes.
    awaited: BTreeSet<OwedFile>,
    tries: Tries<Call>,
    /// Frames that were given up.
    failed: Frames,
    /// How often it had been tried when it was taken.
    tried: u64,
    /// How often it has been tried.
    number: u64,
    /// How often no licence was free.
    pauses: u32,
    /// Why the rest of its job is left alone.
    stuck: Option<String>,
    hold: Hold<'a, 'c>,
}

/// What becomes of a call after a try.
enum Turn {
    /// Its next part is tried.
    On,
    /// Nothing is left to be tried.
    Over,
    /// The run is being ended, and the call was never started.
    Stopping,
    /// It is left as it is, after so many files.
    Left(i64),
    /// Others go first.
    Later,
}

impl<'c> Crew<'c> {
    /// One call of the plan: tried, tried again for what it lacks as often as the sheet allows, then halved until the frames
    /// that fail are known.
    pub(super) fn persist(&self, (taken, again): (TakenOrder<Call>, bool)) -> Result<(), Trouble> {
        let mut own = self.begin(taken, again)?;
        if self.put_off(&own.whole, &own.awaited, &mut own.hold)? {
            return Ok(());
        }
        while let Some((part, left)) = own.tries.pop() {
            match self.turn(&mut own, part, left)? {
                Turn::On => {}
                Turn::Over => break,
                Turn::Stopping => return Ok(()),
                Turn::Left(files) => {
                    self.leave(own.hold.taken, files);
                    return Ok(());
                }
                Turn::Later => {
                    self.supply().postpone(own.hold.taken, own.number, own.awaited);
                    self.bell.notify_all();
                    return Ok(());
                }
            }
        }
        self.over(&own.whole, &own.failed, own.stuck, own.hold)
    }

    fn begin<'a>(&'a self, taken: TakenOrder<Call>, again: bool) -> Result<OnItsWay<'a, 'c>, Trouble> {
        let whole = taken.order.call.clone();
        let tried = taken.order.tried;
        let awaited = match tried {
            0 => self.still_awaited(&whole, again)?,
            _ => taken.order.lacked.clone(),
        };
        let parts = self.context.narrowed(&whole, &awaited);
        let tries = match tried {
            0 => Tries::new(parts, self.context.plan().run.retries),
            // It was retried before others went first.
            _ => Tries::new(parts.iter().flat_map(|part| self.context.halved(part)), 0),
        };
        let hold = Hold { taken, under_way: None, left_over: Vec::new(), kept: Vec::new() };
        Ok(OnItsWay {
            whole,
            awaited,
            tries,
            failed: Frames::none(),
            tried,
            number: tried,
            pauses: 0,
            stuck: None,
            hold,
        })
    }

    /// One try of a part, and what follows from it.
    fn turn<'a>(&'a self, own: &mut OnItsWay<'a, 'c>, part: Call, left: i64) -> Result<Turn, Trouble> {
        let context = &self.context;
        own.hold.under_way = None;
        self.wait_with_others(&part, &mut own.hold.taken);
        own.number += 1;
        let wanted: BTreeSet<OwedFile> = context.awaited(&part).intersection(&own.awaited).copied().collect();
        let Some(mut done) = self.once(&part, own.number, wanted, &mut own.hold)? else {
            if context.is_stopping() {
                return Ok(Turn::Stopping);
            }
            self.leave_to_others(&own.whole, (&own.awaited, &own.failed))?;
            return Ok(Turn::Over);
        };
        context.count_problems(own.whole.job, done.problems);
        let asked = context.awaited(&part);
        own.awaited.retain(|place| !asked.contains(place) || done.missing.contains(place));
        if done.lost || context.is_stopping() {
            return Ok(Turn::Left(done.files));
        }
        if done.waited {
            self.await_licence(&mut own.hold.taken, own.pauses);
            own.pauses += 1;
            own.tries.waited(part, left);
            return Ok(Turn::On);
        }
        if let Some(full) = context.wants_room(&part, &mut done) {
            self.give_back(&mut own.hold.taken);
            let room = self.wait_for_room((&part, own.number), &full)?;
            // A try that landed something, or that others had kept from it, costs none of its retries.
            if room == Room::Found || (room == Room::ItsOwn && done.files > 0) {
                self.supply().landed += done.files;
                let rest = context.narrowed(&part, &done.missing);
                rest.into_iter().rev().for_each(|part| own.tries.waited(part, left));
                return Ok(Turn::On);
            }
            done.why = full.words;
            done.stuck |= room == Room::None;
        }
        self.judged(own, (part, left), done)
    }

    /// What follows from a try that was made to its end.
    fn judged(&self, own: &mut OnItsWay<'_, 'c>, (part, left): (Call, i64), mut done: Done) -> Result<Turn, Trouble> {
        let (context, job) = (&self.context, own.hold.taken.order.job);
        // What could not be made at all is told of its own; where others had made all, nothing was in vain.
        let hopeless = if done.stuck || done.missing.is_empty() && done.files == 0 {
            self.supply().landed += done.files;
            None
        } else {
            self.supply().tried(job, (own.number, done.files), &complaint(&done.why))
        };
        let unbelieved = self.unbelieved(&part, own.number, &mut done, &mut own.hold)?;
        let frames = Frames::from_any(done.missing.iter().map(|(_, frame)| *frame).collect());
        let can_be_halved = frames.count() > 1 && !done.elsewhere && !done.stuck && done.unbelieved.is_none();
        let supply = self.supply();
        let (given_up, has_landed) = (supply.has_given_up(job), supply.has_landed(job));
        let better_later = supply.is_better_later(job, own.number, own.tried);
        drop(supply);
        let ended = EndedTry {
            lacks: !done.missing.is_empty(),
            stuck: done.stuck,
            hopeless: hopeless.is_some() || given_up || unbelieved.is_some(),
            can_be_halved,
            has_landed,
            is_shared: context.claims.is_some(),
            better_later,
            left,
        };
        match after(&ended) {
            After::Next => {}
            After::FailAll => {
                // All that is left of this call fails with it.
                let rest =
                    std::mem::take(&mut own.tries).into_rest().flat_map(|part| part.frames.iter().collect::<Vec<_>>());
                let missing = done.missing.iter().map(|(_, frame)| *frame).chain(rest).collect();
                let words = &done.words;
                let why = |starts| format!("{starts} starts produced nothing{words} (--keep-going continues)");
                own.stuck = unbelieved.or(hopeless.map(why));
                let frames = Frames::from_any(missing);
                own.failed = own.failed.union(&frames);
                context.give_up(&own.whole, done, frames)?;
                return Ok(Turn::Over);
            }
            After::Later => return Ok(Turn::Later),
            After::Again | After::Halves => {
                let halve = |part: &Call| context.halved(part);
                let halve: Option<Halve<'_, Call>> = can_be_halved.then_some(&halve);
                own.tries.missing(left, context.narrowed(&part, &done.missing), halve, has_landed);
                if done.unbelieved.is_none() {
                    own.hold.left_over = context.stage_folders(&part, own.number);
                }
            }
            After::GiveUp => {
                own.failed = own.failed.union(&frames);
                own.stuck = own.stuck.take().or_else(|| done.stuck.then(|| done.why.clone()));
                context.give_up(&own.whole, done, frames)?;
            }
        }
        Ok(Turn::On)
    }

    /// Its renderer found no licence, as `before` times before: waits before it asks again.
    fn await_licence(&self, taken: &mut TakenOrder<Call>, before: u32) {
        self.give_back(taken);
        self.pause((PAUSES.0 * 2u32.saturating_pow(before)).min(PAUSES.1));
    }

    /// The job of a call was given up while it waited: other members may make it where nobody has begun it here.
    fn leave_to_others(&self, whole: &Call, (awaited, failed): (&BTreeSet<OwedFile>, &Frames)) -> Result<(), Trouble> {
        match self.context.claims {
            Some(claims) if failed.is_empty() && *awaited == self.context.awaited(whole) => {
                claims.release(&whole.id).map_err(Trouble::Run)
            }
            _ => Ok(()),
        }
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
