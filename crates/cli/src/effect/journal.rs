//! The journal: what happened, appended line by line, one file per process. Nothing is written for a run that does nothing.

use std::collections::HashSet;
use std::fs::File;
use std::hash::{BuildHasher, Hasher, RandomState};
use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::Instant;

use truepath_core::plan::Series;
use truepath_core::run::event::{Began, Event, SeriesOf, VERSION};
use truepath_core::run::fingerprint::Fingerprint;
use truepath_core::run::history::{Depth, History};

use super::process;
use crate::exit_code::Failure;
use crate::lower::Surroundings;

/// The journal of this process.
pub struct Journal {
    path: PathBuf,
    began: Began,
    since: Instant,
    open: Mutex<Open>,
}

#[derive(Default)]
struct Open {
    file: Option<File>,
    series: HashSet<String>,
}

impl Journal {
    /// A journal `<host>-<start>-<random>.jsonl`, which comes to be with its first event. `turn` comes after those of all
    /// journals that are there.
    pub fn new(state: &Path, around: &Surroundings, turn: u64, share: bool) -> Journal {
        let now = around.now();
        // Chance that needs no clock: two runs may start in one second, and clocks go back.
        let tag = format!("{:06x}", RandomState::new().build_hasher().finish() & 0xff_ffff);
        let name = format!("{}-{}-{tag}.jsonl", around.host, now.timestamp().as_second());
        let id = std::process::id();
        let began = Began {
            truepath: VERSION,
            turn,
            tag,
            host: around.host.clone(),
            process: id,
            born: process::born(id),
            boot: process::boot(),
            space: process::space(),
            at: now.timestamp().to_string(),
            share,
            files: 0,
        };
        Journal { path: state.join("journal").join(name), began, since: Instant::now(), open: Mutex::default() }
    }

    /// What stage folders of this run end with.
    pub fn tag(&self) -> &str {
        &self.began.tag
    }

    /// The journal's file name.
    pub fn name(&self) -> String {
        self.path.file_name().unwrap_or_default().to_string_lossy().into_owned()
    }

    /// Who runs, for so many files.
    pub fn began(&self, files: i64) -> Event {
        Event::Began(Began { files, ..self.began.clone() })
    }

    /// Seconds since it began, to the millisecond.
    pub fn t(&self) -> f64 {
        millis(self.since.elapsed().as_secs_f64())
    }

    /// Says once what the frames of a series are made of; the event, when it was said.
    pub fn announce(&self, series: &Series, made: Option<&Fingerprint>) -> Result<Option<Event>, Failure> {
        if !self.lock().series.insert(series.id.clone()) {
            return Ok(None);
        }
        let event = Event::Series(SeriesOf {
            series: series.id.clone(),
            pattern: series.pattern.spelt(),
            shift: series.shift,
            made: made.map(|made| made.parts.clone()).unwrap_or_default(),
        });
        self.write(&event)?;
        Ok(Some(event))
    }

    /// Writes one event down, as one line in one write.
    pub fn write(&self, event: &Event) -> Result<(), Failure> {
        let mut open = self.lock();
        let failure = |error: &std::io::Error| Failure::machine("write the journal", &self.path, error);
        let mut text = String::new();
        if open.file.is_none() {
            let folder = self.path.parent().unwrap_or(Path::new("."));
            let made = std::fs::create_dir_all(folder)
                .and_then(|()| File::options().append(true).create_new(true).open(&self.path));
            open.file = Some(made.map_err(|error| failure(&error))?);
            if !matches!(event, Event::Began(_)) {
                text = self.began(0).line();
            }
        }
        text.push_str(&event.line());
        let Some(file) = &mut open.file else { return Ok(()) };
        file.write_all(text.as_bytes()).map_err(|error| failure(&error))
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Open> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Seconds to the millisecond.
pub fn millis(seconds: f64) -> f64 {
    (seconds * 1000.0).round() / 1000.0
}

/// The journals of a sheet with their bytes, by name.
pub fn list(state: &Path) -> Vec<(String, u64)> {
    let entries = std::fs::read_dir(state.join("journal")).into_iter().flatten().filter_map(Result::ok);
    let named = entries.filter_map(|entry| {
        let name = entry.file_name().to_string_lossy().into_owned();
        Some((name, entry.metadata().ok()?.len())).filter(|(name, _)| name.ends_with(".jsonl"))
    });
    let mut all: Vec<_> = named.collect();
    all.sort();
    all
}

/// Reads all journals of a sheet, in the order in which they began. One that cannot be read says less, and stops nobody.
pub fn read(state: &Path, depth: Depth) -> History {
    read_some(state, depth, |_| true)
}

/// Reads those journals whose names are `wanted`.
pub fn read_some(state: &Path, depth: Depth, wanted: impl Fn(&str) -> bool) -> History {
    let journals = list(state);
    let open = |name: &str| File::open(state.join("journal").join(name)).map(BufReader::new);
    let turn = |name: &str| {
        let mut first = String::new();
        // The first line is whole, or there is no other one.
        let _ = open(name).and_then(|mut reader| reader.read_line(&mut first));
        if let Ok(Event::Began(began)) = serde_json::from_str(&first) { began.turn } else { 0 }
    };
    let mut order: Vec<(u64, &str)> =
        journals.iter().filter(|(name, _)| wanted(name)).map(|(name, _)| (turn(name), name.as_str())).collect();
    order.sort();
    let mut history = History::default();
    for (_, name) in order {
        let read = open(name).and_then(|reader| history.read(reader, depth));
        if let Err(error) = read {
            tracing::warn!(%name, %error, "journal not read");
        }
    }
    history.settle();
    history.journals = journals;
    history
}
