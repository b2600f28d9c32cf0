//! What Windows says of files.

use std::os::windows::fs::MetadataExt;
use std::path::Path;

use truepath_core::verify::Files;

use super::Stamp;
use crate::threads::Cores;

/// The files in a folder; none where there is no such folder.
///
/// # Errors
/// When the folder cannot be listed.
pub fn files(folder: &Path) -> std::io::Result<Files> {
    let mut list = Files::default();
    if folder.is_dir() {
        for entry in std::fs::read_dir(folder)? {
            let entry = entry?;
            let about = entry.metadata()?;
            let name = entry.file_name();
            if about.is_file() {
                let changed = about.modified().map_or(i64::MAX, super::milliseconds);
                list.push(&name.to_string_lossy(), (about.len(), changed));
            } else {
                list.push_other(&name.to_string_lossy());
            }
        }
    }
    Ok(Files::merged(&[list], &Cores))
}

/// The stamp of a file; `None` where there is none. When it was made stands in for its number.
#[must_use]
pub fn stamp(path: &Path) -> Option<Stamp> {
    let about = std::fs::metadata(path).ok()?;
    Some((about.len(), about.last_write_time().cast_signed(), 0, about.creation_time()))
}

/// Who owns a file, if that is somebody else who could harm this user: not asked here.
#[must_use]
pub fn other_owner(_: &Path) -> Option<String> {
    None
}

/// Whether a file is one that nobody may write.
#[must_use]
pub fn is_protected(path: &Path) -> bool {
    std::fs::metadata(path).is_ok_and(|about| about.is_file() && about.permissions().readonly())
}

/// Whether this user may start a program: here, its extension decides, and the start itself tells.
#[must_use]
pub fn is_executable(path: &Path) -> bool {
    path.is_file()
}

/// Here, a file's extension makes it a program.
///
/// # Errors
/// Never.
pub fn make_executable(_path: &Path) -> std::io::Result<()> {
    Ok(())
}

/// Whether this user may make files in a folder: one is made and removed.
pub fn writable(folder: &Path) -> std::io::Result<()> {
    tempfile::tempfile_in(folder).map(drop)
}

/// Which disk a path lies on, by its drive or share.
pub fn disk(path: &Path) -> u64 {
    let top = path.ancestors().last().unwrap_or(path);
    let digest = blake3::hash(top.to_string_lossy().to_ascii_lowercase().as_bytes());
    digest.as_bytes()[..8].iter().fold(0, |sum, byte| sum << 8 | u64::from(*byte))
}

/// Bytes that this user may still write below a folder.
pub fn free(folder: &Path) -> Option<u64> {
    fs4::available_space(folder).ok()
}
