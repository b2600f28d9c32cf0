//! Looked-up values, kept for all who work on a sheet: clock, user, host and the versions on disk.

use std::io::ErrorKind;

use truepath_core::pins::Pins;

use super::{StateFolder, journal};
use crate::disk;
use crate::failure::Failure;

/// The pins of a sheet; none where none were made.
///
/// # Errors
/// When they cannot be read or understood.
pub fn read(state: &StateFolder) -> Result<Pins, Failure> {
    let path = state.pins();
    match disk::text(&path) {
        // One that a power cut left empty or torn: the journals know what the last run had.
        Ok(text) => Ok(serde_json::from_str(&text).unwrap_or_else(|_| journal::last_pins(state).unwrap_or_default())),
        Err(error) if matches!(error.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => Ok(Pins::default()),
        Err(error) => Err(Failure::machine("read", &path, &error)),
    }
}

/// Pins `pins` for all who work on the sheet. Where somebody was faster, theirs hold and are returned. `over` replaces
/// what was pinned before.
///
/// # Errors
/// When they cannot be written.
pub fn write(state: &StateFolder, pins: &Pins, over: bool) -> Result<Pins, Failure> {
    let path = state.pins();
    let failure = |error: &std::io::Error| Failure::machine("write the pins", &path, error);
    state.make().map_err(|error| failure(&error))?;
    let text = serde_json::to_string_pretty(pins).unwrap_or_default();
    match state.put(&path, &text, over) {
        Ok(()) => Ok(pins.clone()),
        Err(error) if error.kind() == ErrorKind::AlreadyExists => {
            let theirs = read(state)?;
            let both = theirs.clone().with(pins.clone());
            if both == theirs { Ok(theirs) } else { write(state, &both, true) }
        }
        Err(error) => Err(failure(&error)),
    }
}
