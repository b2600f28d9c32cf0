//! Renderers as processes: each in a group of its own, its output read line by line, gone when we are gone.

use std::fs::File;
use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Mutex;

use rustix::process::{Pid, Signal};

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
    /// Where its output is written down, under the command line.
    pub log: &'s Path,
}

/// The groups that are running now, so that an interrupt reaches them.
#[derive(Default)]
pub struct Running {
    groups: Mutex<Vec<Pid>>,
}

impl Running {
    /// Sends a signal to every group.
    pub fn signal(&self, signal: Signal) {
        for group in self.lock().iter() {
            // A group that has just ended needs no signal.
            let _ = rustix::process::kill_process_group(*group, signal);
        }
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Vec<Pid>> {
        self.groups.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }
}

/// Runs a program to its end. `began` hears its process id, `line` each line it prints. Returns the exit code, `None`
/// when a signal ended it.
pub fn run(
    start: &Start<'_>,
    running: &Running,
    began: impl FnOnce(u32),
    mut line: impl FnMut(&str),
) -> std::io::Result<Option<i32>> {
    if let Some(folder) = start.log.parent() {
        std::fs::create_dir_all(folder)?;
    }
    let mut log = File::create(start.log)?;
    let words = std::iter::once(start.program).chain(start.arguments.iter().map(String::as_str));
    let command_line: Vec<String> = words.map(truepath_core::invoke::quote::sh::word).collect();
    writeln!(log, "$ {}", command_line.join(" "))?;
    let (reader, writer) = std::io::pipe()?;
    let mut command = Command::new(start.program);
    command.args(start.arguments).envs(start.env.iter().map(|(key, value)| (key, value)));
    command.current_dir(start.folder).stdin(Stdio::null()).stdout(writer.try_clone()?).stderr(writer);
    own_group(&mut command);
    let mut child = command.spawn()?;
    // The command holds the writing end of the pipe: without it the pipe ends with the child.
    drop(command);
    let group = Pid::from_child(&child);
    running.lock().push(group);
    began(child.id());
    let mut reader = BufReader::new(reader);
    let mut bytes = Vec::new();
    while reader.read_until(b'\n', &mut bytes).is_ok_and(|count| count > 0) {
        // The log is for people; a full disk there must not cost the frames.
        let _ = log.write_all(&bytes);
        line(String::from_utf8_lossy(&bytes).trim_end_matches(['\n', '\r']));
        bytes.clear();
    }
    let status = child.wait();
    running.lock().retain(|other| *other != group);
    Ok(status?.code())
}

/// A group of its own keeps the terminal's interrupt from the renderer, so that its current frame can land first. Where
/// the system can, the renderer dies with us.
fn own_group(command: &mut Command) {
    use std::os::unix::process::CommandExt;
    command.process_group(0);
    #[cfg(target_os = "linux")]
    {
        let parent = rustix::process::getpid();
        // SAFETY: between fork and exec only two system calls are made; nothing is allocated and no lock is taken.
        #[allow(unsafe_code)]
        unsafe {
            command.pre_exec(move || {
                rustix::process::set_parent_process_death_signal(Some(Signal::KILL))?;
                // We may have died before the line above.
                if rustix::process::getppid() == Some(parent) {
                    Ok(())
                } else {
                    Err(std::io::ErrorKind::Interrupted.into())
                }
            });
        }
    }
}
