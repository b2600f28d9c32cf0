//! Looking values up that are pinned afterwards: clock, user, host and the versions on disk.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use regex_lite::Regex;
use truepath_core::pins::{Moment, Wanted};
use truepath_core::plan::Plan;
use truepath_core::template::{Clock, Pattern, Piece};

use crate::lower::Surroundings;

/// Who looks, where and when.
pub fn now(around: &Surroundings) -> Moment {
    let now = around.now();
    let clock = Clock {
        year: now.year(),
        month: now.month(),
        day: now.day(),
        hour: now.hour(),
        minute: now.minute(),
        second: now.second(),
        day_of_year: now.day_of_year(),
    };
    Moment { clock: Some(clock), user: around.user.clone(), host: Some(around.host.clone()) }
}

/// The versions that jobs would have, by those on disk and those that had a first run before. `looking` is a plan in which
/// they are holes.
pub fn versions(wanted: &Wanted, looking: &Plan) -> BTreeMap<String, i64> {
    let mut all = BTreeMap::new();
    for (job, next) in wanted.jobs.iter().filter_map(|(job, wanted)| Some((job, wanted.version?))) {
        let own = looking.series.iter().chain(&looking.movies).filter(|series| looking.jobs[series.job].job == *job);
        // One that had its first run on another day may lie in that day's folder.
        let before = looking.pins.versions(job, looking.pin_mode.as_deref());
        let highest = own.flat_map(|series| versions_of(&series.pattern)).chain(before).max();
        let version = if next { Some(highest.map_or(1, |highest| highest + 1)) } else { highest };
        all.extend(version.map(|version| (job.clone(), version)));
    }
    all
}

/// Every version among the files and folders that a pattern with holes for version and frame could name.
pub fn versions_of(pattern: &Pattern) -> BTreeSet<i64> {
    let mut found = BTreeSet::new();
    let parts = pattern.parts();
    // The first part is what stands before the first separator: nothing, or a drive.
    let top = parts.split_first().and_then(|(top, rest)| Some((top.fixed()?, rest)));
    if let Some((top, rest)) = top.filter(|_| pattern.pieces().contains(&Piece::Version)) {
        walk(Path::new(&format!("{top}/")), rest, None, &mut found);
    }
    found
}

fn walk(folder: &Path, parts: &[Pattern], version: Option<i64>, found: &mut BTreeSet<i64>) {
    let Some((part, rest)) = parts.split_first() else { return };
    if let Some(part) = part.fixed() {
        let next = folder.join(part);
        if rest.is_empty() {
            if next.exists() {
                found.extend(version);
            }
        } else {
            walk(&next, rest, version, found);
        }
        return;
    }
    let mut named = false;
    let piece = |piece: &Piece| match piece {
        Piece::Text(text) => regex_lite::escape(text),
        Piece::Frame { .. } => r"-?\d+".to_owned(),
        Piece::Version if std::mem::replace(&mut named, true) => r"v\d+".to_owned(),
        Piece::Version => r"v(?<version>\d+)".to_owned(),
    };
    let rule: String = part.pieces().iter().map(piece).collect();
    // A part made of escaped text and fixed pieces is always a regular expression.
    let Ok(regex) = Regex::new(&format!("^{rule}$")) else { return };
    for entry in std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok) {
        let name = entry.file_name().to_string_lossy().into_owned();
        let Some(read) = regex.captures(&name) else { continue };
        let here = read.name("version").and_then(|version| version.as_str().parse::<i64>().ok());
        let version = version.or(here);
        // A version folder counts even while it is empty: somebody has begun it.
        found.extend(version);
        walk(&entry.path(), rest, version, found);
    }
}
