//! A watch on one renderer: it ends the whole group when a frame takes too long or nothing is heard.

use std::sync::{Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// The limits of a sheet.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// From one landed frame to the next.
    pub frame: Option<Duration>,
    /// Without a line of output or a landed frame.
    pub silence: Option<Duration>,
}

/// What was last heard of a renderer.
pub struct Watch {
    limits: Limits,
    heard: Mutex<Heard>,
    bell: Condvar,
}

struct Heard {
    line: Instant,
    frame: Instant,
    over: bool,
    why: Option<String>,
}

impl Watch {
    /// A watch that begins now.
    pub fn new(limits: Limits) -> Watch {
        let now = Instant::now();
        Watch {
            limits,
            heard: Mutex::new(Heard { line: now, frame: now, over: false, why: None }),
            bell: Condvar::new(),
        }
    }

    /// A line of output came.
    pub fn line(&self) {
        self.lock().line = Instant::now();
    }

    /// A frame landed.
    pub fn frame(&self) {
        let mut heard = self.lock();
        heard.frame = Instant::now();
        heard.line = heard.frame;
    }

    /// The renderer has ended; why it was ended, if the watch did that.
    pub fn over(&self) -> Option<String> {
        let mut heard = self.lock();
        heard.over = true;
        self.bell.notify_all();
        heard.why.take()
    }

    /// Sleeps until a limit is reached, calls `end` once, and returns; returns as well when the renderer is over.
    pub fn guard(&self, end: impl FnOnce()) {
        let mut heard = self.lock();
        while !heard.over {
            let due = |since: Instant, limit: Option<Duration>| limit.map(|limit| since + limit);
            let next =
                [due(heard.frame, self.limits.frame), due(heard.line, self.limits.silence)].into_iter().flatten().min();
            let Some(next) = next else { return };
            let now = Instant::now();
            if now >= next {
                let silent = due(heard.line, self.limits.silence) == Some(next);
                let limit = if silent { self.limits.silence } else { self.limits.frame }.unwrap_or_default();
                let what = if silent { "no output and no new frame" } else { "no frame finished" };
                heard.why = Some(format!("{what} for {limit:?}"));
                drop(heard);
                end();
                return;
            }
            heard = self.bell.wait_timeout(heard, next - now).unwrap_or_else(PoisonError::into_inner).0;
        }
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Heard> {
        self.heard.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
