//! The journal: what happened, appended line by line, one file per worker.

use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::{SystemTime, UNIX_EPOCH};

use truepath_core::run::event::Event;

use crate::exit_code::Failure;

/// An open journal.
pub struct Journal {
    path: PathBuf,
    file: Mutex<File>,
}

impl Journal {
    /// Begins a journal of this process: `<host>-<start>-<random>.jsonl`.
    pub fn begin(state: &Path, host: &str) -> Result<Journal, Failure> {
        let start = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        let odd = blake3::hash(format!("{} {start:?}", std::process::id()).as_bytes()).to_hex();
        let folder = state.join("journal");
        let path = folder.join(format!("{host}-{}-{}.jsonl", start.as_secs(), &odd[..6]));
        let opened =
            std::fs::create_dir_all(&folder).and_then(|()| File::options().append(true).create_new(true).open(&path));
        let file = opened.map_err(|error| Failure::machine("write the journal", &path, &error))?;
        Ok(Journal { path, file: Mutex::new(file) })
    }

    /// Writes one event down, as one line in one write.
    pub fn write(&self, event: &Event) -> Result<(), Failure> {
        let mut line = serde_json::to_string(event).unwrap_or_default();
        line.push('\n');
        let mut file = self.file.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        file.write_all(line.as_bytes()).map_err(|error| Failure::machine("write the journal", &self.path, &error))
    }
}
