//! Staging and landing: a file bears its final name only once it is whole and as planned.

use std::fs::File;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use rustix::fs::{CWD, RenameFlags};
use truepath_core::plan::Series;
use truepath_core::run::event::{Event, Landed};
use truepath_core::run::fingerprint::Fingerprint;
use truepath_core::verify::{State, judge};

use super::journal::Journal;
use crate::exit_code::Failure;

/// How often a folder that fills while it is cleared is cleared again, and the pause before that.
const TRIES: usize = 10;
const PAUSE: Duration = Duration::from_millis(20);

/// One staged file and where it is to go.
pub struct Landing<'l> {
    /// Where the renderer wrote it.
    pub staged: &'l Path,
    /// Its final name.
    pub target: &'l Path,
    /// The call that wrote it.
    pub call: &'l str,
    /// Its series.
    pub series: &'l Series,
    /// Labels of the series' passes.
    pub labels: &'l [&'l str],
    /// Its frame.
    pub frame: i64,
    /// What it is made of, where that is known.
    pub made: Option<&'l Fingerprint>,
    /// Whether what stands there may be replaced.
    pub over: bool,
}

/// Bytes, time of change and file number: whoever writes into a file changes one of them. Only compared for equality, and
/// only with itself.
pub type Stamp = (u64, i64, i64, u64);

/// The stamp of a file; `None` where there is none.
pub fn stamp(path: &Path) -> Option<Stamp> {
    use std::os::unix::fs::MetadataExt;
    let about = std::fs::metadata(path).ok()?;
    Some((about.len(), about.mtime(), about.mtime_nsec(), about.ino()))
}

/// What became of a staged file.
#[derive(Debug, PartialEq)]
pub enum Fate {
    /// It bears its final name: what the journal says of it, and what it looked like before it was read.
    Landed(Event, Stamp),
    /// It is not there (yet).
    NotThere,
    /// It is not fit: why.
    Refused(String),
    /// Another file was there first, and stays.
    Late,
}

/// Lands one file: decoded to its end, compared with the plan, on the disk for good, in the journal, and only then under
/// its name, in one step.
pub fn land(landing: &Landing<'_>, journal: &Journal) -> Result<Fate, Failure> {
    let failure = |what: &str, path: &Path, error: &std::io::Error| Failure::machine(what, path, error);
    let before = stamp(landing.staged).unwrap_or_default();
    let seen = truepath_media::decode(landing.staged).map_err(|error| failure("read", landing.staged, &error))?;
    match judge(landing.series, landing.labels, &seen) {
        (State::Missing, _) => return Ok(Fate::NotThere),
        (State::Good, _) => {}
        (_, why) => return Ok(Fate::Refused(why.unwrap_or_default())),
    }
    let protected = |about: std::fs::Metadata| about.is_file() && about.permissions().readonly();
    if landing.over && landing.target.symlink_metadata().is_ok_and(protected) {
        return Ok(Fate::Refused(format!("{} is write-protected, and stays as it is", landing.target.display())));
    }
    let mut hasher = blake3::Hasher::new();
    let read = File::open(landing.staged).and_then(|file| hasher.update_reader(&file).map(|_| file));
    let file = match read {
        Ok(file) => file,
        // Somebody else who clears up has just landed it.
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(Fate::NotThere),
        Err(error) => return Err(failure("read", landing.staged, &error)),
    };
    file.sync_all().map_err(|error| failure("write", landing.staged, &error))?;
    let folder = landing.target.parent().unwrap_or(Path::new("/"));
    if !folder.is_dir() {
        std::fs::create_dir_all(folder).map_err(|error| failure("make the folder", folder, &error))?;
    }
    journal.announce(landing.series, landing.made)?;
    let event = Event::Landed(Landed {
        series: landing.series.id.clone(),
        frame: landing.frame,
        bytes: hasher.count(),
        digest: hasher.finalize().to_hex().to_string(),
        call: landing.call.to_owned(),
    });
    journal.write(&event)?;
    if put(landing.staged, landing.target, landing.over)? {
        return Ok(Fate::Landed(event, before));
    }
    journal.write(&Event::Late { series: landing.series.id.clone(), frame: landing.frame })?;
    Ok(Fate::Late)
}

