//! The end of a run: what was done, what failed, and the next command.

use std::process::{Command, Stdio};

use truepath_core::frames::Frames;
use truepath_core::resolve::paths;
use truepath_core::run::causes::{FailureCause, causes};
use truepath_core::run::event::Event;
use truepath_core::verify::{State, Verdict};
use truepath_project::run::EndedRun;

use crate::args::{Common, RunArgs};
use crate::command::again;
use crate::exit_code::Exit;
use crate::lower::{Around, Screen};
use crate::pipeline::Loaded;
use crate::show::verdicts::cut;
use crate::show::{self, counted, progress};

/// Failures that are listed before the rest is only counted.
const MOST_LINES: usize = 8;

/// How the call ends.
pub fn exit(ended: &EndedRun, args: &RunArgs) -> Exit {
    if ended.exported.is_some() {
        Exit::Well
    } else if ended.outcome.interrupted {
        Exit::Interrupted
    } else if ended.outcome.full.is_some() {
        Exit::Machine
    } else if ended.total > 0
        && (!ended.failures.is_empty() || ended.left > 0 || (ended.lost() > 0 && args.only.is_empty()))
    {
        Exit::Incomplete
    } else if !args.only.is_empty() || ended.is_complete() {
        // Whoever asks for some calls only is told about those.
        Exit::Well
    } else {
        Exit::No
    }
}

/// What was done, what failed, and the next command.
pub fn summary(args: &RunArgs, loaded: &Loaded, (ended, fixes): (&EndedRun, &[String]), around: &Around) -> String {
    let screen = around.err;
    let files: i64 = ended.after.iter().map(|verdict| verdict.planned.count()).sum();
    let mut out = match ended.total {
        0 => format!(
            "nothing to {}: {} checked\n",
            if args.movies { "encode" } else { "render" },
            counted(files, "file")
        ),
        total => {
            let took = progress::span(ended.seconds);
            format!("{} of {} landed in {took}\n", ended.outcome.landed, counted(total, "file"))
        }
    };
    let place = |job: &str| loaded.plan.jobs.iter().position(|own| own.name == job).unwrap_or(usize::MAX);
    causes(&ended.failures, &place).iter().for_each(|cause| out.push_str(&failure_lines(cause, screen)));
    out.push_str(&kept_lines(loaded, ended, around));
    if let Some((job, problems)) = ended.outcome.problems.iter().max_by_key(|(_, count)| **count) {
        let all: u64 = ended.outcome.problems.values().sum();
        let all = counted(i64::try_from(all).unwrap_or(i64::MAX), "problem");
        let most =
            if ended.outcome.problems.len() > 1 { format!(", {problems} of them in {job}") } else { String::new() };
        let log = again("log", &log_of(args, vec![job.clone()]));
        out.push_str(&format!("renderers reported {all}{most}. Read them: {log}\n"));
    }
    if let Some(full) = &ended.outcome.full {
        out.push_str(&format!(
            "{}: {full}. Free some space, then run again; good files are kept\n",
            show::state(screen, show::BAD, "no room")
        ));
    }
    if ended.outcome.interrupted {
        out.push_str(&format!(
            "{}. Continue with: {}\n",
            show::state(screen, show::ODD, "interrupted"),
            again("run", &args.common)
        ));
        return out;
    }
    if !args.only.is_empty() {
        // Whoever asks for some calls only is told about those.
        let word = if ended.left > 0 { "some of these calls failed" } else { "these calls are complete" };
        out.push_str(&format!("{word}\n"));
        return out;
    }
    let failed = ended.failures.iter().filter_map(|event| match event {
        Event::Failed { job, frames, log, .. } if !log.is_empty() => Some((frames.count(), job, frames)),
        _ => None,
    });
    if let Some((_, job, frames)) = failed.max_by_key(|(count, ..)| *count) {
        let log = again("log", &log_of(args, vec![job.clone(), frames.to_string()]));
        out.push_str(&format!("see why: {log}\n"));
    }
    let verdicts: Vec<&Verdict> = ended.after.iter().collect();
    out.push_str(&show::verdicts::closing(&verdicts, fixes, screen));
    out
}

/// One cause with all that failed for it.
fn failure_lines(cause: &FailureCause, screen: Screen) -> String {
    let is_given_up = cause.of.iter().all(|(_, frames)| frames.is_empty());
    let word = show::state(screen, show::BAD, if is_given_up { "gave up" } else { "failed" });
    let frames = |frames: &Frames| match frames.count() {
        0 => String::new(),
        _ => format!(" {}", cut(&frames.worded())),
    };
    if let [(of, own)] = cause.of.as_slice() {
        let rest = if is_given_up { "; the rest of this job is skipped" } else { "" };
        return format!("  {word} {of}{}: {}{rest}\n", frames(own), cause.why);
    }
    let rest = if is_given_up { "; the rest of these jobs is skipped" } else { "" };
    let all: Vec<String> = cause.of.iter().map(|(of, own)| format!("{of}{}", frames(own))).collect();
    format!("  {word}: {}{rest}\n    {}\n", cause.why, show::wrapped(&all.join(", "), screen.width, 4).trim())
}

/// What `log` takes of a call of `run`.
fn log_of(args: &RunArgs, jobs: Vec<String>) -> Common {
    Common { jobs, sheet: args.common.sheet.clone(), mode: args.common.mode.clone(), ..Common::default() }
}

/// Frames that are there and not as they should be, by series.
fn kept_lines(loaded: &Loaded, ended: &EndedRun, around: &Around) -> String {
    let named = [State::Unreadable, State::Wrong, State::Stale, State::Changed, State::Odd, State::Unproven];
    let of = |verdict: &Verdict| {
        let series = loaded.plan.output(verdict.series);
        let own = verdict.findings.iter().filter(|(state, ..)| named.contains(state));
        let line = |(state, why, frames): &(State, String, Frames)| {
            let frames = cut(&frames.to_string());
            format!("  {} {} {frames}: {why}\n", show::state(around.err, show::ODD, state.name()), series.id)
        };
        own.map(line).collect::<Vec<_>>()
    };
    let lines: Vec<String> = ended.after.iter().flat_map(of).collect();
    let more = lines.len().saturating_sub(MOST_LINES);
    let rest = if more > 0 { format!("  and {more} more\n") } else { String::new() };
    lines.into_iter().take(MOST_LINES).chain([rest]).collect()
}

/// Opens the folder of the first series in the system's file manager.
pub fn open(loaded: &Loaded) {
    let Some(series) = loaded.plan.series.first() else { return };
    let first = series.name(series.frames.as_ref().and_then(Frames::first).unwrap_or(0));
    let folder = paths::parent(&first);
    let program = if cfg!(target_os = "macos") { "open" } else { "xdg-open" };
    let mut command = Command::new(program);
    command.arg(folder).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    let started = command.spawn();
    if let Err(error) = started {
        show::tell(&format!("cannot open {folder} with {program}: {error}\n"));
    }
}
