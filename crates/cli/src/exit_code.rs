//! The public exit codes.

/// How a call ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Exit {
    /// All well, warnings included.
    Well = 0,
    /// The answer is no: errors found, frames not good.
    No = 1,
    /// The call or the sheet cannot be read.
    Unreadable = 2,
    /// A program failed and frames are lacking.
    Lacking = 3,
    /// This machine could not: disk full, no permission.
    Machine = 4,
    /// Interrupted.
    Interrupted = 130,
}

/// Why a call could not go on: one sentence, what to do, and how it ends.
#[derive(Debug, thiserror::Error)]
#[error("{message}")]
pub struct Failure {
    /// One sentence.
    pub message: String,
    /// What to do.
    pub help: Option<String>,
    /// How the call ends.
    pub exit: Exit,
}

impl Failure {
    /// The call or a file of it cannot be understood.
    pub fn unreadable(message: impl Into<String>) -> Failure {
        Failure { message: message.into(), help: None, exit: Exit::Unreadable }
    }

    /// The machine could not do something with a path.
    pub fn machine(what: &str, path: impl AsRef<std::path::Path>, error: &std::io::Error) -> Failure {
        Failure {
            message: format!("cannot {what} {}: {error}", path.as_ref().display()),
            help: None,
            exit: Exit::Machine,
        }
    }

    /// Adds what to do.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Failure {
        self.help = Some(help.into());
        self
    }
}
