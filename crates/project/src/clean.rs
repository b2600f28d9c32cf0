//! Room for the next render: what may go is listed, moved away, and brought back. Only planned names are touched, and never what
//! another plan or a scene needs.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use truepath_core::plan::{Plan, Series};
use truepath_core::resolve::paths;
use truepath_core::verify::State;
use truepath_exec::disk;
use truepath_exec::failure::Failure;
use truepath_exec::guard::{NamedPlace, OWN};
use truepath_exec::landing::away::{BroughtBack, bring_back, put_away, removed};
use truepath_exec::landing::moving::Mover;
use truepath_exec::landing::recover;
use truepath_exec::observe::Look;

use crate::alone::{Alone, alone};
use crate::listener::Listener;
use crate::open::{LoadOptions, Queue, open};
use crate::request::Request;
use crate::surroundings::Surroundings;

/// What is to go.
#[derive(Clone, Copy, Debug)]
pub enum CleanScope {
    /// The files of the request's modes.
    Modes,
    /// Frames outside the planned range, and what runs that are over left in their stage folders.
    Leftovers {
        /// The frames.
        frames: bool,
        /// The stage folders.
        stages: bool,
    },
    /// The files of all versions but the newest so many of each job.
    OldVersions(usize),
}

/// Files of one series that are to go.
pub struct GoingFiles {
    /// The sheet, among those of the call.
    sheet: usize,
    /// Its plan: of a mode or a version of its own.
    plan: usize,
    series: usize,
    /// Frame and bytes.
    pub files: Vec<(i64, u64)>,
    /// Why they may go.
    pub why: String,
}

/// A whole folder that is to go: a stage folder, or a checkpoint, of a run that is over.
pub struct GoingFolder {
    sheet: usize,
    /// Which.
    pub path: PathBuf,
    /// What is in it.
    pub bytes: u64,
}

/// Everything that is to go.
#[derive(Default)]
pub struct CleanList {
    /// Plans that names belong to, each with its sheet.
    queues: Vec<Queue>,
    /// Files of series; there may be none left of one.
    pub going: Vec<GoingFiles>,
    /// Folders.
    pub folders: Vec<GoingFolder>,
    /// Files that stay, as they are seen from their sheet, and why.
    pub kept: Vec<(String, String)>,
}

impl CleanList {
    /// Lists what is to go. `request` is what `queue` was opened with.
    ///
    /// # Errors
    /// When the disk cannot be looked at.
    pub fn of(
        (queue, request): (Queue, &Request),
        scopes: &[CleanScope],
        around: &Surroundings,
        listener: &dyn Listener,
    ) -> Result<CleanList, Failure> {
        // The final names, and those of every mode: nothing of theirs is taken for something else's.
        let finals = Request { modes: Vec::new(), ..request.clone() };
        let guard = open(&finals, around, LoadOptions::default(), listener)?;
        let mut list = CleanList { queues: vec![queue], ..CleanList::default() };
        for scope in scopes {
            match scope {
                CleanScope::Modes => planned(&mut list, 0, &guard, listener)?,
                CleanScope::Leftovers { frames, stages: folders } => {
                    if *frames {
                        left_over(&mut list, listener)?;
                    }
                    if *folders {
                        stages(&mut list);
                    }
                }
                CleanScope::OldVersions(keep) => {
                    old_versions(&CleanCall { request, guard: &guard, around, listener }, *keep, &mut list)?;
                }
            }
        }
        Ok(list)
    }

    /// The plan and the series that some files are of.
    #[must_use]
    pub fn of_files(&self, going: &GoingFiles) -> (&Plan, &Series) {
        let plan = &self.queues[going.plan].sheets[going.sheet].plan;
        (plan, plan.output(going.series))
    }

