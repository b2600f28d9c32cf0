//! Processes where systems have process groups and signals.

use std::io::{PipeReader, Read};
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::Path;
use std::process::{Child, Command, ExitStatus};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::process::{Pid, Signal};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::{Handle, Signals};
use truepath_core::adapter::exit::{Crash, Ending};

use super::guard::Guard;
use super::{Alive, End, LineReader, ProcessListener, ProgramLog};

/// How often a leader is asked whether it has ended, on systems that do not tell.
const ASK: Duration = Duration::from_secs(1);
/// How long output gathers before it is read on, so that a talkative program does not keep us from others. Its pipe holds
/// far more than what comes in that time.
const GATHER: Duration = Duration::from_millis(20);
/// How long output is waited for when the program has ended, and somebody else holds its end of the pipe.
const LEFTOVER: Duration = Duration::from_secs(1);

/// Lets a program lead a process group.
pub fn own_group(command: &mut Command) {
    command.process_group(0);
}

/// The process groups that run now, so that an interrupt reaches them, and an end of ours.
#[derive(Clone, Default)]
pub struct Groups {
    shared: Arc<Shared>,
}

#[derive(Default)]
struct Shared {
    known: Mutex<KnownProcess>,
    guard: Option<Guard>,
}

#[derive(Default)]
struct KnownProcess {
    alive: Vec<Pid>,
    /// Whether all were ended for good: what is started meanwhile ends, too.
    ended: bool,
}

impl Groups {
    /// Groups that a process of `program` ends when we are gone.
    pub fn guarded(program: &Path) -> Groups {
        super::orphans::adopt();
        Groups { shared: Arc::new(Shared { known: Mutex::default(), guard: Guard::start(program) }) }
    }

    /// Starts a program and keeps its group in mind.
    ///
    /// # Errors
    /// When the system cannot start it.
    pub fn start(
        &self,
        command: &mut Command,
        (reader, log): (PipeReader, Option<ProgramLog>),
        mark: String,
    ) -> std::io::Result<Box<dyn Alive>> {
        let child = command.spawn()?;
        self.shared.add(Pid::from_child(&child));
        Ok(Box::new(Live { groups: self.clone(), child, reader, log, mark }))
    }

    /// Ends one group, as far as it is one of ours.
    pub fn end(&self, process: u32, how: End) {
        let known = self.shared.known();
        let group = known.alive.iter().find(|group| number(**group) == process);
        if let Some(group) = group {
            signal(*group, if how == End::Ask { Signal::TERM } else { Signal::KILL });
        }
    }

    /// Ends all groups, and those that are started from now on.
    pub fn end_all(&self) {
        let mut known = self.shared.known();
        known.ended = true;
        known.alive.iter().for_each(|group| signal(*group, Signal::KILL));
    }
}

impl Shared {
    fn add(&self, group: Pid) {
        let mut known = self.known();
        known.alive.push(group);
        if known.ended {
            signal(group, Signal::KILL);
        }
        drop(known);
        self.guard.iter().for_each(|guard| guard.add(number(group)));
    }

    /// A group is forgotten before its leader is reaped: after that its number may be a stranger's.
    fn remove(&self, group: Pid) {
        self.known().alive.retain(|other| *other != group);
        self.guard.iter().for_each(|guard| guard.remove(number(group)));
    }

    /// Whether a child of ours was started here.
    fn has(&self, child: u32) -> bool {
        self.known().alive.iter().any(|group| number(*group) == child)
            || self.guard.as_ref().is_some_and(|guard| guard.process() == child)
    }

