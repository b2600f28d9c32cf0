//! What a script is written for: a shell each. Whatever is common to them stands in the folder above.

use crate::flaw::Flaw;
use crate::invoke::command_line::CommandLine;
use crate::plan::Plan;
use crate::sheet::System;
use crate::threads::Threads;

use super::Script;
use super::lines::LineRow;

/// Something that can render a plan from a script.
pub trait Target: Sync + std::fmt::Debug {
    /// Its name, as people choose it.
    fn name(&self) -> &'static str;

    /// What the names of its scripts end with.
    fn extension(&self) -> &'static str;

    /// The one system that it is on, where it is on one only.
    fn system(&self) -> Option<System> {
        None
    }

    /// Whether a script is started by its own name, and so has to be allowed to.
    fn is_program(&self) -> bool {
        false
    }

    /// Bytes of a call's command line at most; longer ones are cut into several calls.
    fn longest(&self) -> usize;

    /// What its scripts write into a journal.
    fn lines(&self) -> &'static [LineRow];

    /// The script.
    ///
    /// # Errors
    /// What cannot be said to it.
    fn script(
        &self,
        plan: &Plan,
        steps: &[CommandLine],
        wish: &Script<'_>,
        threads: &dyn Threads,
    ) -> Result<String, Flaw>;
}
