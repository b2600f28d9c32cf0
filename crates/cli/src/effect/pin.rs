//! Looking values up and pinning them: clock, user, host and the versions on disk.

use std::io::ErrorKind;
use std::path::{Path, PathBuf};

use regex_lite::Regex;
use truepath_core::pins::{Pins, VERSION_HOLE, Wanted};
use truepath_core::plan::Plan;
use truepath_core::template::{Clock, Pattern};

use super::lock::state_folder;
use crate::exit_code::Failure;
use crate::lower::Surroundings;

fn path_of(sheet: &Path) -> PathBuf {
    state_folder(sheet).join("pins.json")
}

/// The pins of a sheet; none where none were made.
pub fn read(sheet: &Path) -> Result<Pins, Failure> {
    let path = path_of(sheet);
    match std::fs::read_to_string(&path) {
        Ok(text) => serde_json::from_str(&text).map_err(|error| {
            Failure::unreadable(format!("cannot read the pins in {}: {error}", path.display()))
                .help("--anew looks everything up again")
        }),
        Err(error) if matches!(error.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => Ok(Pins::default()),
        Err(error) => Err(Failure::machine("read", &path, &error)),
    }
}

/// Pins `pins` for all who work on the sheet. Where somebody was faster, theirs hold and are returned. `over` replaces
/// what was pinned before.
pub fn write(sheet: &Path, pins: &Pins, over: bool) -> Result<Pins, Failure> {
    let path = path_of(sheet);
    let failure = |error: &std::io::Error| Failure::machine("write the pins", &path, error);
    let folder = state_folder(sheet);
    std::fs::create_dir_all(&folder).map_err(|error| failure(&error))?;
    let text = serde_json::to_string_pretty(pins).unwrap_or_default();
    // Written whole beside its place first: nobody ever reads half of it.
    let beside = folder.join(format!("pins.{}", std::process::id()));
    std::fs::write(&beside, text).map_err(|error| failure(&error))?;
    let made = if over { std::fs::rename(&beside, &path) } else { std::fs::hard_link(&beside, &path) };
    // After a rename it is gone already.
    let _ = std::fs::remove_file(&beside);
    match made {
        Ok(()) => Ok(pins.clone()),
        Err(error) if error.kind() == ErrorKind::AlreadyExists => {
            let theirs = read(sheet)?;
            let both = theirs.clone().with(pins.clone());
            if both == theirs { Ok(theirs) } else { write(sheet, &both, true) }
        }
        Err(error) => Err(failure(&error)),
    }
}

/// Looks up clock, user and host, as far as they are wanted.
pub fn now(wanted: &Wanted, around: &Surroundings) -> Pins {
    let mut pins = Pins::default();
    if wanted.clock {
        let now = around.now();
        pins.clock = Some(Clock {
            year: now.year(),
            month: now.month(),
            day: now.day(),
            hour: now.hour(),
            minute: now.minute(),
            second: now.second(),
            day_of_year: now.day_of_year(),
        });
    }
    pins.user = around.user.clone().filter(|_| wanted.user);
    pins.host = Some(around.host.clone()).filter(|_| wanted.host);
    pins
}

/// Looks up versions on disk. `looking` is a plan in which they are holes.
pub fn versions(wanted: &Wanted, looking: &Plan) -> Pins {
    let mut pins = Pins::default();
    for (job, next) in &wanted.versions {
        let own = looking.series.iter().chain(&looking.movies).filter(|series| looking.jobs[series.job].job == *job);
        let highest = own.filter_map(|series| highest_version(&series.pattern)).max();
        let version = if *next { Some(highest.map_or(1, |highest| highest + 1)) } else { highest };
        pins.versions.extend(version.map(|version| (job.clone(), version)));
    }
    pins
}

/// The highest version among the files and folders that a pattern with holes for version and frame could name.
fn highest_version(pattern: &Pattern) -> Option<i64> {
    let text = pattern.with_frame(|_| "\u{1}".to_owned());
    if !text.contains(VERSION_HOLE) {
        return None;
    }
    let parts: Vec<&str> = text.split('/').collect();
    let mut best = None;
    walk(Path::new("/"), &parts, None, &mut best);
    best
}

fn walk(folder: &Path, parts: &[&str], version: Option<i64>, best: &mut Option<i64>) {
    let Some((part, rest)) = parts.split_first() else { return };
    if !part.contains([VERSION_HOLE.chars().next().unwrap_or(' '), '\u{1}']) {
        let next = folder.join(part);
        if rest.is_empty() {
            if next.exists() {
                *best = (*best).max(version);
            }
        } else {
            walk(&next, rest, version, best);
        }
        return;
    }
    let escaped = regex_lite::escape(part)
        .replacen(VERSION_HOLE, r"v(?<version>\d+)", 1)
        .replace(VERSION_HOLE, r"v\d+")
        .replace('\u{1}', r"-?\d+");
    // A part made of escaped text and fixed pieces is always a regular expression.
    let Ok(regex) = Regex::new(&format!("^{escaped}$")) else { return };
    for entry in std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok) {
        let name = entry.file_name().to_string_lossy().into_owned();
        let Some(found) = regex.captures(&name) else { continue };
        let here = found.name("version").and_then(|version| version.as_str().parse::<i64>().ok());
        let version = version.or(here);
        // A version folder counts even while it is empty: somebody has begun it.
        *best = (*best).max(version);
        walk(&entry.path(), rest, version, best);
    }
}
