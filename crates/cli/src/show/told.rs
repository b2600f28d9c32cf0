//! What the project library tells, on a terminal: a count of what is read, a run as it happens, and notes.

use std::sync::{Mutex, PoisonError};

use truepath_project::{Listener, News, Read};

use super::counter::Counter;
use super::diagnostics;
use super::progress::Progress;
use super::tell;
use crate::lower::Around;

/// Shows on standard error what it hears; events on standard output where they are asked for.
pub struct Told<'t> {
    around: &'t Around,
    json: bool,
    scenes: Counter,
    files: Counter,
    run: Mutex<ShownRun>,
}

/// What is shown of a run.
#[derive(Default)]
struct ShownRun {
    /// Whether findings were told: a sheet that is opened again is the same one.
    findings: bool,
    progress: Option<Progress>,
}

impl<'t> Told<'t> {
    /// What is done for people.
    pub fn new(around: &'t Around) -> Told<'t> {
        let (scenes, files) =
            (Counter::new("reading scenes, MB", around.err), Counter::new("reading files", around.err));
        Told { around, json: false, scenes, files, run: Mutex::default() }
    }

    /// The same with events as lines of JSON, where that is asked for.
    pub fn run(around: &'t Around, json: bool) -> Told<'t> {
        Told { json, ..Told::new(around) }
    }
}

impl Listener for Told<'_> {
    fn hear(&self, news: News<'_>) {
        match news {
            News::Reading(Read::Scenes, more) => return self.scenes.add(more),
            News::Reading(Read::Files, more) => return self.files.add(more),
            News::ReadingOver => {
                self.scenes.end();
                return self.files.end();
            }
            News::Note(note) => return tell(&format!("{note}\n")),
            _ => {}
        }
        let mut shown = self.run.lock().unwrap_or_else(PoisonError::into_inner);
        match news {
            News::Opened { sheets, findings, sources } if !shown.findings => {
                shown.findings = true;
                diagnostics::tell((findings, sources), &diagnostics::names(sheets, self.around), self.around.err);
            }
            News::Rendering(rendering) => {
                shown.progress = Some(Progress::new(&rendering, (self.json, self.around.err)))
            }
            News::Events(events) => {
                if let Some(progress) = &mut shown.progress {
                    progress.follow(events);
                }
            }
            News::RenderingOver => {
                if let Some(mut progress) = shown.progress.take() {
                    progress.end();
                }
            }
            _ => {}
        }
    }
}