    /// Moves everything, below its root or into the folder that is named; what could not be moved, as it is seen from its sheet,
    /// and why.
    ///
    /// # Errors
    /// While anybody renders one of the sheets, and when a journal cannot be written.
    pub fn put_away(&self, into: Option<&Path>, around: &Surroundings) -> Result<Vec<(String, String)>, Failure> {
        let mut left = Vec::new();
        for (at, sheet) in self.queues[0].sheets.iter().enumerate() {
            let held = alone(sheet, around)?;
            let named = named_folder(into, &sheet.plan);
            for going in self.going.iter().filter(|going| going.sheet == at) {
                let plan = &self.queues[going.plan].sheets[at].plan;
                let mover = Mover::new(plan, &held.journal, named.as_deref());
                let series = plan.output(going.series);
                for (frame, _) in &going.files {
                    let path = series.name(*frame);
                    let to = place_for(into, plan, series, (&path, &held))?;
                    if let Some(why) = put_away(&mover, (series, *frame), &to)? {
                        left.push((seen(plan, &path), why));
                    }
                }
            }
            for folder in self.folders.iter().filter(|folder| folder.sheet == at) {
                let name = folder.path.file_name().unwrap_or_default();
                // Beside where it is: what is on another disk is not copied.
                let own = folder.path.ancestors().find(|path| path.ends_with(OWN));
                let Some(root) = own.and_then(Path::parent) else { continue };
                let to = removed(root)?.join(&held.stamp).join("stage").join(name);
                let failed = |error: &std::io::Error| Failure::machine("move", &folder.path, error);
                std::fs::create_dir_all(to.parent().unwrap_or(root)).map_err(|error| failed(&error))?;
                std::fs::rename(&folder.path, &to).map_err(|error| failed(&error))?;
            }
            recover::remove_empty_bases(&sheet.plan);
        }
        Ok(left)
    }
}

/// Whether a path is none of this plan's to take: another plan names it, or a scene needs it.
fn belongs_elsewhere(path: &str, guard: &Queue, needed: &BTreeSet<String>, own: &Plan) -> Option<String> {
    for sheet in &guard.sheets {
        let others =
            sheet.rivals.iter().chain([&sheet.plan]).filter(|plan| plan.mode != own.mode || own.mode.is_none());
        if let Some(other) = others.into_iter().find(|plan| plan.is_named(path)) {
            let of = other.mode.as_ref().map_or("the finals".to_owned(), |mode| format!("mode {mode}"));
            return Some(format!("it also belongs to {of}"));
        }
    }
    needed.contains(path).then(|| "a scene needs it".to_owned())
}

/// What the work is made of, of all jobs: also of those that are not asked for.
fn inputs(queue: &Queue) -> BTreeSet<String> {
    let all = queue.sheets.iter().flat_map(|sheet| sheet.needs());
    all.map(|(path, _)| paths::tidy(&paths::from_system(&path))).collect()
}

/// Files of a series with their sizes; those that are another's are left.
fn sized(
    (plan, series): (&Plan, &Series),
    frames: impl Iterator<Item = i64>,
    other: &dyn Fn(&str) -> Option<String>,
    kept: &mut Vec<(String, String)>,
) -> Vec<(i64, u64)> {
    let mut files = Vec::new();
    for frame in frames {
        let path = series.name(frame);
        let Ok(about) = std::fs::symlink_metadata(&path) else { continue };
        match other(&path) {
            Some(why) => kept.push((seen(plan, &path), why)),
            None if about.is_file() => files.push((frame, about.len())),
            None => {}
        }
    }
    files
}

/// All files of the plans of a queue that are there and whose state can be told. `at` is the queue's place in the list.
fn planned(list: &mut CleanList, at: usize, guard: &Queue, listener: &dyn Listener) -> Result<(), Failure> {
    let needed = inputs(guard);
    let mut going = Vec::new();
    for sheet in 0..list.queues[at].sheets.len() {
        let judged = list.queues[at].verdicts(sheet, Look::Heads, listener)?;
        let plan = &list.queues[at].sheets[sheet].plan;
        let why = plan.mode.as_ref().map_or("of an older version".to_owned(), |mode| format!("of mode {mode}"));
        for verdict in judged {
            let there = verdict.planned.minus(&verdict.in_any(&[State::Missing, State::Unreadable]));
            let series = plan.output(verdict.series);
            let other = |path: &str| belongs_elsewhere(path, guard, &needed, plan);
            let files = sized((plan, series), there.iter(), &other, &mut list.kept);
            going.push(GoingFiles { sheet, plan: at, series: verdict.series, files, why: why.clone() });
        }
    }
    list.going.extend(going);
    Ok(())
}

