//! The lines that scripts write into a journal, in every language made from the events themselves: a field that is added to one is
//! in all of them, and what a script does not fill in stays as it is here.

use crate::frames::Frames;
use crate::run::event::{Began, Ended, Event, Landed, Started, Task, VERSION};

/// An event that scripts write.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ScriptLine {
    /// The first line.
    Began,
    /// What a renderer says of its version.
    Version,
    /// A call was started.
    Started,
    /// A call ended.
    Ended,
    /// Frames of a call did not come out.
    Failed,
    /// A file lands.
    Landed,
    /// Another file was there first.
    Late,
    /// The sum of a file that landed.
    Sum,
    /// The last line.
    Over,
}

/// What a language writes where a value of an event belongs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Filled<'f> {
    /// In place of the value: a number, or text with its quotes.
    Value(&'f str),
    /// Between the quotes of a text.
    Text(&'f str),
    /// In place of the value, its key and the comma before it: they may be missing.
    Whole(&'f str),
    /// This language does not know it.
    Absent,
}

/// How a language spells a line.
#[derive(Clone, Copy)]
pub struct Dialect {
    /// JSON that is always the same.
    pub fixed: fn(&str) -> String,
    /// What stands before a value that is filled in, and behind it.
    pub around: (&'static str, &'static str),
}

impl ScriptLine {
    /// All that there are.
    pub const ALL: [ScriptLine; 9] = [
        ScriptLine::Began,
        ScriptLine::Version,
        ScriptLine::Started,
        ScriptLine::Ended,
        ScriptLine::Failed,
        ScriptLine::Landed,
        ScriptLine::Late,
        ScriptLine::Sum,
        ScriptLine::Over,
    ];

    /// The event as it is where a script fills in nothing.
    #[must_use]
    pub fn event(self) -> Event {
        let (text, series, call) = (String::new, String::new(), String::new());
        match self {
            ScriptLine::Began => {
                Event::Began(Began { truepath: VERSION, task: Some(Task::default()), ..Began::default() })
            }
            ScriptLine::Version => Event::Version { series: Vec::new(), version: text() },
            ScriptLine::Started => Event::Started(Started { worker: 1, ..Started::default() }),
            ScriptLine::Ended => Event::Ended(Ended::default()),
            ScriptLine::Failed => {
                let (job, why, log) = (text(), text(), text());
                Event::Failed { call, job, series: Vec::new(), frames: Frames::none(), why, log }
            }
            ScriptLine::Landed => Event::Landed(Landed { series, frame: 0, bytes: 0, digest: text(), call }),
            ScriptLine::Late => Event::Late { series, frame: 0 },
            ScriptLine::Sum => Event::Sum { series, frame: 0, sha256: text() },
            ScriptLine::Over => {
                Event::Over { landed: 0, missing: 0, outcome: text(), t: 0.0, estimated: None, took: None }
            }
        }
    }

    /// Its name in a journal, which marks its place in the functions of a language.
    #[must_use]
    pub fn name(self) -> String {
        pairs(&self.event()).swap_remove(0).1.trim_matches('"').to_owned()
    }

    /// The line in a language. Each of `filled` replaces the value of a key.
    #[must_use]
    pub fn spelt(self, dialect: Dialect, filled: &[(&str, Filled<'_>)]) -> String {
        let put = |value: &str| format!("{}{value}{}", dialect.around.0, dialect.around.1);
        let fixed = dialect.fixed;
        let mut out = fixed("{");
        for (at, (key, value)) in pairs(&self.event()).into_iter().enumerate() {
            let comma = if at > 0 { "," } else { "" };
            let own = filled.iter().find(|(known, _)| *known == key).map(|(_, own)| *own);
            match own {
                None => out.push_str(&fixed(&format!("{comma}\"{key}\":{value}"))),
                Some(Filled::Value(own)) => {
                    out.push_str(&fixed(&format!("{comma}\"{key}\":")));
                    out.push_str(&put(own));
                }
                Some(Filled::Text(own)) => {
                    out.push_str(&fixed(&format!("{comma}\"{key}\":\"")));
                    out.push_str(&put(own));
                    out.push_str(&fixed("\""));
                }
                Some(Filled::Whole(own)) => out.push_str(&put(own)),
                Some(Filled::Absent) => {}
            }
        }
        out + &fixed("}")
    }
}

/// The functions of a language with its lines where they are marked: `@started@`.
#[must_use]
pub fn in_functions(functions: &str, dialect: Dialect, table: &[LineRow]) -> String {
    table.iter().fold(functions.to_owned(), |text, (line, filled)| {
        text.replace(&format!("@{}@", line.name()), &line.spelt(dialect, filled))
    })
}

/// A line with what a language fills in.
pub type LineRow = (ScriptLine, &'static [(&'static str, Filled<'static>)]);

/// The keys of an event with their values as JSON, in the order of a journal.
fn pairs(event: &Event) -> Vec<(String, String)> {
    let line = event.line();
    let inner = line.trim_end().trim_start_matches('{');
    let inner = inner.strip_suffix('}').unwrap_or(inner);
    // What a script fills in is empty here: no text has a comma or a quote in it.
    let (mut pieces, mut depth, mut from) = (Vec::new(), 0_usize, 0);
    for (at, sign) in inner.char_indices() {
        match sign {
            '{' | '[' => depth += 1,
            '}' | ']' => depth = depth.saturating_sub(1),
            ',' if depth == 0 => {
                pieces.push(&inner[from..at]);
                from = at + 1;
            }
            _ => {}
        }
    }
    pieces.push(&inner[from..]);
    let pair = |piece: &str| {
        let (key, value) = piece.split_once(':').unwrap_or((piece, ""));
        (key.trim_matches('"').to_owned(), value.to_owned())
    };
    pieces.into_iter().map(pair).collect()
}

#[cfg(test)]
mod tests {
    use serde_json::{Value, json};

    use super::{Dialect, Filled, ScriptLine, pairs};
    use crate::invoke::script::TARGETS;
    use crate::run::event::Event;

    /// What a script that runs puts into its lines.
    fn sample(key: &str) -> Value {
        match key {
            "series" => json!(["crossing/beauty"]),
            "frames" | "missing" => json!("1-3,7"),
            "frame" | "bytes" | "turn" | "process" | "files" | "landed" | "code" => json!(12),
            "seconds" | "t" => json!(3.0),
            "ok" => json!(true),
            "task" => json!({ "id": "17_4", "name": "night", "node": "n1" }),
            _ => json!(format!("{key} of it")),
        }
    }

    /// The line with every place that a language fills in filled with its sample, and the event that this has to be.
    fn filled(line: ScriptLine, own: &[(&str, Filled<'_>)]) -> (String, Value) {
        let mut event = serde_json::to_value(line.event()).expect("plain data");
        let mut samples = Vec::new();
        for (key, how) in own {
            let value = match (line, *key) {
                (ScriptLine::Landed | ScriptLine::Late | ScriptLine::Sum, "series") => json!("crossing/beauty"),
                (ScriptLine::Over, "missing") => json!(2),
                _ => sample(key),
            };
            let text = match how {
                Filled::Value(_) => value.to_string(),
                Filled::Text(_) => value.as_str().expect("text between quotes").to_owned(),
                Filled::Whole(_) => format!(",\"{key}\":{value}"),
                Filled::Absent => String::new(),
            };
            assert!(event.get(*key).is_some(), "{line:?} has no {key}");
            if *how == Filled::Absent {
                event.as_object_mut().expect("an object").remove(*key);
            } else {
                event[*key] = value;
            }
            samples.push((*key, *how, text));
        }
        let rows: Vec<(&str, Filled<'_>)> = samples
            .iter()
            .map(|(key, how, text)| {
                (
                    *key,
                    match how {
                        Filled::Value(_) => Filled::Value(text),
                        Filled::Text(_) => Filled::Text(text),
                        Filled::Whole(_) => Filled::Whole(text),
                        Filled::Absent => Filled::Absent,
                    },
                )
            })
            .collect();
        (line.spelt(Dialect { fixed: str::to_owned, around: ("", "") }, &rows), event)
    }

    #[test]
    fn every_line_of_every_language_is_read_back_as_its_event() {
        for target in TARGETS {
            let (language, table) = (target.name(), target.lines());
            for (line, own) in table {
                let (text, wanted) = filled(*line, own);
                let read: Event =
                    serde_json::from_str(&text).unwrap_or_else(|error| panic!("{language}: {text}: {error}"));
                let wanted: Event = serde_json::from_value(wanted).expect("an event");
                assert_eq!(read, wanted, "{language}");
            }
            // What a language never writes is known: nobody asks a version, and no sum is taken, without the tools for it.
            let missing = ScriptLine::ALL.into_iter().filter(|line| !table.iter().any(|(own, _)| own == line));
            let missing: Vec<ScriptLine> = missing.collect();
            let known: &[ScriptLine] = match language {
                "sh" => &[],
                "cmd" => &[ScriptLine::Version, ScriptLine::Late, ScriptLine::Sum],
                _ => &[ScriptLine::Version, ScriptLine::Sum],
            };
            assert_eq!(missing, known, "{language}");
        }
    }

    #[test]
    fn an_event_is_taken_apart_in_the_order_of_its_line() {
        let keys: Vec<String> = pairs(&ScriptLine::Began.event()).into_iter().map(|(key, _)| key).collect();
        assert_eq!(&keys[..3], ["event", "truepath", "turn"], "scripts look for the turn of earlier ones there");
        for line in ScriptLine::ALL {
            let joined: Vec<String> =
                pairs(&line.event()).into_iter().map(|(key, value)| format!("\"{key}\":{value}")).collect();
            assert_eq!(format!("{{{}}}\n", joined.join(",")), line.event().line());
        }
    }
}
