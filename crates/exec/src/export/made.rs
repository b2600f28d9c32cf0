//! One export: its program, from start to end.
use std::path::Path;
use std::time::Instant;

use truepath_core::adapter::exit::Ending;
use truepath_core::flaw::Flaw;
use truepath_core::invoke;
use truepath_core::invoke::command_line::{CommandLine, Product};
use truepath_core::plan::marked;
use truepath_core::resolve::paths;
use truepath_core::run::event::{Ended, Event, Started};

use super::{ExportState, Making, product};
use crate::failure::{Cause, Failure};
use crate::landing::stage;
use crate::process::{self, ProcessListener, Start, identity};
use crate::state::journal::{Journal, millis};

/// Makes one product.
///
/// # Errors
/// When the journal cannot be written.
pub fn made(making: &Making<'_>, step: &CommandLine, product: &Product) -> Result<ExportState, Failure> {
    (making.told)(&format!("exporting {} for {}", step.id, step.job));
    let part = Path::new(paths::parent(&product.staged));
    if let Err(failure) = stage::prepare(part).and_then(|()| stage::write_files(step)) {
        return Ok(ExportState::Failed(failure));
    }
    let began = Instant::now();
    let mut hearing = Exporting { step, journal: making.journal, last: String::new(), told: Ok(()) };
    let mark = marked(&step.id, making.journal.tag());
    let start = Start::of(step, making.project.command_lines.plan.run.log_limit, &mark);
    let ending = match process::run(making.programs, &start, &mut hearing) {
        Ok(ending) => ending,
        Err(error) => return Ok(ExportState::Failed(Failure::unstarted(step, &error))),
    };
    let last = hearing.last;
    hearing.told?;
    let landed = landed(making, (step, product), ending);
    making.journal.write(&Event::Ended(Ended {
        call: step.id.clone(),
        code: ending.code(),
        ok: landed.is_ok(),
        files: i64::from(landed.is_ok()),
        seconds: millis(began.elapsed().as_secs_f64()),
        log: step.log.clone(),
        why: landed.as_ref().err().map(Flaw::to_string),
        t: making.journal.t(),
        ..Ended::default()
    }))?;
    Ok(match landed {
        Ok(digest) => ExportState::There(digest),
        Err(why) => {
            let said = if last.is_empty() { String::new() } else { format!("; its last line: {last}") };
            let file = paths::file_name(&product.path);
            let message = format!("the export of {} did not write a whole {file}: {why}{said}", step.job);
            ExportState::Failed(Failure::new(Cause::Program, message).help(format!("its log is {}", step.log)))
        }
    })
}

/// The digest of the product, once it bears its name; or why there is none, in words.
fn landed(making: &Making<'_>, (step, product): (&CommandLine, &Product), ending: Ending) -> Result<String, Flaw> {
    let lines = making.project.command_lines;
    let job = lines.plan.jobs.iter().find(|job| job.name == step.job);
    let adapter = job.and_then(|job| invoke::export::exporter(job, lines.adapters));
    // After another exit code nobody can tell whether what it wrote is whole.
    if !adapter.is_some_and(|adapter| adapter.exit.is_good(ending)) || !Path::new(&product.staged).is_file() {
        return Err(format!("it {}", ending.words()).into());
    }
    let at = lines.exports.all.iter().position(|export| export.id == step.id);
    let name = paths::file_name(paths::parent(&product.path));
    if at.is_some_and(|at| (making.named)(at) != name) {
        return Err("its scene, or what belongs to it, changed while it was exported; start the run again".into());
    }
    product::land(product)
}

/// An exporter while it runs.
struct Exporting<'h> {
    step: &'h CommandLine,
    journal: &'h Journal,
    last: String,
    told: Result<(), Failure>,
}

impl ProcessListener for Exporting<'_> {
    fn began(&mut self, process: u32) {
        let started = Started {
            call: self.step.id.clone(),
            job: self.step.job.clone(),
            process,
            born: identity::born(process),
            log: self.step.log.clone(),
            t: self.journal.t(),
            ..Started::default()
        };
        self.told = self.journal.write(&Event::Started(started));
    }

    fn line(&mut self, line: &str) {
        line.clone_into(&mut self.last);
    }

    fn due(&self) -> Option<Instant> {
        None
    }

    fn tick(&mut self) {}
}