/// Frames on disk outside the planned range.
fn left_over(list: &mut CleanList, listener: &dyn Listener) -> Result<(), Failure> {
    let queue = &list.queues[0];
    let needed = inputs(queue);
    for at in 0..queue.sheets.len() {
        let plan = &queue.sheets[at].plan;
        for verdict in queue.verdicts(at, Look::Heads, listener)? {
            let series = plan.output(verdict.series);
            let frame = |path: &String| series.shift.frame(series.pattern.read(path)?);
            let frames: Vec<i64> = verdict.stray.iter().filter_map(frame).collect();
            let other = |path: &str| needed.contains(path).then(|| "a scene needs it".to_owned());
            let files = sized((plan, series), frames.into_iter(), &other, &mut list.kept);
            list.going.push(GoingFiles {
                sheet: at,
                plan: 0,
                series: verdict.series,
                files,
                why: "left over".to_owned(),
            });
        }
    }
    Ok(())
}

/// Stage folders and checkpoints of finished runs.
fn stages(list: &mut CleanList) {
    for (at, sheet) in list.queues[0].sheets.iter().enumerate() {
        let sessions = &sheet.ground.history.sessions;
        let runs = sessions.iter().any(|session| session.outcome.is_none() && !recover::is_over(&session.began));
        let over = |tag: &str| {
            let session = sessions.iter().find(|session| session.began.tag == tag);
            session.is_some_and(|session| session.outcome.is_some() || recover::is_over(&session.began))
        };
        // Which run a checkpoint is of is not written on it.
        let checkpoints = std::fs::read_dir(sheet.state.checkpoints("")).into_iter().flatten().filter_map(Result::ok);
        let checkpoints = checkpoints.map(|entry| entry.path()).filter(|_| !runs);
        for path in recover::left_folders(&sheet.plan, &over).into_iter().chain(checkpoints) {
            let bytes = size_of(&path);
            list.folders.push(GoingFolder { sheet: at, path, bytes });
        }
    }
}

/// What is asked for, and with what it is looked up.
#[derive(Clone, Copy)]
struct CleanCall<'c> {
    request: &'c Request,
    /// The final names, and those of every mode.
    guard: &'c Queue,
    around: &'c Surroundings,
    listener: &'c dyn Listener,
}

/// Files of versions but the newest so many of each job.
fn old_versions(call: &CleanCall<'_>, keep: usize, list: &mut CleanList) -> Result<(), Failure> {
    let CleanCall { request, guard, around, listener } = *call;
    let mut old: BTreeMap<i64, BTreeSet<String>> = BTreeMap::new();
    for sheet in &guard.sheets {
        for (job, versions) in sheet.versions_there() {
            for version in versions.iter().rev().skip(keep) {
                old.entry(*version).or_default().insert(job.clone());
            }
        }
    }
    for (version, jobs) in old {
        let mut own = Request { jobs: jobs.into_iter().collect(), ..request.clone() };
        own.settings.push(("the version".to_owned(), format!("version={version}")));
        list.queues.push(open(&own, around, LoadOptions::default(), listener)?);
        let before = list.going.len();
        planned(list, list.queues.len() - 1, guard, listener)?;
        list.going[before..].iter_mut().for_each(|going| going.why = format!("of version {version}"));
    }
    Ok(())
}

/// Bytes of a file, or of all files in a folder.
fn size_of(path: &Path) -> u64 {
    match std::fs::symlink_metadata(path) {
        Ok(about) if about.is_dir() => std::fs::read_dir(path)
            .into_iter()
            .flatten()
            .filter_map(Result::ok)
            .map(|entry| size_of(&entry.path()))
            .sum(),
        Ok(about) => about.len(),
        Err(_) => 0,
    }
}

