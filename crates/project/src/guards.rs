//! What is refused before anything is built or rendered.

use truepath_core::pins::Anew;
use truepath_core::plan::{self, Plan};
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::state::pins;

use crate::open::{Loaded, Queue};

/// Calls of one plan at most: each is kept in memory.
const MOST_CALLS: i64 = 20_000_000;
/// Files of one plan at most, for a command that keeps each of them in memory.
const MOST_FILES: i64 = 50_000_000;

/// Keeps a slip in a frame range from filling the memory with calls. `files` is the number of files of each series.
///
/// # Errors
/// When there would be more calls than can be kept.
pub fn calls(plan: &Plan, files: impl Iterator<Item = i64>) -> Result<(), Failure> {
    let calls = files.fold(0i64, |sum, files| sum.saturating_add(files / plan.run.chunk.max(1)));
    if calls <= MOST_CALLS {
        return Ok(());
    }
    let message = format!("this plan has about {calls} calls; at most {MOST_CALLS} are allowed");
    Err(Failure::new(Cause::Refused, message).help("give fewer frames (--frames), or raise `chunk` under [run]"))
}

/// Keeps a slip in a frame range from filling the memory with files that are not there.
///
/// # Errors
/// When there would be more files than can be kept.
pub fn files(queue: &Queue) -> Result<(), Failure> {
    let plans = queue.sheets.iter().flat_map(|sheet| sheet.plan.outputs());
    let files = plans.filter_map(|(_, series)| series.count()).fold(0i64, i64::saturating_add);
    if files <= MOST_FILES {
        return Ok(());
    }
    let message = format!("this plan has {files} files; at most {MOST_FILES} can be shown");
    Err(Failure::new(Cause::Refused, message).help("give fewer frames (--frames), or fewer jobs"))
}

impl Loaded {
    /// Fixes looked-up values before anything is built or rendered with them.
    ///
    /// False where somebody else has pinned other values in this moment: theirs hold, and the sheet has to be opened again.
    ///
    /// # Errors
    /// When the pins cannot be written.
    pub fn pin(&self, anew: Anew) -> Result<bool, Failure> {
        let mode = self.plan.pin_mode.as_deref();
        let wanted = plan::wanted(&self.plan.jobs);
        let again = anew != Anew::default();
        if wanted.is_nothing() || (wanted.beyond(&self.pins, mode).is_nothing() && !again) {
            return Ok(true);
        }
        let new = self.pins.to_pin(&wanted, mode);
        let pinned = pins::write(&self.state, &new, again)?;
        Ok(pinned.to_pin(&wanted, mode) == new)
    }

    /// Refuses what can be neither run nor built: jobs without a renderer, and settings of the request that change the picture
    /// under final names, unless `is_final` says that this is intended.
    ///
    /// # Errors
    /// Which of the two it is, with what to do.
    pub fn guard_start(&self, is_final: bool) -> Result<(), Failure> {
        if self.retouched && !is_final {
            let message = "these settings change the picture, and the files would have the final names";
            return Err(Failure::unreadable(message)
                .help("use a mode with its own path (--mode NAME), or add --final if this is intended"));
        }
        match self.plan.jobs.iter().find(|job| job.adapter.as_deref().is_none()) {
            Some(job) => {
                Err(Failure::unreadable(format!("the job `{}` has no adapter, so no renderer is known", job.name))
                    .help("write adapter = \"understudy\" in the job or in [defaults]"))
            }
            None => Ok(()),
        }
    }
}
