//! What lies on the disk before and after a run.

use std::path::Path;
use std::time::{Duration, Instant};

use truepath_core::check::Machine;
use truepath_core::verify::{State, Verdict};
use truepath_exec::failure::Failure;
use truepath_exec::looking::Looking;
use truepath_exec::observe::Look;

use super::agree::times;
use crate::lower::Surroundings;
use crate::pipeline::Loaded;
use crate::show::counter::Counter;

/// Looks at the disk as far as the journals do not know it.
pub fn observe(loaded: &Loaded, around: &Surroundings) -> Result<Vec<Verdict>, Failure> {
    looked(loaded, &loaded.ground, around)
}

/// Looks at disk and journals once more.
pub fn again(loaded: &Loaded, around: &Surroundings) -> Result<Vec<Verdict>, Failure> {
    looked(loaded, &loaded.ground_now()?, around)
}

/// How long a share may list late what is there, and how many files are asked for one by one.
const LATE: Duration = Duration::from_secs(60);
const ASKED: usize = 2000;

/// The same where members share a folder: some shares list late what others have landed. A missing file that is there when it
/// is asked for is waited for.
pub fn settled(loaded: &Loaded, around: &Surroundings) -> Result<Vec<Verdict>, Failure> {
    let (since, times) = (Instant::now(), times(loaded));
    loop {
        let verdicts = again(loaded, around)?;
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

fn looked(loaded: &Loaded, machine: &Machine, around: &Surroundings) -> Result<Vec<Verdict>, Failure> {
    let counter = Counter::new("reading files", around.err);
    let told = |files: u64| counter.add(files);
    let (plan, state, look) = (&loaded.plan, &loaded.state, Look::Trusting);
    let verdicts = Looking { plan, machine, state, look, beside: &[], told: &told }.all();
    counter.end();
    verdicts
}
