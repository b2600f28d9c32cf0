//! The line of calls that wait for a worker: who stands in it, who is started next, and what is given back.

use std::sync::mpsc::{RecvTimeoutError, Sender, channel};
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use truepath_core::plan::Call;

use super::context::Context;
use super::supply::{Supply, TakenOrder};
use crate::failure::Failure;
use crate::process::{Alive, Prepared};

/// How long a call that is ready waits for one before it that is not.
const PATIENCE: Duration = Duration::from_secs(2);

/// A worker with the renderer that was started for it, or why it could not be.
pub struct Launched {
    pub worker: usize,
    pub live: std::io::Result<Box<dyn Alive>>,
}

/// A call that is ready, and waits for a worker.
pub struct InLine<'c> {
    ready: Box<dyn Prepared + 'c>,
    tell: Sender<Launched>,
}

/// All that the threads of a run share.
pub struct Crew<'c> {
    pub context: Context<'c>,
    pub keep_going: bool,
    pub supply: Mutex<Supply<Call, InLine<'c>>>,
    pub bell: Condvar,
    pub failure: Mutex<Option<Failure>>,
}

impl<'c> Crew<'c> {
    /// Starts a call with the worker that it has, or waits for one and, for a call that is made again, for its licences. The
    /// thread that frees them starts the renderer, so that it runs before this one wakes. `None` when the run is being ended.
    pub fn launch(&self, taken: &mut TakenOrder<Call>, ready: Box<dyn Prepared + 'c>) -> Option<Launched> {
        let mut supply = self.supply();
        let job = taken.order.job;
        if let Some(worker) = taken.worker.filter(|_| !supply.is_held(job)) {
            if !supply.may_start(job) {
                supply.release(taken);
                return None;
            }
            drop(supply);
            taken.worker = None;
            taken.licensed = false;
            return Some(Launched { worker, live: ready.go() });
        }
        if self.context.is_stopping() || supply.has_given_up(job) {
            supply.release(taken);
            return None;
        }
        let (tell, launched) = channel();
        supply.stand(taken, InLine { ready, tell });
        taken.licensed = false;
        self.hand_out(supply);
        match launched.recv_timeout(PATIENCE) {
            Err(RecvTimeoutError::Timeout) => {
                let mut supply = self.supply();
                supply.overtake(taken.ticket);
                self.hand_out(supply);
                launched.recv().ok()
            }
            heard => heard.ok(),
        }
    }

    /// It is known what came of a start: those that were held back for that may go on.
    pub fn known(&self, job: usize) {
        let mut supply = self.supply();
        supply.known(job);
        self.hand_out(supply);
    }

    /// A call is over, whatever came of it: movies may wait for that.
    pub fn finished(&self, ticket: u64) {
        self.supply().finished(ticket);
        self.bell.notify_all();
    }

    /// Gives a worker and licences back, and starts the call that waited longest with them.
    pub fn release(&self, worker: usize, licences: &[String]) {
        let mut supply = self.supply();
        supply.give(worker, licences);
        self.hand_out(supply);
        self.bell.notify_all();
    }

    /// Gives back what an order still holds.
    pub fn give_back(&self, taken: &mut TakenOrder<Call>) {
        let mut supply = self.supply();
        supply.release(taken);
        self.hand_out(supply);
        self.bell.notify_all();
    }

    /// Starts what waits, as far as there are workers and licences.
    pub fn hand_out(&self, mut supply: MutexGuard<'_, Supply<Call, InLine<'c>>>) {
        let served = if self.context.is_stopping() { Vec::new() } else { supply.serve() };
        drop(supply);
        for (worker, InLine { ready, tell }) in served {
            // A thread that waits has not dropped its end: sending cannot fail.
            let _ = tell.send(Launched { worker, live: ready.go() });
        }
    }

    /// Wakes all who wait, so that they see that the run is being ended.
    pub fn wake(&self) {
        let mut supply = self.supply();
        if self.context.is_stopping() {
            supply.close();
        }
        drop(supply);
        self.bell.notify_all();
    }

    /// Sleeps; an interrupt wakes.
    pub fn pause(&self, pause: Duration) {
        let supply = self.supply();
        drop(self.bell.wait_timeout_while(supply, pause, |_| !self.context.is_stopping()));
    }

    /// Leaves a call, because another member has taken it over or the run is being ended.
    pub fn leave(&self, mut taken: TakenOrder<Call>, files: i64) {
        let mut supply = self.supply();
        supply.landed += files;
        match self.context.is_stopping() {
            true => supply.release(&mut taken),
            // What becomes of it there is waited for.
            false => supply.watch(taken),
        }
        self.hand_out(supply);
        self.bell.notify_all();
    }

    pub fn supply(&self) -> MutexGuard<'_, Supply<Call, InLine<'c>>> {
        self.supply.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
