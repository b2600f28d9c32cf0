//! A folder to work in, beside the file that is to come of it. It goes with its owner; what a killed owner leaves is removed by
//! the next one in the same folder.

use std::fs::File;
use std::path::{Path, PathBuf};

use tempfile::TempDir;

/// How the names of such folders begin; the machine follows.
const PREFIX: &str = ".truepath-";
/// The file in each that its owner holds locked. The kernel lets go of it with the owner, whatever ends that.
const LOCK: &str = "lock";
/// Letters of the machine's name.
const HOST: usize = 24;

/// A folder to work in.
#[derive(Debug)]
pub struct Scratch {
    // Closed before the folder is removed: some systems remove nothing that is open.
    _lock: File,
    folder: TempDir,
}

impl Scratch {
    /// A new folder in `folder`, on the same file system as all that lies there. What is left of others is removed first.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn within(folder: &Path) -> std::io::Result<Scratch> {
        let prefix = prefix();
        sweep(folder, &prefix);
        let mut left = 3;
        loop {
            let made = tempfile::Builder::new().prefix(&prefix).tempdir_in(folder)?;
            // Until it is locked, somebody who sweeps may take it for one that was left.
            let lock = File::options().write(true).create_new(true).open(made.path().join(LOCK));
            match lock.and_then(|lock| held(&lock, made.path()).map(|()| lock)) {
                Ok(lock) => return Ok(Scratch { _lock: lock, folder: made }),
                Err(error) if left == 0 => return Err(error),
                Err(_) => left -= 1,
            }
        }
    }

    /// The folder.
    #[must_use]
    pub fn path(&self) -> &Path {
        self.folder.path()
    }

    /// A file in it.
    #[must_use]
    pub fn file(&self, name: impl AsRef<Path>) -> PathBuf {
        self.folder.path().join(name)
    }
}

/// Holds a lock. Where the file system knows no locks, nobody can tell either that its owner is gone.
fn held(lock: &File, folder: &Path) -> std::io::Result<()> {
    match lock.try_lock() {
        Err(std::fs::TryLockError::WouldBlock) => Err(std::io::ErrorKind::WouldBlock.into()),
        _ => folder.join(LOCK).symlink_metadata().map(drop),
    }
}

/// The prefix of this machine: of another machine's locks, some file systems know nothing.
fn prefix() -> String {
    let host = gethostname::gethostname().to_string_lossy().into_owned();
    let host: String = host.chars().filter(|sign| sign.is_ascii_alphanumeric() || *sign == '-').take(HOST).collect();
    format!("{PREFIX}{host}-")
}

/// Removes what owners have left that are gone for certain.
fn sweep(folder: &Path, prefix: &str) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok) {
        let is_folder = entry.file_type().is_ok_and(|kind| kind.is_dir());
        if !is_folder || !entry.file_name().to_string_lossy().starts_with(prefix) {
            continue;
        }
        let path = entry.path();
        match File::options().write(true).open(path.join(LOCK)) {
            // Somebody else may be sweeping it, too.
            Ok(lock) if lock.try_lock().is_ok() => drop(std::fs::remove_dir_all(&path)),
            Ok(_) => {}
            // Its owner was ended before it was locked, or is about to lock it: then it makes another one.
            Err(_) => drop(std::fs::remove_dir(&path)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::{LOCK, Scratch, prefix};

    #[test]
    fn what_is_left_goes_and_what_is_held_stays() {
        let folder = tempfile::tempdir().expect("a folder");
        let left = |name: &str| folder.path().join(format!("{}{name}", prefix()));
        std::fs::create_dir_all(left("killed").join("deep")).expect("room");
        std::fs::write(left("killed").join(LOCK), "").expect("room");
        std::fs::create_dir(left("unlocked")).expect("room");
        std::fs::create_dir(folder.path().join(".truepath-elsewhere.example-x")).expect("room");
        let first = Scratch::within(folder.path()).expect("room");
        std::fs::write(first.file("part"), "half").expect("room");
        assert!(!left("killed").exists() && !left("unlocked").exists());
        let second = Scratch::within(folder.path()).expect("room");
        assert!(first.file("part").exists() && second.path().exists());
        drop((first, second));
        let names: Vec<_> = std::fs::read_dir(folder.path()).expect("it is there").flatten().collect();
        assert_eq!(names.len(), 1, "what another machine left stays: {names:?}");
    }
}
