//! The journal: what happened, appended line by line, one file per process. Nothing is written for a run that does nothing.

use std::collections::HashMap;
use std::fs::File;
use std::hash::{BuildHasher, Hasher, RandomState};
use std::io::{BufRead, BufReader, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::Instant;

use truepath_core::pins::Pins;
use truepath_core::plan::{Series, SeriesKind};
use truepath_core::resolve::paths::from_system;
use truepath_core::run::event::{Began, Event, SeriesOf, Task, VERSION};
use truepath_core::run::fingerprint::Fingerprint;
use truepath_core::run::history::{Depth, History, JournalUnread};

use super::{StateFolder, looked};
use crate::disk::{self, milliseconds};
use crate::failure::Failure;
use crate::process::identity;
use crate::threads::Cores;

/// The journal of this process.
pub struct Journal {
    path: PathBuf,
    /// The state folder.
    state: String,
    began: Began,
    since: Instant,
    open: Mutex<Open>,
}

/// Who opens a journal, and when.
pub struct Opening<'o> {
    /// The machine.
    pub host: &'o str,
    /// The time of day, RFC 3339.
    pub at: String,
    /// The same in seconds since 1970.
    pub second: i64,
    /// Whether others work on the same plan.
    pub share: bool,
    /// The task of a cluster's scheduler that this is.
    pub task: Option<Task>,
}

#[derive(Default)]
struct Open {
    file: Option<File>,
    /// Whether the last line may have been written in part only.
    torn: bool,
    /// What was said last of each series: where it lies.
    series: HashMap<String, String>,
}

impl Journal {
    /// A journal `<host>-<start>-<random>.jsonl`, which comes to be with its first event. `turn` comes after those of all
    /// journals that are there.
    #[must_use]
    pub fn new(state: &StateFolder, opening: &Opening<'_>, turn: u64) -> Journal {
        // Chance that needs no clock: two runs may start in one second, and clocks go back.
        let tag = format!("{:06x}", RandomState::new().build_hasher().finish() & 0xff_ffff);
        let name = format!("{}-{}-{tag}.jsonl", opening.host, opening.second);
        let id = std::process::id();
        let began = Began {
            truepath: VERSION,
            turn,
            tag,
            host: opening.host.to_owned(),
            process: id,
            born: identity::born(id),
            boot: identity::boot(),
            space: identity::space(),
            at: opening.at.clone(),
            share: opening.share,
            task: opening.task.clone(),
            files: 0,
            pins: None,
        };
        let path = state.journals().join(name);
        Journal { path, state: from_system(state.folder()), began, since: Instant::now(), open: Mutex::default() }
    }

    /// What stage folders of this run end with.
    pub fn tag(&self) -> &str {
        &self.began.tag
    }

    /// The journal's file name.
    pub fn name(&self) -> String {
        self.path.file_name().unwrap_or_default().to_string_lossy().into_owned()
    }

    /// Who runs, for so many files, and with which looked-up values.
    pub fn began(&self, files: i64, pins: &Pins) -> Event {
        let pins = Some(pins.fixed()).filter(|pins| *pins != Pins::default());
        Event::Began(Began { files, pins, ..self.began.clone() })
    }

    /// Seconds since it began, to the millisecond.
    pub fn t(&self) -> f64 {
        millis(self.since.elapsed().as_secs_f64())
    }

    /// Says once what the frames of a series are made of; the event, when it was said.
    ///
    /// # Errors
    /// When the journal cannot be written.
    pub fn announce(&self, series: &Series, made: Option<&Fingerprint>) -> Result<Option<Event>, Failure> {
        let before = self.lock().series.insert(series.id.clone(), series.place.clone());
        // A movie that is made again may be made of other frames, and another version lies in another place.
        if before.as_ref() == Some(&series.place) && series.kind != SeriesKind::Movie {
            return Ok(None);
        }
        let event = Event::Series(SeriesOf {
            series: series.id.clone(),
            pattern: series.place.clone(),
            shift: series.shift.0,
            made: made.map(|made| made.parts.clone()).unwrap_or_default(),
        });
        self.write(&event)?;
        Ok(Some(event))
    }

