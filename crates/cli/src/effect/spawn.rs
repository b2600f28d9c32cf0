//! Renderers as processes: each in a group of its own, its output read line by line, gone when we are gone.

use std::fs::File;
use std::io::{Read, Write};
use std::os::fd::AsFd;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::process::{Pid, Signal};

use super::guard::Guard;

/// How often a leader is asked whether it has ended, on systems that do not tell.
const ASK: Duration = Duration::from_secs(1);

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

/// What hears of a process while it runs.
pub trait Listener {
    /// It was started; its process id is that of its group.
    fn began(&mut self, process: u32);
    /// It printed a line.
    fn line(&mut self, line: &str);
    /// When it wants to be asked again, if nothing is heard before.
    fn due(&self) -> Option<Instant>;
    /// That time has come.
    fn tick(&mut self);
}

/// The groups that are running now, so that an interrupt reaches them, and an end of ours.
#[derive(Default)]
pub struct Running {
    groups: Mutex<Vec<Pid>>,
    guard: Option<Guard>,
}

impl Running {
    /// Groups that are guarded by a process of `program`.
    pub fn guarded(program: &Path) -> Running {
        Running { guard: Guard::start(program), ..Running::default() }
    }

    fn add(&self, group: Pid) {
        self.lock().push(group);
        self.guard.iter().for_each(|guard| guard.add(group.as_raw_nonzero().get().unsigned_abs()));
    }

    fn remove(&self, group: Pid) {
        self.lock().retain(|other| *other != group);
        self.guard.iter().for_each(|guard| guard.remove(group.as_raw_nonzero().get().unsigned_abs()));
    }

    /// Sends a signal to every group.
    pub fn signal(&self, signal: Signal) {
        for group in self.lock().iter() {
            // A group that has just ended needs no signal.
            let _ = rustix::process::kill_process_group(*group, signal);
        }
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Vec<Pid>> {
        self.groups.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Signals one group.
pub fn end_group(process: u32, signal: Signal) {
    if let Some(group) = i32::try_from(process).ok().and_then(Pid::from_raw) {
        // A group that has just ended needs no signal.
        let _ = rustix::process::kill_process_group(group, signal);
    }
}

/// Runs a program to its end. Returns the exit code, `None` when a signal ended it. What it has started itself ends with
/// it.
pub fn run(start: &Start<'_>, running: &Running, listener: &mut dyn Listener) -> std::io::Result<Option<i32>> {
    let mut log = match (File::create(start.log), start.log.parent()) {
        (Err(error), Some(folder)) if error.kind() == std::io::ErrorKind::NotFound => {
            std::fs::create_dir_all(folder)?;
            File::create(start.log)?
        }
        (made, _) => made?,
    };
    let words = std::iter::once(start.program).chain(start.arguments.iter().map(String::as_str));
    let command_line: Vec<String> = words.map(truepath_core::invoke::quote::sh::word).collect();
    writeln!(log, "$ {}", command_line.join(" "))?;
    let (mut reader, writer) = std::io::pipe()?;
    let mut command = Command::new(start.program);
    command.args(start.arguments).envs(start.env.iter().map(|(key, value)| (key, value)));
    command.current_dir(start.folder).stdin(Stdio::null()).stdout(writer.try_clone()?).stderr(writer);
    // A group of its own keeps the terminal's interrupt from the renderer, so that its current frame can land first.
    command.process_group(0);
    let mut child = command.spawn()?;
    // The command holds the writing end of the pipe: without it the pipe ends with the child.
    drop(command);
    let group = Pid::from_child(&child);
    running.add(group);
    listener.began(child.id());
    let heard = listen(&child, &mut reader, &mut log, listener);
    if heard.is_err() {
        end_group(child.id(), Signal::KILL);
    }
    let status = child.wait();
    running.remove(group);
    heard?;
    Ok(status?.code())
}

/// Hears the child to the end of its output. Waits for it; asks nobody in turns.
fn listen(child: &Child, pipe: &mut impl PipeEnd, log: &mut File, listener: &mut dyn Listener) -> std::io::Result<()> {
    let leader = Pid::from_child(child);
    let end = leader_end(leader);
    let (mut over, mut rest) = (false, Vec::new());
    let mut bytes = [0; 8 * 1024];
    loop {
        let asked = (end.is_none() && !over).then(|| Instant::now() + ASK);
        let due = [listener.due(), asked].into_iter().flatten().min();
        let wait = due.map(|due| due.saturating_duration_since(Instant::now()));
        let wait =
            wait.map(|wait| Timespec { tv_sec: wait.as_secs().cast_signed(), tv_nsec: i64::from(wait.subsec_nanos()) });
        let mut ends = vec![PollFd::new(&*pipe, PollFlags::IN)];
        ends.extend(end.as_ref().filter(|_| !over).map(|end| PollFd::new(end, PollFlags::IN)));
        match poll(&mut ends, wait.as_ref()) {
            Ok(_) | Err(rustix::io::Errno::INTR) => {}
            Err(error) => return Err(error.into()),
        }
        let ready: Vec<bool> = ends.iter().map(|end| !end.revents().is_empty()).collect();
        if !over && (ready.get(1) == Some(&true) || (end.is_none() && has_ended(leader))) {
            over = true;
            // Whatever it left behind in its group would go on without it.
            end_group(child.id(), Signal::KILL);
        }
        if ready[0] {
            let count = pipe.read(&mut bytes)?;
            // The log is for people; a full disk there must not cost the frames.
            let _ = log.write_all(&bytes[..count]);
            if count == 0 {
                if !rest.is_empty() {
                    listener.line(&String::from_utf8_lossy(&rest));
                }
                return Ok(());
            }
            rest.extend_from_slice(&bytes[..count]);
            while let Some(end) = rest.iter().position(|byte| *byte == b'\n') {
                listener.line(String::from_utf8_lossy(&rest[..end]).trim_end_matches('\r'));
                rest.drain(..=end);
            }
        }
        if listener.due().is_some_and(|due| due <= Instant::now()) {
            listener.tick();
        }
    }
}

/// The reading end of a pipe.
trait PipeEnd: Read + AsFd {}
impl<T: Read + AsFd> PipeEnd for T {}

/// Something that becomes readable when a process ends, where the system has such a thing.
#[cfg(target_os = "linux")]
fn leader_end(leader: Pid) -> Option<std::os::fd::OwnedFd> {
    rustix::process::pidfd_open(leader, rustix::process::PidfdFlags::empty()).ok()
}

#[cfg(not(target_os = "linux"))]
fn leader_end(_leader: Pid) -> Option<std::os::fd::OwnedFd> {
    None
}

/// Whether a child has ended. It is not reaped, so that its number stays its own.
fn has_ended(leader: Pid) -> bool {
    use rustix::process::{WaitId, WaitIdOptions, waitid};
    let how = WaitIdOptions::EXITED | WaitIdOptions::NOWAIT | WaitIdOptions::NOHANG;
    matches!(waitid(WaitId::Pid(leader), how), Ok(Some(_)) | Err(_))
}
