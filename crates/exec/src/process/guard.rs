//! A process that outlives us only to end our renderers: when the pipe to it closes, for whatever reason we are gone, it
//! ends every process group that was named and not taken back.

use std::collections::BTreeSet;
use std::io::{Read, Write};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use rustix::process::{Pid, Signal};

/// The hidden command by which it is started.
pub const COMMAND: &str = "guard-renderers";

/// From one reading to the next.
const PAUSE: Duration = Duration::from_millis(100);

/// The guard of this process.
pub struct Guard {
    child: Mutex<Child>,
}

impl Guard {
    /// Starts a guard. Without one, renderers outlive a killed run until the next one ends them.
    pub fn start(program: &Path) -> Option<Guard> {
        use std::os::unix::process::CommandExt;
        let mut command = Command::new(program);
        // A group of its own, so that what ends ours does not end it; no folder, so that it holds no disk.
        command.arg(COMMAND).process_group(0).current_dir("/");
        command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null());
        let started = command.spawn();
        if let Err(error) = &started {
            tracing::warn!(%error, "no guard");
        }
        started.ok().map(|child| Guard { child: Mutex::new(child) })
    }

    /// Its own process.
    pub fn process(&self) -> u32 {
        self.child.lock().unwrap_or_else(PoisonError::into_inner).id()
    }

    /// A group is to be ended with us.
    pub fn add(&self, group: u32) {
        self.say(&format!("+{group}\n"));
    }

    /// A group has ended by itself.
    pub fn remove(&self, group: u32) {
        self.say(&format!("-{group}\n"));
    }

    fn say(&self, line: &str) {
        let mut child = self.child.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(pipe) = child.stdin.as_mut() {
            // A guard that somebody has ended guards nothing; the run goes on.
            let _ = pipe.write_all(line.as_bytes());
        }
    }
}

impl Drop for Guard {
    fn drop(&mut self) {
        let mut child = self.child.lock().unwrap_or_else(PoisonError::into_inner);
        drop(child.stdin.take());
        // Nothing is left to be guarded: it need not find that out by itself.
        let _ = child.kill();
        let _ = child.wait();
    }
}

/// What the guard itself does.
pub fn watch(mut pipe: impl Read) {
    let mut groups = BTreeSet::new();
    let (mut block, mut rest) = ([0; 16 * 1024], Vec::new());
    while let Ok(count) = pipe.read(&mut block)
        && count > 0
    {
        rest.extend_from_slice(&block[..count]);
        while let Some(end) = rest.iter().position(|byte| *byte == b'\n') {
            let line = String::from_utf8_lossy(&rest[..end]).into_owned();
            let group = line.get(1..).and_then(|group| group.parse::<u32>().ok());
            match (line.starts_with('+'), group) {
                (true, Some(group)) => drop(groups.insert(group)),
                (false, Some(group)) => drop(groups.remove(&group)),
                (_, None) => {}
            }
            rest.drain(..=end);
        }
        // Lines that arrived meanwhile are read in one go: a busy run is not to be held up by its guard.
        std::thread::sleep(PAUSE);
    }
    for group in groups.into_iter().filter_map(|group| Pid::from_raw(i32::try_from(group).ok()?)) {
        // A group that has just ended needs no signal.
        let _ = rustix::process::kill_process_group(group, Signal::KILL);
    }
}
