//! The threads that carry a plan out: each takes a call, sees it through, and takes the next.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Condvar, Mutex, PoisonError};

use truepath_core::plan::Call;
use truepath_core::run::event::Event;
use truepath_core::run::meant::covered;

use super::context::Context;
use super::feed::Feed;
use super::movies::queue;
use super::orders::{Orders, RunOutcome};
use super::supply::{Supply, TakenOrder};
use super::waiting::Crew;
use crate::failure::{Failure, Trouble};
use crate::landing::stage::Folders;
use crate::process::Stops;
use crate::share::{ClaimWish, Claims};

/// Makes all calls. `show` is told what happens, and called now and then when nothing does.
///
/// # Errors
/// When what happens can no longer be written down, when claims cannot be read, or when a part of True Path panicked. All
/// renderers have been ended then.
pub fn run(orders: Orders<'_>, mut show: impl FnMut(&[Event])) -> Result<RunOutcome, Failure> {
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
    Ok(RunOutcome {
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
    fn take(&self) -> Result<Option<(TakenOrder<Call>, bool)>, Failure> {
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
                let wish = claims.map_or(Ok(ClaimWish::Granted { again: false }), |claims| {
                    claims.wish(&call.id, &covered(plan, call), idle)
                });
                from = taken.ticket + 1;
                let mut supply = self.supply();
                match wish {
                    Ok(ClaimWish::Granted { again }) => {
                        supply.granted();
                        return Ok(Some((taken, again)));
                    }
                    Ok(ClaimWish::Held) => supply.put_back(taken),
                    Ok(ClaimWish::Over) => supply.dropped(taken),
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
}
