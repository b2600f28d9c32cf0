//! `verify`: what lies on disk against what was planned.

use truepath_core::plan::Plan;
use truepath_core::verify::{State, Verdict};

use crate::args::VerifyArgs;
use truepath_exec::failure::Failure;
use truepath_exec::observe::{Look, Observation};

use crate::exit_code::Exit;
use crate::lower::Surroundings;
use crate::pipeline::{self, LoadOptions, Loaded};
use crate::show::{self, counter::Counter};

/// Shows every series and every frame that is not good, and ends with the command that would mend it.
pub fn run(args: &VerifyArgs, around: &Surroundings) -> Result<Exit, Failure> {
    let queue = pipeline::load(&args.common, around, LoadOptions::default())?;
    let unknown = |sheet: &Loaded| !sheet.is_readable() || sheet.plan.series.iter().any(|series| !series.is_known());
    let nothing = queue.sheets.iter().all(|sheet| sheet.plan.series.is_empty());
    if nothing || queue.sheets.iter().any(unknown) {
        super::tell_findings(&queue, around);
        return Ok(queue.stopped().unwrap_or(Exit::No));
    }
    let mut judged: Vec<(&Plan, Vec<Verdict>)> = Vec::new();
    for sheet in &queue.sheets {
        let counter = Counter::new("looking at files", around.err);
        let told = |files: u64| counter.add(files);
        let how = if args.deep { Look::Deep } else { Look::Heads };
        let look = Observation { plan: &sheet.plan, machine: &sheet.ground, look: how, told: &told };
        let verdicts = look.verdicts();
        counter.end();
        judged.push((&sheet.plan, verdicts?));
    }
    let all: Vec<&Verdict> = judged.iter().flat_map(|(_, verdicts)| verdicts).collect();
    if args.common.json {
        show::print(&show::json::text(&show::json::verify(&judged)))?;
    } else {
        let mend = super::again(mend(&all), &args.common);
        for (plan, verdicts) in &judged {
            show::print(&show::verdicts::text(plan, verdicts, around.out))?;
        }
        show::print(&show::verdicts::closing(&all, &mend, around.out))?;
    }
    Ok(if all.iter().all(|verdict| verdict.is_complete()) { Exit::Well } else { Exit::No })
}

/// The command that would mend what is not good.
fn mend(verdicts: &[&Verdict]) -> &'static str {
    let any = |states: &[State]| verdicts.iter().any(|verdict| !verdict.in_any(states).is_empty());
    if any(&[State::Wrong, State::Stale]) {
        "run --existing renew"
    } else if any(&[State::Missing, State::Broken]) {
        "run"
    } else {
        "run --existing replace"
    }
}
