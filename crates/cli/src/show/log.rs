//! What the renderers of one job said.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use serde_json::{Value, json};
use truepath_core::frames::Frames;
use truepath_core::invoke::quote::sh::word;
use truepath_core::run::causes::without_numbers;
use truepath_core::run::event::Event;
use truepath_core::run::history::{GivenUp, PastCall};

use super::progress::span;
use super::verdicts::cut;
use super::{BAD, GOOD, HEAD, ODD, QUIET, counted, paint, state};
use crate::lower::Screen;
use truepath_project::Loaded;

/// Calls and problems that are listed before the rest is only counted.
const MOST: usize = 24;

/// One call of a job with what its log holds.
pub struct Said<'h> {
    /// The call.
    pub call: &'h PastCall,
    /// The machine.
    pub host: &'h str,
    /// When it began, as people write it.
    pub at: String,
    /// Which try of these frames it was, from 1.
    pub tries: usize,
    /// Its frames.
    pub frames: Frames,
    /// What the renderer complained about, in its order.
    pub problems: Vec<String>,
    /// The command line and the last lines, of a call that lacks frames.
    pub end: Option<(String, Vec<String>)>,
}

impl Said<'_> {
    /// The mode that it was made in; empty for finals.
    fn mode(&self) -> &str {
        let series = self.call.started.series.first().map_or("", String::as_str);
        series.rsplit_once('@').map_or("", |(_, mode)| mode)
    }
}

