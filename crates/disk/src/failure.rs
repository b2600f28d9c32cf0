//! Why something could not go on, in one sentence, with what to do about it.

use std::error::Error;
use std::path::Path;
use std::sync::Arc;

use truepath_core::invoke::command_line::CommandLine;

/// What is to blame; the command line makes an exit code of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Cause {
    /// The answer is no: what is there does not allow it.
    Refused,
    /// The command line or a file of it cannot be understood.
    Unreadable,
    /// A program failed.
    Program,
    /// This machine could not: disk full, no permission.
    Machine,
    /// Somebody has ended it.
    Interrupted,
}

/// Why something could not go on.
#[derive(Clone, Debug)]
pub struct Failure {
    /// One sentence.
    pub message: String,
    /// What to do.
    pub help: Option<String>,
    /// What is to blame.
    pub cause: Cause,
    /// All that is to be said, where that is more than one sentence.
    pub whole: Option<Whole>,
    /// The error that it comes from.
    pub source: Option<Arc<dyn Error + Send + Sync>>,
}

/// All that is to be said of a failure.
#[derive(Clone, Debug)]
pub enum Whole {
    /// To people.
    Text(String),
    /// To programs, which read it in place of the answer.
    Document(String),
}

impl std::fmt::Display for Failure {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.message)
    }
}

impl Error for Failure {
    fn source(&self) -> Option<&(dyn Error + 'static)> {
        self.source.as_deref().map(|source| source as _)
    }
}

impl Failure {
    /// A failure of one cause.
    pub fn new(cause: Cause, message: impl Into<String>) -> Failure {
        Failure { message: message.into(), help: None, cause, whole: None, source: None }
    }

    /// Another's error, in its own words.
    pub fn of(cause: Cause, source: impl Error + Send + Sync + 'static) -> Failure {
        let message = source.to_string();
        Failure { source: Some(Arc::new(source)), ..Failure::new(cause, message) }
    }

    /// The command line or a file of it cannot be understood.
    pub fn unreadable(message: impl Into<String>) -> Failure {
        Failure::new(Cause::Unreadable, message)
    }

    /// The machine could not do something with a path: `cannot <what> <path>: <error>`.
    pub fn machine(what: &str, path: impl AsRef<Path>, error: &std::io::Error) -> Failure {
        // An error of the system is its number; others are their words.
        let source = error
            .raw_os_error()
            .map_or_else(|| std::io::Error::new(error.kind(), error.to_string()), std::io::Error::from_raw_os_error);
        let message = format!("cannot {what} {}: {error}", path.as_ref().display());
        Failure { source: Some(Arc::new(source)), ..Failure::new(Cause::Machine, message) }
    }

    /// A program that could not be started, and what is not there.
    #[must_use]
    pub fn unstarted(step: &CommandLine, error: &std::io::Error) -> Failure {
        let mut failure = Failure::machine("start", &step.program, error);
        if error.kind() == std::io::ErrorKind::NotFound {
            if !Path::new(&step.folder).is_dir() {
                failure.message = format!(
                    "cannot start {}: the folder {}, where it starts, does not exist",
                    step.program, step.folder
                );
            } else if Path::new(&step.program).exists() {
                // The system means what a script's first line names.
                failure.message =
                    format!("cannot start {}: the program in its first line does not exist", step.program);
            }
        }
        failure
    }

    /// What a panic said: a fault of True Path itself.
    #[must_use]
    pub fn bug(panic: &(dyn std::any::Any + Send)) -> Failure {
        let text = panic.downcast_ref::<String>().map(String::as_str).or(panic.downcast_ref::<&str>().copied());
        let message = format!("this is a bug in True Path: {}", text.unwrap_or("no message"));
        Failure::new(Cause::Machine, message)
            .help("no renderer was left running; `truepath run` continues where the run stopped; -vv shows the place")
    }

    /// Adds what to do.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Failure {
        self.help = Some(help.into());
        self
    }
}

/// How far a failure reaches while a plan runs.
#[derive(Clone, Debug)]
pub enum Trouble {
    /// One call cannot go on; other jobs are not concerned.
    Call(Failure),
    /// What happens cannot be written down any more: nothing may go on.
    Run(Failure),
}

/// What went wrong, where it makes no difference how far it reaches.
impl From<Trouble> for Failure {
    fn from(trouble: Trouble) -> Failure {
        match trouble {
            Trouble::Call(failure) | Trouble::Run(failure) => failure,
        }
    }
}
