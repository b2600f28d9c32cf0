//! `names`: what will be written.

use std::io::Write;

use crate::args::Names;
use crate::exit_code::{Exit, Failure};
use crate::lower::Surroundings;
use crate::{pipeline, show};

/// Shows every series, or every path, or the document.
pub fn run(args: &Names, around: &Surroundings) -> Result<Exit, Failure> {
    let loaded = pipeline::load(&args.common, around, false)?;
    super::tell_findings(&loaded, around);
    let plan = &loaded.plan;
    let known = plan.series.iter().filter(|series| series.is_known()).count();
    if args.common.json {
        show::print(&show::json::text(&show::json::names(plan)))?;
    } else if args.all {
        every_path(plan, if args.null { 0 } else { b'\n' })?;
    } else if !plan.series.is_empty() {
        show::print(&show::names::text(plan, around.out))?;
    }
    Ok(match known {
        0 => Exit::Unreadable,
        known if known < plan.series.len() => Exit::No,
        _ => Exit::Well,
    })
}

/// Streams every path: nothing is gathered, so a billion frames need no memory.
fn every_path(plan: &truepath_core::plan::Plan, end: u8) -> Result<(), Failure> {
    let mut out = std::io::BufWriter::with_capacity(1 << 16, std::io::stdout().lock());
    let mut name = String::new();
    for series in plan.series.iter().filter(|series| series.is_known()) {
        for number in series.numbers().iter().flat_map(|numbers| numbers.iter()) {
            name.clear();
            series.pattern.write(number, &mut name);
            let written = out.write_all(name.as_bytes()).and_then(|()| out.write_all(&[end]));
            match written {
                Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => return Ok(()),
                Err(error) => return Err(Failure::machine("write to", "standard output", &error)),
                Ok(()) => {}
            }
        }
    }
    match out.flush() {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => {
            Err(Failure::machine("write to", "standard output", &error))
        }
        _ => Ok(()),
    }
}
