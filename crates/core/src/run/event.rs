//! What happens while a plan runs, one line of JSON an event. The journal reads it first, the display second.
//!
//! Frames are expressions, so that an event of many frames is one short line. `t` counts seconds since the journal began,
//! by a clock that never goes back; the only time of day stands in `began`, for people.

use serde::{Deserialize, Serialize};

use crate::adapter::exit::{Crash, Ending};
use crate::frames::Frames;
use crate::pins::Pins;
use crate::resolve::paths::is_absolute;

/// The version of the journal.
pub const VERSION: u32 = 1;

/// One event.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum Event {
    /// A run began.
    Began(Began),
    /// A series that is about to be rendered, and what its frames are made of.
    Series(SeriesOf),
    /// A call was started.
    Started(Started),
    /// A file is about to bear its final name. A reader that finds both this line and the file counts the frame as landed.
    Landed(Landed),
    /// Another file bore the name first; the one of the last `landed` of this frame is gone.
    Late {
        /// `job/pass`.
        series: String,
        /// The frame.
        frame: i64,
    },
    /// A file that nobody here rendered was taken for a frame; its landing is told beside it.
    Adopted {
        /// `job/pass`.
        series: String,
        /// The frame.
        frame: i64,
        /// The name in the same folder that it bore before; empty where it bore the planned one.
        from: String,
    },
    /// A file is about to leave its name, or is vouched for no more. One that is still there with the bytes of its landing
    /// never left: whoever was to move it was ended before.
    Gone(Gone),
    /// A file that was put away is about to get its name back, or was not moved after all.
    Back {
        /// `job/pass`.
        series: String,
        /// The frame.
        frame: i64,
    },
    /// The renderer wrote a file again after it had landed; the later one stands.
    Rewritten {
        /// The call.
        call: String,
        /// `job/pass`.
        series: String,
        /// The frame.
        frame: i64,
    },
    /// A written file was not fit to land.
    Refused {
        /// The call.
        call: String,
        /// `job/pass`.
        series: String,
        /// The frame.
        frame: i64,
        /// Why.
        why: String,
    },
    /// A file that has landed is as planned, and most likely not what was meant, or could not be unpacked.
    Odd {
        /// `job/pass`.
        series: String,
        /// The frame.
        frame: i64,
        /// The check that found it.
        check: String,
        /// Why.
        why: String,
    },
    /// SHA-256 of a file that a script has landed on a machine without this program.
    Sum {
        /// `job/pass`.
        series: String,
        /// The frame.
        frame: i64,
        /// In hexadecimal.
        sha256: String,
    },
    /// What the renderer of some series says of its version, on the machine where a script renders them.
    Version {
        /// Each `job/pass`.
        series: Vec<String>,
        /// What it says.
        version: String,
    },
    /// Files in stage that nobody planned.
    Stray {
        /// The call.
        call: String,
        /// How many.
        files: i64,
        /// The first of them.
        paths: Vec<String>,
    },
    /// A renderer says which frame it works on. Only shown, never written down.
    Working {
        /// The call.
        call: String,
        /// The frame.
        frame: i64,
    },
    /// A renderer waits for a licence.
    Waiting {
        /// The call.
        call: String,
        /// What it said.
        line: String,
    },
    /// A file is about to be copied beside its final name, which lies on another file system.
    Copying {
        /// `job/pass`.
        series: String,
        /// The frame.
        frame: i64,
    },
    /// A disk has no room for what a call writes.
    Full {
        /// The call.
        call: String,
        /// Which disk, and how much is missing.
        why: String,
    },
    /// A half-rendered frame was put by, so that a later call can go on with it.
    Saved(Saved),
    /// A call ended.
    Ended(Ended),
    /// Frames are given up: every try failed.
    Failed {
        /// The call.
        call: String,
        /// The job.
        job: String,
        /// Its series.
        series: Vec<String>,
        /// The frames.
        frames: Frames,
        /// Why, as far as known.
        why: String,
        /// The log of the last try; empty where it was never started.
        log: String,
    },
    /// Another worker has taken this call over.
    Lost {
        /// The call.
        call: String,
    },
    /// Somebody has asked the run to end.
    Interrupted,
    /// The sheet, or what it names, was edited while it was rendered.
    Edited {
        /// Which files, and what a run that began now would do otherwise.
        what: String,
    },
    /// The rest of a job is left alone, since nothing of it came out.
    GaveUp {
        /// The job.
        job: String,
        /// Why.
        why: String,
    },
    /// The run is over.
    Over {
        /// Files landed, over all series.
        landed: i64,
        /// Files that did not.
        missing: i64,
        /// `complete`, `incomplete` or `interrupted`.
        outcome: String,
        /// Seconds since the journal began.
        t: f64,
        /// Seconds of renderers that earlier runs let expect for what has landed, where anything was measured before.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        estimated: Option<f64>,
        /// Seconds of renderers that it took.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        took: Option<f64>,
    },
}

impl Event {
    /// The one path in it that lies below the state folder, where it has such a one.
    fn own_path(&mut self) -> Option<&mut String> {
        match self {
            Event::Started(started) => Some(&mut started.log),
            Event::Ended(ended) => Some(&mut ended.log),
            Event::Failed { log, .. } => Some(log),
            Event::Saved(saved) => Some(&mut saved.path),
            _ => None,
        }
        .filter(|path| !path.is_empty())
    }

    /// As a journal keeps it: its paths start at the state folder, which other machines know by another path.
    #[must_use]
    pub fn kept(mut self, state: &str) -> Event {
        if let Some(path) = self.own_path()
            && let Some(rest) = path.strip_prefix(state).and_then(|rest| rest.strip_prefix('/'))
        {
            *path = rest.to_owned();
        }
        self
    }

