//! One name, one file: whether two series share a name, or one needs a folder where another writes a file. Decided from
//! patterns and frames, never by listing names.

mod decide;

use std::collections::{HashMap, HashSet};

use crate::diagnostic::{Slug, Words};
use crate::frames::{Frames, Number};
use crate::plan::{Plan, Series};
use crate::resolve::paths;
use crate::sheet::System;
use crate::source::Place;
use crate::template::Pattern;

use super::{Sink, wording};

pub use decide::{Meeting, NamedSeries, meet, meetings};

type Owned<'i> = (&'i Series, &'i Plan);

pub(super) fn check(sink: &mut Sink<'_, '_>) {
    let systems = sink.input.sheet.policy.systems.as_deref();
    let folded = systems.is_none_or(|systems| systems.iter().any(|system| *system != System::Linux));
    let plan = sink.input.plan;
    let asked: HashSet<&str> = sink.series().map(|series| series.id.as_str()).collect();
    let mut all: Vec<Owned<'_>> = sink.series().map(|series| (series, plan)).collect();
    for rival in sink.input.rivals {
        let own = rival.home.folder == plan.home.folder && rival.home.sheet == plan.home.sheet;
        let others =
            rival.series.iter().chain(&rival.movies).filter(|series| !own || !asked.contains(series.id.as_str()));
        all.extend(others.map(|series| (series, rival)));
    }
    let own = sink.series().count();
    let met = report(sink, &all, (own, folded), &HashSet::new());
    if !folded {
        // Names that differ in case only meet here, and nowhere else.
        report(sink, &all, (own, true), &met);
    }
    folders(sink, &all, (own, folded));
}

