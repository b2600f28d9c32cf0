//! `check`: every mistake, before the first frame.

use truepath_core::diagnostic::Level;

use crate::args::Check;
use crate::exit_code::{Exit, Failure};
use crate::lower::Surroundings;
use crate::pipeline::{self, Way};
use crate::show;

/// Shows every finding with its place, its reason and its remedy.
pub fn run(args: &Check, around: &Surroundings) -> Result<Exit, Failure> {
    let queue = pipeline::load(&args.common, around, Way { offline: args.offline, ..Way::default() })?;
    let (stopped, name) = (queue.stopped(), super::sheet_names(&queue, around));
    let findings = queue.findings();
    let warned = args.strict && findings.iter().any(|finding| finding.level == Level::Warning);
    if args.common.json {
        show::print(&show::json::text(&show::json::check(&findings, &queue.sources, &around.folder)))?;
    } else {
        show::print(&show::diagnostics::text(&findings, &queue.sources, &name, around.out))?;
    }
    Ok(stopped.unwrap_or(if warned { Exit::No } else { Exit::Well }))
}