    fn known(&self) -> MutexGuard<'_, KnownProcess> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

fn number(group: Pid) -> u32 {
    group.as_raw_nonzero().get().unsigned_abs()
}

fn signal(group: Pid, signal: Signal) {
    // A group that has just ended needs no signal.
    let _ = rustix::process::kill_process_group(group, signal);
}

/// How a program ended, as this system tells it.
#[must_use]
pub fn ending(status: ExitStatus) -> Ending {
    // Numbers of signals are the system's own; where they differ from those of Linux, the names decide.
    let number = status.signal().map(|number| match number {
        _ if number == Signal::BUS.as_raw() => Crash::Bus.number(),
        _ if number == Signal::SYS.as_raw() => Crash::Sys.number(),
        7 | 31 if !cfg!(target_os = "linux") => 0,
        number => number,
    });
    Ending::of(status.code(), number)
}

/// A program that runs.
struct Live {
    groups: Groups,
    child: Child,
    reader: PipeReader,
    log: Option<ProgramLog>,
    /// What it and all that it starts find in their environment.
    mark: String,
}

impl Alive for Live {
    fn hear(mut self: Box<Self>, listener: &mut dyn ProcessListener) -> std::io::Result<Ending> {
        let group = Pid::from_child(&self.child);
        listener.began(self.child.id());
        let heard = listen(group, self.reader, self.log.as_mut(), listener);
        self.log.take().into_iter().for_each(ProgramLog::end);
        if heard.is_err() {
            signal(group, Signal::KILL);
        }
        if !self.mark.is_empty() {
            super::orphans::end(&self.mark, |child| self.groups.shared.has(child));
        }
        self.groups.shared.remove(group);
        let status = self.child.wait();
        heard?;
        status.map(ending)
    }
}

/// Hears a process to its end and to that of its output. Waits for it; asks nobody in turns.
fn listen(
    leader: Pid,
    pipe: PipeReader,
    mut log: Option<&mut ProgramLog>,
    listener: &mut dyn ProcessListener,
) -> std::io::Result<()> {
    let end = leader_end(leader);
    let (mut pipe, mut over, mut lines) = (Some(pipe), None, LineReader::default());
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
            signal(leader, Signal::KILL);
            listener.ended();
        }
        if has_said && let Some(open) = &mut pipe {
            let count = open.read(&mut bytes)?;
            if count < bytes.len() {
                gathers = Some(Instant::now() + GATHER);
            }
            if let Some(log) = &mut log {
                log.add(&bytes[..count]);
            }
            lines.add(&bytes[..count], listener);
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
    lines.end(listener);
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

/// Most bytes of memory that any one process has held which this one has started and seen end.
#[must_use]
pub fn most_memory() -> Option<u64> {
    use nix::sys::resource::{UsageWho, getrusage};
    let most = u64::try_from(getrusage(UsageWho::RUSAGE_CHILDREN).ok()?.max_rss()).ok()?;
    // Only Apple's systems count bytes; all others count kilobytes.
    Some(if cfg!(target_vendor = "apple") { most } else { most * 1024 }).filter(|most| *most > 0)
}

/// Whether a child has ended. It is not reaped, so that its number stays its own.
fn has_ended(leader: Pid) -> bool {
    use rustix::process::{WaitId, WaitIdOptions, waitid};
    let how = WaitIdOptions::EXITED | WaitIdOptions::NOWAIT | WaitIdOptions::NOHANG;
    matches!(waitid(WaitId::Pid(leader), how), Ok(Some(_)) | Err(_))
}

/// Interrupts of this process: the terminal's, and those that ask it to end or hang up.
pub struct Stops {
    signals: Signals,
}

impl Stops {
    /// Listens from now on.
    ///
    /// # Errors
    /// When the system does not let us.
    pub fn new() -> std::io::Result<Stops> {
        Ok(Stops { signals: Signals::new([SIGINT, SIGTERM, SIGHUP])? })
    }

    /// What ends the listening.
    #[must_use]
    pub fn handle(&self) -> Handle {
        self.signals.handle()
    }

    /// Calls `stop` for each interrupt until the handle is closed.
    pub fn each(mut self, mut stop: impl FnMut()) {
        self.signals.forever().for_each(|_| stop());
    }
}

/// The name of the user that this process runs as, as the system knows it: jobs of a clock or a container have it in no variable.
#[must_use]
pub fn user() -> Option<String> {
    let user = nix::unistd::User::from_uid(nix::unistd::Uid::current()).ok()??;
    Some(user.name).filter(|name| !name.is_empty())
}