    /// Writes one event down, as one line in one write.
    ///
    /// # Errors
    /// When the journal cannot be written.
    pub fn write(&self, event: &Event) -> Result<(), Failure> {
        let mut open = self.lock();
        let failure = |error: &std::io::Error| Failure::machine("write the journal", &self.path, error);
        let mut text = if open.torn { "\n".to_owned() } else { String::new() };
        if open.file.is_none() {
            let folder = self.path.parent().unwrap_or(Path::new("."));
            let made = std::fs::create_dir_all(folder)
                .and_then(|()| File::options().append(true).create_new(true).open(&self.path));
            open.file = Some(made.map_err(|error| failure(&error))?);
            if !matches!(event, Event::Began(_)) {
                text = self.began(0, &Pins::default()).line();
            }
        }
        text.push_str(&event.clone().kept(&self.state).line());
        let Some(file) = &mut open.file else { return Ok(()) };
        let written = file.write_all(text.as_bytes());
        // What comes after a line that was cut off must not become a part of it.
        open.torn = written.is_err();
        written.map_err(|error| failure(&error))
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
#[must_use]
pub fn list(state: &StateFolder) -> Vec<(String, u64)> {
    let entries = std::fs::read_dir(state.journals()).into_iter().flatten().filter_map(Result::ok);
    let named = entries.filter_map(|entry| {
        let name = entry.file_name().to_string_lossy().into_owned();
        Some((name, entry.metadata().ok()?.len())).filter(|(name, _)| name.ends_with(".jsonl"))
    });
    let mut all: Vec<_> = named.collect();
    all.sort();
    all
}

/// Bytes of a journal's first line that are read: who began, and its pins.
const MOST_FIRST: u64 = 16 << 20;

/// The first line of a journal; of what is no journal, some of what stands there.
fn first_line(path: &Path) -> std::io::Result<String> {
    let mut first = Vec::new();
    BufReader::new(disk::open(path)?).take(MOST_FIRST).read_until(b'\n', &mut first)?;
    Ok(String::from_utf8_lossy(&first).into_owned())
}

/// The looked-up values of all runs that had any; where they differ, those of the last.
#[must_use]
pub fn earlier_pins(state: &StateFolder) -> Pins {
    let began = list(state).into_iter().filter_map(|(name, _)| {
        let first = first_line(&state.journals().join(name)).ok()?;
        let Ok(Event::Began(Began { turn, pins: Some(pins), .. })) = serde_json::from_str(&first) else { return None };
        Some((turn, pins))
    });
    let mut all: Vec<(u64, Pins)> = began.collect();
    all.sort_by_key(|(turn, _)| std::cmp::Reverse(*turn));
    all.into_iter().fold(Pins::default(), |sum, (_, pins)| sum.with(pins))
}

/// Reads all journals of a sheet, in the order in which they began.
///
/// # Errors
/// When a journal cannot be read, or was written in a version that is not defined.
pub fn read(state: &StateFolder, depth: Depth) -> Result<History, Failure> {
    read_some(state, depth, |_| true)
}

/// Reads those journals whose names are `wanted`.
///
/// # Errors
/// As [`read`].
pub fn read_some(state: &StateFolder, depth: Depth, wanted: impl Fn(&str) -> bool) -> Result<History, Failure> {
    let journals = list(state);
    let path = |name: &str| state.journals().join(name);
    let failure = |name: &str, error: &std::io::Error| Failure::machine("read the journal", path(name), error);
    let mut order: Vec<(u64, &str)> = Vec::new();
    for (name, _) in journals.iter().filter(|(name, _)| wanted(name)) {
        let first = first_line(&path(name)).map_err(|error| failure(name, &error))?;
        // A first line that was cut off is the only one.
        let turn = if let Ok(Event::Began(began)) = serde_json::from_str(&first) { began.turn } else { 0 };
        order.push((turn, name));
    }
    order.sort();
    let mut history = History::default();
    history.state = from_system(state.folder());
    for (_, name) in order {
        let file = disk::open(&path(name)).map_err(|error| failure(name, &error))?;
        let written = file.metadata().and_then(|about| about.modified()).map_or(i64::MAX, milliseconds);
        match history.read(BufReader::new(file), depth, &Cores) {
            Ok(()) => history.written_at(written),
            Err(JournalUnread::Bytes(error)) => return Err(failure(name, &error)),
            Err(JournalUnread::Version(version)) => {
                let words = format!(
                    "the journal {} has version {version}, and this True Path reads version {VERSION}",
                    path(name).display()
                );
                let help = "use the True Path that wrote it, or move the journal away; its files then count as foreign";
                return Err(Failure::unreadable(words).help(help));
            }
        }
    }
    tracing::info!(folder = %state.journals().display(), journals = history.sessions.len(), "read");
    history.sort();
    history.looked = looked::read(state);
    history.journals = journals;
    Ok(history)
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use truepath_core::run::event::{Event, read};

    use super::{File, Journal, Opening, StateFolder};

    #[test]
    fn a_line_that_was_cut_off_never_joins_the_next() {
        let folder = tempfile::tempdir().expect("a folder");
        let state = StateFolder::of(&folder.path().join("night.toml")).expect("no state yet");
        let opening = Opening { host: "here", at: String::new(), second: 0, share: false, task: None };
        let journal = Journal::new(&state, &opening, 1);
        let event = |frame| Event::Late { series: "crossing/beauty".to_owned(), frame };
        journal.write(&event(1)).expect("room");
        // The disk takes half of a line and no more; later there is room again.
        let whole = journal.lock().file.take().expect("it is open");
        (&whole).write_all(&event(2).line().as_bytes()[..20]).expect("room");
        journal.lock().file = Some(File::open(&journal.path).expect("it is there"));
        assert!(journal.write(&event(2)).is_err(), "it is open for reading only");
        journal.lock().file = Some(whole);
        journal.write(&event(3)).expect("room");
        journal.write(&event(4)).expect("room");
        let text = std::fs::read_to_string(&journal.path).expect("it is there");
        let kept: Vec<Event> = read(&text).skip(1).collect();
        assert_eq!(kept, [event(1), event(3), event(4)], "{text}");
        assert!(text.ends_with('\n') && text.lines().count() == 5, "{text}");
    }
}
