//! What happens while a plan runs, one line of JSON an event. The journal reads it first, the display second.

use serde::{Deserialize, Serialize};

/// The version of the journal.
pub const VERSION: u32 = 1;

/// One event.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum Event {
    /// A run began.
    Began {
        /// Version of the journal.
        truepath: u32,
        /// Frames it means to render, over all series.
        frames: i64,
    },
    /// A call was started.
    Started {
        /// Its name.
        invocation: String,
        /// Its frames.
        frames: String,
        /// The process.
        process: u32,
    },
    /// A file is about to bear its final name. A reader that finds both this line and the file counts the frame as landed.
    Landed {
        /// The call; empty for a file saved from an interrupted run.
        invocation: String,
        /// `combination/pass`.
        series: String,
        /// The frame.
        frame: i64,
        /// Its final name.
        path: String,
        /// Bytes.
        bytes: u64,
        /// BLAKE3 of its bytes, in hexadecimal.
        digest: String,
        /// BLAKE3 of all that it was made of, as far as known, in hexadecimal.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        of: Option<String>,
    },
    /// A written file was not fit to land.
    Refused {
        /// `combination/pass`.
        series: String,
        /// The frame.
        frame: i64,
        /// Why.
        why: String,
    },
    /// A file in stage that nobody planned.
    Stray {
        /// The call.
        invocation: String,
        /// Where it lies.
        path: String,
    },
    /// A call ended.
    Ended {
        /// Its name.
        invocation: String,
        /// The exit code; none when a signal ended it.
        code: Option<i32>,
        /// Frames that did not land.
        lacking: String,
        /// Seconds it took.
        seconds: f64,
        /// Where its output is written down.
        log: String,
        /// Why it was ended, when it did not end by itself.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        why: Option<String>,
    },
    /// The run is over.
    Over {
        /// Frames landed, over all series.
        landed: i64,
        /// Frames that did not.
        lacking: i64,
    },
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
        let event = Event::Over { landed: 3, lacking: 0 };
        let line = serde_json::to_string(&event).expect("plain data");
        assert_eq!(line, r#"{"event":"over","landed":3,"lacking":0}"#);
        let text = format!("{line}\n{}\n{line}\n{}", &line[..20], &line[..30]);
        assert_eq!(read(&text).collect::<Vec<_>>(), [event.clone(), event]);
    }
}