/// The folder that was named to move files into.
fn named_folder(into: Option<&Path>, plan: &Plan) -> Option<PathBuf> {
    let to = into.map(|to| Path::new(&plan.home.folder).join(to))?;
    // As it really leads: it may be typed with `..`.
    Some(NamedPlace::of(&to.join("x")).map_or(to, |place| place.folder))
}

/// Where a file is put: below its root or in the folder that was named, in a folder of this moment, by its own path.
fn place_for(
    into: Option<&Path>,
    plan: &Plan,
    series: &Series,
    (path, held): (&str, &Alone),
) -> Result<PathBuf, Failure> {
    let root = series.root.and_then(|root| plan.roots[root].path.as_deref()).unwrap_or(&plan.home.folder);
    let rest = path.strip_prefix(root).unwrap_or(path).trim_start_matches('/').replace(':', "_");
    let base = match named_folder(into, plan) {
        Some(to) => to,
        None => removed(Path::new(root))?,
    };
    Ok(base.join(&held.stamp).join(rest))
}

/// A path as it is seen from its sheet.
fn seen(plan: &Plan, path: &str) -> String {
    paths::seen_from(path, &plan.home.folder)
}

/// What was brought back.
#[derive(Clone, Debug, Default)]
pub struct BackAgain {
    /// How many files.
    pub count: i64,
    /// Files that were not, and why.
    pub left: Vec<(String, String)>,
}

/// Brings back what was put away last. `into` is the folder that it was put into, where one was named.
///
/// # Errors
/// While anybody renders one of the sheets, and when a journal cannot be written.
pub fn undo(queue: &Queue, into: Option<&Path>, around: &Surroundings) -> Result<BackAgain, Failure> {
    let mut all = BackAgain::default();
    for sheet in &queue.sheets {
        let held = alone(sheet, around)?;
        let (history, plan) = (&sheet.ground.history, &sheet.plan);
        let named = named_folder(into, plan);
        let mover = Mover::new(plan, &held.journal, named.as_deref());
        let mut last = None;
        for (place, away) in history.all_put_away() {
            // What was put away earlier is brought back by the next call.
            if last.is_some_and(|last| last != away.session) {
                break;
            }
            match bring_back(&mover, (place, away), history)? {
                BroughtBack::Now => all.count += 1,
                BroughtBack::Before => continue,
                BroughtBack::Not(why) => {
                    let file = format!("{} frame {}", away.gone.series, away.gone.frame);
                    all.left.push((file, why));
                }
            }
            last = Some(away.session);
        }
    }
    Ok(all)
}

/// The folders of what was put away, with their bytes.
///
/// # Errors
/// When a folder of True Path's own is a link.
pub fn put_away_before(queue: &Queue) -> Result<Vec<(PathBuf, u64)>, Failure> {
    let mut folders: Vec<(PathBuf, u64)> = Vec::new();
    for sheet in &queue.sheets {
        let roots = sheet.plan.roots.iter().filter_map(|root| root.path.as_deref());
        for root in roots.chain([sheet.plan.home.folder.as_str()]).collect::<BTreeSet<&str>>() {
            let days = std::fs::read_dir(removed(Path::new(root))?).into_iter().flatten().filter_map(Result::ok);
            let days = days.map(|entry| entry.path()).filter(|path| disk::no_file(path) == Some("a folder"));
            folders.extend(days.map(|path| (path.clone(), size_of(&path))));
        }
    }
    folders.sort();
    folders.dedup();
    Ok(folders)
}

/// Removes folders of what was put away for good.
///
/// # Errors
/// While anybody renders one of the sheets, and when one cannot be removed.
pub fn remove(queue: &Queue, folders: &[(PathBuf, u64)], around: &Surroundings) -> Result<(), Failure> {
    let _held = queue.sheets.iter().map(|sheet| alone(sheet, around)).collect::<Result<Vec<_>, Failure>>()?;
    folders.iter().try_for_each(|(path, _)| {
        std::fs::remove_dir_all(path).map_err(|error| Failure::machine("remove", path, &error))
    })
}
