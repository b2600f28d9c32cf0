//! Looked-up values, kept for all who work on a sheet: clock, user, host and the versions on disk. Each has a file of its own
//! that is made only where there is none, so that of two who pin the same at once the first one holds.

use std::io::ErrorKind;

use truepath_core::pins::{Moment, Pin, Pins};

use super::{StateFolder, journal};
use crate::disk;
use crate::failure::Failure;

/// The pins of a sheet; none where none were made.
///
/// # Errors
/// When they cannot be read.
pub fn read(state: &StateFolder) -> Result<Pins, Failure> {
    let folder = state.pins();
    let entries = match std::fs::read_dir(&folder) {
        Ok(entries) => entries,
        Err(error) if matches!(error.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => {
            return Ok(Pins::default());
        }
        Err(error) => return Err(Failure::machine("read", &folder, &error)),
    };
    let (mut pins, mut is_torn) = (Pins::default(), false);
    for path in entries.filter_map(Result::ok).map(|entry| entry.path()) {
        if path.extension().is_none_or(|extension| extension != "json") {
            continue;
        }
        match disk::text(&path).map(|text| serde_json::from_str::<Pin>(&text)) {
            Ok(Ok(pin)) => pins.take(pin),
            // One that a power cut left empty or torn: the journals know what earlier runs had.
            Ok(Err(_)) => is_torn = true,
            Err(error) if error.kind() == ErrorKind::NotFound => {}
            Err(error) => return Err(Failure::machine("read", &path, &error)),
        }
    }
    Ok(if is_torn { pins.with(journal::earlier_pins(state)) } else { pins })
}

/// Pins values for all who work on the sheet; all pins as they are then. Where somebody was faster, theirs hold. `over`
/// replaces what was pinned before.
///
/// # Errors
/// When they cannot be written.
pub fn write(state: &StateFolder, new: &[Pin], over: bool) -> Result<Pins, Failure> {
    let folder = state.pins();
    let failure = |error: &std::io::Error| Failure::machine("write the pins", &folder, error);
    state.make().map_err(|error| failure(&error))?;
    std::fs::create_dir_all(&folder).map_err(|error| failure(&error))?;
    for pin in new {
        let name = blake3::hash(format!("{}\n{:?}", pin.job, pin.of).as_bytes()).to_hex()[..32].to_owned();
        let path = folder.join(format!("{name}.json"));
        let text = |pin: &Pin| serde_json::to_string_pretty(pin).unwrap_or_default();
        match state.put(&path, &text(pin), over) {
            Err(error) if error.kind() == ErrorKind::AlreadyExists => {
                let theirs = disk::text(&path).ok().and_then(|text| serde_json::from_str::<Pin>(&text).ok());
                let both = theirs.clone().map_or_else(
                    || pin.clone(),
                    |theirs| Pin { moment: theirs.moment.clone().or(&pin.moment), ..theirs },
                );
                // A path that has come to name more, or a file that was torn.
                if theirs.as_ref() != Some(&both) || (both.version.is_none() && both.moment == Moment::default()) {
                    state.put(&path, &text(&both), true).map_err(|error| failure(&error))?;
                }
            }
            put => put.map_err(|error| failure(&error))?,
        }
    }
    read(state)
}
