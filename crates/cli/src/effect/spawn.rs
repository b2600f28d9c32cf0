//! Renderers as processes: each in a group of its own, its output read line by line, gone when we are gone.

use std::fs::File;
use std::io::{PipeReader, Read, Write};
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
/// How long output gathers before it is read on, so that a talkative program does not keep us from others. Its pipe holds
/// far more than what comes in that time.
const GATHER: Duration = Duration::from_millis(20);
/// How long output is waited for when the program has ended, and somebody else holds its end of the pipe.
const LEFTOVER: Duration = Duration::from_secs(1);

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
    /// It has ended, and all that it left in its group; output may still come.
    fn ended(&mut self) {}
}

/// The groups that are running now, so that an interrupt reaches them, and an end of ours.
#[derive(Default)]
pub struct Running {
    groups: Mutex<Groups>,
    guard: Option<Guard>,
}

#[derive(Default)]
struct Groups {
    alive: Vec<Pid>,
    /// Whether all were ended for good: what is started meanwhile ends, too.
    killed: bool,
}

impl Running {
    /// Groups that are guarded by a process of `program`.
    pub fn guarded(program: &Path) -> Running {
        Running { guard: Guard::start(program), ..Running::default() }
    }

    fn add(&self, group: Pid) {
        let mut groups = self.lock();
        groups.alive.push(group);
        if groups.killed {
            let _ = rustix::process::kill_process_group(group, Signal::KILL);
        }
        drop(groups);
        self.guard.iter().for_each(|guard| guard.add(group.as_raw_nonzero().get().unsigned_abs()));
    }

    fn remove(&self, group: Pid) {
        self.lock().alive.retain(|other| *other != group);
        self.guard.iter().for_each(|guard| guard.remove(group.as_raw_nonzero().get().unsigned_abs()));
    }

