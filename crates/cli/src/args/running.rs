//! What is typed for `run`.

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use truepath_core::pins::Anew;

use super::{Common, TOGETHER};

/// Examples below `run --help`.
pub const EXAMPLES: &str = "\
Examples:
  truepath run --frames first,middle,last   three test frames of every job
  truepath run                              everything that is missing
  truepath run --mode draft crossing        a draft of one job
  truepath run --existing renew             also what the sheet changed since
  truepath run --share                      on each machine of a farm";

/// Which pinned values are looked up anew.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum AnewValues {
    /// The version of each job
    Version,
    /// Clock, user and host of the version that a job has
    Clock,
    /// Both
    All,
}

impl AnewValues {
    /// What is looked up anew where this is said, or nothing.
    #[must_use]
    pub fn of(said: Option<AnewValues>) -> Anew {
        let is = |own: AnewValues| said == Some(own) || said == Some(AnewValues::All);
        Anew { version: is(AnewValues::Version), clock: is(AnewValues::Clock) }
    }
}

/// `run`.
#[derive(Clone, Debug, Args)]
pub struct RunArgs {
    #[command(flatten)]
    pub common: Common,
    /// What to do with files that exist
    #[arg(long, value_name = "HOW", help_heading = "Rendering")]
    pub existing: Option<ExistingFiles>,
    /// Look up pinned values again: the version, the clock (with user and host), or all
    #[arg(long, value_name = "WHAT", num_args = 0..=1, default_missing_value = "all", help_heading = "Rendering")]
    pub anew: Option<AnewValues>,
    /// Renderers at a time
    #[arg(long, value_name = "N", help_heading = "Rendering", value_parser = super::workers)]
    pub workers: Option<usize>,
    /// Only these calls, by their names in `build --to json` (repeatable)
    #[arg(long, value_name = "ID", help_heading = TOGETHER)]
    pub only: Vec<String>,
    /// Frames per call, instead of the sheet's value
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(i64).range(1..), help_heading = "Rendering")]
    pub chunk: Option<i64>,
    /// Render into roots that are empty though files landed below them: they were emptied on purpose
    #[arg(long, help_heading = "Rendering")]
    pub begin_anew: bool,
    /// The order of calls
    #[arg(long, value_name = "HOW", default_value = "sheet", help_heading = "Rendering")]
    pub order: CallOrder,
    /// Work on the sheet together with other processes and machines that use --share
    #[arg(long, conflicts_with = "anew", help_heading = TOGETHER)]
    pub share: bool,
    /// Only export the scenes; render nothing
    #[arg(long, conflicts_with_all = ["share", "only"], help_heading = TOGETHER)]
    pub exports: bool,
    /// Leave out jobs with mistakes, and render all others
    #[arg(long, help_heading = "Rendering")]
    pub skip_faulty: bool,
    /// Do not give up on a job whose first three calls produce nothing
    #[arg(long, help_heading = "Rendering")]
    pub keep_going: bool,
    /// Write the page of `truepath report` at the start, every minute, and at the end
    #[arg(long, value_name = "FILE")]
    pub report: Option<PathBuf>,
    /// Print what happens as lines of JSON, one for each event
    #[arg(long, conflicts_with = "json")]
    pub events: bool,
    /// Open the output folder at the end
    #[arg(long)]
    pub open: bool,
    /// Allow command-line settings that change the picture to write final names
    #[arg(long = "final", help_heading = "Rendering")]
    pub is_final: bool,
    /// Whether only movies are made: that is how `movie` runs.
    #[arg(skip)]
    pub movies: bool,
}

impl RunArgs {
    /// A run with nothing else said.
    #[must_use]
    pub fn of(common: Common) -> RunArgs {
        RunArgs {
            common,
            existing: None,
            anew: None,
            workers: None,
            only: Vec::new(),
            chunk: None,
            begin_anew: false,
            order: CallOrder::Sheet,
            share: false,
            exports: false,
            skip_faulty: false,
            keep_going: false,
            report: None,
            events: false,
            open: false,
            is_final: false,
            movies: false,
        }
    }
}

/// The order of calls.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum CallOrder {
    /// In the order of the sheet
    Sheet,
    /// The first, last and middle frame of everything first, then the rest
    EndsFirst,
}

/// What to do with files that exist.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ExistingFiles {
    /// Render missing and broken frames, keep everything else
    Keep,
    /// Also render again what is wrong or stale
    Renew,
    /// Render all frames again
    Replace,
    /// Start nothing if any planned file exists
    Stop,
}
