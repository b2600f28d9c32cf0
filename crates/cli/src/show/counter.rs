//! A count of long work on a terminal: one line, drawn over, and gone at the end.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use super::{QUIET, control, paint, tell};
use crate::lower::Screen;

/// How long work may take before anything is said, and from one drawing to the next.
const PATIENCE: (Duration, Duration) = (Duration::from_millis(700), Duration::from_millis(150));

/// Letters of a bar.
const BAR: usize = 24;

/// What has been done so far.
pub struct Counter {
    what: &'static str,
    /// How much there is to be done, where that is known.
    total: Option<u64>,
    screen: Screen,
    count: AtomicU64,
    next: Mutex<Instant>,
    drawn: AtomicU64,
}

impl Counter {
    /// A counter of some work that begins now.
    pub fn new(what: &'static str, screen: Screen) -> Counter {
        let next = Mutex::new(Instant::now() + PATIENCE.0);
        Counter { what, total: None, screen, count: AtomicU64::new(0), next, drawn: AtomicU64::new(0) }
    }

    /// A counter of so much work.
    pub fn of(what: &'static str, total: u64, screen: Screen) -> Counter {
        Counter { total: Some(total), ..Counter::new(what, screen) }
    }

    /// So much more is done.
    pub fn add(&self, more: u64) {
        if !self.screen.terminal {
            return;
        }
        let count = self.count.fetch_add(more, Ordering::Relaxed) + more;
        if count == more {
            // The first of it: patience begins now.
            *self.next.lock().unwrap_or_else(PoisonError::into_inner) = Instant::now() + PATIENCE.0;
        }
        // Whoever finds the pen taken goes on with its work; so do most of many.
        let Some(mut next) = self.next.try_lock().ok().filter(|_| self.is_worth_a_look(more, count)) else { return };
        if Instant::now() >= *next {
            *next = Instant::now() + PATIENCE.1;
            self.drawn.fetch_add(1, Ordering::Relaxed);
            tell(&format!("{}{}{}", control("G"), control("2K"), paint(self.screen, QUIET, self.words(count))));
        }
    }

    /// Whether the clock is asked now: of many small pieces of work not at each.
    fn is_worth_a_look(&self, more: u64, count: u64) -> bool {
        more > 1 || self.total.is_some() || count.is_multiple_of(64)
    }

    fn words(&self, count: u64) -> String {
        match self.total {
            None => format!("{}: {count}", self.what),
            Some(total) => {
                let done = usize::try_from(count * BAR as u64 / total.max(1)).unwrap_or(BAR).min(BAR);
                let bar = format!("{}{}", "#".repeat(done), "-".repeat(BAR - done));
                format!("{} [{bar}] {count} of {total}", self.what)
            }
        }
    }

    /// Takes the line away, and begins anew.
    pub fn end(&self) {
        self.count.store(0, Ordering::Relaxed);
        if self.drawn.swap(0, Ordering::Relaxed) > 0 {
            tell(&format!("{}{}", control("G"), control("2K")));
        }
    }
}
