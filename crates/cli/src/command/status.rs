//! `status`: how a plan stands, from disk and journals, also while others work on it.

use std::time::Duration;

use truepath_core::frames::{FrameExpr, Frames};
use truepath_core::invoke::script::cluster;
use truepath_core::run::history::{Depth, Session};
use truepath_core::run::tally::{SeriesStatus, tally};
use truepath_core::run::tasks::ClusterTask;
use truepath_core::verify::{Outcome, State, Verdict};
use truepath_exec::record::answer::NoAnswer;

use crate::args::{Common, StatusArgs};
use truepath_exec::failure::Failure;
use truepath_exec::landing::recover;
use truepath_exec::observe::Look;
use truepath_exec::process::identity;
use truepath_exec::record::answer;
use truepath_exec::share as claims;
use truepath_exec::state::journal;

use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, LoadOptions, Queue};
use crate::show;
use crate::show::status::{self, Stand};

/// How often a watched status is looked up anew.
const AGAIN: Duration = Duration::from_secs(1);

/// Lines at the end of a watched status that are shown whatever else fits.
const CLOSING: usize = 3;

/// Shows every series: states as `verify` has them, running and where, failed, and times. With --why, what frames are made of.
pub fn run(args: &StatusArgs, around: &Around) -> Result<Exit, Failure> {
    let mut block = show::Block::default();
    let mut last = String::new();
    loop {
        let queue = pipeline::load(&args.common, around, LoadOptions::default())?;
        if let Some(exit) = super::not_to_be_judged(&queue, around) {
            return Ok(exit);
        }
        if let Some(frames) = &args.why {
            return why((frames, args.all), &queue, around);
        }
        let all = (0..queue.sheets.len()).map(|at| look(&queue, at, around));
        let all = all.collect::<Result<Vec<Stand>, Failure>>()?;
        let text = text(args, &queue, &all, around);
        let verdicts = || all.iter().flat_map(|stand| &stand.rows).map(|row| &row.verdict);
        let over = verdicts().all(|verdict| verdict.files(&[State::Missing, State::Broken]) == 0);
        let outcome = Outcome::of(verdicts().collect::<Vec<_>>().iter().copied());
        let exit = if outcome == Outcome::Incomplete { Exit::No } else { Exit::Well };
        if !args.watch {
            if args.common.json { show::print_exact(&text) } else { show::print(&text) }?;
            return Ok(exit);
        }
        if around.out.terminal && around.err.terminal {
            let lines: Vec<String> = text.lines().map(str::to_owned).collect();
            // The last lines say how all stands and what to do.
            block.draw(&lines, CLOSING);
        } else if text != last {
            show::print(&format!("{}{text}", if last.is_empty() { "" } else { "\n" }))?;
            last = text;
        }
        if over {
            return Ok(exit);
        }
        std::thread::sleep(AGAIN);
    }
}

/// How one sheet of a queue stands.
pub fn look(queue: &Queue, at: usize, around: &Around) -> Result<Stand, Failure> {
    let loaded = &queue.sheets[at];
    let state = &loaded.state;
    let history = journal::read(state, Depth::Calls)?;
    let verdicts = pipeline::verdicts(queue, at, Look::Trusting, around)?;
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
    let (tasks, unanswered) = tasks(queue, at);
    Ok(Stand { rows: tally(&loaded.plan, verdicts, &history, &is_alive), history, tasks, unanswered })
}

/// What schedulers say of a plan that was handed to them, or why one says nothing. Nothing that a folder names is started: the
/// programs are looked for on the path. Where they are missing, this machine has no such scheduler, and nothing is said.
fn tasks(queue: &Queue, at: usize) -> (Vec<ClusterTask>, Option<String>) {
    let loaded = &queue.sheets[at];
    let (mut all, mut unanswered) = (Vec::new(), None);
    for cluster in cluster::ALL.into_iter().filter(|cluster| loaded.state.tasks(*cluster).is_dir()) {
        match answer::scheduler(&cluster.states(&cluster::name(&loaded.plan)), loaded.state.folder()) {
            Ok(answer) if answer.code == Some(0) => {
                all.extend(cluster.tasks(&answer.text, &loaded.state.submitted(cluster)));
            }
            Ok(answer) => unanswered = Some(answer.last),
            Err(NoAnswer::Unstarted { .. }) => {}
            Err(why) => unanswered = Some(why.to_string()),
        }
    }
    (all, unanswered)
}

