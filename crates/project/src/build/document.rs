//! The calls of a plan as JSON, written call by call, or handed to another program.

use std::io::{self, Write};
use std::path::Path;
use std::process::{Command, Stdio};

use truepath_core::invoke::command_line::CommandLine;
use truepath_core::invoke::script::json::{Document, OfSheet};
use truepath_core::run::cost::Costs;
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::threads::Cores;

use super::calls::{StepPiece, WantedCalls};
use crate::open::Loaded;

/// Writes all calls; how many there are.
///
/// # Errors
/// When `out` takes no more.
pub fn write(all: &[(WantedCalls<'_>, Costs)], out: &mut dyn Write) -> io::Result<usize> {
    let mut document = Document::begin(out)?;
    for (wanted, costs) in all {
        let own = OfSheet::new(&wanted.loaded.plan, &wanted.loaded.adapters, costs);
        wanted.each(&mut |piece| match piece {
            StepPiece::Steps(steps) => document.calls(&own, &steps, &Cores),
            StepPiece::Last(step, needs) => document.call(&own, &step, &|name| needs.iter().for_each(name)),
        })?;
    }
    document.end()
}

/// Some calls of one sheet as a document.
///
/// # Errors
/// Never, but for what writing may say.
pub fn of_part(loaded: &Loaded, steps: &[CommandLine], costs: &Costs) -> io::Result<Vec<u8>> {
    let mut text = Vec::new();
    let mut document = Document::begin(&mut text)?;
    document.calls(&OfSheet::new(&loaded.plan, &loaded.adapters, costs), steps, &Cores)?;
    document.end()?;
    Ok(text)
}

/// Hands all calls to a program on its standard input.
///
/// # Errors
/// When it cannot be started, or does not end well.
pub fn through(program: &Path, all: &[(WantedCalls<'_>, Costs)]) -> Result<(), Failure> {
    let failed = |error: io::Error| Failure::machine("start", program, &error);
    let mut child = Command::new(program).stdin(Stdio::piped()).spawn().map_err(failed)?;
    if let Some(mut input) = child.stdin.take() {
        // A program that has seen enough may close its input early; its exit code tells.
        let _ = write(all, &mut input);
    }
    let status = child.wait().map_err(failed)?;
    if status.success() {
        return Ok(());
    }
    Err(Failure::new(Cause::Program, format!("{} ended with {status}", program.display())))
}
