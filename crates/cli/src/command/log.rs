//! `log`: what the renderers of a job said: files written, problems grouped and counted, the end of a failure.

use std::path::Path;

use regex_lite::Regex;
use truepath_core::frames::{FrameExpr, Frames};
use truepath_core::plan::Selection;
use truepath_core::run::event::Event;
use truepath_core::run::history::{Depth, History, PastCall, Session};

use crate::args::LogArgs;
use truepath_exec::failure::Failure;
use truepath_exec::guard;
use truepath_exec::state::journal;

use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, LoadOptions, Loaded};
use crate::show;
use crate::show::log::{self, Said};

/// Bytes of a log that are read.
const MOST_LOG: u64 = 1 << 30;

/// Lines of a failure's end that are shown.
const TAIL: usize = 12;

/// Shows every call of a job for some frames, the newest of a frame last.
pub fn run(args: &LogArgs, around: &Around) -> Result<Exit, Failure> {
    let common = args.common();
    let queue = pipeline::load(&common, around, LoadOptions::default())?;
    let wanted = args.frames.as_ref().map(|text| {
        let frames = FrameExpr::parse(text).ok().and_then(|frames| frames.frames(None, None));
        frames.ok_or_else(|| {
            Failure::unreadable(format!("`{text}` is not a list of frames")).help("write 12, 1-24 or 1-96/8")
        })
    });
    let wanted = wanted.transpose()?;
    let selection = Selection { jobs: vec![args.job.clone()], ..Selection::default() };
    let (mut known, mut is_first, mut documents) = (false, true, Vec::new());
    for loaded in &queue.sheets {
        let history = journal::read(&loaded.state, Depth::Calls)?;
        for job in loaded.plan.jobs.iter().filter(|job| selection.takes(job)) {
            known = true;
            let said = said(loaded, &history, &job.name, wanted.as_ref());
            if args.json {
                documents.extend(said.iter().map(log::json));
            } else {
                let given_up = history.sessions.iter().flat_map(|session| &session.failures);
                let given_up: Vec<_> = given_up.filter(|given_up| given_up.job == job.name).collect();
                show::print(if is_first { "" } else { "\n" })?;
                is_first = false;
                show::print(&log::text((loaded, &job.name), &said, &given_up, around.out))?;
            }
        }
    }
    if !known {
        super::tell_findings(&queue, around);
        return Ok(queue.stopped().map_or(Exit::No, Exit::from));
    }
    if args.json {
        show::print_exact(&show::json::text(&serde_json::json!({ "truepath": 1, "calls": documents })))?;
    }
    Ok(Exit::Well)
}

fn said<'h>(loaded: &Loaded, history: &'h History, job: &str, wanted: Option<&Frames>) -> Vec<Said<'h>> {
    let logs = loaded.state.logs();
    let adapter = loaded.plan.jobs.iter().find(|own| own.name == job).and_then(|job| loaded.adapter(job));
    let problem = adapter.and_then(|adapter| adapter.log.problem.as_deref()).and_then(|regex| Regex::new(regex).ok());
    let calls = history.sessions.iter().flat_map(|session| session.calls.iter().map(move |call| (session, call)));
    let own = calls.filter(|(_, call)| call.started.job == job);
    // What earlier calls of a run left missing, by series: whoever renders it again tries again.
    let mut left: Vec<(&Session, &PastCall)> = Vec::new();
    let said = own.filter_map(|(session, call)| {
        let is_again = |(run, other): &&(&Session, &PastCall)| {
            let missing = other.ended.as_ref().map(|ended| &ended.missing);
            std::ptr::eq(*run, session)
                && other.started.series == call.started.series
                && missing.is_some_and(|missing| !missing.is_disjoint(&call.started.frames))
        };
        let tries = 1 + left.iter().filter(is_again).count();
        left.push((session, call));
        let frames = call.started.frames.clone();
        if wanted.is_some_and(|wanted| wanted.is_disjoint(&frames)) {
            return None;
        }
        // A log that is gone says nothing more, and a journal may name anything: only logs of this sheet are shown.
        let text = guard::read_confined(Path::new(&call.started.log), &logs, MOST_LOG).unwrap_or_default();
        let text = String::from_utf8_lossy(&text);
        let of_line = |line: &str| Some(problem.as_ref()?.captures(line)?.name("text")?.as_str().to_owned());
        let failed = call.ended.as_ref().is_some_and(|ended| !ended.missing.is_empty());
        let end = failed.then(|| {
            let mut lines = text.lines();
            let first = lines.next().unwrap_or("").to_owned();
            let rest: Vec<&str> = lines.collect();
            (first, rest[rest.len().saturating_sub(TAIL)..].iter().map(|line| (*line).to_owned()).collect())
        });
        let refused = call.said.iter().filter_map(|event| match event {
            Event::Refused { frame, why, .. } => Some(format!("frame {frame}: {why}")),
            _ => None,
        });
        let problems = text.lines().filter_map(of_line).chain(refused).collect();
        Some(Said { call, host: &session.began.host, at: began(session, call), tries, frames, problems, end })
    });
    said.collect()
}

/// When a call began, on this machine's clock.
fn began(session: &Session, call: &PastCall) -> String {
    let Ok(at) = session.began.at.parse::<jiff::Timestamp>() else { return " ".repeat("12-31 23:59".len()) };
    let after = jiff::SignedDuration::try_from_secs_f64(call.started.t).unwrap_or_default();
    let at = at.checked_add(after).unwrap_or(at).to_zoned(jiff::tz::TimeZone::system());
    at.strftime("%m-%d %H:%M").to_string()
}
