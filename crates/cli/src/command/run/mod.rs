//! `run`: renders what is needed, here, and goes on where the last run stopped.

mod closing;
mod faulty;

use truepath_core::sheet::Existing;
use truepath_exec::failure::Failure;
use truepath_project::run::RunOptions;
use truepath_project::{Run, Taken};

use crate::args::{AnewValues, CallOrder, ExistingFiles, RunArgs};
use crate::exit_code::Exit;
use crate::lower::Surroundings;
use crate::pipeline::request;
use crate::show::told::Told;
use crate::show::{self, counted};

use super::report;

/// Renders, stages and lands all frames that are needed, sheet by sheet.
pub fn run(args: &RunArgs, around: &Surroundings) -> Result<Exit, Failure> {
    if args.skip_faulty {
        return faulty::run_others(args, around);
    }
    let told = Told::run(around, args.common.json);
    let mut run = match Run::take(&request(&args.common), &options(args), around, &told)? {
        Taken::Held(run) => run,
        Taken::Stopped(stop, queue) => {
            if !args.movies {
                faulty::offer(&queue);
            }
            return Ok(stop.into());
        }
    };
    let page = args.report.as_deref().map(|out| report::Page { common: &args.common, out, replace: false, around });
    page.as_ref().map_or(Ok(()), |page| report::may_write(page, &run.queue))?;
    report::beside(page, || {
        let mut worst = Exit::Well;
        for at in 0..run.queue.sheets.len() {
            worst = worst.max(sheet(args, &mut run, at, &told)?);
            if worst == Exit::Interrupted {
                break;
            }
        }
        Ok(worst)
    })
}

/// One sheet of a call.
fn sheet(args: &RunArgs, run: &mut Run, at: usize, told: &Told<'_>) -> Result<Exit, Failure> {
    let around = told.around();
    let ended = run.render(at, around, told)?;
    if let Some(exported) = ended.exported {
        show::tell(&format!("{} ready\n", counted(exported, "exported scene")));
        return Ok(Exit::Well);
    }
    let loaded = &run.queue.sheets[at];
    if args.common.json {
        ended.over.iter().try_for_each(|over| show::print_exact(&over.line()))?;
    } else {
        let several = (run.queue.sheets.len() > 1).then_some(at);
        let fixes = super::fixes_of(loaded, &ended.after, &args.common, several);
        show::tell(&closing::summary(args, loaded, (&ended, &fixes), around));
    }
    if args.open {
        closing::open(loaded);
    }
    Ok(closing::exit(&ended, args))
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