/// One job: its calls, what was written, what was complained about, and how the last failure ended. Finals and each mode
/// are told apart.
pub fn text((loaded, job): (&Loaded, &str), said: &[Said<'_>], given_up: &[&GivenUp], screen: Screen) -> String {
    if said.is_empty() {
        let mut out = format!("{}: no call was started\n", paint(screen, HEAD, job));
        for GivenUp { frames, why, .. } in given_up {
            out.push_str(&format!("  {} {}: {why}\n", state(screen, BAD, "failed"), cut(&frames.worded())));
        }
        return out;
    }
    let mut by_mode: Vec<(&str, Vec<&Said<'_>>)> = Vec::new();
    for one in said {
        let mode = one.mode();
        match by_mode.iter_mut().find(|(own, _)| *own == mode) {
            Some((_, list)) => list.push(one),
            None => by_mode.push((mode, vec![one])),
        }
    }
    let mut out = String::new();
    for (at, (mode, said)) in by_mode.iter().enumerate() {
        let of = if mode.is_empty() { job.to_owned() } else { format!("{job}, mode {mode}") };
        out.push_str(if at > 0 { "\n" } else { "" });
        out.push_str(&part(loaded, &of, said, screen));
    }
    let last = said.iter().rfind(|said| said.end.is_some());
    if let Some((said, (command, lines))) = last.and_then(|said| Some((said, said.end.as_ref()?))) {
        out.push_str(&format!("\n{} {}\n", paint(screen, HEAD, "the end of"), said.call.started.log));
        lines.iter().for_each(|line| out.push_str(&format!("  {line}\n")));
        // Alone on its line and unbroken, so that it can be pasted; the folder that it writes into is gone by now.
        let command = command.trim_start_matches("$ ");
        let folders = stage_folders(command, &said.call.started.log);
        let folders = folders.iter().map(|folder| word(folder)).collect::<Vec<_>>().join(" ");
        let made = if folders.is_empty() { String::new() } else { format!("mkdir -p {folders} && ") };
        out.push_str(&format!("\n{}\n{made}{command}\n", paint(screen, HEAD, "to try it by hand:")));
    }
    out
}

/// The calls of one job in one mode.
fn part(loaded: &Loaded, of: &str, said: &[&Said<'_>], screen: Screen) -> String {
    let mut written: BTreeMap<&str, Vec<i64>> = BTreeMap::new();
    for (series, frames) in said.iter().flat_map(|said| &said.call.landed) {
        written.entry(series).or_default().extend(frames);
    }
    let files: usize = written.values().map(Vec::len).sum();
    let seconds: f64 = said.iter().filter_map(|said| said.call.ended.as_ref()).map(|ended| ended.seconds).sum();
    let calls = counted(i64::try_from(said.len()).unwrap_or(i64::MAX), "call");
    let landed = counted(i64::try_from(files).unwrap_or(i64::MAX), "file");
    let mut out = format!("{}: {landed} landed, {calls}, {}\n", paint(screen, HEAD, of), span(seconds));
    let rows = rows(said, screen);
    let widest = |of: fn(&LogRow) -> &str| rows.iter().map(|row| super::width(of(row))).max().unwrap_or(0);
    let (calls, hosts) = (widest(|row| &row.calls), widest(|row| &row.host));
    // The newest ones tell most.
    let skipped = rows.len().saturating_sub(MOST);
    if skipped > 0 {
        let skipped = counted(skipped as i64, "earlier row");
        let note = format!("  {skipped} not shown; give frames after the job, or --json for all\n");
        out.push_str(&paint(screen, QUIET, note));
    }
    for row in &rows[skipped..] {
        let LogRow { at, took, files, .. } = row;
        let columns = format!(
            "  {at}  {}  {files:>9}  {took:>8}  {}",
            super::pad(&row.calls, calls),
            super::pad(&row.host, hosts)
        );
        out.push_str(&super::in_columns(&columns, std::slice::from_ref(&row.how), screen));
        row.events.iter().for_each(|line| out.push_str(&format!("    {line}\n")));
    }
    if !written.is_empty() {
        out.push_str(&paint(screen, HEAD, "written\n"));
    }
    for (series, frames) in &written {
        let pattern = loaded.plan.series.iter().find(|own| own.id == **series).map(|own| own.pattern.typed());
        let pattern = pattern.unwrap_or_else(|| (*series).to_owned());
        let frames = cut(&Frames::from_any(frames.clone()).to_string());
        out.push_str(&format!("  {}  {frames}\n", super::verdicts::relative(&loaded.plan, &pattern)));
    }
    out + &problems(said, screen)
}

/// What the renderers complained about, the most frequent first. What differs by numbers alone is one line, with `#` for
/// each number.
fn problems(said: &[&Said<'_>], screen: Screen) -> String {
    let mut problems: BTreeMap<String, Problem<'_>> = BTreeMap::new();
    for said in said {
        for text in &said.problems {
            let own = problems.entry(without_numbers(text)).or_insert_with(|| Problem { text, ..Problem::default() });
            own.differs |= own.text != text;
            own.count += 1;
            own.frames = own.frames.union(&said.frames);
        }
    }
    let mut problems: Vec<_> = problems.into_values().collect();
    problems.sort_by_key(|problem| std::cmp::Reverse(problem.count));
    let mut out = if problems.is_empty() { String::new() } else { paint(screen, HEAD, "problems\n") };
    for Problem { text, count, differs, frames } in problems.iter().take(MOST) {
        let calls = paint(screen, QUIET, format!("calls of {}", cut(&frames.worded())));
        let text = if *differs { without_numbers(text) } else { (*text).to_owned() };
        out.push_str(&super::in_columns(&format!("  {count:>4} x  {text}"), &[calls], screen));
    }
    if problems.len() > MOST {
        let more = counted((problems.len() - MOST) as i64, "more problem");
        out.push_str(&paint(screen, QUIET, format!("  {more}; --json lists them all\n")));
    }
    out
}

/// The folders in stage that a command line writes into: those that are called as its log is.
fn stage_folders(command: &str, log: &str) -> BTreeSet<String> {
    let Some(name) = Path::new(log).file_stem().map(|stem| stem.to_string_lossy().into_owned()) else {
        return BTreeSet::new();
    };
    let last = format!("/{name}");
    let folder = |(at, _): (usize, &str)| {
        let before = &command[..at];
        // A word in quotes may have spaces in it; any other ends at one.
        let begins = if before.matches('\'').count() % 2 == 1 { before.rfind('\'') } else { before.rfind(' ') };
        let word = &before[begins.map_or(0, |begins| begins + 1)..];
        let path = &word[word.rfind('=').map_or(0, |sign| sign + 1)..];
        let ends = command[at + last.len()..].starts_with(['/', '\'', ' ']) || command.len() == at + last.len();
        (ends && path.starts_with('/')).then(|| format!("{path}{last}"))
    };
    command.match_indices(&last).filter_map(folder).collect()
}

/// One complaint.
#[derive(Default)]
struct Problem<'s> {
    text: &'s str,
    count: usize,
    /// Whether it was said with other numbers as well.
    differs: bool,
    frames: Frames,
}

/// A line for one call, or for calls of which there is nothing else to say.
struct LogRow {
    at: String,
    calls: String,
    host: String,
    files: String,
    took: String,
    how: String,
    events: Vec<String>,
}

/// The calls, the last attempt last. Calls one after another on one machine that all ended well, or did not end, are one row.
fn rows(said: &[&Said<'_>], screen: Screen) -> Vec<LogRow> {
    let how = |said: &Said<'_>| match &said.call.ended {
        None => Some(false),
        Some(ended) => (ended.why.is_none() && ended.code == Some(0) && ended.missing.is_empty()).then_some(true),
    };
    let is_quiet =
        |said: &Said<'_>| said.tries == 1 && said.call.said.iter().all(|event| matches!(event, Event::Refused { .. }));
    let alike = |a: &&Said<'_>, b: &&Said<'_>| {
        let same = a.host == b.host && a.call.started.series == b.call.started.series;
        same && how(a).is_some() && how(a) == how(b) && is_quiet(a) && is_quiet(b)
    };
    said.chunk_by(alike).map(|group| row(group, screen)).collect()
}

fn row(group: &[&Said<'_>], screen: Screen) -> LogRow {
    let first = group[0];
    let calls = match group {
        [one] => one.call.started.call.clone(),
        _ => {
            let frames = group.iter().fold(Frames::none(), |sum, said| sum.union(&said.frames));
            format!("{} calls, {}", group.len(), cut(&frames.worded()))
        }
    };
    let ended = || group.iter().filter_map(|said| said.call.ended.as_ref());
    let (files, took) = match ended().count() {
        0 => (String::new(), String::new()),
        _ => (
            counted(ended().map(|ended| ended.files).sum::<i64>(), "file"),
            span(ended().map(|ended| ended.seconds).sum()),
        ),
    };
    let how = match &first.call.ended {
        None => state(screen, ODD, "still running, or never ended"),
        Some(ended) => {
            let how = match (&ended.why, ended.code) {
                (Some(why), _) => state(screen, BAD, format!("was ended: {why}")),
                (None, None) => state(screen, BAD, "was ended by a signal"),
                (None, Some(0)) if ended.missing.is_empty() => state(screen, GOOD, "good"),
                (None, Some(code)) => {
                    state(screen, if ended.missing.is_empty() { ODD } else { BAD }, format!("ended with {code}"))
                }
            };
            let missing = if ended.missing.is_empty() { String::new() } else { format!(", missing {}", ended.missing) };
            format!("{how}{missing}")
        }
    };
    let tries = if first.tries > 1 { format!(", try {}", first.tries) } else { String::new() };
    let events = first.call.said.iter().filter(|event| !matches!(event, Event::Refused { .. } | Event::Ended(_)));
    LogRow {
        at: first.at.clone(),
        calls,
        host: first.host.to_owned(),
        files,
        took,
        how: format!("{how}{tries}"),
        events: events.filter_map(|event| super::progress::attention(event, screen)).collect(),
    }
}

/// One call of `log --json`.
pub fn json(said: &Said<'_>) -> Value {
    let started = &said.call.started;
    let ended = said.call.ended.as_ref();
    let mut problems: BTreeMap<&str, usize> = BTreeMap::new();
    said.problems.iter().for_each(|text| *problems.entry(text).or_default() += 1);
    let written = said.call.landed.iter();
    let written = written
        .map(|(series, frames)| json!({ "series": series, "frames": Frames::from_any(frames.clone()).to_string() }));
    let told = said.call.said.iter().filter(|event| !matches!(event, Event::Began(_)));
    json!({
        "call": started.call, "at": said.at, "try": said.tries, "job": started.job, "host": said.host, "frames": started.frames, "log": started.log,
        "code": ended.and_then(|ended| ended.code), "seconds": ended.map(|ended| ended.seconds),
        "missing": ended.map(|ended| &ended.missing), "why": ended.and_then(|ended| ended.why.as_ref()),
        "written": written.collect::<Vec<_>>(),
        "problems": problems.into_iter().map(|(text, count)| json!({ "text": text, "count": count })).collect::<Vec<_>>(),
        "events": told.collect::<Vec<_>>(),
    })
}
