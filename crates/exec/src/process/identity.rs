//! Who a process is, so that one of an earlier run can be told from a stranger with its number.

use std::time::{Duration, Instant};

#[cfg(target_os = "linux")]
use linux as system;
#[cfg(not(target_os = "linux"))]
use other as system;

pub use system::{boot, born, space};

/// How long a process that was ended may take to be gone.
const LAST: Duration = Duration::from_secs(1);

/// Whether processes are numbered here as they were there: on the same start of the same system.
#[must_use]
pub fn is_here(boot_there: &str, space_there: &str) -> bool {
    !boot_there.is_empty() && boot_there == boot() && space_there == space()
}

/// Whether a process of this system still runs. Without its time of birth it is told by its number alone.
#[must_use]
pub fn is_alive(process: u32, born_at: &str) -> bool {
    let born = born(process);
    !born.is_empty() && (born_at.is_empty() || born == born_at)
}

/// Ends what is left of a renderer's process group. Its number may have gone to a stranger meanwhile: then the leader has
/// another time of birth, and nothing is touched. Returns whether anything was left.
#[must_use]
pub fn end_group(leader: u32, born_at: &str) -> bool {
    let there = system::born_even_dead(leader);
    if born_at.is_empty() || (!there.is_empty() && there != born_at) {
        return false;
    }
    let ended = system::end_group(leader);
    // What it is just writing ends with it: that is waited for, and no longer than a system takes for it.
    wait(|| !(ended && is_alive(leader, born_at)));
    ended
}

/// Ends every process whose environment says that it belongs to one of the calls of a run: those that nobody wrote down,
/// and those that have left their group. `is_of` is given what [`super::MARK`] holds. Returns how many calls had any.
pub fn end_marked(is_of: &dyn Fn(&str) -> bool) -> usize {
    let mut calls = std::collections::BTreeSet::new();
    // What is ended may have started something in between.
    for _ in 0..3 {
        let found: Vec<(u32, String)> = system::marked().into_iter().filter(|(_, mark)| is_of(mark)).collect();
        if found.is_empty() {
            break;
        }
        for (process, mark) in &found {
            system::end(*process);
            calls.insert(mark.clone());
        }
        wait(|| found.iter().all(|(process, _)| born(*process).is_empty()));
    }
    calls.len()
}

fn wait(over: impl Fn() -> bool) {
    let since = Instant::now();
    while !over() && since.elapsed() < LAST {
        std::thread::sleep(LAST / 100);
    }
}

#[cfg(target_os = "linux")]
mod linux {
    use std::fs::File;
    use std::io::Read;
    use std::os::unix::ffi::OsStrExt;

    use rustix::process::{Pid, Signal};

    /// Which start of the system this is.
    #[must_use]
    pub fn boot() -> String {
        std::fs::read_to_string("/proc/sys/kernel/random/boot_id").map(|id| id.trim().to_owned()).unwrap_or_default()
    }

    /// Which numbering of processes this is: containers have their own.
    #[must_use]
    pub fn space() -> String {
        std::fs::read_link("/proc/self/ns/pid").map(|link| link.to_string_lossy().into_owned()).unwrap_or_default()
    }

    /// When a process was started, in clock ticks since the system's start (proc_pid_stat(5), field 22); empty where it
    /// does not run.
    #[must_use]
    pub fn born(process: u32) -> String {
        stat(process).filter(|stat| stat.state != 'Z').map(|stat| stat.born).unwrap_or_default()
    }

    /// The same, also of one that has ended and was not reaped.
    pub fn born_even_dead(process: u32) -> String {
        stat(process).map(|stat| stat.born).unwrap_or_default()
    }

    /// Ends a group. While anyone is in it, the system gives its number to nobody else.
    pub fn end_group(leader: u32) -> bool {
        pid(leader).is_some_and(|group| rustix::process::kill_process_group(group, Signal::KILL).is_ok())
    }

    /// Ends one process.
    pub fn end(process: u32) {
        if let Some(process) = pid(process) {
            // One that has just ended needs no signal.
            let _ = rustix::process::kill_process(process, Signal::KILL);
        }
    }

