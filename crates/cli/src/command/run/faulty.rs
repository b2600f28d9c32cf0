//! Jobs with mistakes: left out where that is asked for, and offered where it is not.

use std::collections::BTreeSet;

use truepath_exec::failure::Failure;
use truepath_project::run::faulty;

use crate::args::{Common, RunArgs};
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, LoadOptions, Queue};
use crate::show;

/// Runs all jobs that have no mistake. Whatever else is found stops it, as it stops every run.
pub fn run_others(args: &RunArgs, around: &Around) -> Result<Exit, Failure> {
    let mut sound = RunArgs { skip_faulty: false, ..args.clone() };
    let mut left_out: BTreeSet<String> = BTreeSet::new();
    loop {
        let way = LoadOptions { starts: true, begins_anew: args.begin_anew, ..LoadOptions::default() };
        let queue = pipeline::load(&sound.common, around, way)?;
        let Some((bad, others)) = faulty(&queue) else { break };
        if left_out.is_empty() {
            super::super::tell_findings(&queue, around);
        }
        left_out.extend(bad);
        if others.is_empty() {
            show::tell("no job is without a mistake\n");
            return Ok(queue.stopped_here().map_or(Exit::No, Exit::from));
        }
        // What others are, another look shows: two jobs may have been in each other's way.
        sound.common = Common { jobs: others.into_iter().collect(), ..sound.common };
    }
    if left_out.is_empty() {
        return super::run(&sound, around);
    }
    let line = format!("left out, since they have mistakes: {}\n", left_out.into_iter().collect::<Vec<_>>().join(", "));
    show::tell(&line);
    let ended = super::run(&sound, around)?;
    show::tell(&line);
    Ok(ended.max(Exit::Incomplete))
}

/// Says that others could be rendered, where mistakes of some jobs are in the way.
pub fn offer(queue: &Queue) {
    if let Some((bad, others)) = faulty(queue).filter(|(_, others)| !others.is_empty()) {
        let all = bad.len() + others.len();
        let few = match bad.len() {
            1 => format!("1 of {all} jobs has a mistake"),
            count => format!("{count} of {all} jobs have mistakes"),
        };
        let names: Vec<String> = bad.into_iter().collect();
        let names = if names.len() > 4 { "them".to_owned() } else { names.join(", ") };
        show::tell(&format!("nothing was started: {few}. --skip-faulty leaves out {names} and renders the rest\n"));
    }
}
