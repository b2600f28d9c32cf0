//! `check`: every mistake, before the first frame.

use truepath_core::diagnostic::Level;

use crate::args::Check;
use crate::exit_code::{Exit, Failure};
use crate::lower::Surroundings;
use crate::{pipeline, show};

/// Shows every finding with its place, its reason and its remedy.
pub fn run(args: &Check, around: &Surroundings) -> Result<Exit, Failure> {
    let loaded = pipeline::load(&args.common, around, args.offline)?;
    let (stopped, name) = (loaded.stopped(), super::sheet_name(&loaded, around));
    let findings = loaded.findings.sorted();
    let warned = args.strict && findings.iter().any(|finding| finding.level == Level::Warning);
    if args.common.json {
        show::print(&show::json::text(&show::json::check(&findings, &loaded.sources, &around.folder)))?;
    } else {
        show::print(&show::diagnostics::text(&findings, &loaded.sources, &name, around.out))?;
    }
    Ok(stopped.unwrap_or(if warned { Exit::No } else { Exit::Well }))
}
