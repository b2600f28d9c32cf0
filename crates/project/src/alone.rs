//! A sheet held for a command that moves files: nobody renders it meanwhile.

use truepath_exec::failure::{Cause, Failure};
use truepath_exec::share as claims;
use truepath_exec::state::Lock;
use truepath_exec::state::journal::{Journal, Opening};

use crate::open::Loaded;
use crate::surroundings::Surroundings;

/// A sheet that nobody else works on.
pub struct Alone {
    /// Where what is done is written down.
    pub journal: Journal,
    /// Day and time as they stand in the names of folders.
    pub stamp: String,
    _lock: Lock,
}

/// Holds a sheet.
///
/// # Errors
/// While anybody renders it.
pub fn alone(loaded: &Loaded, around: &Surroundings) -> Result<Alone, Failure> {
    let lock = loaded.state.lock(&around.host, false)?;
    if let Some(other) = claims::others(&loaded.state).first() {
        let message =
            format!("process {} on {} is rendering this sheet with --share", other.worker.process, other.worker.host);
        let help = "wait for it or end it; if its machine has crashed, `truepath run` takes over";
        return Err(Failure::new(Cause::Machine, message).help(help));
    }
    let now = around.now();
    let opening = Opening {
        host: &around.host,
        at: now.timestamp().to_string(),
        second: now.timestamp().as_second(),
        share: false,
        task: around.task.clone(),
    };
    let journal = Journal::new(&loaded.state, &opening, loaded.ground.history.next_turn());
    let stamp = now.strftime("%Y-%m-%dT%H-%M-%S").to_string();
    Ok(Alone { journal, stamp, _lock: lock })
}
