//! After a crash: renderers that were left running are ended, whole frames in stage are landed, the rest is removed.

use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::time::Duration;

use truepath_core::frames::FrameExpr;
use truepath_core::invoke::stage::stage_base;
use truepath_core::plan::{Call, Plan, calls_of};
use truepath_core::run::event::Began;
use truepath_core::run::history::{Depth, Session};

use super::stage::{self, staged};
use super::{Disk, Fate, Landing, land};
use crate::Project;
use crate::disk;
use crate::failure::{Failure, Trouble};
use crate::process::identity;
use crate::record::answer;
use crate::state::journal::{self, Journal};

/// Whether a run has ended for certain: it was on this start of this system, and its process is gone.
#[must_use]
pub fn is_over(began: &Began) -> bool {
    identity::is_here(&began.boot, &began.space) && !identity::is_alive(began.process, &began.born)
}

/// How long a look at one file may take.
const PATIENCE: Duration = Duration::from_secs(120);

/// What was found.
#[derive(Debug, Default)]
pub struct Recovered {
    /// Files that landed.
    pub landed: i64,
    /// Renderers that were running still.
    pub ended: usize,
    /// Files at which an earlier recovery broke off, and where they lie now.
    pub aside: Vec<PathBuf>,
}

/// A stage folder that a run has left.
struct Left {
    path: PathBuf,
    /// The call with its mark.
    name: String,
    /// The run's tag.
    tag: String,
}

/// Clears up after runs that were cut short. `mine` tells by its tag whether a run has ended for certain. Folders with
/// files that nobody planned stay: they were told, and somebody may want to look.
///
/// # Errors
/// When what is left can be neither landed nor removed, or the journal cannot be written.
pub fn recover(project: Project<'_>, journal: &Journal, mine: &dyn Fn(&str) -> bool) -> Result<Recovered, Trouble> {
    let plan = project.command_lines.plan;
    let left: Vec<Left> = left(plan).into_iter().filter(|left| mine(&left.tag)).collect();
    let mut recovered = Recovered { aside: set_aside(project, mine)?, ..Recovered::default() };
    if left.is_empty() {
        remove_empty_bases(plan);
        return Ok(recovered);
    }
    // A run that was killed between the start of a renderer and its line in the journal has written nothing of it down.
    let tag_of = |mark: &str| mark.rsplit_once('~').and_then(|(_, tag)| tag.split('-').next().map(str::to_owned));
    let marked = |mark: &str| tag_of(mark).is_some_and(|tag| left.iter().any(|left| left.tag == tag));
    let by_mark = identity::end_marked(&marked);
    let mut by_group = 0;
    let calls: HashMap<String, Call> =
        calls_of(plan, &|job| project.command_lines.adapter(job)).map(|call| (call.id.clone(), call)).collect();
    let mut by_tag: BTreeMap<&str, Vec<&Left>> = BTreeMap::new();
    for left in &left {
        by_tag.entry(&left.tag).or_default().push(left);
    }
    for (tag, folders) in by_tag {
        let end = format!("-{tag}.jsonl");
        let history = journal::read_some(project.state, Depth::Calls, |name| name.ends_with(&end));
        let history = history.map_err(Trouble::Run)?;
        let session = history.sessions.first();
        for (series, frame) in session.iter().flat_map(|session| &session.copies) {
            // Half a copy beside a final name on another file system.
            if let Some((_, output)) = plan.outputs().find(|(_, output)| output.id == *series) {
                stage::remove(&super::beside(Path::new(&output.name(*frame)), tag)).map_err(Trouble::Call)?;
            }
        }
        for left in folders {
            let call = session.and_then(|session| {
                let log = format!("/{}.log", left.name);
                session.calls.iter().find(|call| call.started.log.ends_with(&log))
            });
            if call.is_some_and(|call| call.ended.is_some()) && !stage::files(&left.path).is_empty() {
                continue;
            }
            if let (Some(session), Some(call)) = (session, call) {
                let here = identity::is_here(&session.began.boot, &session.began.space);
                by_group += usize::from(here && identity::end_group(call.started.process, &call.started.born));
            }
            let call = part_of(&calls, &left.name, tag);
            if let (Some(session), Some(call)) = (session, call) {
                recovered.landed += land_left(project, session, &call, journal)?;
            }
            stage::clear(&left.path).map_err(Trouble::Call)?;
        }
    }
    recovered.ended = by_mark.max(by_group);
    remove_empty_bases(plan);
    Ok(recovered)
}

