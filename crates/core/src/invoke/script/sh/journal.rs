//! The lines that a POSIX shell writes into a journal.

use crate::invoke::script::lines::Filled::{Text, Value, Whole};
use crate::invoke::script::lines::{Dialect, LineRow, ScriptLine};

/// Lines of a journal stand between double quotes.
pub const DIALECT: Dialect = Dialect { fixed: |json| json.replace('"', "\\\""), around: ("", "") };

/// What each line of a journal is filled in with.
pub const LINES: &[LineRow] = &[
    (
        ScriptLine::Began,
        &[
            ("turn", Value("$turn")),
            ("tag", Text("$start")),
            ("host", Text("$host")),
            ("process", Value("$$")),
            ("boot", Text("$(cat /proc/sys/kernel/random/boot_id 2>/dev/null)")),
            ("space", Text("$(readlink /proc/self/ns/pid 2>/dev/null)")),
            ("at", Text("$(date -u +%Y-%m-%dT%H:%M:%SZ)")),
            ("files", Value("$planned")),
            ("task", Whole("${task-}")),
        ],
    ),
    (
        ScriptLine::Version,
        &[("series", Value("$of_series")), ("version", Text(r#"$(as_json "$version" | tr '\t' ' ')"#))],
    ),
    (
        ScriptLine::Started,
        &[
            ("call", Text("$id")),
            ("job", Value("$job")),
            ("series", Value("$in_series")),
            ("frames", Text("$frames")),
            ("process", Value("$$")),
            ("log", Text("$log_in_json")),
            ("t", Value("$((since - began))")),
        ],
    ),
    (
        ScriptLine::Ended,
        &[
            ("call", Text("$id")),
            ("code", Value("$code")),
            ("ok", Value("$well")),
            ("files", Value("$landed")),
            ("missing", Text("$lost")),
            ("seconds", Value("$((over - since))")),
            ("log", Text("$log_in_json")),
            ("t", Value("$((over - began))")),
        ],
    ),
    (
        ScriptLine::Failed,
        &[
            ("call", Text("$id")),
            ("job", Value("$job")),
            ("series", Value("$in_series")),
            ("frames", Text("$lost")),
            ("why", Text("ended with $code")),
            ("log", Text("$log_in_json")),
        ],
    ),
    (
        ScriptLine::Landed,
        &[("series", Value("$name")), ("frame", Value("$3")), ("bytes", Value("$bytes")), ("call", Text("$id"))],
    ),
    (ScriptLine::Late, &[("series", Value("$name")), ("frame", Value("$3"))]),
    (ScriptLine::Sum, &[("series", Value("$name")), ("frame", Value("$3")), ("sha256", Text("$sum"))]),
    (
        ScriptLine::Over,
        &[
            ("landed", Value("$made")),
            ("missing", Value("$((planned - there))")),
            ("outcome", Text("$outcome")),
            ("t", Value("$(($(date +%s) - began))")),
        ],
    ),
];
