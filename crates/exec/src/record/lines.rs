//! What the lines of a renderer's log mean, by the regular expressions of its adapter.

use regex_lite::Regex;
use truepath_core::adapter::Log;

/// The expressions, compiled.
pub struct LogRules {
    wrote: Option<Regex>,
    wait: Option<Regex>,
    saved: Option<Regex>,
    problem: Option<Regex>,
    progress: Option<Regex>,
    fatal: Option<Regex>,
    finished: Option<Regex>,
}

/// What one line means.
#[derive(Debug, Default)]
pub struct Meant {
    /// The path of a file that is whole.
    pub wrote: Option<String>,
    /// Whether no licence is free.
    pub waits: bool,
    /// The path of a checkpoint that is whole.
    pub saved: Option<String>,
    /// Something to tell.
    pub problem: Option<String>,
    /// The frame that is being worked on.
    pub frame: Option<i64>,
    /// Whether the call has failed, whatever its exit code will be.
    pub fatal: bool,
    /// Whether the renderer has done all that it was asked for.
    pub finished: bool,
}

impl Meant {
    /// Whether it is anything but talk.
    pub fn is_something(&self) -> bool {
        self.wrote.is_some() || self.saved.is_some() || self.frame.is_some() || self.finished || self.waits
    }
}

impl LogRules {
    /// As an adapter says.
    pub fn of(log: &Log) -> LogRules {
        let regex = |text: &Option<String>| text.as_deref().and_then(|text| Regex::new(text).ok());
        LogRules {
            wrote: regex(&log.wrote),
            wait: regex(&log.wait),
            saved: regex(&log.checkpoint),
            problem: regex(&log.problem),
            progress: regex(&log.progress),
            fatal: regex(&log.fatal),
            finished: regex(&log.finished),
        }
    }

    /// Reads one line.
    pub fn read(&self, line: &str) -> Meant {
        let group = |regex: &Option<Regex>, name: &str| {
            let found = regex.as_ref()?.captures(line)?;
            Some(found.name(name)?.as_str().to_owned())
        };
        let is = |regex: &Option<Regex>| regex.as_ref().is_some_and(|regex| regex.is_match(line));
        Meant {
            wrote: group(&self.wrote, "path"),
            waits: is(&self.wait),
            fatal: is(&self.fatal),
            finished: is(&self.finished),
            saved: group(&self.saved, "path"),
            problem: group(&self.problem, "text"),
            frame: group(&self.progress, "frame").and_then(|frame| frame.parse().ok()),
        }
    }

    /// What a log says as a whole: the paths that it names as written, and whether the program said that it had finished and
    /// never that it had failed.
    #[must_use]
    pub fn of_log(&self, log: &str) -> (Vec<String>, bool) {
        let (mut written, mut finished, mut fatal) = (Vec::new(), !self.tell_the_end(), false);
        for line in log.lines() {
            let meant = self.read(line);
            fatal |= meant.fatal;
            finished |= meant.finished;
            written.extend(meant.wrote.filter(|_| !fatal));
        }
        (written, finished && !fatal)
    }

    /// Whether the renderer says which files it wrote.
    pub fn tell_files(&self) -> bool {
        self.wrote.is_some()
    }

    /// Whether the renderer says that it has finished.
    pub fn tell_the_end(&self) -> bool {
        self.finished.is_some()
    }
}
