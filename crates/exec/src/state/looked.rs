//! What looks at files have found: a file for each command that found anything new, in the order of their numbers.

use std::hash::{BuildHasher, Hasher, RandomState};
use std::sync::{Mutex, PoisonError};

use truepath_core::run::looked::{FindingLine, LookedFiles};

use super::StateFolder;
use crate::disk;

/// Bytes of one file of findings that are read, and those after which another one is begun.
const MOST: u64 = 64 << 20;
const FULL: usize = 32 << 20;

/// Gathers what one command finds, and writes it down at the end.
#[derive(Debug)]
pub struct Keeper<'s> {
    state: &'s StateFolder,
    /// The text of each file.
    texts: Mutex<Vec<String>>,
}

impl Keeper<'_> {
    /// Findings of a sheet.
    #[must_use]
    pub fn of(state: &StateFolder) -> Keeper<'_> {
        Keeper { state, texts: Mutex::default() }
    }

    /// Takes a finding.
    pub fn keep(&self, line: &FindingLine) {
        let mut texts = self.texts.lock().unwrap_or_else(PoisonError::into_inner);
        match texts.last_mut().filter(|text| text.len() < FULL) {
            Some(text) => text.push_str(&line.text()),
            None => texts.push(line.text()),
        }
    }
}

impl Drop for Keeper<'_> {
    /// Where nothing can be written, others have to find out for themselves.
    fn drop(&mut self) {
        let texts = self.texts.get_mut().unwrap_or_else(PoisonError::into_inner);
        for text in texts {
            let last = names(self.state).last().and_then(|name| name.split('-').next()?.parse::<u64>().ok());
            let random = RandomState::new().build_hasher().finish();
            let path = self.state.looked().join(format!("{:08}-{random:016x}.jsonl", last.unwrap_or(0) + 1));
            if let Err(error) = self.state.make().and_then(|()| disk::keep(&path, text)) {
                tracing::warn!(path = %path.display(), %error, "what was found is not kept");
            }
        }
    }
}

/// All that was found of a sheet's files.
#[must_use]
pub fn read(state: &StateFolder) -> LookedFiles {
    let mut looked = LookedFiles::default();
    for name in names(state) {
        if let Ok(bytes) = disk::read(&state.looked().join(name), MOST) {
            looked.read(&String::from_utf8_lossy(&bytes));
        }
    }
    looked
}

/// The files of findings, the oldest first.
fn names(state: &StateFolder) -> Vec<String> {
    let entries = std::fs::read_dir(state.looked()).into_iter().flatten().filter_map(Result::ok);
    let names = entries.map(|entry| entry.file_name().to_string_lossy().into_owned());
    let mut names: Vec<String> = names.filter(|name| name.ends_with(".jsonl")).collect();
    names.sort();
    names
}