    /// All processes whose environment has the mark of a call, with it (proc_pid_environ(5)).
    pub fn marked() -> Vec<(u32, String)> {
        let head = format!("{}=", super::super::MARK);
        let entries = std::fs::read_dir("/proc").into_iter().flatten().filter_map(Result::ok);
        let processes = entries.filter_map(|entry| {
            let process: u32 = entry.file_name().to_str()?.parse().ok()?;
            // Those of other users cannot be read, and are none of ours.
            let environment = std::fs::read(entry.path().join("environ")).ok()?;
            let mark = environment.split(|byte| *byte == 0).find_map(|pair| pair.strip_prefix(head.as_bytes()))?;
            let mark = std::ffi::OsStr::from_bytes(mark).to_string_lossy().into_owned();
            (!born(process).is_empty()).then_some((process, mark))
        });
        processes.collect()
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
}

#[cfg(not(target_os = "linux"))]
mod other {
    use sysinfo::{Pid, ProcessRefreshKind, ProcessStatus, ProcessesToUpdate, System, UpdateKind};

    /// Which start of the system this is: its second.
    #[must_use]
    pub fn boot() -> String {
        System::boot_time().to_string()
    }

    /// Systems of this kind have one numbering of processes.
    #[must_use]
    pub fn space() -> String {
        String::new()
    }

    /// When a process was started, in seconds since 1970; empty where it does not run.
    #[must_use]
    pub fn born(process: u32) -> String {
        told(process, |process| process.status() != ProcessStatus::Zombie)
    }

    /// The same, also of one that has ended and was not reaped.
    pub fn born_even_dead(process: u32) -> String {
        told(process, |_| true)
    }

    fn told(process: u32, counts: impl Fn(&sysinfo::Process) -> bool) -> String {
        let (mut system, pid) = (System::new(), Pid::from_u32(process));
        system.refresh_processes_specifics(ProcessesToUpdate::Some(&[pid]), true, ProcessRefreshKind::nothing());
        system
            .process(pid)
            .filter(|found| counts(found))
            .map(|found| found.start_time().to_string())
            .unwrap_or_default()
    }

    /// Ends a group.
    #[cfg(unix)]
    pub fn end_group(leader: u32) -> bool {
        use rustix::process::{Pid, Signal, kill_process_group};
        let group = i32::try_from(leader).ok().and_then(Pid::from_raw);
        group.is_some_and(|group| kill_process_group(group, Signal::KILL).is_ok())
    }

    /// Jobs end with the run that made them; only the first process can have been outside of one.
    #[cfg(windows)]
    pub fn end_group(leader: u32) -> bool {
        let (mut system, pid) = (System::new(), Pid::from_u32(leader));
        system.refresh_processes_specifics(ProcessesToUpdate::Some(&[pid]), true, ProcessRefreshKind::nothing());
        system.process(pid).is_some_and(sysinfo::Process::kill)
    }

    /// Ends one process.
    pub fn end(process: u32) {
        let (mut system, pid) = (System::new(), Pid::from_u32(process));
        system.refresh_processes_specifics(ProcessesToUpdate::Some(&[pid]), true, ProcessRefreshKind::nothing());
        system.process(pid).map(sysinfo::Process::kill);
    }

    /// All processes whose environment has the mark of a call, with it.
    pub fn marked() -> Vec<(u32, String)> {
        let head = format!("{}=", super::super::MARK);
        let mut system = System::new();
        let what = ProcessRefreshKind::nothing().with_environ(UpdateKind::Always);
        system.refresh_processes_specifics(ProcessesToUpdate::All, true, what);
        let all = system.processes().iter().filter_map(|(pid, process)| {
            let pair = process.environ().iter().find_map(|pair| Some(pair.to_str()?.strip_prefix(&head)?.to_owned()));
            Some((pid.as_u32(), pair?))
        });
        all.collect()
    }
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

    #[test]
    fn what_nobody_wrote_down_is_found_by_its_mark() {
        // It has left its group and lost its parent.
        let mut child = std::process::Command::new("setsid");
        let mut child = child.args(["sleep", "1000"]).env(super::super::MARK, "a_1-2~0f0f0f").spawn().expect("setsid");
        let since = std::time::Instant::now();
        while super::end_marked(&|mark| mark.ends_with("~0f0f0f")) == 0 {
            assert!(since.elapsed().as_secs() < 10, "never found");
        }
        assert!(!child.wait().expect("a child").success());
        assert_eq!(super::end_marked(&|mark| mark.ends_with("~0f0f0f")), 0);
    }
}
