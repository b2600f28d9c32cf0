//! `run`: renders what is needed, here, and goes on where the last run stopped.

mod closing;
mod faulty;

use truepath_core::plan::Plan;
use truepath_core::sheet::Existing;
use truepath_core::verify::Verdict;
use truepath_exec::failure::Failure;
use truepath_project::run::{EndedRun, RunOptions};
use truepath_project::{Run, TakenSheets};

use crate::args::{AnewValues, CallOrder, ExistingFiles, RunArgs};
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, request};
use crate::show::told::Told;
use crate::show::{self, counted};

use super::report;

/// Renders, stages and lands all frames that are needed, sheet by sheet.
pub fn run(args: &RunArgs, around: &Around) -> Result<Exit, Failure> {
    if args.skip_faulty {
        return faulty::run_others(args, around);
    }
    let told = Told::run(around, args.events);
    let mut run = match Run::take(&request(&args.common), &options(args), around, &told)? {
        TakenSheets::Held(run) => run,
        TakenSheets::Mistyped(queue) => {
            return pipeline::mistyped(&queue, &args.common, around).map_or(Ok(Exit::Unreadable), Err);
        }
        TakenSheets::Stopped(stop, queue) => {
            if !args.movies {
                faulty::offer(&queue);
            }
            return Ok(stop.into());
        }
    };
    let page = args.report.as_deref().map(|out| report::Page { common: &args.common, out, replace: false, around });
    page.as_ref().map_or(Ok(()), |page| report::may_write(page, &run.queue))?;
    report::beside(page, || {
        let (mut worst, mut all) = (Exit::Well, Vec::new());
        for at in 0..run.queue.sheets.len() {
            let ended = run.render(at, around, &told)?;
            worst = worst.max(closing::exit(&ended, args));
            say(args, (&run, at), &ended, around)?;
            all.push(ended);
            if worst == Exit::Interrupted {
                break;
            }
        }
        if args.common.json {
            let judged: Vec<&[Verdict]> = all.iter().map(|ended| ended.after.as_slice()).collect();
            let fixes = super::fixes(&run.queue, judged, &args.common);
            let plans: Vec<&Plan> = run.queue.sheets.iter().map(|loaded| &loaded.plan).collect();
            show::print_exact(&show::json::text(&show::json::run(&plans, &all, &fixes)))?;
        }
        Ok(worst)
    })
}

/// Says what came of one sheet, in the form that was asked for.
fn say(args: &RunArgs, (run, at): (&Run, usize), ended: &EndedRun, around: &Around) -> Result<(), Failure> {
    let loaded = &run.queue.sheets[at];
    match (args.events, args.common.json, ended.exported) {
        (true, ..) => ended.over.iter().try_for_each(|over| show::print_exact(&over.line()))?,
        // The document comes when all sheets are over.
        (_, true, _) => {}
        (.., Some(exported)) => show::tell(&format!("{} ready\n", counted(exported, "exported scene"))),
        (.., None) => {
            let several = (run.queue.sheets.len() > 1).then_some(at);
            let fixes = super::fixes_of(loaded, &ended.after, &args.common, several);
            show::tell(&closing::summary(args, loaded, (ended, &fixes), around));
        }
    }
    if args.open {
        closing::open(loaded);
    }
    Ok(())
}

/// What the options of a command line ask for.
fn options(args: &RunArgs) -> RunOptions {
    RunOptions {
        existing: args.existing.map(existing),
        anew: AnewValues::of(args.anew),
        workers: args.workers,
        only: args.only.clone(),
        chunk: args.chunk,
        begin_anew: args.begin_anew,
        ends_first: args.order == CallOrder::EndsFirst,
        share: args.share,
        exports: args.exports,
        keep_going: args.keep_going,
        is_final: args.is_final,
        movies: args.movies,
    }
}

fn existing(choice: ExistingFiles) -> Existing {
    match choice {
        ExistingFiles::Keep => Existing::Keep,
        ExistingFiles::Renew => Existing::Renew,
        ExistingFiles::Replace => Existing::Replace,
        ExistingFiles::Stop => Existing::Stop,
    }
}
