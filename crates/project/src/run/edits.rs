//! A sheet that is edited while it is rendered is told.

use std::path::PathBuf;
use std::time::{Duration, Instant};

use truepath_core::run::event::Event;
use truepath_core::run::meant::Intent;
use truepath_core::sheet::Existing;
use truepath_exec::disk;

use super::RunRequest;
use super::agree::meant;
use crate::open::{LoadOptions, Loaded, Queue, load, open};
use crate::surroundings::Surroundings;

/// The files that a plan was read from, so that a change of them under way is noticed.
pub(super) struct Edits<'e> {
    request: RunRequest<'e>,
    files: Vec<(PathBuf, Option<disk::Stamp>)>,
    own: Intent,
    choice: Existing,
    /// When they may be looked at again: looking takes a small part of the time.
    due: Instant,
}

/// How much longer than a look the next one waits, and how long at least.
const REST: u32 = 50;
const PAUSE: Duration = Duration::from_secs(1);

impl<'e> Edits<'e> {
    pub(super) fn of(request: &RunRequest<'e>, loaded: &Loaded, choice: Existing) -> Edits<'e> {
        let scenes = loaded.plan.jobs.iter().filter_map(|job| Some(PathBuf::from(&job.scene.as_ref()?.value)));
        let mut files: Vec<PathBuf> = request.texts.iter().cloned().chain(scenes).collect();
        files.sort();
        files.dedup();
        let files = files.into_iter().map(|file| (file.clone(), disk::stamp(&file))).collect();
        Edits { request: *request, files, own: meant(loaded, choice), choice, due: Instant::now() }
    }

    /// What changed since it was looked at last, in words: looked at where a call is over.
    pub(super) fn noticed(&mut self, events: &[Event]) -> Option<String> {
        let began = Instant::now();
        if began < self.due || !events.iter().any(|event| matches!(event, Event::Ended(_))) {
            return None;
        }
        let mut changed = Vec::new();
        for (file, before) in &mut self.files {
            let now = disk::stamp(file);
            if now != *before {
                *before = now;
                changed.push(load::short(file, &self.request.around.folder));
            }
        }
        self.due = Instant::now() + (began.elapsed() * REST).max(PAUSE);
        let files = (!changed.is_empty()).then(|| changed.join(", "))?;
        let what = self.anew().unwrap_or_else(|| "it cannot be read as it is now".to_owned());
        // A comment, or another part of the sheet.
        (!what.is_empty()).then(|| format!("{files}: {what}"))
    }

    /// In what the sheet as it is now differs from the plan.
    fn anew(&self) -> Option<String> {
        let RunRequest { asked, options, around, at, .. } = self.request;
        let queue = open(asked, around, LoadOptions::default(), &()).ok()?;
        let mut loaded = queue.sheets.into_iter().nth(at).filter(|loaded| loaded.stopped().is_none())?;
        if let Some(chunk) = options.chunk {
            loaded.plan.run.chunk = chunk;
        }
        loaded.look_up_made(around, &());
        let now = meant(&loaded, self.choice);
        let mut words = self.own.differs(&now);
        if let Some(conflict) = now.conflict(&self.own) {
            words.extend(conflict.differences.iter().map(|one| format!("{}: {one}", conflict.series)));
        }
        Some(words.join("; "))
    }
}

/// The texts that the sheets of a call were read from.
pub(super) fn texts(queue: &Queue, around: &Surroundings) -> Vec<PathBuf> {
    queue.sources.all().map(|source| around.folder.join(&source.name)).filter(|path| path.is_file()).collect()
}
