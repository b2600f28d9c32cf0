//! Running a plan: renderers as processes, files on their way to their final names, other members of a shared run, and the
//! journal of all that. It takes a plan and prints nothing: what happens is told as events.
#![warn(missing_docs)]

pub mod export;
pub mod landing;
pub mod looking;
pub mod process;
pub mod record;
pub mod scheduler;
pub mod share;
pub mod state;
pub mod typed;

use truepath_core::invoke::command_line::CommandLines;
pub use truepath_disk::{disk, failure, guard, observe, threads};

use record::Made;
use state::StateFolder;

/// One sheet's plan with all that running it needs to know.
#[derive(Clone, Copy)]
pub struct Project<'p> {
    /// Makes command lines; holds the plan and its adapters.
    pub command_lines: CommandLines<'p>,
    /// Where the sheet's state is.
    pub state: &'p StateFolder,
    /// What the frames of each series are made of now, by series.
    pub made: &'p [Made],
    /// This program, started as `look-at FILE` for a file that may crash the reader. `None`: such files are not looked at.
    pub program: Option<&'p std::path::Path>,
}
