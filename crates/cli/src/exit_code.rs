//! The public exit codes.

use truepath_exec::failure::Cause;
use truepath_project::Stop;

/// How a call ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Exit {
    /// All well, warnings included.
    Well = 0,
    /// The answer is no: errors found, frames not good.
    No = 1,
    /// The call or the sheet cannot be read.
    Unreadable = 2,
    /// A program failed and frames are missing.
    Incomplete = 3,
    /// This machine could not: disk full, no permission.
    Machine = 4,
    /// Interrupted.
    Interrupted = 130,
}

impl From<Stop> for Exit {
    fn from(stop: Stop) -> Exit {
        match stop {
            Stop::Errors => Exit::No,
            Stop::Unreadable => Exit::Unreadable,
            Stop::Machine => Exit::Machine,
        }
    }
}

impl From<Cause> for Exit {
    fn from(cause: Cause) -> Exit {
        match cause {
            Cause::Refused => Exit::No,
            Cause::Unreadable => Exit::Unreadable,
            Cause::Program => Exit::Incomplete,
            Cause::Machine => Exit::Machine,
            Cause::Interrupted => Exit::Interrupted,
        }
    }
}
