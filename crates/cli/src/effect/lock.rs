//! The sheet's state folder and the kernel lock on it: gone with the process, whatever ends it.

use std::fs::File;
use std::io::{Read, Seek, Write};
use std::path::{Path, PathBuf};

use crate::exit_code::{Exit, Failure};

/// `.truepath/<sheet>/` beside the sheet.
pub fn state_folder(sheet: &Path) -> PathBuf {
    let name = sheet.file_stem().unwrap_or_default();
    sheet.parent().unwrap_or(Path::new(".")).join(".truepath").join(name)
}

/// Holds the state folder for this process alone, as long as it lives.
pub struct Lock {
    _file: File,
}

/// Takes the lock, or says who holds it. Workers that share the sheet hold it together.
pub fn take(state: &Path, host: &str, share: bool) -> Result<Lock, Failure> {
    let failure = |error: &std::io::Error| {
        Failure::machine("write the state folder", state, error)
            .help("the state lies beside the sheet: let this user write there")
    };
    std::fs::create_dir_all(state).map_err(|error| failure(&error))?;
    let path = state.join("lock");
    let mut file = File::options()
        .read(true)
        .write(true)
        .create(true)
        .truncate(false)
        .open(&path)
        .map_err(|error| failure(&error))?;
    match if share { file.try_lock_shared() } else { file.try_lock() } {
        Ok(()) => {}
        Err(std::fs::TryLockError::WouldBlock) => {
            let mut holder = String::new();
            // The name of the holder is a courtesy; the lock itself is the kernel's word.
            let _ = file.read_to_string(&mut holder);
            let who = if holder.trim().is_empty() { "another run" } else { holder.trim() };
            let message = format!("this sheet is being rendered already, by {who}");
            return Err(Failure {
                message,
                help: Some("wait for it, or end it: a run can always be continued".to_owned()),
                exit: Exit::Machine,
            });
        }
        Err(std::fs::TryLockError::Error(error)) => return Err(failure(&error)),
    }
    let written = file
        .set_len(0)
        .and_then(|()| file.rewind())
        .and_then(|()| writeln!(file, "process {} on {host}", std::process::id()));
    written.map_err(|error| failure(&error))?;
    Ok(Lock { _file: file })
}
