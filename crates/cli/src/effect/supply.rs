//! What is to be done, and with what: calls, workers, licences. Whoever waits is woken; nobody asks in turns.

use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};
use std::sync::mpsc::{Sender, channel};
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use truepath_core::plan::Invocation;
use truepath_core::run::event::Event;

use super::claims::Wish;
use super::crew::Crew;
use super::spawn::{Live, Ready};
use crate::exit_code::Failure;

/// After so many calls of a job of which nothing came out, the rest of it is left alone.
const HOPELESS: u64 = 3;

/// What is to be done, and with what.
#[derive(Default)]
pub struct Pool {
    pub state: Mutex<Supply>,
    pub bell: Condvar,
}

/// What is left of it.
#[derive(Default)]
pub struct Supply {
    /// Calls that nobody has taken, in their order.
    pub queue: VecDeque<Invocation>,
    /// Numbers of workers that are free.
    pub free: BTreeSet<usize>,
    /// Licences that are free, by name; those that nobody counts are always.
    pub slots: BTreeMap<String, i64>,
    /// Files that landed and calls that failed, by job.
    pub tally: HashMap<usize, (i64, u64)>,
    /// Files that landed.
    pub landed: i64,
    /// Whether hopeless jobs were left alone.
    pub gave_up: bool,
    /// Calls that wait for a worker, in their order.
    pub line: BTreeMap<u64, Waiting>,
    /// The place in that line of the next one who comes.
    pub next: u64,
}

impl Supply {
    fn has(&self, licences: &[String]) -> bool {
        licences.iter().all(|name| self.slots.get(name).is_none_or(|free| *free > 0))
    }

    fn take(&mut self, licences: &[String]) {
        licences.iter().for_each(|name| drop(self.slots.entry(name.clone()).and_modify(|free| *free -= 1)));
    }
}

/// A call that is ready, and waits.
pub struct Waiting {
    /// Licences that it has not got yet.
    licences: Vec<String>,
    ready: Ready,
    tell: Sender<Seat>,
}

/// A renderer at work.
pub struct Seat {
    /// The worker that it has.
    pub worker: usize,
    /// The renderer, or why it could not be started.
    pub live: std::io::Result<Live>,
}

/// A call that was taken.
pub struct Taken {
    pub call: Invocation,
    /// The worker that makes it; without others, one is waited for when all is prepared.
    pub worker: Option<usize>,
    pub again: bool,
}

impl Crew<'_> {
    /// Waits for a call and all licences that it needs; where others could make it instead, for a worker, too. `None` when
    /// nothing is left to be done.
    pub fn take(&self) -> Result<Option<Taken>, Failure> {
        let mut supply = self.supply();
        loop {
            if self.is_stopping() || supply.queue.is_empty() {
                return Ok(None);
            }
            let mut at = 0;
            let ready = self.claims.is_none() || !supply.free.is_empty();
            while ready && at < supply.queue.len() {
                let call = &supply.queue[at];
                if !supply.has(self.licences(call)) {
                    at += 1;
                    continue;
                }
                let wish = self.claims.map_or(Ok(Wish::Granted { again: false }), |claims| claims.wish(&call.id))?;
                match wish {
                    Wish::Held => at += 1,
                    Wish::Over => drop(supply.queue.remove(at)),
                    Wish::Granted { again } => {
                        let Some(call) = supply.queue.remove(at) else { continue };
                        supply.take(self.licences(&call));
                        let worker = self.claims.and_then(|_| supply.free.pop_first());
                        return Ok(Some(Taken { call, worker, again }));
                    }
                }
            }
            supply = match self.claims.filter(|_| !supply.queue.is_empty() && !supply.free.is_empty()) {
                // Others have the rest: what becomes of it?
                Some(claims) => {
                    let waited = self.pool.bell.wait_timeout(supply, claims.patience());
                    let (waiting, _) = waited.unwrap_or_else(PoisonError::into_inner);
                    drop(waiting);
                    claims.look();
                    self.supply()
                }
                None if supply.queue.is_empty() => supply,
                None => self.pool.bell.wait(supply).unwrap_or_else(PoisonError::into_inner),
            };
        }
    }

    /// The licences that a call needs.
    fn licences(&self, call: &Invocation) -> &[String] {
        self.adapter(call).map_or(&[], |adapter| &adapter.needs.slots)
    }

    /// Gives a worker and licences back, and starts with them whoever waited longest.
    pub fn release(&self, worker: usize, call: &Invocation) {
        let mut supply = self.supply();
        for name in self.licences(call) {
            supply.slots.entry(name.clone()).and_modify(|free| *free += 1);
        }
        supply.free.insert(worker);
        self.start(supply);
        self.pool.bell.notify_all();
    }

    /// Waits for a worker and, for a call that is made again, its licences. Whoever frees them starts the renderer: so it
    /// runs before anybody was woken. `None` when the run is being ended.
    pub fn equip(&self, call: &Invocation, again: bool, ready: Ready) -> Option<Seat> {
        let (tell, seat) = channel();
        let licences = if again { self.licences(call).to_vec() } else { Vec::new() };
        let mut supply = self.supply();
        if self.is_stopping() {
            return None;
        }
        let ticket = supply.next;
        supply.next += 1;
        supply.line.insert(ticket, Waiting { licences, ready, tell });
        self.start(supply);
        seat.recv().ok()
    }

    /// Starts what waits, as far as there are workers and licences. Whoever waits for a licence keeps nobody else from a
    /// worker.
    fn start(&self, mut supply: MutexGuard<'_, Supply>) {
        let mut seated = Vec::new();
        while !self.is_stopping() && !supply.free.is_empty() {
            let first = supply.line.iter().find(|(_, waiting)| supply.has(&waiting.licences));
            let Some(waiting) = first.map(|(ticket, _)| *ticket).and_then(|ticket| supply.line.remove(&ticket)) else {
                break;
            };
            supply.take(&waiting.licences);
            seated.extend(supply.free.pop_first().map(|worker| (worker, waiting)));
        }
        drop(supply);
        for (worker, Waiting { ready, tell, .. }) in seated {
            // Whoever waits does so until it hears.
            let _ = tell.send(Seat { worker, live: ready.go(&self.running) });
        }
    }

    /// Wakes all who wait, so that they see that the run is being ended.
    pub fn wake(&self) {
        let mut supply = self.supply();
        if self.is_stopping() {
            supply.line.clear();
        }
        self.pool.bell.notify_all();
    }

    /// Sleeps; an interrupt wakes.
    pub fn pause(&self, pause: Duration) {
        let supply = self.supply();
        let woken = self.pool.bell.wait_timeout_while(supply, pause, |_| !self.is_stopping());
        drop(woken);
    }

    /// Leaves the rest of a job alone of which nothing ever came out.
    pub fn weigh(&self, call: &Invocation, landed: i64, failed: bool) -> Result<(), Failure> {
        let mut supply = self.supply();
        let tally = supply.tally.entry(call.job).or_default();
        *tally = (tally.0 + landed, tally.1 + u64::from(failed));
        let hopeless = *tally == (0, HOPELESS);
        if !hopeless || self.keep_going || !supply.queue.iter().any(|other| other.job == call.job) {
            return Ok(());
        }
        supply.queue.retain(|other| other.job != call.job);
        supply.gave_up = true;
        drop(supply);
        self.pool.bell.notify_all();
        self.record(&Event::GaveUp { job: self.loaded.plan.jobs[call.job].name.clone(), calls: HOPELESS })
    }

    pub fn supply(&self) -> MutexGuard<'_, Supply> {
        self.pool.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
