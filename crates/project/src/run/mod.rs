//! Runs: frames rendered, staged and landed here, going on where the last run stopped. A run has three steps, each of which has
//! what the next one needs: [`Run::take`] opens the sheets and keeps others from them, [`Run::render`] makes what is needed of
//! one, and what it returns says what stands now.

mod agree;
mod edits;
mod ended;
mod faulty;
mod look;
mod measure;
mod render;
mod take;
mod work;

use std::path::PathBuf;

use truepath_core::frames::Frames;
use truepath_core::pins::Anew;
use truepath_core::sheet::Existing;
use truepath_core::verify::Verdict;
use truepath_exec::failure::Failure;

use crate::listener::Listener;
use crate::open::{Loaded, Queue, Stop};
use crate::request::Request;
use crate::surroundings::Surroundings;

pub use ended::{EndedRun, RunOutcome};
pub use faulty::faulty;
pub use measure::{Measure, Measured, measure};

/// How a run is wanted. The default renders what is missing or broken.
#[derive(Clone, Debug, Default)]
pub struct RunOptions {
    /// What becomes of files that exist, where that is not left to the sheet.
    pub existing: Option<Existing>,
    /// What is looked up anew, whatever is pinned.
    pub anew: Anew,
    /// Renderers at a time, where that is not left to the machine file and the sheet.
    pub workers: Option<usize>,
    /// Only the calls with these names; all where there are none.
    pub only: Vec<String>,
    /// Frames in one call, where that is not left to the sheet.
    pub chunk: Option<i64>,
    /// Whether roots that are empty, though files landed below them, are begun anew.
    pub begin_anew: bool,
    /// Whether the first, last and middle frame of everything come before the rest.
    pub ends_first: bool,
    /// Whether other processes and machines take a part.
    pub share: bool,
    /// Whether scenes are exported and nothing is rendered.
    pub exports: bool,
    /// Whether a job goes on whose first calls produce nothing.
    pub keep_going: bool,
    /// Whether settings of the request that change the picture may write final names.
    pub is_final: bool,
    /// Whether only movies are made.
    pub movies: bool,
}

/// What came of opening sheets for a run.
pub enum TakenSheets {
    /// They are held, and can be rendered.
    Held(Box<Run>),
    /// The request itself cannot be understood: [`Queue::mistyped`] says why.
    Mistyped(Box<Queue>),
    /// Nothing can be rendered from them: why, and what was found.
    Stopped(Stop, Box<Queue>),
}

/// Sheets that are held for a run.
pub struct Run {
    /// The sheets.
    pub queue: Queue,
    request: Request,
    options: RunOptions,
    held: Vec<take::Held>,
    /// The files that its sheets were read from.
    texts: Vec<PathBuf>,
}

impl Run {
    /// Opens the sheets that a request means, takes them, and clears up after runs that were cut short.
    ///
    /// # Errors
    /// When a sheet cannot be opened, others hold it, or state and journals cannot be read or written.
    pub fn take(
        request: &Request,
        options: &RunOptions,
        around: &Surroundings,
        listener: &dyn Listener,
    ) -> Result<TakenSheets, Failure> {
        take::taken((request, options), around, listener)
    }

    /// Makes what is needed of one of its sheets.
    ///
    /// # Errors
    /// When nothing could be begun: files that exist, write-protected ones, members that mean something else, a program that
    /// is not there. Frames that fail are told in what is returned.
    pub fn render(&mut self, at: usize, around: &Surroundings, listener: &dyn Listener) -> Result<EndedRun, Failure> {
        let request =
            RunRequest { asked: &self.request, options: &self.options, around, listener, texts: &self.texts, at };
        render::sheet(&request, &mut self.queue.sheets[at], &self.held[at].journal)
    }
}

/// What a run was asked for, and where.
#[derive(Clone, Copy)]
struct RunRequest<'r> {
    asked: &'r Request,
    options: &'r RunOptions,
    around: &'r Surroundings,
    listener: &'r dyn Listener,
    /// The files that its sheets were read from.
    texts: &'r [PathBuf],
    /// The sheet's place in the queue.
    at: usize,
}

/// What is to be done.
struct Work<'w> {
    /// The sheet.
    loaded: &'w Loaded,
    /// What stands, by series.
    before: &'w [Verdict],
    /// What is needed, by series.
    need: &'w [Frames],
    /// Whether first, last and middle come before the rest.
    spread: bool,
}
