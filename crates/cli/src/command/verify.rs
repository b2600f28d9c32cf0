//! `verify`: what lies on disk against what was planned.

use truepath_core::verify::{Outcome, Verdict};

use crate::args::{VerifyArgs, VerifyForm};
use truepath_exec::failure::Failure;
use truepath_exec::observe::Look;
use truepath_exec::typed;

use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, LoadOptions};
use crate::show;

/// Shows every series and every frame that is not good, and ends with the command that would fix it.
pub fn run(args: &VerifyArgs, around: &Around) -> Result<Exit, Failure> {
    let patterns = args.common.jobs.iter().filter(|text| typed::is_pattern(text)).count();
    if patterns > 0 || args.loose.folder.is_some() {
        if patterns < args.common.jobs.len() {
            return Err(Failure::unreadable("some of these are jobs, others are files that no sheet plans")
                .help("verify them in two calls"));
        }
        if !args.common.sheet.is_empty() || !args.common.mode.is_empty() {
            return Err(Failure::unreadable("-f and --mode are for the jobs of a sheet")
                .help("remove them, or give jobs in place of files"));
        }
        if args.sums || args.adopt {
            return Err(Failure::unreadable("--sums and --adopt need a sheet")
                .help("remove them, or give the sheet with -f in place of files"));
        }
        return super::loose::run(args, around);
    }
    if args.loose.size.is_some() || !args.loose.kind.is_empty() {
        return Err(Failure::unreadable("--size and --type are for files outside any sheet")
            .help("add a pattern of files, or --folder; for a sheet, size and type come from the sheet"));
    }
    if args.common.json && args.to == VerifyForm::Junit {
        return Err(Failure::unreadable("--json and --to junit are two forms").help("remove one of them"));
    }
    let mut queue = pipeline::load(&args.common, around, LoadOptions::default())?;
    if let Some(exit) = super::not_to_be_judged(&queue, around) {
        return Ok(exit);
    }
    if args.adopt {
        return super::adopt::run(args, &mut queue, around);
    }
    let look = match (args.deep, args.sums) {
        (true, _) => Look::Deep,
        (_, true) => Look::Sums,
        _ => Look::Heads,
    };
    let judged = (0..queue.sheets.len()).map(|at| pipeline::verdicts(&queue, at, look, around));
    let judged = judged.collect::<Result<Vec<Vec<Verdict>>, Failure>>()?;
    let plans = || queue.sheets.iter().map(|sheet| &sheet.plan).zip(&judged);
    let all: Vec<&Verdict> = judged.iter().flatten().collect();
    let fixes = super::fixes(&queue, judged.iter().map(Vec::as_slice), &args.common);
    if args.to == VerifyForm::Junit {
        let cases = plans().flat_map(|(plan, verdicts)| verdicts.iter().map(|own| show::junit::case(plan, own)));
        show::print_exact(&show::junit::text(&cases.collect::<Vec<_>>()))?;
    } else if args.common.json {
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
