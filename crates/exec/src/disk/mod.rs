//! What the file systems of this machine say: files of a folder, their stamps, room, permissions.

#[cfg(unix)]
mod unix;
#[cfg(unix)]
use unix as system;
#[cfg(windows)]
mod windows;
#[cfg(windows)]
use windows as system;

use std::path::Path;
use std::time::{SystemTime, UNIX_EPOCH};

use truepath_core::check::RootState;

pub use system::{files, is_executable, is_protected, make_executable, stamp};

/// Bytes, time of change and file number: whoever writes into a file changes one of them. Only compared for equality, and
/// only with itself.
pub type Stamp = (u64, i64, i64, u64);

/// Whole milliseconds since 1970.
#[must_use]
pub fn milliseconds(time: SystemTime) -> i64 {
    time.duration_since(UNIX_EPOCH).map_or(i64::MIN, |since| i64::try_from(since.as_millis()).unwrap_or(i64::MAX))
}

/// What stands at a root; of one that is not there, what its nearest folder above says.
#[must_use]
pub fn ground(path: &Path) -> RootState {
    let there = path.exists();
    let Some(above) = path.ancestors().find(|above| above.exists()) else { return RootState::default() };
    let disk = system::disk(above);
    RootState {
        there,
        folder: above.is_dir(),
        writable: system::writable(above).is_ok(),
        empty: there && std::fs::read_dir(path).is_ok_and(|mut entries| entries.next().is_none()),
        system_disk: above.ancestors().last().is_some_and(|top| system::disk(top) == disk),
        disk,
        free: system::free(above),
    }
}

/// Why a folder that may not be there yet could not be written.
#[must_use]
pub fn not_writable(folder: &Path) -> Option<String> {
    let above = folder.ancestors().find(|above| above.exists())?;
    if !above.is_dir() {
        return Some(format!("{} is a file", above.display()));
    }
    system::writable(above).err().map(|error| error.to_string())
}

/// What changes with a file: where it is, its bytes, its number and when it was changed.
///
/// # Errors
/// When there is no such file.
pub fn identity(file: &Path) -> std::io::Result<String> {
    file.metadata()?;
    let (bytes, second, fraction, number) = stamp(file).unwrap_or_default();
    Ok(format!("{} {bytes} {number} {second}.{fraction}", file.display()))
}
