//! `verify`: what lies on disk against what was planned.

use truepath_core::verify::Verdict;

use crate::args::Verify;
use crate::effect::observe;
use crate::exit_code::{Exit, Failure};
use crate::lower::Surroundings;
use crate::{pipeline, show};

/// Shows every series and every frame that is not good, and ends with the command that would mend it.
pub fn run(args: &Verify, around: &Surroundings) -> Result<Exit, Failure> {
    let loaded = pipeline::load(&args.common, around, false)?;
    let unknown = loaded.plan.series.iter().any(|series| !series.is_known());
    if unknown || !loaded.is_readable() || loaded.plan.series.is_empty() {
        super::tell_findings(&loaded, around);
        return Ok(if loaded.is_readable() { Exit::No } else { Exit::Unreadable });
    }
    let verdicts = observe::verdicts(&loaded.plan, &|_| {})?;
    if args.common.json {
        show::print(&show::json::text(&show::json::verify(&loaded.plan, &verdicts)))?;
    } else {
        let mend = super::again(mend(&verdicts), &args.common);
        show::print(&show::verdicts::text(&loaded.plan, &verdicts, around.out))?;
        show::print(&show::verdicts::closing(&verdicts, &mend, around.out))?;
    }
    Ok(if verdicts.iter().all(Verdict::is_complete) { Exit::Well } else { Exit::No })
}

/// The command that would mend what is not good.
pub fn mend(verdicts: &[Verdict]) -> &'static str {
    if verdicts.iter().any(|verdict| !verdict.wrong.is_empty()) { "run --existing renew" } else { "run" }
}