/// Says which series meet, beside those that are `said` already; the pairs that were found.
fn report(
    sink: &mut Sink<'_, '_>,
    all: &[Owned<'_>],
    (own, folded): (usize, bool),
    said: &HashSet<usize>,
) -> HashSet<usize> {
    let known = all.iter().enumerate().filter(|(at, (series, _))| series.is_known() && !said.contains(at));
    let names: Vec<NamedSeries> = known
        .filter_map(|(at, (series, _))| {
            let pattern = if folded { series.pattern.folded() } else { series.pattern.clone() };
            let frames = if pattern.frame_width().is_some() { series.numbers()? } else { Frames::one(0) };
            Some(NamedSeries { at, pattern, frames })
        })
        .collect();
    let fold_only = folded && sink.input.sheet.policy.systems.as_deref().is_some_and(|s| s == [System::Linux]);
    let mut found = HashSet::new();
    let mut causes: HashMap<(Option<Place>, Option<String>), Words> = HashMap::new();
    for meeting in meetings(&names, own) {
        let ((a, of_a), (b, of_b)) = (all[meeting.first], all[meeting.second]);
        let (job_a, job_b) = (&of_a.jobs[a.job], &of_b.jobs[b.job]);
        // Two jobs of one name are a finding of their own.
        // So are two entries of one job.
        if std::ptr::eq(of_a, of_b) && a.id == b.id {
            found.insert(meeting.second);
            continue;
        }
        let apart = job_a.at != job_b.at || (std::ptr::eq(of_a, of_b) && a.job != b.job);
        let twins = job_a.name == job_b.name && job_a.at.file == job_b.at.file && apart;
        if !twins && meeting.first < own {
            let seen = |path: String| paths::seen_from(&path, &of_b.home.folder);
            let example = seen(b.pattern.name(meeting.number));
            let at = b.path.as_ref().map(|path| path.at);
            if fold_only {
                let other = seen(a.pattern.name(meeting.number));
                sink.add(Slug::NamesAlike, at, job_b, wording::meeting::names_alike(&other, &example));
            } else {
                let words = wording::meeting::names_meet((a, of_a), (b, of_b), &example);
                // What one word in one path would put right is one cause, however many pairs it brings together.
                let words = causes.entry((at, words.help.clone())).or_insert(words);
                sink.add(Slug::NamesMeet, at, job_b, words.clone());
            }
        }
        found.insert(meeting.second);
    }
    found
}

/// Files that stand where another series needs a folder.
fn folders(sink: &mut Sink<'_, '_>, all: &[Owned<'_>], (own, folded): (usize, bool)) {
    let fold = |pattern: &Pattern| if folded { pattern.folded() } else { pattern.clone() };
    let known = all.iter().enumerate().filter(|(_, (series, _))| series.is_known());
    let files: Vec<(usize, Pattern)> = known.map(|(at, (series, _))| (at, fold(&series.pattern))).collect();
    let mut wanted: Vec<(Pattern, usize)> = Vec::new();
    let mut seen: HashSet<Pattern> = HashSet::new();
    for (at, pattern) in &files {
        // Every folder above the files, until one that another series wanted already, whatever its frames are.
        let mut below = pattern.clone();
        while let Some(folder) = below.folder() {
            if seen.contains(&folder) && folder.frame_width().is_none() {
                break;
            }
            seen.insert(folder.clone());
            wanted.push((folder.clone(), *at));
            below = folder;
        }
    }
    let framed = wanted.iter().any(|(folder, _)| folder.frame_width().is_some());
    let mut hits = if framed { by_meeting(all, &files, &wanted) } else { by_name(all, &files, &wanted) };
    hits.sort();
    for (file, folder, number) in hits.into_iter().filter(|(file, folder, _)| *file < own || *folder < own) {
        let ((file, of_file), (folder, of_folder)) = (all[file], all[folder]);
        let name = file.pattern.name(number);
        let words = wording::meeting::folder_wanted(file, (folder, of_folder), &name);
        sink.add(Slug::FolderWanted, file.path.as_ref().map(|path| path.at), &of_file.jobs[file.job], words);
    }
}

/// Series that write a file, series that need a folder, and the number in the file's name.
type Hits = Vec<(usize, usize, Number)>;

fn numbers((series, _): Owned<'_>, pattern: &Pattern) -> Frames {
    let own = if pattern.frame_width().is_some() { series.numbers() } else { Some(Frames::one(0)) };
    own.unwrap_or_default()
}

/// Where no folder holds a frame number, only files of the folder above can stand in a folder's place.
fn by_name(all: &[Owned<'_>], files: &[(usize, Pattern)], wanted: &[(Pattern, usize)]) -> Hits {
    let mut by_folder: HashMap<String, Vec<&(usize, Pattern)>> = HashMap::new();
    for file in files {
        by_folder.entry(file.1.folder().and_then(|folder| folder.fixed()).unwrap_or_default()).or_default().push(file);
    }
    let hit = |(folder, at): &(Pattern, usize)| {
        let name = folder.fixed()?;
        let beside = by_folder.get(paths::parent(&name))?;
        beside.iter().find_map(|(file, pattern)| {
            let number = pattern.read(&name)?;
            let own = pattern.frame_width().is_none() || numbers(all[*file], pattern).contains(number.value());
            own.then_some((*file, *at, number))
        })
    };
    wanted.iter().filter_map(hit).collect()
}

/// Folders that hold frame numbers are decided as names are.
fn by_meeting(all: &[Owned<'_>], files: &[(usize, Pattern)], wanted: &[(Pattern, usize)]) -> Hits {
    let of = |(at, pattern): (usize, &Pattern)| NamedSeries {
        at,
        pattern: pattern.clone(),
        frames: numbers(all[at], pattern),
    };
    let mut names: Vec<NamedSeries> = files.iter().map(|(at, pattern)| of((*at, pattern))).collect();
    names.extend(wanted.iter().map(|(folder, at)| of((*at, folder))));
    names.iter_mut().enumerate().for_each(|(at, name)| name.at = at);
    let hit = |met: Meeting| {
        let (folder, at) = wanted.get(met.second.checked_sub(files.len())?)?;
        let file = files.get(met.first)?;
        Some((file.0, *at, file.1.read(&folder.name(met.number))?))
    };
    meetings(&names, names.len()).into_iter().filter_map(hit).collect()
}
