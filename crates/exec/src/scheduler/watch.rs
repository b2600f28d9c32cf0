//! A watch on one renderer: when it was last heard of, and when it has taken too long.

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
#[derive(Debug)]
pub struct Watch {
    /// The limits.
    pub limits: Limits,
    line: Instant,
    frame: Instant,
    waiting: bool,
}

impl Watch {
    /// A watch that begins now.
    pub fn new(limits: Limits) -> Watch {
        let now = Instant::now();
        Watch { limits, line: now, frame: now, waiting: false }
    }

    /// A line of output came. While a renderer waits for a licence, no clock runs.
    pub fn line(&mut self, waiting: bool) {
        self.line = Instant::now();
        if self.waiting && !waiting {
            self.frame = self.line;
        }
        self.waiting = waiting;
    }

    /// A part of a line came.
    pub fn alive(&mut self) {
        self.line = Instant::now();
    }

    /// A frame landed.
    pub fn frame(&mut self) {
        self.frame = Instant::now();
        self.line = self.frame;
    }

    /// When the first limit is reached.
    pub fn due(&self) -> Option<Instant> {
        let due = |since: Instant, limit: Option<Duration>| limit.map(|limit| since + limit);
        let both = [due(self.frame, self.limits.frame), due(self.line, self.limits.silence)];
        both.into_iter().flatten().min().filter(|_| !self.waiting)
    }

    /// Which limit is reached by now, in words.
    pub fn over(&self) -> Option<String> {
        let over = |since: Instant, limit: Option<Duration>| limit.filter(|limit| since.elapsed() >= *limit);
        if self.waiting {
            return None;
        }
        match (over(self.line, self.limits.silence), over(self.frame, self.limits.frame)) {
            (Some(limit), _) => Some(format!("no output and no new frame for {}", humantime::format_duration(limit))),
            (None, Some(limit)) => Some(format!("no frame finished for {}", humantime::format_duration(limit))),
            (None, None) => None,
        }
    }
}