    /// As it is meant on a machine that knows the state folder by this path.
    #[must_use]
    pub fn found(mut self, state: &str) -> Event {
        if let Some(path) = self.own_path().filter(|path| !is_absolute(path)) {
            *path = format!("{state}/{path}");
        }
        self
    }

    /// The event as it stands in a journal: a line, with its end.
    #[must_use]
    pub fn line(&self) -> String {
        let mut line = serde_json::to_string(self).unwrap_or_default();
        line.push('\n');
        line
    }
}

/// Who runs, where and for what.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Began {
    /// Version of the journal.
    pub truepath: u32,
    /// One more than the highest of all journals that were there: the order of journals, whatever clocks say.
    pub turn: u64,
    /// What the stage folders of this run end with.
    pub tag: String,
    /// The machine.
    pub host: String,
    /// The process.
    pub process: u32,
    /// When the process was started, in the system's own count; empty where that is not known.
    pub born: String,
    /// Which start of the system this is; empty where that is not known.
    pub boot: String,
    /// Which numbering of processes this is; empty where that is not known.
    pub space: String,
    /// The time of day, RFC 3339.
    pub at: String,
    /// Whether others work on the same plan.
    pub share: bool,
    /// Files it means to render, over all series.
    pub files: i64,
    /// The task of a cluster's scheduler that it is, where it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub task: Option<Task>,
    /// Looked-up values, as they were pinned when it began.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pins: Option<Pins>,
}

/// A task of a cluster's scheduler.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Task {
    /// Its number, as the scheduler writes it: `17`, or `17_4` for the fourth of an array.
    pub id: String,
    /// The name of the job that it belongs to.
    pub name: String,
    /// The node that it was started on.
    pub node: String,
}

/// A series that is about to be rendered.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct SeriesOf {
    /// `job/pass`.
    pub series: String,
    /// Where its files lie: their pattern from its root on, as [`crate::plan::Series::place`] has it.
    pub pattern: String,
    /// What is added to a frame in names.
    pub shift: i64,
    /// All that its frames are made of: name and value.
    pub made: Vec<(String, String)>,
}

/// A call was started.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Started {
    /// Its name.
    pub call: String,
    /// The job.
    pub job: String,
    /// Its series.
    pub series: Vec<String>,
    /// Its frames.
    pub frames: Frames,
    /// Which worker of this run, from 1.
    pub worker: usize,
    /// The process.
    pub process: u32,
    /// When the process was started, in the system's own count; empty where that is not known.
    pub born: String,
    /// Where its output is written down; in a journal from the state folder on.
    pub log: String,
    /// Seconds since the journal began.
    pub t: f64,
}

/// A file is about to bear its final name.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Landed {
    /// `job/pass`.
    pub series: String,
    /// The frame.
    pub frame: i64,
    /// Bytes.
    pub bytes: u64,
    /// BLAKE3 of its bytes, in hexadecimal.
    pub digest: String,
    /// The call; empty for a file saved from an interrupted run.
    pub call: String,
}

/// Why a file bears its name no more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum GoneBy {
    /// Somebody made room.
    Clean,
    /// An adoption was undone.
    Undo,
}

/// A file bears its name no more.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Gone {
    /// `job/pass`.
    pub series: String,
    /// The frame.
    pub frame: i64,
    /// Where it goes: from the name of its root on, in braces, or a full path; of an adoption that is undone, the name in the
    /// same folder. Empty where it stays.
    pub to: String,
    /// Why.
    pub by: GoneBy,
}

/// A half-rendered frame was put by.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Saved {
    /// The call.
    pub call: String,
    /// The frame.
    pub frame: i64,
    /// Where it lies.
    pub path: String,
    /// Bytes.
    pub bytes: u64,
    /// BLAKE3 of its bytes, in hexadecimal.
    pub digest: String,
}

/// A call ended.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Ended {
    /// Its name.
    pub call: String,
    /// The exit code; none when a signal ended it.
    pub code: Option<i32>,
    /// The signal that ended it, where it is one that a program brings upon itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signal: Option<Crash>,
    /// Whether that is one of success.
    #[serde(default)]
    pub ok: bool,
    /// Files that landed.
    pub files: i64,
    /// Frames of which a file did not land.
    pub missing: Frames,
    /// Seconds it took.
    pub seconds: f64,
    /// Where its output is written down.
    pub log: String,
    /// Why it was ended, when it did not end by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// Most bytes of memory that a program of this run has held so far, where the system says it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory: Option<u64>,
    /// Seconds since the journal began.
    pub t: f64,
}

impl Ended {
    /// How the program ended.
    #[must_use]
    pub fn ending(&self) -> Ending {
        self.signal.map_or_else(|| Ending::of(self.code, None), Ending::Crash)
    }
}

/// Reads a journal. A torn or foreign line is skipped.
pub fn read(text: &str) -> impl Iterator<Item = Event> + '_ {
    text.lines().filter_map(|line| serde_json::from_str(line).ok())
}

#[cfg(test)]
mod tests {
    use super::{Event, read};

    #[test]
    fn a_torn_line_costs_itself_only() {
        let event = Event::Late { series: "crossing/beauty".to_owned(), frame: -3 };
        let line = serde_json::to_string(&event).expect("plain data");
        assert_eq!(line, r#"{"event":"late","series":"crossing/beauty","frame":-3}"#);
        let text = format!("{line}\n{}\n{line}\n{}", &line[..20], &line[..30]);
        assert_eq!(read(&text).collect::<Vec<_>>(), [event.clone(), event]);
    }
}
