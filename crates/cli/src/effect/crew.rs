//! A crew of workers that takes calls from a queue until none is left, and tries again what failed.

use std::collections::{BTreeSet, HashMap, HashSet, VecDeque};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::Duration;

use rustix::process::Signal;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use truepath_core::adapter::Adapter;
use truepath_core::frames::Frames;
use truepath_core::plan::Invocation;
use truepath_core::run::event::Event;
use truepath_core::run::fingerprint::Fingerprint;
use truepath_core::run::history::{Depth, past};
use truepath_core::verify::{State, Verdict};

use super::call::{Attempt, Place};
use super::claims::Claims;
use super::feed::Feed;
use super::journal::Journal;
use super::lines::Lines;
use super::spawn::Running;
use super::stage::Folders;
use super::supply::{Pool, Seat, Supply, Taken};
use super::{journal, lock, recover, still};
use crate::exit_code::Failure;
use crate::lower::Surroundings;
use crate::pipeline::Loaded;

/// The pause before a renderer that found no licence is started again, and the longest one.
const PAUSES: (Duration, Duration) = (Duration::from_secs(1), Duration::from_secs(60));

/// All that the workers share.
pub struct Crew<'c> {
    /// The sheet and its plan.
    pub loaded: &'c Loaded,
    /// The machine.
    pub around: &'c Surroundings,
    /// Where events are written down first.
    pub journal: &'c Journal,
    /// What stood before, by series.
    pub before: &'c [Verdict],
    /// What is to be rendered, by series.
    pub need: &'c [Frames],
    /// What the frames of each series are made of, by series.
    pub made: &'c [Option<Fingerprint>],
    /// Where others are met.
    pub claims: Option<&'c Claims>,
    /// Whether hopeless jobs are gone on with.
    pub keep_going: bool,
    /// Where events go to be shown.
    events: Feed,
    /// Renderers that run now.
    pub running: Running,
    /// Where renderers write.
    pub stages: Folders,
    lines: Mutex<HashMap<String, Arc<Lines>>>,
    interrupts: AtomicUsize,
    failed: AtomicBool,
    /// Calls, workers and licences.
    pub pool: Pool,
}

/// How a crew ended.
#[derive(Debug, Default)]
pub struct Outcome {
    /// Files that landed.
    pub landed: i64,
    /// Whether someone ended it.
    pub interrupted: bool,
    /// Whether hopeless jobs were left alone.
    pub gave_up: bool,
}