/// Lands the whole frames of a call whose final names are free. Frames of a changed scene or of changed settings are left
/// out.
fn land_left(project: Project<'_>, session: &Session, call: &Call, journal: &Journal) -> Result<i64, Trouble> {
    let plan = project.command_lines.plan;
    let Some(step) = project.command_lines.step(call) else { return Ok(0) };
    let mut landed = 0;
    let note = project.state.recovering(journal.tag());
    for path in staged(&step) {
        let Some((at, frame)) = step.place(&truepath_core::resolve::paths::from_system(&path)) else { continue };
        let series = &plan.series[at];
        let Some(made) = project.made[at].as_ref() else { continue };
        let then = session.series.iter().find(|of| of.series == series.id);
        if then.is_none_or(|then| !made.differences(&then.made).is_empty()) {
            continue;
        }
        let (target, labels) = (PathBuf::from(series.name(frame)), plan.labels(series));
        let landing = Landing {
            staged: &path,
            target: &target,
            call: "",
            series,
            labels: &labels,
            frame,
            made: Some(made),
            over: false,
            asked: plan.asked(series),
            policy: &plan.policy,
        };
        // If looking at it ends us, the next recovery leaves it alone.
        let written = disk::keep(&note, &path.to_string_lossy());
        written.map_err(|error| Trouble::Run(Failure::machine("write", &note, &error)))?;
        if let Fate::Landed(..) = land(&landing, journal, &Disk)? {
            landed += 1;
        }
    }
    stage::remove(&note).map_err(Trouble::Run)?;
    Ok(landed)
}

/// Whether looking at a file ends the process that does: one is started for it, since the recovery may as well have been
/// killed.
fn ends_who_looks(project: Project<'_>, path: &Path) -> bool {
    let Some(program) = project.program.filter(|_| path.is_file()) else { return false };
    let words = ["look-at".to_owned(), path.to_string_lossy().into_owned()];
    let said = answer::ask(program, &words, project.state.folder(), (PATIENCE, true));
    said.is_err() || said.is_ok_and(|said| said.code != Some(0))
}

/// Moves files out of the way at which a recovery broke off that is over.
fn set_aside(project: Project<'_>, mine: &dyn Fn(&str) -> bool) -> Result<Vec<PathBuf>, Trouble> {
    let mut aside = Vec::new();
    for (tag, note) in project.state.recoveries() {
        if !mine(&tag) {
            continue;
        }
        let path = PathBuf::from(disk::text(&note).unwrap_or_default());
        if !ends_who_looks(project, &path) {
            stage::remove(&note).map_err(Trouble::Run)?;
            continue;
        }
        // <base>/<call>/...: beside the stage folders of calls, none of which has such a name.
        let base = path.ancestors().find(|folder| folder.parent().is_some_and(|above| above.ends_with("stage")));
        if let (Some(base), Some(name)) = (base, path.file_name()) {
            let to = base.join("aside").join(name);
            let moved = std::fs::create_dir_all(base.join("aside")).and_then(|()| std::fs::rename(&path, &to));
            aside.extend(moved.is_ok().then_some(to));
        }
        stage::remove(&note).map_err(Trouble::Run)?;
    }
    Ok(aside)
}

/// All stage folders of a sheet that runs have left.
fn left(plan: &Plan) -> Vec<Left> {
    let bases = plan.roots.iter().filter_map(|root| root.path.as_deref()).map(|root| stage_base(plan, root));
    let folders = bases.flat_map(|base| std::fs::read_dir(base).into_iter().flatten().filter_map(Result::ok));
    let named = folders.filter_map(|folder| {
        let name = folder.file_name().to_string_lossy().into_owned();
        let tag = name.rsplit_once('~')?.1.split('-').next()?.to_owned();
        Some(Left { path: folder.path(), name, tag })
    });
    let mut all: Vec<Left> = named.collect();
    all.sort_by(|a, b| a.path.cmp(&b.path));
    all
}

/// Stage folders of runs that are over, as `over` says by their tags.
#[must_use]
pub fn left_folders(plan: &Plan, over: &dyn Fn(&str) -> bool) -> Vec<PathBuf> {
    left(plan).into_iter().filter(|left| over(&left.tag)).map(|left| left.path).collect()
}

/// The call whose stage folder has a name: a planned one, or a part of one for some of its frames.
fn part_of(calls: &HashMap<String, Call>, name: &str, tag: &str) -> Option<Call> {
    let (id, mark) = name.rsplit_once('~').filter(|(_, mark)| mark.starts_with(tag))?;
    let (unit, span) = id.split_once('.').map_or((id, None), |(unit, span)| (unit, Some(span)));
    let call = calls.get(unit)?;
    let frames = match span {
        Some(span) => FrameExpr::parse(span).ok()?.frames(None, None)?.intersect(&call.frames),
        None => call.frames.clone(),
    };
    Some(Call { id: id.to_owned(), frames, mark: mark.to_owned(), ..call.clone() })
}

/// Takes away stage folders that are empty, up to the root's own `.truepath`.
pub fn remove_empty_bases(plan: &Plan) {
    for root in plan.roots.iter().filter_map(|root| root.path.as_deref()) {
        let base = PathBuf::from(stage_base(plan, root));
        for folder in base.ancestors().take(3) {
            // A folder that is not empty stays.
            let _ = std::fs::remove_dir(folder);
        }
    }
}
