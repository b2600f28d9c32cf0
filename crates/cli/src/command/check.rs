//! `check`: every mistake, before the first frame.

use truepath_core::diagnostic::Level;

use super::fixing;
use crate::args::{CheckArgs, OutputForm};
use truepath_exec::failure::Failure;

use crate::exit_code::Exit;
use crate::lower::Surroundings;
use crate::pipeline::{self, LoadOptions};
use crate::show;

/// Shows every finding with its place, its reason and its remedy; fixes first what is certain, when asked to.
pub fn run(args: &CheckArgs, around: &Surroundings) -> Result<Exit, Failure> {
    if args.common.json && args.to == OutputForm::Sarif {
        return Err(Failure::unreadable("--json and --to sarif are two forms").help("remove one of them"));
    }
    let form = if args.common.json { OutputForm::Json } else { args.to };
    let queue = if args.fix {
        let fixed = fixing::fix(&args.common, around, args.offline)?;
        match form {
            OutputForm::Text => show::print(&fixing::told(&fixed, around.out))?,
            OutputForm::Json | OutputForm::Sarif => show::tell(&fixing::told(&fixed, around.err)),
        }
        fixed.queue
    } else {
        pipeline::load(&args.common, around, LoadOptions { offline: args.offline, ..LoadOptions::default() })?
    };
    let (stopped, name) = (queue.stopped(), super::sheet_names(&queue, around));
    let findings = queue.findings();
    let warned = args.strict && findings.iter().any(|f| f.level == Level::Warning && f.allowed.is_none());
    match form {
        OutputForm::Text => show::print(&show::diagnostics::text(&findings, &queue.sources, &name, around.out)),
        OutputForm::Json => {
            show::print_exact(&show::json::text(&show::json::check(&findings, &queue.sources, &around.folder)))
        }
        OutputForm::Sarif => {
            let document = show::sarif::document(&findings, &queue.sources, (&name, &around.folder));
            show::print_exact(&show::json::text(&document))
        }
    }?;
    Ok(stopped.unwrap_or(if warned { Exit::No } else { Exit::Well }))
}
