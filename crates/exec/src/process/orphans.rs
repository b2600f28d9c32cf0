//! Processes that a renderer started and that left its group: on Linux they become our children when their parent ends, and
//! are ended with their call. Elsewhere the next run finds them by their mark.

#[cfg(target_os = "linux")]
pub use linux::{adopt, end};
#[cfg(not(target_os = "linux"))]
pub use other::{adopt, end};

#[cfg(target_os = "linux")]
mod linux {
    use rustix::process::{Pid, Signal, WaitOptions, getpid, kill_process, set_child_subreaper, waitpid};

    use crate::process::MARK;

    /// Children of a child that has ended are looked for so often: each end may leave others.
    const ROUNDS: usize = 8;

    /// From now on, orphans among our descendants are ours.
    pub fn adopt() {
        // Where the system refuses, they are found by their mark later.
        let _ = set_child_subreaper(Some(getpid()));
    }

    /// Ends all orphans of a call, known by its mark. `is_own` says which children we started: somebody else waits for them.
    pub fn end(mark: &str, is_own: impl Fn(u32) -> bool) {
        for _ in 0..ROUNDS {
            let own: Vec<Pid> =
                children().filter(|child| !is_own(*child) && is_marked(*child, mark)).filter_map(pid).collect();
            if own.is_empty() {
                return;
            }
            for child in own {
                // One that has just ended needs no signal, and one that nobody waits for would stay in the table.
                let _ = kill_process(child, Signal::KILL);
                let _ = waitpid(Some(child), WaitOptions::empty());
            }
        }
    }

    fn pid(process: u32) -> Option<Pid> {
        Pid::from_raw(i32::try_from(process).ok()?)
    }

    /// Our own children that the first thread has: orphans are given to it, as long as it lives (kernel/exit.c,
    /// `find_new_reaper`), and it lives as long as this process.
    fn children() -> impl Iterator<Item = u32> {
        let own = getpid().as_raw_nonzero();
        let text = std::fs::read_to_string(format!("/proc/self/task/{own}/children")).unwrap_or_default();
        text.split_whitespace().filter_map(|word| word.parse().ok()).collect::<Vec<_>>().into_iter()
    }

    fn is_marked(process: u32, mark: &str) -> bool {
        let wanted = format!("{MARK}={mark}");
        let environment = std::fs::read(format!("/proc/{process}/environ")).unwrap_or_default();
        environment.split(|byte| *byte == 0).any(|entry| entry == wanted.as_bytes())
    }
}

#[cfg(not(target_os = "linux"))]
mod other {
    /// Nothing that this system can do.
    pub fn adopt() {}

    /// Nothing that this system can do.
    pub fn end(_mark: &str, _is_own: impl Fn(u32) -> bool) {}
}
