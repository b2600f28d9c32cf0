//! `names`: what will be written.

use std::io::Write;

use truepath_core::plan::{Plan, Series};
use truepath_core::verify::Verdict;

use crate::args::NamesArgs;
use truepath_exec::failure::Failure;
use truepath_exec::observe::Look;

use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, LoadOptions, Loaded, Queue};
use crate::show;

/// Shows every series, or every path, or the document.
pub fn run(args: &NamesArgs, around: &Around) -> Result<Exit, Failure> {
    let queue = pipeline::load(&args.common, around, LoadOptions::default())?;
    super::tell_findings(&queue, around);
    let all = || queue.sheets.iter().flat_map(|sheet| sheet.plan.series.iter().chain(&sheet.plan.movies));
    let known = all().filter(|series| series.is_known()).count();
    let plans: Vec<&Plan> = queue.sheets.iter().map(|sheet| &sheet.plan).collect();
    if args.common.json {
        show::print_exact(&show::json::text(&show::json::names(&plans)))?;
    } else if args.all {
        every_path(&plans, if args.null { 0 } else { b'\n' })?;
    } else if args.why {
        let asked = queue.sheets.iter().map(|sheet| show::why::text(sheet, &queue.sources, around.out));
        show::print(&asked.collect::<String>())?;
    } else if args.tokens {
        show::print(&queue.sheets.iter().map(|sheet| show::tokens::text(sheet, around.out)).collect::<String>())?;
    } else if all().next().is_some() {
        for sheet in &queue.sheets {
            show::print(&show::names::text(&sheet.plan, &sheet.unpinned, around.now().datetime(), around.out))?;
        }
        show::print(&show::names::closing(&plans, &there(&queue, around)?))?;
    }
    Ok(match known {
        0 => Exit::Unreadable,
        known if known < all().count() => Exit::No,
        _ => Exit::Well,
    })
}

/// Files beyond which nobody wants to wait for what stands there.
const MOST: i64 = 100_000;

/// How what is already there is judged; nothing where nothing is, or where a look would take long.
fn there(queue: &Queue, around: &Around) -> Result<Vec<Verdict>, Failure> {
    let is_known = |sheet: &Loaded| sheet.plan.series.iter().all(Series::is_known);
    let files: i64 = queue.sheets.iter().flat_map(|sheet| &sheet.plan.series).filter_map(Series::count).sum();
    let any = queue.sheets.iter().any(|sheet| sheet.ground.folders.values().any(|files| !files.is_empty()));
    if !any || files > MOST || !queue.sheets.iter().all(is_known) {
        return Ok(Vec::new());
    }
    let all = (0..queue.sheets.len()).map(|at| pipeline::verdicts(queue, at, Look::Trusting, around));
    Ok(all.collect::<Result<Vec<_>, Failure>>()?.concat())
}

/// Streams every path: nothing is gathered, so a billion frames need no memory.
fn every_path(plans: &[&Plan], end: u8) -> Result<(), Failure> {
    let mut out = std::io::stdout().lock();
    let mut buffer = Vec::with_capacity(1 << 16);
    let all = plans.iter().flat_map(|plan| plan.series.iter().chain(&plan.movies)).filter(|series| series.is_known());
    let mut written = Ok(());
    for series in all {
        let mut sink = |bytes: &mut Vec<u8>| {
            written = out.write_all(bytes);
            bytes.clear();
            written.is_ok()
        };
        if !series.list(end, &mut buffer, &mut sink) {
            break;
        }
    }
    match written.and_then(|()| out.write_all(&buffer)).and_then(|()| out.flush()) {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => {
            Err(Failure::machine("write to", "standard output", &error))
        }
        _ => Ok(()),
    }
}
