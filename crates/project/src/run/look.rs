//! What lies on the disk before and after a run.

use std::path::Path;
use std::time::{Duration, Instant};

use truepath_core::check::Machine;
use truepath_core::verify::{State, Verdict};
use truepath_exec::failure::Failure;
use truepath_exec::looking::Looking;
use truepath_exec::observe::Look;

use super::agree::times;
use crate::listener::{Listener, News, Read};
use crate::open::Loaded;

/// Looks at the disk as far as the journals do not know it.
pub(super) fn observe(loaded: &Loaded, listener: &dyn Listener) -> Result<Vec<Verdict>, Failure> {
    looked(loaded, &loaded.ground, listener)
}

/// Looks at disk and journals once more.
pub(super) fn again(loaded: &Loaded, listener: &dyn Listener) -> Result<Vec<Verdict>, Failure> {
    looked(loaded, &loaded.ground_now()?, listener)
}

/// How long a share may list late what is there, and how many files are asked for one by one.
const LATE: Duration = Duration::from_secs(60);
const ASKED: usize = 2000;

/// The same where members share a folder: some shares list late what others have landed. A missing file that is there when it
/// is asked for is waited for.
pub(super) fn settled(loaded: &Loaded, listener: &dyn Listener) -> Result<Vec<Verdict>, Failure> {
    let (since, times) = (Instant::now(), times(loaded));
    loop {
        let verdicts = again(loaded, listener)?;
        let missing = verdicts.iter().flat_map(|verdict| {
            let series = loaded.plan.output(verdict.series);
            let frames: Vec<i64> = verdict.in_state(State::Missing).iter().collect();
            frames.into_iter().map(|frame| series.name(frame))
        });
        let is_listed = !missing.take(ASKED).any(|name| Path::new(&name).exists());
        if is_listed || since.elapsed() >= times.takeover.max(LATE) {
            return Ok(verdicts);
        }
        std::thread::sleep(times.heartbeat / 3);
    }
}

fn looked(loaded: &Loaded, machine: &Machine, listener: &dyn Listener) -> Result<Vec<Verdict>, Failure> {
    let told = |files: u64| listener.hear(News::Reading(Read::Files, files));
    let (plan, state, look) = (&loaded.plan, &loaded.state, Look::Trusting);
    let verdicts = Looking { plan, machine, state, look, beside: &[], told: &told }.all();
    listener.hear(News::ReadingOver);
    verdicts
}
