//! What the renderers of one job said.

use std::collections::BTreeMap;

use serde_json::{Value, json};
use truepath_core::frames::Frames;
use truepath_core::run::event::Event;
use truepath_core::run::history::{GivenUp, PastCall};

use super::progress::span;
use super::verdicts::cut;
use super::{BAD, GOOD, HEAD, ODD, QUIET, counted, paint};
use crate::lower::Screen;
use crate::pipeline::Loaded;

/// Calls and problems that are listed before the rest is only counted.
const MOST: usize = 24;
/// Failures whose ends are shown: the last ones tell most.
const ENDS: usize = 1;

/// One call of a job with what its log holds.
pub struct Said<'h> {
    /// The call.
    pub call: &'h PastCall,
    /// The machine.
    pub host: &'h str,
    /// Its frames.
    pub frames: Frames,
    /// What the renderer complained about, in its order.
    pub problems: Vec<String>,
    /// The command line and the last lines, of a call that lacks frames.
    pub end: Option<(String, Vec<String>)>,
}

/// One job: its calls, what was written, what was complained about, and how the last failures ended.
pub fn text((loaded, job): (&Loaded, &str), said: &[Said<'_>], given_up: &[&GivenUp], screen: Screen) -> String {
    if said.is_empty() {
        let mut out = format!("{}: no call of it was started\n", paint(screen, HEAD, job));
        for GivenUp { frames, why, .. } in given_up {
            out.push_str(&format!("  {} frames {}: {why}\n", paint(screen, BAD, "failed"), cut(&frames.to_string())));
        }
        return out;
    }
    let mut written: BTreeMap<&str, Vec<i64>> = BTreeMap::new();
    for (series, frames) in said.iter().flat_map(|said| &said.call.landed) {
        written.entry(series).or_default().extend(frames);
    }
    let files: usize = written.values().map(Vec::len).sum();
    let seconds: f64 = said.iter().filter_map(|said| said.call.ended.as_ref()).map(|ended| ended.seconds).sum();
    let calls = counted(i64::try_from(said.len()).unwrap_or(i64::MAX), "call");
    let landed = counted(i64::try_from(files).unwrap_or(i64::MAX), "file");
    let mut out = format!("{}: {landed} landed, {calls}, {}\n", paint(screen, HEAD, job), span(seconds));
    let widest = said.iter().map(|said| super::width(&said.call.started.call)).max().unwrap_or(0);
    // The newest ones tell most.
    let skipped = said.len().saturating_sub(MOST);
    if skipped > 0 {
        out.push_str(&paint(
            screen,
            QUIET,
            format!("  {skipped} earlier calls; frames after the job show some, --json all\n"),
        ));
    }
    for said in &said[skipped..] {
        out.push_str(&call(said, widest, screen));
    }
    out.push_str(&paint(screen, HEAD, "written\n"));
    for (series, frames) in &written {
        let pattern = loaded.plan.series.iter().find(|own| own.id == **series).map(|own| own.pattern.spelt());
        let pattern = pattern.unwrap_or_else(|| (*series).to_owned());
        let frames = cut(&Frames::from_any(frames.clone()).to_string());
        out.push_str(&format!("  {}  {frames}\n", super::verdicts::relative(&loaded.plan, &pattern)));
    }
    let mut problems: BTreeMap<&str, (usize, Frames)> = BTreeMap::new();
    for said in said {
        for text in &said.problems {
            let (count, frames) = problems.entry(text).or_default();
            *count += 1;
            *frames = frames.union(&said.frames);
        }
    }
    if !problems.is_empty() {
        out.push_str(&paint(screen, HEAD, "problems\n"));
    }
    let mut problems: Vec<_> = problems.into_iter().collect();
    problems.sort_by_key(|(_, (count, _))| std::cmp::Reverse(*count));
    for (text, (count, frames)) in problems.iter().take(MOST) {
        let calls = paint(screen, QUIET, format!("calls of frames {}", cut(&frames.to_string())));
        out.push_str(&format!("  {count:>4} x  {text}  {calls}\n"));
    }
    for said in said.iter().rev().filter(|said| said.end.is_some()).take(ENDS) {
        let Some((command, lines)) = &said.end else { continue };
        out.push_str(&format!("{} {}\n", paint(screen, HEAD, "the end of"), said.call.started.log));
        out.push_str(&format!("  {}\n", paint(screen, QUIET, command)));
        lines.iter().for_each(|line| out.push_str(&format!("  {line}\n")));
    }
    out
}

fn call(said: &Said<'_>, widest: usize, screen: Screen) -> String {
    let started = &said.call.started;
    let (files, took, how) = match &said.call.ended {
        None => ("".to_owned(), String::new(), paint(screen, ODD, "did not end, or runs still")),
        Some(ended) => {
            let how = match (&ended.why, ended.code) {
                (Some(why), _) => paint(screen, BAD, format!("was ended: {why}")),
                (None, None) => paint(screen, BAD, "was ended by a signal"),
                (None, Some(0)) if ended.lacking.is_empty() => paint(screen, GOOD, "well"),
                (None, Some(code)) => {
                    paint(screen, if ended.lacking.is_empty() { ODD } else { BAD }, format!("ended with {code}"))
                }
            };
            let lacking = if ended.lacking.is_empty() { String::new() } else { format!(", lacking {}", ended.lacking) };
            (counted(ended.files, "file"), span(ended.seconds), format!("{how}{lacking}"))
        }
    };
    let mut out = format!("  {}  {files:>9}  {took:>8}  {}  {how}\n", super::pad(&started.call, widest), said.host);
    for event in said.call.said.iter().filter(|event| !matches!(event, Event::Refused { .. })) {
        if let Some(line) = super::progress::attention(event, screen) {
            out.push_str(&format!("    {line}\n"));
        }
    }
    out
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
        "call": started.call, "job": started.job, "host": said.host, "frames": started.frames, "log": started.log,
        "code": ended.and_then(|ended| ended.code), "seconds": ended.map(|ended| ended.seconds),
        "lacking": ended.map(|ended| &ended.lacking), "why": ended.and_then(|ended| ended.why.as_ref()),
        "written": written.collect::<Vec<_>>(),
        "problems": problems.into_iter().map(|(text, count)| json!({ "text": text, "count": count })).collect::<Vec<_>>(),
        "events": told.collect::<Vec<_>>(),
    })
}
