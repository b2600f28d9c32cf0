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
    /// A watch that begins now. It has no clock of its own: the caller says what time it is.
    pub fn new(limits: Limits, now: Instant) -> Watch {
        Watch { limits, line: now, frame: now, waiting: false }
    }

    /// A line of output came. While a renderer waits for a licence, no clock runs.
    pub fn line(&mut self, waiting: bool, now: Instant) {
        self.line = now;
        if self.waiting && !waiting {
            self.frame = now;
        }
        self.waiting = waiting;
    }

    /// A part of a line came.
    pub fn alive(&mut self, now: Instant) {
        self.line = now;
    }

    /// A frame landed.
    pub fn frame(&mut self, now: Instant) {
        self.frame = now;
        self.line = now;
    }

    /// When the first limit is reached.
    pub fn due(&self) -> Option<Instant> {
        let due = |since: Instant, limit: Option<Duration>| limit.map(|limit| since + limit);
        let both = [due(self.frame, self.limits.frame), due(self.line, self.limits.silence)];
        both.into_iter().flatten().min().filter(|_| !self.waiting)
    }

    /// Which limit is reached by now, in words.
    pub fn over(&self, now: Instant) -> Option<String> {
        let over = |since: Instant, limit: Option<Duration>| limit.filter(|limit| now.duration_since(since) >= *limit);
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

#[cfg(test)]
mod tests {
    use super::{Duration, Instant, Limits, Watch};

    #[test]
    fn whoever_talks_is_alive_and_whoever_waits_is_not_timed() {
        let (began, seconds) = (Instant::now(), Duration::from_secs);
        let limits = Limits { frame: Some(seconds(60)), silence: Some(seconds(2)) };
        let mut watch = Watch::new(limits, began);
        // It counts upwards on one line, without an end of it, longer than it may be silent.
        for second in 1..20 {
            watch.alive(began + seconds(second));
            assert_eq!(watch.over(began + seconds(second + 1)), None, "{second}");
        }
        assert_eq!(watch.due(), Some(began + seconds(21)));
        let silent = watch.over(began + seconds(21)).expect("two seconds of silence");
        assert!(silent.contains("no output") && silent.contains("2s"), "{silent}");
        watch.line(true, began + seconds(30));
        assert_eq!((watch.over(began + seconds(9000)), watch.due()), (None, None), "it waits for a licence");
        watch.line(false, began + seconds(9000));
        watch.alive(began + seconds(9059));
        assert_eq!(watch.over(began + seconds(9059)), None, "time spent waiting does not count for the frame");
        watch.alive(began + seconds(9060));
        assert!(watch.over(began + seconds(9060)).is_some_and(|why| why.contains("no frame finished for 1m")));
        watch.frame(began + seconds(9060));
        assert_eq!(watch.over(began + seconds(9061)), None);
    }
}
