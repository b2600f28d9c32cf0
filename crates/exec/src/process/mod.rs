//! Programs as processes: each in a group of its own with all that it starts, its output read line by line, ended when we
//! are gone. What a system does in its own way stands in `unix` and `windows`.

pub mod identity;
mod output;

#[cfg(unix)]
pub mod guard;
#[cfg(unix)]
mod orphans;
#[cfg(unix)]
mod unix;
#[cfg(unix)]
use unix as system;
#[cfg(windows)]
mod windows;
#[cfg(windows)]
use windows as system;

use std::fs::File;
use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Instant;

use truepath_core::adapter::exit::Ending;
use truepath_core::invoke::command_line::CommandLine;
use truepath_core::invoke::quote::sh::word;
use truepath_core::invoke::written_file::FileText;

use output::{LineReader, ProgramLog};
pub use system::{Groups, Stops, ending, most_memory, own_group, user};

/// The environment variable by which every renderer, and all that it starts, is told which call it belongs to: the name of
/// its stage folder.
pub const MARK: &str = "TRUEPATH_CALL";

/// What is to be started.
pub struct Start<'s> {
    /// Full path of the program.
    pub program: &'s str,
    /// Its arguments.
    pub arguments: &'s [String],
    /// Environment on top of ours.
    pub env: &'s [(String, String)],
    /// Its current folder.
    pub folder: &'s str,
    /// Files that were written for it: its log shows them.
    pub files: &'s [FileText],
    /// Where its output is written down, under the command line, and up to how many bytes; nowhere where it is not kept.
    pub log: Option<(&'s Path, u64)>,
    /// Where its standard error goes, if not where its output goes.
    pub errors: Option<File>,
    /// Which call this is, with the mark of its try; empty where it is none.
    pub mark: &'s str,
}

impl<'s> Start<'s> {
    /// A step of a plan, with its log up to `most` bytes.
    #[must_use]
    pub fn of(step: &'s CommandLine, most: u64, mark: &'s str) -> Start<'s> {
        Start {
            program: &step.program,
            arguments: &step.arguments,
            env: &step.env,
            folder: &step.folder,
            files: &step.files,
            log: Some((Path::new(&step.log), most)),
            errors: None,
            mark,
        }
    }
}

/// What hears of a process while it runs.
pub trait ProcessListener {
    /// It was started; its process id is that of its group.
    fn began(&mut self, process: u32);
    /// It printed a line.
    fn line(&mut self, line: &str);
    /// It printed something that is no whole line yet.
    fn alive(&mut self) {}
    /// When it wants to be asked again, if nothing is heard before.
    fn due(&self) -> Option<Instant>;
    /// That time has come.
    fn tick(&mut self);
    /// It has ended, and all that it left in its group; output may still come.
    fn ended(&mut self) {}
}

/// How a process is ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum End {
    /// It is asked to end. Systems that cannot ask end it at once.
    Ask,
    /// It ends at once.
    Now,
}

/// What can start programs.
pub trait Programs: Sync {
    /// Prepares a program, so that nothing but the start itself is left to be done.
    ///
    /// # Errors
    /// When its log or its pipe cannot be made.
    fn prepare(&self, start: &Start<'_>) -> std::io::Result<Box<dyn Prepared + '_>>;
    /// Ends one process with its group.
    fn end(&self, process: u32, how: End);
    /// Ends all that run, and whatever is started from now on.
    fn end_all(&self);
}

/// A program that waits to be started.
pub trait Prepared: Send {
    /// Starts it.
    ///
    /// # Errors
    /// When the system cannot start it.
    fn go(self: Box<Self>) -> std::io::Result<Box<dyn Alive>>;
}

/// A program that runs.
pub trait Alive: Send {
    /// Hears it to its end, and says how it ended. What it has started itself ends with it.
    ///
    /// # Errors
    /// When it cannot be listened to.
    fn hear(self: Box<Self>, listener: &mut dyn ProcessListener) -> std::io::Result<Ending>;
}

/// Runs a program to its end, and says how it ended.
///
/// # Errors
/// When it cannot be started or listened to.
pub fn run(programs: &dyn Programs, start: &Start<'_>, listener: &mut dyn ProcessListener) -> std::io::Result<Ending> {
    programs.prepare(start)?.go()?.hear(listener)
}

/// The real programs of this system.
pub struct SystemPrograms {
    groups: Groups,
}

impl SystemPrograms {
    /// Programs that end with this process, however it ends. On systems without a way of their own, a process of `program`
    /// sees to that; without one, what a killed run leaves behind is ended by the next run.
    #[must_use]
    pub fn guarded(program: &Path) -> SystemPrograms {
        SystemPrograms { groups: Groups::guarded(program) }
    }

