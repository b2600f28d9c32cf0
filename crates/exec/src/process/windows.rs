//! Processes where systems have job objects. A program and all that it starts are in one job, which the system ends when
//! the last handle to it is closed: however this process ends, they end with it. A program cannot be asked to end here: it
//! is ended once its current frame has landed.

use std::collections::HashMap;
use std::io::{PipeReader, Read};
use std::os::windows::io::AsRawHandle;
use std::os::windows::process::CommandExt;
use std::path::Path;
use std::process::{Child, Command, ExitStatus};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use truepath_core::adapter::exit::Ending;
use win32job::Job;

use super::{Alive, End, LineReader, ProcessListener, ProgramLog};

/// CREATE_NEW_PROCESS_GROUP: an interrupt of the console does not reach the program.
const NEW_GROUP: u32 = 0x200;
/// How long output is waited for when the program has ended, and somebody else holds its end of the pipe.
const LEFTOVER: Duration = Duration::from_secs(1);

/// Keeps the console's interrupt from a program.
pub fn own_group(command: &mut Command) {
    command.creation_flags(NEW_GROUP);
}

/// The jobs that run now, by the number of their first process.
#[derive(Clone, Default)]
pub struct Groups {
    known: Arc<Mutex<KnownProcess>>,
}

#[derive(Default)]
struct KnownProcess {
    alive: HashMap<u32, Option<Job>>,
    ended: bool,
}

impl Groups {
    /// Jobs need no guard: the system ends them with us.
    pub fn guarded(_program: &Path) -> Groups {
        Groups::default()
    }

    /// Starts a program in a job of its own.
    ///
    /// # Errors
    /// When the system cannot start it.
    pub fn start(
        &self,
        command: &mut Command,
        (reader, log): (PipeReader, Option<ProgramLog>),
        _mark: String,
    ) -> std::io::Result<Box<dyn Alive>> {
        let job = job().inspect_err(|error| tracing::warn!(%error, "no job object: what it starts may outlive it"));
        let child = command.spawn()?;
        let job = job.ok().filter(|job| job.assign_process(child.as_raw_handle() as isize).is_ok());
        let mut known = self.known();
        // A job that is dropped ends all that is in it.
        let job = if known.ended { None } else { job };
        known.alive.insert(child.id(), job);
        drop(known);
        Ok(Box::new(Live { groups: self.clone(), child, reader, log }))
    }

    /// Ends one job.
    pub fn end(&self, process: u32, _how: End) {
        if let Some(job) = self.known().alive.get_mut(&process) {
            *job = None;
        }
    }

    /// Ends all jobs, and those that are started from now on.
    pub fn end_all(&self) {
        let mut known = self.known();
        known.ended = true;
        known.alive.values_mut().for_each(|job| *job = None);
    }

    fn is_ended(&self, process: u32) -> bool {
        self.known().alive.get(&process).is_some_and(Option::is_none)
    }

    fn known(&self) -> MutexGuard<'_, KnownProcess> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A job that ends with its last handle.
fn job() -> Result<Job, win32job::JobError> {
    let mut limits = win32job::ExtendedLimitInfo::new();
    limits.limit_kill_on_job_close();
    Job::create_with_limit_info(&limits)
}

/// A program that runs.
struct Live {
    groups: Groups,
    child: Child,
    reader: PipeReader,
    log: Option<ProgramLog>,
}

/// What Unix systems say of the programs they have seen end.
#[must_use]
pub fn most_memory() -> Option<u64> {
    None
}

/// How a program ended, as this system tells it.
#[must_use]
pub fn ending(status: ExitStatus) -> Ending {
    Ending::of(status.code(), None)
}

/// How often the program is asked whether it has ended.
const ASK: Duration = Duration::from_millis(20);

impl Alive for Live {
    fn hear(mut self: Box<Self>, listener: &mut dyn ProcessListener) -> std::io::Result<Ending> {
        let process = self.child.id();
        listener.began(process);
        let (sender, said) = channel();
        let (reader, log) = (self.reader, self.log.take());
        std::thread::spawn(move || read(reader, log, &sender));
        let (mut lines, mut over, mut code, mut open) = (LineReader::default(), None, None, true);
        while over.is_none() || open {
            match said.recv_timeout(ASK) {
                Ok(bytes) => lines.add(&bytes, listener),
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => {
                    open = false;
                    if over.is_none() {
                        std::thread::sleep(ASK);
                    }
                }
            }
            if over.is_none() {
                if self.groups.is_ended(process) {
                    // Where it could not be put into a job, it is ended alone.
                    let _ = self.child.kill();
                }
                if let Some(status) = self.child.try_wait()? {
                    (over, code) = (Some(Instant::now()), status.code());
                    // Whatever it left behind in its job would go on without it.
                    self.groups.end(process, End::Now);
                    listener.ended();
                } else if listener.due().is_some_and(|due| due <= Instant::now()) {
                    listener.tick();
                }
            } else if over.is_some_and(|over: Instant| over.elapsed() >= LEFTOVER) {
                open = false;
            }
        }
        self.groups.known().alive.remove(&process);
        lines.end(listener);
        Ok(Ending::of(code, None))
    }
}

/// Reads output as it comes, for as long as somebody holds its other end.
fn read(mut reader: PipeReader, mut log: Option<ProgramLog>, said: &Sender<Vec<u8>>) {
    let mut bytes = [0; 8 * 1024];
    while let Ok(count) = reader.read(&mut bytes)
        && count > 0
    {
        if let Some(log) = &mut log {
            log.add(&bytes[..count]);
        }
        if said.send(bytes[..count].to_vec()).is_err() {
            break;
        }
    }
    log.into_iter().for_each(ProgramLog::end);
}

/// Where the console's interrupts go at the moment.
static STOPS: OnceLock<Mutex<Option<Sender<StopSignal>>>> = OnceLock::new();

enum StopSignal {
    Interrupt,
    Over,
}

/// Interrupts of this process.
pub struct Stops {
    sender: Sender<StopSignal>,
    heard: Receiver<StopSignal>,
}

/// What ends the listening.
pub struct Handle {
    sender: Sender<StopSignal>,
}

impl Handle {
    /// No more interrupts are waited for.
    pub fn close(&self) {
        let _ = self.sender.send(StopSignal::Over);
    }
}

impl Stops {
    /// Listens from now on.
    ///
    /// # Errors
    /// When the system does not let us.
    pub fn new() -> std::io::Result<Stops> {
        let (sender, heard) = channel();
        let is_new = STOPS.get().is_none();
        let slot = STOPS.get_or_init(Mutex::default);
        *slot.lock().unwrap_or_else(PoisonError::into_inner) = Some(sender.clone());
        if is_new {
            // A process can set its handler only once: this one tells the listener of the moment.
            let told = || {
                let slot = STOPS.get_or_init(Mutex::default).lock().unwrap_or_else(PoisonError::into_inner);
                slot.iter().for_each(|sender| drop(sender.send(StopSignal::Interrupt)));
            };
            ctrlc::set_handler(told).map_err(std::io::Error::other)?;
        }
        Ok(Stops { sender, heard })
    }

    /// What ends the listening.
    #[must_use]
    pub fn handle(&self) -> Handle {
        Handle { sender: self.sender.clone() }
    }

    /// Calls `stop` for each interrupt until the handle is closed.
    pub fn each(self, mut stop: impl FnMut()) {
        while let Ok(StopSignal::Interrupt) = self.heard.recv() {
            stop();
        }
    }
}

/// Nothing: the system always says it in a variable.
#[must_use]
pub fn user() -> Option<String> {
    None
}
