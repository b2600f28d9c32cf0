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
        }
    }

    /// Reads one line.
    pub fn read(&self, line: &str) -> Meant {
        let group = |regex: &Option<Regex>, name: &str| {
            let found = regex.as_ref()?.captures(line)?;
            Some(found.name(name)?.as_str().to_owned())
        };
        Meant {
            wrote: group(&self.wrote, "path"),
            waits: self.wait.as_ref().is_some_and(|regex| regex.is_match(line)),
            saved: group(&self.saved, "path"),
            problem: group(&self.problem, "text"),
            frame: group(&self.progress, "frame").and_then(|frame| frame.parse().ok()),
        }
    }

    /// Whether the renderer says which files it wrote.
    pub fn tell_files(&self) -> bool {
        self.wrote.is_some()
    }
}
