//! What POSIX systems say of files.

use std::ffi::CStr;
use std::os::fd::OwnedFd;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;
use std::sync::{Mutex, PoisonError};

use rustix::fs::{Access, AtFlags, Dir, FileType, Mode, OFlags, access, statvfs};
use rustix::io::Errno;
use truepath_core::verify::{FileFacts, Files};

use super::Stamp;
use crate::threads::Cores;

/// Files whose lengths are asked for together.
const LISTED: usize = 4096;

/// The files in a folder; none where there is no such folder. While the folder is listed,
/// other threads ask for the lengths of what is known already.
///
/// # Errors
/// When the folder cannot be listed.
pub fn files(path: &Path) -> std::io::Result<Files> {
    let how = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let folder = match rustix::fs::open(path, how, Mode::empty()) {
        Ok(folder) => folder,
        Err(Errno::NOENT | Errno::NOTDIR) => return Ok(Files::default()),
        Err(error) => return Err(error.into()),
    };
    tracing::debug!(folder = %path.display(), "listed");
    let mut entries = Dir::read_from(&folder)?;
    let lists = Mutex::new(Vec::new());
    rayon::scope(|scope| -> std::io::Result<()> {
        loop {
            let mut names = Vec::new();
            for entry in entries.by_ref().take(LISTED) {
                names.extend_from_slice(entry?.file_name().to_bytes_with_nul());
            }
            if names.is_empty() {
                return Ok(());
            }
            let (folder, lists) = (&folder, &lists);
            scope.spawn(move |_| {
                let list = measured(folder, &names);
                lists.lock().unwrap_or_else(PoisonError::into_inner).push(list);
            });
        }
    })?;
    Ok(Files::merged(&lists.into_inner().unwrap_or_else(PoisonError::into_inner), &Cores))
}

/// What is known of some names, each with a zero at its end.
fn measured(folder: &OwnedFd, names: &[u8]) -> Files {
    let mut files = Files::default();
    for name in names.split_inclusive(|byte| *byte == 0).filter_map(|name| CStr::from_bytes_with_nul(name).ok()) {
        // What is gone by now is not there.
        let Ok(about) = rustix::fs::statat(folder, name, AtFlags::SYMLINK_NOFOLLOW) else { continue };
        if FileType::from_raw_mode(about.st_mode).is_file() {
            files.push(&name.to_string_lossy(), facts(&about));
        } else if ![c".", c".."].contains(&name) {
            files.push_other(&name.to_string_lossy());
        }
    }
    files
}

fn facts(about: &rustix::fs::Stat) -> FileFacts {
    let (seconds, fraction) = (whole(about.st_mtime), whole(about.st_mtime_nsec));
    (u64::try_from(about.st_size).unwrap_or(0), seconds.saturating_mul(1000).saturating_add(fraction / 1_000_000))
}

/// A part of a time, which has another type on each system.
fn whole(part: impl TryInto<i64>) -> i64 {
    part.try_into().unwrap_or(0)
}

/// The stamp of a file; `None` where there is none.
#[must_use]
pub fn stamp(path: &Path) -> Option<Stamp> {
    let about = std::fs::metadata(path).ok()?;
    Some((about.len(), about.mtime(), about.mtime_nsec(), about.ino()))
}

/// Who owns a file, if that is somebody else who could harm this user: neither this user nor the system's own.
#[must_use]
pub fn other_owner(path: &Path) -> Option<String> {
    let owner = std::fs::metadata(path).ok()?.uid();
    let own = rustix::process::geteuid().as_raw();
    (owner != own && owner != 0).then(|| format!("user {owner}"))
}

/// Whether a file is one that nobody may write.
#[must_use]
pub fn is_protected(path: &Path) -> bool {
    std::fs::metadata(path).is_ok_and(|about| about.is_file() && about.permissions().mode() & 0o222 == 0)
}

/// Whether this user may start a program.
#[must_use]
pub fn is_executable(path: &Path) -> bool {
    access(path, Access::EXEC_OK).is_ok()
}

/// Lets everybody start a file who may read it.
///
/// # Errors
/// When the system does not let us.
pub fn make_executable(path: &Path) -> std::io::Result<()> {
    let mut mode = path.metadata()?.permissions();
    mode.set_mode(mode.mode() | ((mode.mode() & 0o444) >> 2));
    std::fs::set_permissions(path, mode)
}

/// Whether this user may make files in a folder.
pub fn writable(folder: &Path) -> std::io::Result<()> {
    Ok(access(folder, Access::WRITE_OK)?)
}

/// Which disk a path lies on.
pub fn disk(path: &Path) -> u64 {
    path.metadata().map(|about| about.dev()).unwrap_or(0)
}

/// Bytes that this user may still write below a folder.
pub fn free(folder: &Path) -> Option<u64> {
    statvfs(folder).ok().map(|disk| disk.f_bavail * disk.f_frsize)
}
