//! Looking at what lies at the names of a plan: what is found is kept, so that every command says the same.

use truepath_core::check::Machine;
use truepath_core::plan::Plan;
use truepath_core::run::looked::FindingLine;
use truepath_core::verify::Verdict;

use crate::failure::Failure;
use crate::observe::{Look, Observation};
use crate::state::StateFolder;
use crate::state::looked::Keeper;

/// A look at the files of a sheet.
pub struct Looking<'l> {
    /// What is planned.
    pub plan: &'l Plan,
    /// What the disk and the journals said.
    pub machine: &'l Machine,
    /// Where the sheet's state is.
    pub state: &'l StateFolder,
    /// How closely.
    pub look: Look,
    /// Other plans whose files may stand in the same folders.
    pub beside: &'l [&'l Plan],
    /// Hears of every file that was looked at.
    pub told: &'l (dyn Fn(u64) + Sync),
}

impl Looking<'_> {
    /// The verdict on every series, then on every movie.
    ///
    /// # Errors
    /// When a folder or a file cannot be read.
    pub fn all(&self) -> Result<Vec<Verdict>, Failure> {
        self.observe(|observation| observation.all())
    }

    /// The verdict on one series.
    ///
    /// # Errors
    /// When a folder or a file cannot be read.
    pub fn of_series(&self, at: usize) -> Result<Verdict, Failure> {
        self.observe(|observation| observation.of_series(at))
    }

    fn observe<T>(&self, of: impl FnOnce(&Observation<'_>) -> T) -> T {
        let keeper = Keeper::of(self.state);
        let keep = |line: FindingLine| keeper.keep(&line);
        let Looking { plan, machine, look, beside, told, .. } = *self;
        of(&Observation { plan, machine, look, beside, told, keep: &keep })
    }
}