fn text(args: &StatusArgs, queue: &Queue, all: &[Stand], around: &Around) -> String {
    let pairs = || queue.sheets.iter().map(|loaded| &loaded.plan).zip(all);
    let of_sheet = |stand: &Stand| stand.rows.iter().map(|row| row.verdict.clone()).collect::<Vec<_>>();
    let judged: Vec<Vec<Verdict>> = all.iter().map(of_sheet).collect();
    // What is being rendered by tasks of a cluster, or may be, is not rendered beside them.
    let is_busy = |stand: &Stand| stand.unanswered.is_some() || stand.tasks.iter().any(ClusterTask::is_active);
    let mut fixes = super::fixes(queue, judged.iter().map(Vec::as_slice), &args.common);
    if all.iter().any(is_busy) {
        fixes.clear();
    }
    if args.common.json {
        return show::json::text(&status::json(pairs(), &fixes, &around.now()));
    }
    let mut text = String::new();
    for (plan, stand) in pairs() {
        text.push_str(&status::table(plan, stand, around));
    }
    let rows: Vec<&SeriesStatus> = all.iter().flat_map(|stand| &stand.rows).collect();
    // Of all that failed, what failed most is looked at first.
    let failed =
        queue.sheets.iter().zip(all).flat_map(|(loaded, stand)| stand.rows.iter().map(move |row| (loaded, row)));
    let worst = failed.filter(|(_, row)| !row.failed.is_empty()).max_by_key(|(_, row)| row.failed.count());
    let log = worst.map(|(loaded, row)| {
        let job = &loaded.plan.jobs[loaded.plan.output(row.verdict.series).job].name;
        let common = Common { frames: None, jobs: vec![job.clone(), row.failed.to_string()], ..args.common.clone() };
        super::again("log", &Common { camera: Vec::new(), pass: Vec::new(), scale: None, set: Vec::new(), ..common })
    });
    let commands: Vec<String> = fixes.iter().map(|line| super::pasted(line)).collect();
    text.push_str(&status::closing(&rows, (log, &commands), around.out));
    text
}

/// What some frames were made of, and would be made of now.
fn why((text, all): (&str, bool), queue: &Queue, around: &Around) -> Result<Exit, Failure> {
    let of_movies = text == "movie";
    let text = if of_movies { "1" } else { text };
    let frames =
        FrameExpr::parse(text).ok().and_then(|frames| frames.frames(None, None)).filter(|frames| frames.count() > 0);
    let frames: Frames = frames.ok_or_else(|| {
        Failure::unreadable(format!("`{text}` is not a list of frames"))
            .help("write one frame, or two to compare: 12 or 12,48")
    })?;
    let mut told: Vec<(bool, String)> = Vec::new();
    for (at, loaded) in queue.sheets.iter().enumerate() {
        for verdict in pipeline::verdicts(queue, at, Look::Heads, around)?
            .into_iter()
            .filter(|verdict| verdict.is_movie == of_movies)
        {
            let own = verdict.planned.intersect(&frames);
            if !own.is_empty() {
                let now = loaded.ground.made_of.get(verdict.series).and_then(Option::as_ref);
                let asked = status::AskedFrames { verdict: &verdict, frames: &own, now, all };
                told.push(status::why(loaded, &asked, around.out));
            }
        }
    }
    // What differs comes first.
    told.sort_by_key(|(differs, _)| !differs);
    show::print(&told.iter().map(|(_, text)| text.as_str()).collect::<String>())?;
    if told.is_empty() {
        return Err(Failure::unreadable(format!("no job has frame {frames}")).help("`truepath names` lists them"));
    }
    Ok(Exit::Well)
}
