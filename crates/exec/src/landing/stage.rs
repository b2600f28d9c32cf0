//! Stage folders: made empty, used again, cleared. Whatever lies in one was not landed yet.

use std::collections::BTreeSet;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use truepath_core::invoke::command_line::CommandLine;
use truepath_core::invoke::scope::WRITTEN;
use truepath_core::resolve::paths::from_system;

use crate::failure::Failure;

/// How often a folder that fills while it is cleared is cleared again, and the pause before that.
const TRIES: usize = 10;
const PAUSE: Duration = Duration::from_millis(20);

/// Removes a file that may be gone already.
///
/// # Errors
/// When the system does not let us.
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
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn prepare(&self, folder: &Path) -> Result<(), Failure> {
        if self.renamed(folder) { Ok(()) } else { prepare(folder) }
    }

    /// Gives one that waits another name. Nobody else may look for its old name in between: [`Folders::clear`] would empty it.
    fn renamed(&self, folder: &Path) -> bool {
        let mut free = self.free.lock().unwrap_or_else(PoisonError::into_inner);
        let at = free.iter().position(|free| free.parent() == folder.parent());
        at.is_some_and(|at| std::fs::rename(free.swap_remove(at), folder).is_ok())
    }

    /// Removes a stage folder with all that is left in it; one that was put by is empty, and waits.
    ///
    /// # Errors
    /// When something in it cannot be removed.
    pub fn clear(&self, folder: impl AsRef<Path>) -> Result<(), Failure> {
        let folder = folder.as_ref();
        let waits = self.free.lock().unwrap_or_else(PoisonError::into_inner).iter().any(|free| free == folder);
        if waits { Ok(()) } else { clear(folder) }
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
///
/// # Errors
/// When it cannot be made.
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
///
/// # Errors
/// When something in it cannot be removed.
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

/// All that lies in a folder and below it and is no folder, and folders whose names say that a file was meant. Links are
/// not followed: one to a folder above would never end.
#[must_use]
pub fn files(folder: &Path) -> Vec<PathBuf> {
    let (mut found, mut open) = (Vec::new(), vec![folder.to_owned()]);
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok) {
            let (path, is_folder) = (entry.path(), entry.file_type().is_ok_and(|kind| kind.is_dir()));
            // What was written for the program is none of its files.
            if is_folder && entry.file_name() == WRITTEN {
                continue;
            }
            if is_folder {
                open.push(path.clone());
            }
            if !is_folder || path.extension().is_some() {
                found.push(path);
            }
        }
    }
    found.sort();
    found
}

/// Writes the files that a program is given, into its stage folder.
///
/// # Errors
/// When one cannot be written.
pub fn write_files(step: &CommandLine) -> Result<(), Failure> {
    for file in &step.files {
        let path = Path::new(&file.path);
        let folder = path.parent().unwrap_or(Path::new("."));
        let written = std::fs::create_dir_all(folder).and_then(|()| std::fs::write(path, &file.text));
        written.map_err(|error| Failure::machine("write", path, &error))?;
    }
    Ok(())
}

/// Takes away what a program wrote beside its pictures, and the files that were written for it. What is kept goes beside
/// its log.
///
/// # Errors
/// When something can be neither moved nor removed.
pub fn clear_besides(step: &CommandLine) -> Result<(), Failure> {
    for file in &step.files {
        remove(Path::new(&file.path))?;
    }
    if !step.files.is_empty() {
        of(step).into_iter().for_each(|stage| drop(std::fs::remove_dir(stage.join(WRITTEN))));
    }
    if step.besides.is_empty() {
        return Ok(());
    }
    let mut folders = BTreeSet::new();
    for path in staged(step) {
        let name = from_system(&path);
        let Some((relative, is_kept)) = step.beside(&name).filter(|_| step.place(&name).is_none()) else { continue };
        if is_kept {
            let target = Path::new(&step.kept()).join(relative);
            let folder = target.parent().unwrap_or(Path::new("."));
            // Logs may lie on another file system than the stage folder.
            let kept = std::fs::create_dir_all(folder).and_then(|()| std::fs::copy(&path, &target));
            kept.map_err(|error| Failure::machine("write", &target, &error))?;
        }
        remove(&path)?;
        folders.extend(path.parent().map(Path::to_owned));
    }
    // Folders that only held these go with them; one that still holds something stays.
    for folder in folders.iter().rev().filter(|folder| !of(step).contains(folder.as_path())) {
        let _ = std::fs::remove_dir(folder);
    }
    Ok(())
}

/// The stage folders of a step, each once.
#[must_use]
pub fn of(step: &CommandLine) -> BTreeSet<&Path> {
    step.writes.iter().map(|write| Path::new(&write.stage)).collect()
}

/// Everything that lies in the stage folders of a step, each file once.
#[must_use]
pub fn staged(step: &CommandLine) -> BTreeSet<PathBuf> {
    of(step).into_iter().flat_map(files).collect()
}
