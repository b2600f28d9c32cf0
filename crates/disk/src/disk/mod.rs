//! What the file systems of this machine say: files of a folder, their stamps, room, permissions.

#[cfg(unix)]
mod unix;
#[cfg(unix)]
use unix as system;
#[cfg(windows)]
mod windows;
#[cfg(windows)]
use windows as system;

use std::fs::File;
use std::io::{Error, ErrorKind, Read, Seek, SeekFrom, Write};
use std::path::Path;
use std::time::{SystemTime, UNIX_EPOCH};

use truepath_core::check::RootState;
use truepath_core::scene;

pub use system::{files, is_executable, is_protected, make_executable, other_owner, stamp};

/// Bytes, time of change and file number: whoever writes into a file changes one of them. Only compared for equality, and
/// only with itself.
pub type Stamp = (u64, i64, i64, u64);

/// More than any text file that is read here has: sheets, adapters, facts, pins.
pub const MOST_TEXT: u64 = 64 << 20;

/// Opens a regular file, as [`truepath_media::open`] does.
///
/// # Errors
/// As there.
pub fn open(path: &Path) -> std::io::Result<File> {
    truepath_media::open(path).map(|(file, _)| file)
}

/// The bytes of a regular file that has no more than `most`.
///
/// # Errors
/// As [`open`], and `FileTooLarge`.
pub fn read(path: &Path, most: u64) -> std::io::Result<Vec<u8>> {
    let file = open(path)?;
    let mut bytes = Vec::new();
    file.take(most + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > most {
        return Err(Error::new(ErrorKind::FileTooLarge, format!("it is larger than {} MB", most >> 20)));
    }
    Ok(bytes)
}

/// The text of a regular file.
///
/// # Errors
/// As [`read`], and `InvalidData` where it is no UTF-8.
pub fn text(path: &Path) -> std::io::Result<String> {
    String::from_utf8(read(path, MOST_TEXT)?).map_err(|error| Error::new(ErrorKind::InvalidData, error))
}

/// The first bytes of a regular file.
///
/// # Errors
/// As [`open`].
pub fn head(path: &Path, most: usize) -> std::io::Result<Vec<u8>> {
    let mut head = Vec::new();
    open(path)?.take(most as u64).read_to_end(&mut head)?;
    Ok(head)
}

/// The bytes of a scene that hold its facts: none of a format that nothing here reads.
///
/// # Errors
/// As [`open`].
pub fn scene_part(path: &Path, name: &str) -> std::io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    if let Some(part) = scene::part(name, &head(path, scene::HEAD)?) {
        let mut file = open(path)?;
        file.seek(SeekFrom::Start(part.start))?;
        file.take(part.end - part.start).read_to_end(&mut bytes)?;
    }
    Ok(bytes)
}

/// Keeps a text in a file of a folder that may not be there yet; nobody ever reads half of it.
///
/// # Errors
/// As the system says.
pub fn keep(path: &Path, text: &str) -> std::io::Result<()> {
    let folder = path.parent().unwrap_or(Path::new("."));
    std::fs::create_dir_all(folder)?;
    let mut beside = tempfile::NamedTempFile::new_in(folder)?;
    beside.write_all(text.as_bytes())?;
    beside.persist(path).map(drop).map_err(|error| error.error)
}

/// What stands at a path and is no regular file, in words; `None` where one stands, or nothing.
#[must_use]
pub fn no_file(path: &Path) -> Option<&'static str> {
    let kind = path.symlink_metadata().ok()?.file_type();
    match (kind.is_file(), kind.is_symlink(), kind.is_dir()) {
        (true, ..) => None,
        (_, true, _) => Some("a link"),
        (.., true) => Some("a folder"),
        _ => Some("a pipe or a device"),
    }
}

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
