//! Looking values up that are pinned afterwards: clock, user, host and the versions on disk.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use regex_lite::Regex;
use truepath_core::pins::{Moment, Wanted};
use truepath_core::plan::Plan;
use truepath_core::template::{Clock, Pattern, Piece};

use crate::surroundings::Surroundings;

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
/// they are holes, `others` are such plans of other modes.
pub fn versions(wanted: &Wanted, looking: &Plan, others: &[Plan]) -> BTreeMap<String, i64> {
    let mut all = BTreeMap::new();
    for (job, next) in wanted.jobs.iter().filter_map(|(job, wanted)| Some((job, wanted.version?))) {
        let own = found(looking, job);
        // One that had its first run on another day may lie in that day's folder.
        let before = looking.pins.versions(job, looking.pin_mode.as_deref());
        // A folder that drafts and finals have in common for a version is begun for those only that have files in it.
        let with_files = others.iter().flat_map(|other| found(other, job)).filter(|(_, is_file)| *is_file);
        let of_others: BTreeSet<i64> = with_files.map(|(version, _)| version).collect();
        let begun = own.into_iter().filter(|(version, is_file)| *is_file || !of_others.contains(version));
        let highest = begun.map(|(version, _)| version).chain(before).max();
        let version = if next { Some(highest.map_or(1, |highest| highest + 1)) } else { highest };
        all.extend(version.map(|version| (job.clone(), version)));
    }
    all
}

/// The versions that are there of a job, and whether any has a file.
fn found(looking: &Plan, job: &str) -> BTreeMap<i64, bool> {
    let mut all = BTreeMap::new();
    let own = looking.series.iter().chain(&looking.movies).filter(|series| looking.jobs[series.job].job == job);
    for (version, is_file) in own.flat_map(|series| versions_of(&series.pattern)) {
        *all.entry(version).or_default() |= is_file;
    }
    all
}

/// Every version among the files and folders that a pattern with holes for version and frame could name, and whether a whole
/// file's name was found.
pub fn versions_of(pattern: &Pattern) -> BTreeMap<i64, bool> {
    let mut found = BTreeMap::new();
    let parts = pattern.parts();
    // The first part is what stands before the first separator: nothing, or a drive.
    let top = parts.split_first().and_then(|(top, rest)| Some((top.fixed()?, rest)));
    if let Some((top, rest)) = top.filter(|_| pattern.pieces().contains(&Piece::Version)) {
        walk(Path::new(&format!("{top}/")), rest, None, &mut found);
    }
    found
}

fn walk(folder: &Path, parts: &[Pattern], version: Option<i64>, found: &mut BTreeMap<i64, bool>) {
    let Some((part, rest)) = parts.split_first() else { return };
    if let Some(part) = part.fixed() {
        let next = folder.join(part);
        if rest.is_empty() {
            if let Some(version) = version.filter(|_| next.exists()) {
                found.insert(version, true);
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
        if let Some(version) = version {
            *found.entry(version).or_default() |= rest.is_empty();
        }
        walk(&entry.path(), rest, version, found);
    }
}