    /// Sends a signal to every group.
    pub fn signal(&self, signal: Signal) {
        let mut groups = self.lock();
        groups.killed |= signal == Signal::KILL;
        for group in &groups.alive {
            // A group that has just ended needs no signal.
            let _ = rustix::process::kill_process_group(*group, signal);
        }
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Groups> {
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

/// A program that waits to be started: its log lies there, and nothing but the start itself is left to be done.
pub struct Ready {
    command: Command,
    reader: PipeReader,
    log: File,
}

impl Ready {
    /// Prepares a program; its log begins with its command line.
    pub fn new(start: &Start<'_>) -> std::io::Result<Ready> {
        let mut log = match (File::create(start.log), start.log.parent()) {
            (Err(error), Some(folder)) if error.kind() == std::io::ErrorKind::NotFound => {
                std::fs::create_dir_all(folder)?;
                File::create(start.log)?
            }
            (made, _) => made?,
        };
        let words = std::iter::once(start.program).chain(start.arguments.iter().map(String::as_str));
        let command_line: Vec<String> = words.map(truepath_core::invoke::quote::sh::word).collect();
        log.write_all(format!("$ {}\n", command_line.join(" ")).as_bytes())?;
        let (reader, writer) = std::io::pipe()?;
        let mut command = Command::new(start.program);
        command.args(start.arguments).envs(start.env.iter().map(|(key, value)| (key, value)));
        command.current_dir(start.folder).stdin(Stdio::null()).stdout(writer.try_clone()?).stderr(writer);
        // A group of its own keeps the terminal's interrupt from the renderer, so that its current frame can land first.
        command.process_group(0);
        Ok(Ready { command, reader, log })
    }

    /// Starts it.
    pub fn go(self, running: &Running) -> std::io::Result<Live> {
        let Ready { mut command, reader, log } = self;
        let child = command.spawn()?;
        running.add(Pid::from_child(&child));
        // The command holds the writing end of the pipe: without it the pipe ends with the child.
        drop(command);
        Ok(Live { child, reader, log })
    }
}

/// A program that runs.
pub struct Live {
    child: Child,
    reader: PipeReader,
    log: File,
}

impl Live {
    /// Hears it to its end. Returns the exit code, `None` when a signal ended it. What it has started itself ends with it.
    pub fn hear(mut self, running: &Running, listener: &mut dyn Listener) -> std::io::Result<Option<i32>> {
        let group = Pid::from_child(&self.child);
        listener.began(self.child.id());
        let heard = listen(group, self.reader, &mut self.log, listener);
        if heard.is_err() {
            end_group(self.child.id(), Signal::KILL);
        }
        let status = self.child.wait();
        running.remove(group);
        heard?;
        Ok(status?.code())
    }
}

/// Runs a program to its end. Returns the exit code, `None` when a signal ended it.
pub fn run(start: &Start<'_>, running: &Running, listener: &mut dyn Listener) -> std::io::Result<Option<i32>> {
    Ready::new(start)?.go(running)?.hear(running, listener)
}

/// Hears a process to its end and to that of its output. Waits for it; asks nobody in turns.
fn listen(leader: Pid, pipe: PipeReader, log: &mut File, listener: &mut dyn Listener) -> std::io::Result<()> {
    let end = leader_end(leader);
    let (mut pipe, mut over, mut rest) = (Some(pipe), None, Vec::new());
    let mut gathers: Option<Instant> = None;
    let mut bytes = [0; 8 * 1024];
    while pipe.is_some() || over.is_none() {
        let now = Instant::now();
        gathers = gathers.filter(|until| over.is_none() && *until > now);
        let asked = (end.is_none() && over.is_none()).then(|| now + ASK);
        let left = over.map(|over: Instant| over + LEFTOVER);
        let told = listener.due().filter(|_| over.is_none());
        let due = [told, asked, left, gathers].into_iter().flatten().min();
        let wait = due.map(|due| due.saturating_duration_since(now));
        let wait =
            wait.map(|wait| Timespec { tv_sec: wait.as_secs().cast_signed(), tv_nsec: i64::from(wait.subsec_nanos()) });
        let (is_heard, is_watched) = (pipe.is_some() && gathers.is_none(), over.is_none() && end.is_some());
        let mut ends = Vec::with_capacity(2);
        ends.extend(end.as_ref().filter(|_| is_watched).map(|end| PollFd::new(end, PollFlags::IN)));
        ends.extend(pipe.as_ref().filter(|_| is_heard).map(|pipe| PollFd::new(pipe, PollFlags::IN)));
        match poll(&mut ends, wait.as_ref()) {
            Ok(_) | Err(rustix::io::Errno::INTR) => {}
            Err(error) => return Err(error.into()),
        }
        let is_ready = |at: Option<&PollFd<'_>>| at.is_some_and(|end| !end.revents().is_empty());
        let has_gone = is_watched && is_ready(ends.first());
        let has_said = is_heard && is_ready(ends.last());
        drop(ends);
        if has_gone || (end.is_none() && over.is_none() && has_ended(leader)) {
            over = Some(Instant::now());
            // Whatever it left behind in its group would go on without it.
            end_group(leader.as_raw_nonzero().get().unsigned_abs(), Signal::KILL);
            listener.ended();
        }
        if has_said && let Some(open) = &mut pipe {
            let count = open.read(&mut bytes)?;
            if count < bytes.len() {
                gathers = Some(Instant::now() + GATHER);
            }
            // The log is for people; a full disk there must not cost the frames.
            let _ = log.write_all(&bytes[..count]);
            rest.extend_from_slice(&bytes[..count]);
            while let Some(end) = rest.iter().position(|byte| *byte == b'\n') {
                listener.line(String::from_utf8_lossy(&rest[..end]).trim_end_matches('\r'));
                rest.drain(..=end);
            }
            if count == 0 {
                pipe = None;
            }
        } else if left.is_some_and(|left| left <= Instant::now()) {
            // Somebody who has left the group holds the pipe, and may do so for ever.
            pipe = None;
        }
        if over.is_none() && listener.due().is_some_and(|due| due <= Instant::now()) {
            listener.tick();
        }
    }
    if !rest.is_empty() {
        listener.line(&String::from_utf8_lossy(&rest));
    }
    Ok(())
}

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
