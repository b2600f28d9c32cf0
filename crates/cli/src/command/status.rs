//! `status`: how a plan stands, from disk and journals, also while others work on it.

use std::time::Duration;

use truepath_core::frames::{FrameExpr, Frames};
use truepath_core::run::history::{Depth, Session};
use truepath_core::run::tally::{SeriesStatus, tally};
use truepath_core::verify::Verdict;

use crate::args::StatusArgs;
use truepath_exec::failure::Failure;
use truepath_exec::landing::recover;
use truepath_exec::observe::{Look, Observation};
use truepath_exec::process::identity;
use truepath_exec::share as claims;
use truepath_exec::state::journal;

use crate::exit_code::Exit;
use crate::lower::Surroundings;
use crate::pipeline::{self, LoadOptions, Loaded, Queue};
use crate::show;
use crate::show::status::{self, Stand};

/// How often a watched status is looked up anew.
const AGAIN: Duration = Duration::from_secs(1);

/// Shows every series: done, running and where, failed, missing, and times. With --why, what frames are made of.
pub fn run(args: &StatusArgs, around: &Surroundings) -> Result<Exit, Failure> {
    let mut drawn = 0;
    let mut last = String::new();
    loop {
        let queue = pipeline::load(&args.common, around, LoadOptions::default())?;
        let unknown =
            |sheet: &Loaded| !sheet.is_readable() || sheet.plan.series.iter().any(|series| !series.is_known());
        if queue.sheets.iter().any(unknown) {
            super::tell_findings(&queue, around);
            return Ok(queue.stopped().unwrap_or(Exit::No));
        }
        if let Some(frames) = &args.why {
            return why(frames, &queue, around);
        }
        let mut all = Vec::new();
        for loaded in &queue.sheets {
            all.push(look(loaded, around)?);
        }
        let text = text(args, &queue, &all, around);
        let over = all.iter().flat_map(|stand| &stand.rows).all(|row| row.done.count() == row.total);
        if !args.watch {
            show::print(&text)?;
            return Ok(Exit::Well);
        }
        if around.out.terminal {
            let back = if drawn > 0 { format!("\x1b[{drawn}A\x1b[J") } else { String::new() };
            show::print(&format!("{back}{text}"))?;
            drawn = text.lines().count();
        } else if text != last {
            show::print(&format!("{}{text}", if last.is_empty() { "" } else { "\n" }))?;
            last = text;
        }
        if over {
            return Ok(Exit::Well);
        }
        std::thread::sleep(AGAIN);
    }
}

fn look(loaded: &Loaded, around: &Surroundings) -> Result<Stand, Failure> {
    let state = &loaded.state;
    let history = journal::read(state, Depth::Calls)?;
    let verdicts = observe(loaded)?;
    let boot = identity::boot();
    let shared: Vec<String> = claims::others(state).into_iter().map(|other| other.worker.journal).collect();
    let is_alive = |session: &Session| {
        let began = &session.began;
        let ended = session.outcome.is_some() || recover::is_over(began);
        // A journal of this machine from before it was started anew.
        let before = began.host == around.host && began.boot != boot;
        let silent = began.share && !shared.iter().any(|journal| journal.contains(&format!("-{}.", began.tag)));
        !ended && !before && !silent
    };
    Ok(Stand { rows: tally(&loaded.plan, &verdicts, &history, &is_alive), history })
}

fn observe(loaded: &Loaded) -> Result<Vec<Verdict>, Failure> {
    let told = |_: u64| {};
    Observation { plan: &loaded.plan, machine: &loaded.ground, look: Look::Trusting, told: &told }.verdicts()
}

fn text(args: &StatusArgs, queue: &Queue, all: &[Stand], around: &Surroundings) -> String {
    let pairs = || queue.sheets.iter().map(|loaded| &loaded.plan).zip(all);
    if args.common.json {
        return show::json::text(&status::json(pairs(), &around.now()));
    }
    let mut text = String::new();
    for (plan, stand) in pairs() {
        text.push_str(&status::table(plan, stand, around));
    }
    let rows: Vec<&SeriesStatus> = all.iter().flat_map(|stand| &stand.rows).collect();
    let failed = queue.sheets.iter().zip(all).find_map(|(loaded, stand)| {
        let row = stand.rows.iter().find(|row| !row.failed.is_empty())?;
        let job = &loaded.plan.jobs[loaded.plan.series[row.series].job].name;
        Some(format!("log {job} {}", row.failed))
    });
    text.push_str(&status::closing(&rows, (failed, super::again("run", &args.common)), around.out));
    text
}

/// What some frames were made of, and would be made of now.
fn why(text: &str, queue: &Queue, around: &Surroundings) -> Result<Exit, Failure> {
    let frames =
        FrameExpr::parse(text).ok().and_then(|frames| frames.frames(None, None)).filter(|frames| frames.count() > 0);
    let frames: Frames = frames.ok_or_else(|| {
        Failure::unreadable(format!("`{text}` are no frames")).help("write one frame, or two to compare: 12 or 12,48")
    })?;
    let mut found = false;
    for loaded in &queue.sheets {
        for verdict in observe(loaded)? {
            let own = verdict.expected.intersect(&frames);
            if !own.is_empty() {
                found = true;
                let now = loaded.ground.made_of.get(verdict.series).and_then(Option::as_ref);
                show::print(&status::why(loaded, (&verdict, &own), now, around.out))?;
            }
        }
    }
    if !found {
        return Err(Failure::unreadable(format!("no series of this plan has frame {frames}"))
            .help("`truepath names` lists them"));
    }
    Ok(Exit::Well)
}
