//! Short questions to programs: what they answer, within bounds of time and size.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use truepath_core::flaw::Flaw;
use truepath_core::invoke::script::cluster::Question;

use crate::process::{self, End, ProcessListener, Programs, Start, SystemPrograms};

/// Bytes of an answer that are taken.
const MOST: usize = 16 << 20;
/// The end of what a program says of its failure, in bytes.
const LAST: u64 = 4096;

/// What a program printed, and how it ended.
pub struct Answer {
    /// Standard output.
    pub text: String,
    /// The last line of standard error.
    pub last: String,
    /// The exit code; `None` when a signal ended it.
    pub code: Option<i32>,
}

/// How long a cluster's scheduler may think.
const SCHEDULER: Duration = Duration::from_secs(5);

/// Asks a program of a cluster's scheduler, which is looked for on the path.
///
/// # Errors
/// As [`ask`].
pub fn scheduler((program, words): &Question, folder: &Path) -> Result<Answer, NoAnswer> {
    ask(Path::new(program), words, folder, (SCHEDULER, false))
}

/// Asks a program that has `patience` to answer. Where `together`, standard error counts as a part of the answer.
///
/// # Errors
/// When it cannot be started, takes too long or says too much.
pub fn ask(
    program: &Path,
    arguments: &[String],
    folder: &Path,
    (patience, together): (Duration, bool),
) -> Result<Answer, NoAnswer> {
    let failed = |source: std::io::Error| NoAnswer::Unstarted { program: program.to_owned(), source };
    let mut errors: Option<File> = if together { None } else { Some(tempfile::tempfile().map_err(failed)?) };
    let programs = SystemPrograms::plain();
    let mut hearing = Hearing { programs: &programs, text: String::new(), process: 0, until: None, ended: None };
    hearing.until = Some(Instant::now() + patience);
    let (path, folder) = (program.to_string_lossy(), folder.to_string_lossy());
    let errors_too = errors.as_ref().map(File::try_clone).transpose().map_err(failed)?;
    let start = Start {
        program: &path,
        arguments,
        env: &[],
        folder: &folder,
        files: &[],
        log: None,
        errors: errors_too,
        mark: "",
    };
    let code = process::run(&programs, &start, &mut hearing).map_err(failed)?.code();
    if let Some(why) = hearing.ended {
        return Err(match why {
            Why::Late => NoAnswer::Late { program: program.to_owned(), seconds: patience.as_secs() },
            Why::Long => NoAnswer::Long { program: program.to_owned() },
        });
    }
    let mut last = Vec::new();
    if let Some(errors) = &mut errors {
        let length = errors.metadata().map_err(failed)?.len();
        errors.seek(SeekFrom::Start(length.saturating_sub(LAST))).map_err(failed)?;
        errors.take(LAST).read_to_end(&mut last).map_err(failed)?;
    }
    let last = String::from_utf8_lossy(&last).lines().last().unwrap_or_default().to_owned();
    Ok(Answer { text: hearing.text, last, code })
}

/// Why a program gave no answer that is of use.
#[derive(Debug, thiserror::Error)]
pub enum NoAnswer {
    /// It, or what it needs, cannot be started.
    #[error("cannot start {}: {source}", program.display())]
    Unstarted {
        /// Which.
        program: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// It took too long.
    #[error("{} did not answer within {seconds} s", program.display())]
    Late {
        /// Which.
        program: PathBuf,
        /// How long it was waited for.
        seconds: u64,
    },
    /// It said more than an answer can be.
    #[error("{} answered with more than {} MB", program.display(), MOST >> 20)]
    Long {
        /// Which.
        program: PathBuf,
    },
    /// It ended badly.
    #[error("{} {how}: {last}", program.display())]
    Ended {
        /// Which.
        program: PathBuf,
        /// How.
        how: String,
        /// Its last line on standard error.
        last: String,
    },
    /// Its answer cannot be read.
    #[error("{} printed an answer that cannot be read: {source}", program.display())]
    Unread {
        /// Which.
        program: PathBuf,
        /// Why.
        source: Flaw,
    },
    /// What it would be asked about cannot be read.
    #[error(transparent)]
    Scene(std::io::Error),
    /// It is not here.
    #[error(transparent)]
    NotHere(#[from] NoProgram),
}

/// A program that is not on this machine.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0} is not on this machine")]
pub struct NoProgram(
    /// Its name or its path.
    pub String,
);

/// Why a program was ended.
enum Why {
    Late,
    Long,
}

struct Hearing<'p> {
    programs: &'p dyn Programs,
    text: String,
    process: u32,
    until: Option<Instant>,
    ended: Option<Why>,
}

impl Hearing<'_> {
    fn end(&mut self, why: Why) {
        self.until = None;
        self.ended.get_or_insert(why);
        self.programs.end(self.process, End::Now);
    }
}

impl ProcessListener for Hearing<'_> {
    fn began(&mut self, process: u32) {
        self.process = process;
    }

    fn line(&mut self, line: &str) {
        if self.ended.is_none() {
            self.text.push_str(line);
            self.text.push('\n');
        }
        if self.text.len() > MOST {
            self.end(Why::Long);
        }
    }

    fn due(&self) -> Option<Instant> {
        self.until
    }

    fn tick(&mut self) {
        self.end(Why::Late);
    }
}
