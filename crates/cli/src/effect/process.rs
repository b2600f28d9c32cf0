//! Who a process is, so that one of an earlier run can be told from a stranger with its number.

use std::fs::File;
use std::io::Read;
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal};

/// How long a process that was ended may take to be gone.
const LAST: Duration = Duration::from_secs(1);

/// Which start of the system this is; empty where the system does not say.
pub fn boot() -> String {
    std::fs::read_to_string("/proc/sys/kernel/random/boot_id").map(|id| id.trim().to_owned()).unwrap_or_default()
}

/// Which numbering of processes this is: containers have their own. Empty where the system does not say.
pub fn space() -> String {
    std::fs::read_link("/proc/self/ns/pid").map(|link| link.to_string_lossy().into_owned()).unwrap_or_default()
}

/// Whether processes are numbered here as they were there: on the same start of the same system.
pub fn is_here(boot_there: &str, space_there: &str) -> bool {
    !boot_there.is_empty() && boot_there == boot() && space_there == space()
}

/// When a process was started, in clock ticks since the system's start (proc_pid_stat(5), field 22); empty where there is
/// no such process, or the system does not say.
pub fn born(process: u32) -> String {
    stat(process).map(|stat| stat.born).unwrap_or_default()
}

/// Whether a process of this system still runs. Without its time of birth it is told by its number alone.
pub fn is_alive(process: u32, born_at: &str) -> bool {
    match stat(process) {
        Some(stat) => stat.state != 'Z' && (born_at.is_empty() || stat.born == born_at),
        // A system without /proc: only the number can be asked for.
        None => boot().is_empty() && pid(process).is_some_and(|pid| rustix::process::test_kill_process(pid).is_ok()),
    }
}

/// Ends what is left of a renderer's process group. Its number may have gone to a stranger meanwhile: then the leader has
/// another time of birth, and nothing is touched. Returns whether anything was left.
pub fn end_group(leader: u32, born_at: &str) -> bool {
    let stranger = stat(leader).is_some_and(|stat| stat.born != born_at);
    let Some(group) = pid(leader).filter(|_| !stranger && !born_at.is_empty()) else { return false };
    // While anyone is in the group, the system gives its number to nobody else.
    let killed = rustix::process::kill_process_group(group, Signal::KILL).is_ok();
    // What it is just writing ends with it: that is waited for, and no longer than a system takes for it.
    let since = Instant::now();
    while killed && is_alive(leader, born_at) && since.elapsed() < LAST {
        std::thread::sleep(LAST / 100);
    }
    killed
}

fn pid(process: u32) -> Option<Pid> {
    i32::try_from(process).ok().and_then(Pid::from_raw)
}

struct Stat {
    state: char,
    born: String,
}

fn stat(process: u32) -> Option<Stat> {
    // One read of more than the line ever has: this is asked for each renderer.
    let mut bytes = [0; 2048];
    let count = File::open(format!("/proc/{process}/stat")).and_then(|mut file| file.read(&mut bytes)).ok()?;
    let text = String::from_utf8_lossy(&bytes[..count]);
    // The name, in brackets, may hold anything; what follows it does not.
    let rest = text.rsplit_once(')')?.1;
    let mut fields = rest.split_whitespace();
    let state = fields.next()?.chars().next()?;
    Some(Stat { state, born: fields.nth(18)?.to_owned() })
}

#[cfg(all(test, target_os = "linux"))]
mod tests {
    #[test]
    fn a_process_is_told_from_a_stranger_with_its_number() {
        let own = std::process::id();
        let born = super::born(own);
        assert!(!born.is_empty() && super::is_alive(own, &born) && !super::is_alive(own, "1"));
        assert!(!super::end_group(own, "1"), "a stranger is left alone");
    }
}