    /// Programs that nothing guards: for short questions.
    #[must_use]
    pub fn plain() -> SystemPrograms {
        SystemPrograms { groups: Groups::default() }
    }
}

impl Programs for SystemPrograms {
    fn prepare(&self, start: &Start<'_>) -> std::io::Result<Box<dyn Prepared + '_>> {
        let log = start
            .log
            .map(|(path, most)| Ok::<_, std::io::Error>(ProgramLog::new(log(path, start)?, most)))
            .transpose()?;
        let (reader, writer) = std::io::pipe()?;
        let mut command = Command::new(start.program);
        command.args(start.arguments).envs(start.env.iter().map(|(key, value)| (key, value)));
        if !start.mark.is_empty() {
            command.env(MARK, start.mark);
        }
        command.current_dir(start.folder).stdin(Stdio::null()).stdout(writer.try_clone()?);
        match start.errors.as_ref().map(File::try_clone).transpose()? {
            Some(errors) => command.stderr(errors),
            None => command.stderr(writer),
        };
        // A group of its own keeps the terminal's interrupt from the renderer, so that its current frame can land first.
        own_group(&mut command);
        let mark = start.mark.to_owned();
        Ok(Box::new(PreparedProgram { groups: &self.groups, command, reader, log, mark }))
    }

    fn end(&self, process: u32, how: End) {
        self.groups.end(process, how);
    }

    fn end_all(&self) {
        self.groups.end_all();
    }
}

/// Opens a log and writes the command line at its head, as a person can paste it.
fn log(path: &Path, start: &Start<'_>) -> std::io::Result<File> {
    let mut log = match (File::create(path), path.parent()) {
        (Err(error), Some(folder)) if error.kind() == std::io::ErrorKind::NotFound => {
            std::fs::create_dir_all(folder)?;
            File::create(path)?
        }
        (made, _) => made?,
    };
    let words = std::iter::once(start.program).chain(start.arguments.iter().map(String::as_str));
    let command_line: Vec<String> = words.map(word).collect();
    let env: String = start.env.iter().map(|(name, value)| format!("{name}={} ", word(value))).collect();
    let env = if env.is_empty() { env } else { format!("env {env}") };
    let mut head = format!("$ {env}{}\n", command_line.join(" "));
    for file in start.files {
        head.push_str(&format!("# {}:\n", file.path));
        head.extend(file.text.lines().map(|line| format!("# {line}\n")));
    }
    log.write_all(head.as_bytes())?;
    Ok(log)
}

/// Prepared: its log lies there, and its pipe is made.
struct PreparedProgram<'g> {
    groups: &'g Groups,
    command: Command,
    reader: std::io::PipeReader,
    log: Option<ProgramLog>,
    mark: String,
}

impl Prepared for PreparedProgram<'_> {
    fn go(self: Box<Self>) -> std::io::Result<Box<dyn Alive>> {
        let PreparedProgram { groups, mut command, reader, log, mark } = *self;
        let live = groups.start(&mut command, (reader, log), mark)?;
        // The command holds the writing end of the pipe: without it the pipe ends with the child.
        drop(command);
        Ok(live)
    }
}
