//! The lines that cmd writes into a journal.

use crate::invoke::script::lines::Filled::{Absent, Text, Value};
use crate::invoke::script::lines::{Dialect, Filled, LineRow, ScriptLine};

/// Lines of a journal are echoed: only the sign of variables has a meaning there.
const DIALECT: Dialect = Dialect { fixed: percent, around: ("", "") };

/// What each line of a journal is filled in with. What stands in braces is known when the script is written.
pub const LINES: &[LineRow] = &[
    (
        ScriptLine::Began,
        &[
            ("turn", Value("%turn%")),
            ("tag", Text("%start%")),
            ("host", Text("%computername%")),
            ("files", Value("%planned%")),
            ("task", Absent),
        ],
    ),
    (
        ScriptLine::Started,
        &[
            ("call", Text("{id}")),
            ("job", Value("{job}")),
            ("series", Value("{series}")),
            ("frames", Text("{frames}")),
            ("log", Text("{log}")),
        ],
    ),
    (
        ScriptLine::Ended,
        &[
            ("call", Text("{id}")),
            ("code", Value("%code%")),
            ("ok", Value("%well%")),
            ("files", Value("%landed%")),
            ("missing", Text("%lost%")),
            ("log", Text("{log}")),
        ],
    ),
    (
        ScriptLine::Failed,
        &[
            ("call", Text("{id}")),
            ("job", Value("{job}")),
            ("series", Value("{series}")),
            ("frames", Text("%lost%")),
            ("why", Text("ended with %code%")),
            ("log", Text("{log}")),
        ],
    ),
    (
        ScriptLine::Landed,
        &[
            ("series", Value("{series}")),
            ("frame", Value("{frame}")),
            ("bytes", Value("%bytes%")),
            ("call", Text("{id}")),
        ],
    ),
    (ScriptLine::Over, &[("landed", Value("%made%")), ("missing", Value("%absent%")), ("outcome", Text("%outcome%"))]),
];

/// A line of a journal with what is known of it: `{id}` and the like.
pub fn line(own: ScriptLine, known: &[(&str, &str)]) -> String {
    let value = |hole: &'static str| known.iter().find(|(name, _)| *name == hole).map_or(hole, |(_, value)| *value);
    let row = LINES.iter().find(|(line, _)| *line == own).map_or(&[][..], |(_, filled)| filled);
    let filled: Vec<(&str, Filled<'_>)> = row
        .iter()
        .map(|(key, filled)| match filled {
            Value(hole) => (*key, Value(value(hole))),
            Text(hole) => (*key, Text(value(hole))),
            other => (*key, *other),
        })
        .collect();
    own.spelt(DIALECT, &filled)
}

pub fn percent(text: &str) -> String {
    text.replace('%', "%%")
}