impl<'c> Crew<'c> {
    /// A crew that is to make `calls`, with so many workers and licences.
    pub fn new(
        loaded: &'c Loaded,
        (around, journal, claims): (&'c Surroundings, &'c Journal, Option<&'c Claims>),
        (before, need, made): (&'c [Verdict], &'c [Frames], &'c [Option<Fingerprint>]),
        calls: Vec<Invocation>,
    ) -> Crew<'c> {
        let run = &loaded.plan.run;
        let mut slots = run.slots.clone();
        for (name, count) in &loaded.machine.slots {
            let own = slots.entry(name.clone()).or_insert(*count);
            *own = (*own).min(*count);
        }
        let supply = Supply { queue: calls.into(), free: (1..=run.workers).collect(), slots, ..Supply::default() };
        Crew {
            loaded,
            around,
            journal,
            before,
            need,
            made,
            claims,
            keep_going: false,
            events: Feed::default(),
            running: Running::guarded(&around.program),
            stages: Folders::default(),
            lines: Mutex::default(),
            interrupts: AtomicUsize::new(0),
            failed: AtomicBool::new(false),
            pool: Pool { state: Mutex::new(supply), bell: Condvar::new() },
        }
    }

    /// Makes all calls. `show` is told what happens, and called now and then when nothing does.
    pub fn render(&self, mut show: impl FnMut(&[Event])) -> Result<Outcome, Failure> {
        let signals = Signals::new([SIGINT, SIGTERM, SIGHUP]);
        let mut signals = signals.map_err(|error| Failure::machine("listen for", "signals", &error))?;
        let handle = signals.handle();
        // While the files of one call land, its worker's next renderer runs already.
        let hands = self.loaded.plan.run.workers * 2;
        let (at_work, first_failure) = (AtomicUsize::new(hands), Mutex::new(None));
        std::thread::scope(|scope| {
            scope.spawn(|| {
                for _ in signals.forever() {
                    // The first one lets each renderer finish its frame; the second ends them.
                    if self.interrupts.fetch_add(1, Ordering::SeqCst) > 0 {
                        self.running.signal(Signal::KILL);
                    } else {
                        self.tell(&Event::Interrupted);
                    }
                    self.wake();
                }
            });
            scope.spawn(|| self.claims.map(Claims::live));
            for _ in 0..hands {
                scope.spawn(|| {
                    if let Err(failure) = self.work() {
                        first_failure.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(failure);
                        self.failed.store(true, Ordering::SeqCst);
                        self.running.signal(Signal::KILL);
                        self.wake();
                    }
                    if at_work.fetch_sub(1, Ordering::SeqCst) == 1 {
                        self.events.end();
                        self.claims.inspect(|claims| claims.leave());
                        handle.close();
                    }
                });
            }
            while let Some(events) = self.events.gather() {
                show(&events);
            }
        });
        self.stages.remove();
        if let Some(failure) = first_failure.into_inner().unwrap_or_else(PoisonError::into_inner) {
            return Err(failure);
        }
        let supply = self.supply();
        let (landed, gave_up) = (supply.landed, supply.gave_up);
        Ok(Outcome { landed, gave_up, interrupted: self.interrupts.load(Ordering::SeqCst) > 0 })
    }

    /// One pair of hands: call after call.
    fn work(&self) -> Result<(), Failure> {
        while let Some(taken) = self.take()? {
            self.persist(taken)?;
        }
        Ok(())
    }

    /// The adapter of a call.
    pub fn adapter(&self, call: &Invocation) -> Option<&Adapter> {
        self.loaded.adapter(&self.loaded.plan.jobs[call.job])
    }

    /// What the lines of a renderer's log mean; read once.
    pub fn lines(&self, adapter: &Adapter) -> Arc<Lines> {
        let mut known = self.lines.lock().unwrap_or_else(PoisonError::into_inner);
        known.entry(adapter.name.clone()).or_insert_with(|| Arc::new(Lines::of(&adapter.log))).clone()
    }

    /// One call of the plan: tried, tried again for what it lacks as often as the sheet allows, then halved until the frames
    /// that fail are known.
    fn persist(&self, taken: Taken) -> Result<(), Failure> {
        let Taken { call: whole, worker, again } = taken;
        let mut awaited = self.awaited(&whole);
        if again {
            // Whoever had it may have left whole frames, and renderers that go on without it.
            let dead = self.claims.map(Claims::dead).unwrap_or_default();
            let mine = |tag: &str| dead.iter().any(|dead| dead == tag);
            recover::recover(self.loaded, self.around, self.journal, self.made, &mine)?;
            awaited.retain(|place| !self.landed_meanwhile(*place));
        }
        let retries = self.loaded.plan.run.retries;
        let mut waiting: VecDeque<(Invocation, i64)> =
            self.narrowed(&whole, &awaited).into_iter().map(|part| (part, retries)).collect();
        let (mut landed, mut failed, mut tries, mut pauses) = (0, Frames::none(), 0u64, 0u32);
        let (mut worker, mut strays) = (worker, Vec::new());
        while let Some((part, left)) = waiting.pop_front() {
            tries += 1;
            let part = self.marked(part, tries)?;
            let wanted: BTreeSet<Place> = self.awaited(&part).intersection(&awaited).copied().collect();
            strays.drain(..).try_for_each(|folder: String| super::stage::clear(std::path::Path::new(&folder)))?;
            let Some((attempt, ready)) = Attempt::new(self, &part, wanted)? else { continue };
            let seat = match worker.take() {
                Some(worker) => Some(Seat { worker, live: ready.go(&self.running) }),
                None => self.equip(&part, tries > 1, ready),
            };
            let Some(seat) = seat else {
                attempt.leave();
                return Ok(());
            };
            let done = attempt.make(seat)?;
            landed += done.files;
            self.supply().landed += done.files;
            let asked = self.awaited(&part);
            awaited.retain(|place| !asked.contains(place) || done.lacking.contains(place));
            if done.lost || self.is_stopping() {
                return Ok(());
            }
            if done.lacking.is_empty() {
                still::clear(&part)?;
                continue;
            }
            if done.waited {
                self.pause((PAUSES.0 * 2u32.saturating_pow(pauses)).min(PAUSES.1));
                pauses += 1;
                waiting.push_front((part, left));
                continue;
            }
            let frames = Frames::from_any(done.lacking.iter().map(|(_, frame)| *frame).collect());
            let again = self.narrowed(&part, &done.lacking);
            let go_on = left > 0 || (frames.count() > 1 && !done.elsewhere);
            if go_on {
                strays = self.stage_folders(&part);
            }
            if left > 0 {
                again.into_iter().rev().for_each(|part| waiting.push_front((part, left - 1)));
            } else if go_on {
                let halves: Vec<Invocation> = again.iter().flat_map(|part| self.halved(part)).collect();
                halves.into_iter().rev().for_each(|half| waiting.push_front((half, 0)));
            } else {
                failed = failed.union(&frames);
                let job = self.loaded.plan.jobs[whole.job].name.clone();
                let (call, frames) = (whole.id.clone(), frames.to_string());
                let at: BTreeSet<usize> = done.lacking.iter().map(|(series, _)| *series).collect();
                let series = at.into_iter().map(|at| self.loaded.plan.series[at].id.clone()).collect();
                self.record(&Event::Failed { call, job, series, frames, why: done.why, log: done.log })?;
            }
        }
        if let Some(worker) = worker {
            self.release(worker, &whole);
        }
        if let Some(claims) = self.claims {
            claims.done(&whole.id, &failed.to_string())?;
        }
        self.weigh(&whole, landed, !failed.is_empty())
    }

    /// A part with the mark of this try, and the place where it is saved under way.
    fn marked(&self, part: Invocation, tries: u64) -> Result<Invocation, Failure> {
        let tag = self.journal.tag();
        let mark = if tries == 1 { tag.to_owned() } else { format!("{tag}-{tries}") };
        let setting = still::of(&self.loaded.plan.jobs[part.job]);
        let state = lock::state_folder(&self.loaded.sheet);
        let still = setting.map(|setting| still::prepare(&state, &part, setting, self.made)).transpose()?;
        Ok(Invocation { mark, still, ..part })
    }

    /// The stage folders of a try, which may hold what it wrote elsewhere.
    fn stage_folders(&self, part: &Invocation) -> Vec<String> {
        let step = self.loaded.shop(self.around).step(part);
        step.into_iter().flat_map(|step| step.writes).map(|write| write.stage).collect()
    }

    /// A call for certain files only, in as many calls as its program needs.
    fn narrowed(&self, call: &Invocation, places: &BTreeSet<Place>) -> Vec<Invocation> {
        let has = |at: &usize| places.iter().any(|(series, _)| series == at);
        let series: Vec<usize> = call.series.iter().copied().filter(has).collect();
        let frames = Frames::from_any(places.iter().map(|(_, frame)| *frame).collect());
        let Some(adapter) = self.adapter(call).filter(|_| !frames.is_empty()) else { return Vec::new() };
        Invocation { series, ..call.clone() }.for_frames(adapter, &frames)
    }

    /// A call in two halves, or as it is where it has one frame.
    fn halved(&self, part: &Invocation) -> Vec<Invocation> {
        let Some(adapter) = self.adapter(part).filter(|_| part.frames.count() > 1) else { return vec![part.clone()] };
        let half = (part.frames.count() + 1) / 2;
        part.frames.chunks(half).flat_map(|frames| part.parted(adapter, &frames)).collect()
    }

    /// Every file that a call owes: series and frame.
    fn awaited(&self, call: &Invocation) -> BTreeSet<Place> {
        let needed = |series: &usize| self.need[*series].intersect(&call.frames);
        let of = |series: &usize| needed(series).iter().map(|frame| (*series, frame)).collect::<Vec<_>>();
        call.series.iter().flat_map(of).collect()
    }

    /// Whether another worker of this round landed a file before it went.
    fn landed_meanwhile(&self, (series, frame): Place) -> bool {
        let Some(claims) = self.claims else { return false };
        let series = &self.loaded.plan.series[series];
        let Ok(about) = std::fs::metadata(series.name(frame)) else { return false };
        let names: HashSet<String> = claims.journals().into_iter().collect();
        let state = lock::state_folder(&self.loaded.sheet);
        let history = journal::read_some(&state, Depth::Landings, |name| names.contains(name));
        let number = frame.saturating_add(series.shift);
        past(history.of(series), number, about.len()).is_some_and(|(_, same)| same)
    }

    /// Whether nothing stood at a file's name before.
    pub fn is_missing(&self, (series, frame): Place) -> bool {
        self.before[series].in_state(State::Missing).contains(frame)
    }

    /// Whether a call is ours still.
    pub fn is_mine(&self, call: &Invocation) -> bool {
        self.claims.is_none_or(|claims| claims.is_mine(call.unit()))
    }

    /// Whether no further call is to be made.
    pub fn is_stopping(&self) -> bool {
        self.failed.load(Ordering::SeqCst) || self.interrupts.load(Ordering::SeqCst) > 0
    }

    /// Says of what the frames of some series are made.
    pub fn announce(&self, series: &[usize]) -> Result<(), Failure> {
        for at in series {
            let said = self.journal.announce(&self.loaded.plan.series[*at], self.made[*at].as_ref())?;
            said.iter().for_each(|event| self.tell(event));
        }
        Ok(())
    }

    /// Into the journal, then to the display.
    pub fn record(&self, event: &Event) -> Result<(), Failure> {
        self.journal.write(event)?;
        self.tell(event);
        Ok(())
    }

    /// To the display only.
    pub fn tell(&self, event: &Event) {
        self.events.send(event.clone());
    }
}
