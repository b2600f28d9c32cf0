//! A count of long work on a terminal: one line, drawn over, and gone at the end.

use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use super::{QUIET, control, paint, tell};
use crate::lower::Screen;

/// How long work may take before anything is said, and from one drawing to the next.
const PATIENCE: (Duration, Duration) = (Duration::from_millis(700), Duration::from_millis(150));

/// What has been done so far.
pub struct Counter {
    what: &'static str,
    screen: Screen,
    count: AtomicU64,
    next: Mutex<Instant>,
    drawn: AtomicU64,
}

impl Counter {
    /// A counter of some work that begins now.
    pub fn new(what: &'static str, screen: Screen) -> Counter {
        let next = Mutex::new(Instant::now() + PATIENCE.0);
        Counter { what, screen, count: AtomicU64::new(0), next, drawn: AtomicU64::new(0) }
    }

    /// So much more is done.
    pub fn add(&self, more: u64) {
        if !self.screen.terminal {
            return;
        }
        let count = self.count.fetch_add(more, Ordering::Relaxed) + more;
        // Whoever finds the pen taken goes on with its work; so do most of many.
        let Some(mut next) = self.next.try_lock().ok().filter(|_| more > 1 || count.is_multiple_of(64)) else { return };
        if Instant::now() >= *next {
            *next = Instant::now() + PATIENCE.1;
            self.drawn.fetch_add(1, Ordering::Relaxed);
            tell(&format!(
                "{}{}{}",
                control("G"),
                control("2K"),
                paint(self.screen, QUIET, format!("{}: {count}", self.what))
            ));
        }
    }

    /// Takes the line away.
    pub fn end(&self) {
        if self.drawn.load(Ordering::Relaxed) > 0 {
            tell(&format!("{}{}", control("G"), control("2K")));
        }
    }
}
