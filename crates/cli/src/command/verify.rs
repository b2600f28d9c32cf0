//! `verify`: what lies on disk against what was planned.

use truepath_core::verify::{Outcome, Verdict};

use crate::args::VerifyArgs;
use truepath_exec::failure::Failure;
use truepath_exec::observe::Look;

use crate::exit_code::Exit;
use crate::lower::Surroundings;
use crate::pipeline::{self, LoadOptions, Loaded};
use crate::show;

/// Shows every series and every frame that is not good, and ends with the command that would mend it.
pub fn run(args: &VerifyArgs, around: &Surroundings) -> Result<Exit, Failure> {
    let queue = pipeline::load(&args.common, around, LoadOptions::default())?;
    let unknown = |sheet: &Loaded| !sheet.is_readable() || sheet.plan.series.iter().any(|series| !series.is_known());
    let nothing = queue.sheets.iter().all(|sheet| sheet.plan.series.is_empty() && sheet.plan.movies.is_empty());
    if nothing || queue.sheets.iter().any(unknown) {
        super::tell_findings(&queue, around);
        return Ok(queue.stopped().unwrap_or(Exit::No));
    }
    let look = if args.deep { Look::Deep } else { Look::Heads };
    let judged = (0..queue.sheets.len()).map(|at| queue.verdicts(at, look, around));
    let judged = judged.collect::<Result<Vec<Vec<Verdict>>, Failure>>()?;
    let plans = || queue.sheets.iter().map(|sheet| &sheet.plan).zip(&judged);
    let all: Vec<&Verdict> = judged.iter().flatten().collect();
    let fixes = super::fixes(&queue, judged.iter().map(Vec::as_slice), &args.common);
    if args.common.json {
        show::print_exact(&show::json::text(&show::json::verify(plans(), &fixes)))?;
    } else {
        for (plan, verdicts) in plans() {
            show::print(&show::verdicts::text(plan, verdicts, around.out))?;
        }
        let commands: Vec<String> = fixes.iter().map(|line| super::pasted(line)).collect();
        show::print(&format!("\n{}", show::verdicts::closing(&all, &commands, around.out)))?;
    }
    Ok(if Outcome::of(all) == Outcome::Incomplete { Exit::No } else { Exit::Well })
}