/// Gives a file its final name in one step; false where another file was there first. Across file systems it is
/// copied beside its target first.
fn put(staged: &Path, target: &Path, over: bool) -> Result<bool, Failure> {
    match rename(staged, target, over) {
        Ok(()) => Ok(true),
        // Somebody else who clears up has just landed it.
        Err(error) if error.kind() == ErrorKind::NotFound && !staged.exists() => Ok(false),
        Err(error) if error.kind() == ErrorKind::AlreadyExists => {
            remove(staged)?;
            Ok(false)
        }
        Err(error) if error.kind() == ErrorKind::CrossesDevices => {
            let name = target.file_name().unwrap_or_default().to_string_lossy();
            let beside = target.with_file_name(format!(".{name}.{}", std::process::id()));
            let copied = std::fs::copy(staged, &beside).and_then(|_| File::open(&beside)?.sync_all());
            if let Err(error) = copied {
                let _ = std::fs::remove_file(&beside);
                return Err(Failure::machine("write", &beside, &error));
            }
            let renamed = rename(&beside, target, over);
            remove(staged)?;
            match renamed {
                Ok(()) => Ok(true),
                Err(error) => {
                    let _ = std::fs::remove_file(&beside);
                    if error.kind() == ErrorKind::AlreadyExists {
                        Ok(false)
                    } else {
                        Err(Failure::machine("write", target, &error))
                    }
                }
            }
        }
        Err(error) => Err(Failure::machine("write", target, &error)),
    }
}

/// Renames; without `over` only where nothing stands.
fn rename(from: &Path, to: &Path, over: bool) -> std::io::Result<()> {
    if over {
        return std::fs::rename(from, to);
    }
    match rustix::fs::renameat_with(CWD, from, CWD, to, RenameFlags::NOREPLACE) {
        Ok(()) => Ok(()),
        // File systems without that flag: a hard link is also created only where nothing stands.
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => {
            std::fs::hard_link(from, to).and_then(|()| std::fs::remove_file(from))
        }
        Err(error) => Err(error.into()),
    }
}

/// Removes a file that may be gone already.
pub fn remove(path: &Path) -> Result<(), Failure> {
    match std::fs::remove_file(path) {
        Err(error) if error.kind() != ErrorKind::NotFound => Err(Failure::machine("remove", path, &error)),
        _ => Ok(()),
    }
}

/// Empty stage folders that wait for the next call. File systems are slow to make and remove folders in a row; a new name
/// for an old one costs next to nothing.
#[derive(Default)]
pub struct Folders {
    free: Mutex<Vec<PathBuf>>,
}

impl Folders {
    /// Makes an empty stage folder.
    pub fn prepare(&self, folder: &Path) -> Result<(), Failure> {
        let free = {
            let mut free = self.free.lock().unwrap_or_else(PoisonError::into_inner);
            let at = free.iter().position(|free| free.parent() == folder.parent());
            at.map(|at| free.swap_remove(at))
        };
        match free.filter(|free| std::fs::rename(free, folder).is_ok()) {
            Some(_) => Ok(()),
            None => prepare(folder),
        }
    }

    /// Puts an empty stage folder by for the next call.
    pub fn put_by(&self, folder: &Path) {
        self.free.lock().unwrap_or_else(PoisonError::into_inner).push(folder.to_owned());
    }

    /// Removes the folders that wait.
    pub fn remove(&self) {
        for folder in self.free.lock().unwrap_or_else(PoisonError::into_inner).drain(..) {
            // A renderer may have left folders of its own; a file that came later stays.
            if files(&folder).is_empty() {
                let _ = clear(&folder);
            }
        }
    }
}

/// Makes an empty stage folder.
pub fn prepare(folder: &Path) -> Result<(), Failure> {
    clear(folder)?;
    // Another sheet's run on the same root may take an empty parent away in between.
    let made = (0..5)
        .map(|_| std::fs::create_dir_all(folder))
        .find(|made| !matches!(made, Err(error) if error.kind() == ErrorKind::NotFound));
    made.unwrap_or_else(|| std::fs::create_dir_all(folder))
        .map_err(|error| Failure::machine("make the folder", folder, &error))
}

/// Removes a stage folder with all that is left in it.
pub fn clear(folder: &Path) -> Result<(), Failure> {
    let mut tries = 0;
    loop {
        match std::fs::remove_dir_all(folder) {
            Ok(()) => return Ok(()),
            Err(error) if error.kind() == ErrorKind::NotFound && !folder.exists() => return Ok(()),
            // A renderer that is being ended writes a last file, or somebody else clears the same folder.
            Err(error)
                if tries < TRIES && matches!(error.kind(), ErrorKind::NotFound | ErrorKind::DirectoryNotEmpty) =>
            {
                tries += 1;
                std::thread::sleep(PAUSE);
            }
            Err(error) => return Err(Failure::machine("remove", folder, &error)),
        }
    }
}

/// All files in a folder and below it.
pub fn files(folder: &Path) -> Vec<PathBuf> {
    let Ok(entries) = std::fs::read_dir(folder) else { return Vec::new() };
    let mut found = Vec::new();
    for entry in entries.filter_map(Result::ok) {
        let path = entry.path();
        if path.is_dir() { found.extend(files(&path)) } else { found.push(path) }
    }
    found.sort();
    found
}
