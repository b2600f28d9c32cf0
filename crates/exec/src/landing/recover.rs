//! After a crash: renderers that were left running are ended, whole frames in stage are landed, the rest is removed.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::time::Duration;

use truepath_core::frames::FrameExpr;
use truepath_core::invoke::command_line::CommandLine;
use truepath_core::invoke::stage::stage_base;
use truepath_core::plan::{Call, Plan, calls_of};
use truepath_core::run::event::{Began, Ended};
use truepath_core::run::history::{Depth, PastCall, Session};

use super::stage::{self, staged};
use super::{Disk, Fate, Landing, land};
use crate::Project;
use crate::disk;
use crate::failure::{Failure, Trouble};
use crate::guard;
use crate::process::identity;
use crate::record::answer;
use crate::record::lines::LogRules;
use crate::state::journal::{self, Journal};

/// Whether a run has ended for certain: it was on this start of this system, and its process is gone.
#[must_use]
pub fn is_over(began: &Began) -> bool {
    identity::is_here(&began.boot, &began.space) && !identity::is_alive(began.process, &began.born)
}

/// Bytes of a log that are read.
const MOST_LOG: u64 = 256 << 20;
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
struct LeftFolder {
    path: PathBuf,
    /// The call with its mark; of a script, the call alone.
    name: String,
    /// The tag of the run, or of the start of a script.
    tag: String,
}

impl LeftFolder {
    /// The name of the journal that tells of it ends so.
    fn journal(&self) -> String {
        // A script's journal is named by machine, time and process, its tag by machine, process and time.
        let of_script = self.tag.strip_prefix(SCRIPT).and_then(|rest| {
            let (rest, began) = rest.rsplit_once('-')?;
            let (host, process) = rest.rsplit_once('-')?;
            Some(format!("{host}-{began}-{process}.jsonl"))
        });
        of_script.unwrap_or_else(|| format!("-{}.jsonl", self.tag))
    }

    /// Whether a log, as the journal knows it, is its own: those of some scripts are named by their calls alone.
    fn wrote(&self, log: &str) -> bool {
        let marked = format!("/{}~{}.log", self.name, self.tag);
        log.ends_with(&format!("/{}.log", self.name)) || self.tag.starts_with(SCRIPT) && log.ends_with(&marked)
    }
}

/// How the tags of scripts begin, and the folders that hold what they stage.
pub const SCRIPT: &str = "script-";

/// Clears up after runs that were cut short. `mine` tells by its tag whether a run has ended for certain. Folders with
/// files that nobody planned stay: they were told, and somebody may want to look.
///
/// # Errors
/// When what is left can be neither landed nor removed, or the journal cannot be written.
pub fn recover(project: Project<'_>, journal: &Journal, mine: &dyn Fn(&str) -> bool) -> Result<Recovered, Trouble> {
    let plan = project.command_lines.plan;
    // Nothing is written, landed or removed through a link.
    for root in plan.roots.iter().filter_map(|root| root.path.as_deref()) {
        guard::own_folder(Path::new(root), &["stage"]).map_err(Trouble::Run)?;
    }
    let left: Vec<LeftFolder> = left(plan).into_iter().filter(|left| mine(&left.tag)).collect();
    let mut recovered = Recovered { aside: set_aside(project, mine)?, ..Recovered::default() };
    if left.is_empty() {
        return Ok(recovered);
    }
    // A run that was killed between the start of a renderer and its line in the journal has written nothing of it down.
    let tag_of = |mark: &str| mark.rsplit_once('~').and_then(|(_, tag)| tag.split('-').next().map(str::to_owned));
    let marked = |mark: &str| tag_of(mark).is_some_and(|tag| left.iter().any(|left| left.tag == tag));
    let by_mark = identity::end_marked(&marked);
    let mut by_group = 0;
    let calls: HashMap<String, Call> =
        calls_of(plan, &|job| project.command_lines.adapter(job)).map(|call| (call.id.clone(), call)).collect();
    let mut by_tag: BTreeMap<&str, Vec<&LeftFolder>> = BTreeMap::new();
    for left in &left {
        by_tag.entry(&left.tag).or_default().push(left);
    }
    for (tag, folders) in by_tag {
        let end = folders.first().map(|left| left.journal()).unwrap_or_default();
        let own = format!("{tag}.jsonl");
        let history = journal::read_some(project.state, Depth::Calls, |name| name.ends_with(&end) || name == own);
        let history = history.map_err(Trouble::Run)?;
        let session = history.sessions.iter().find(|session| session.began.tag == tag);
        for (series, frame) in session.iter().flat_map(|session| &session.copies) {
            // Half a copy beside a final name on another file system.
            if let Some((_, output)) = plan.outputs().find(|(_, output)| output.id == *series) {
                stage::remove(&super::beside(Path::new(&output.name(*frame)), tag)).map_err(Trouble::Call)?;
            }
        }
        for left in &folders {
            let call = session.and_then(|session| session.calls.iter().rfind(|call| left.wrote(&call.started.log)));
            if let (Some(session), Some(call)) = (session, call) {
                let here = identity::is_here(&session.began.boot, &session.began.space);
                by_group += usize::from(here && identity::end_group(call.started.process, &call.started.born));
            }
            // What was told and stayed is somebody's to look at, until its adapter says that it is whole.
            let ended = call.and_then(|call| call.ended.as_ref());
            let stays = ended.is_some() && !stage::files(&left.path).is_empty();
            if let (Some(session), Some(past), Some(part)) = (session, call, part_of(&calls, left)) {
                let known = known(project, &part, past);
                if stays && !known.is_anything() {
                    continue;
                }
                recovered.landed += land_left(project, session, &FinishedCall { left, call: &part, known }, journal)?;
            } else if stays {
                continue;
            }
            stage::clear(&left.path).map_err(Trouble::Call)?;
        }
        // The folder of a script's start goes with the last of its calls.
        for script in folders.iter().filter(|left| left.tag.starts_with(SCRIPT)).filter_map(|left| left.path.parent()) {
            let _ = std::fs::remove_dir(script);
        }
    }
    recovered.ended = by_mark.max(by_group);
    Ok(recovered)
}

/// A call that is over, with what is known of its files.
struct FinishedCall<'f> {
    left: &'f LeftFolder,
    call: &'f Call,
    known: KnownFiles,
}

/// Which files of a call that is over are known to be finished.
struct KnownFiles {
    /// All that are there: it ended as its adapter says that it ends with whole files.
    all: bool,
    /// Those that its log names, as it names them.
    named: Vec<String>,
}

impl KnownFiles {
    fn is_anything(&self) -> bool {
        self.all || !self.named.is_empty()
    }
}

/// What is known of a call's files by its end and its log: nobody watched the rest of it.
fn known(project: Project<'_>, part: &Call, past: &PastCall) -> KnownFiles {
    let Some(adapter) = project.command_lines.adapter_of(part) else {
        return KnownFiles { all: false, named: Vec::new() };
    };
    let rules = LogRules::of(&adapter.log);
    let log = guard::read_confined(Path::new(&past.started.log), &project.state.logs(), MOST_LOG).unwrap_or_default();
    let (named, finished) = rules.of_log(&String::from_utf8_lossy(&log));
    let good = |ended: &Ended| ended.why.is_none() && adapter.exit.is_good(ended.ending());
    let all = finished && !rules.tell_files() && past.ended.as_ref().is_some_and(good);
    KnownFiles { all, named }
}

/// Lands those frames of a call that are known to be finished and whose final names are free. Frames of a changed scene or of
/// changed settings are left out.
fn land_left(
    project: Project<'_>,
    session: &Session,
    finished: &FinishedCall<'_>,
    journal: &Journal,
) -> Result<i64, Trouble> {
    let FinishedCall { left, call, known } = finished;
    let plan = project.command_lines.plan;
    let Some(step) = project.command_lines.step(call) else { return Ok(0) };
    if left.tag.starts_with(SCRIPT) {
        // From here on it lies as if this run had made it.
        let Some(own) = stage::of(&step).into_iter().next() else { return Ok(0) };
        stage::clear(own).map_err(Trouble::Call)?;
        std::fs::rename(&left.path, own)
            .map_err(|error| Trouble::Call(Failure::machine("move", &left.path, &error)))?;
    }
    let named = named_below(&step, left, known);
    let is_named = |path: &Path| {
        stage::of(&step).into_iter().filter_map(|own| path.strip_prefix(own).ok()).any(|below| named.contains(below))
    };
    let mut landed = 0;
    let note = project.state.recovering(journal.tag());
    for path in staged(&step).into_iter().filter(|path| known.all || is_named(path)) {
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
    for own in stage::of(&step).into_iter().filter(|_| left.tag.starts_with(SCRIPT)) {
        stage::clear(own).map_err(Trouble::Call)?;
    }
    Ok(landed)
}

/// The files that a call named as written, as they lie below its stage folder. A path that was named starts where the program was
/// started, or with the folder that it wrote to.
fn named_below(step: &CommandLine, left: &LeftFolder, known: &KnownFiles) -> BTreeSet<PathBuf> {
    let home = Path::new(&step.folder);
    let below = |name: &String| {
        let path = home.join(name);
        let own = stage::of(step).into_iter().find_map(|own| path.strip_prefix(own).ok());
        path.strip_prefix(&left.path).ok().or(own).map(Path::to_owned)
    };
    known.named.iter().filter_map(below).collect()
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
    let bases = stage_bases(project.command_lines.plan);
    for (tag, note) in project.state.recoveries() {
        if !mine(&tag) {
            continue;
        }
        let path = PathBuf::from(disk::text(&note).unwrap_or_default());
        // A note may come from elsewhere: only what lies in stage is looked at and moved.
        let in_stage = guard::confined(&path, bases.iter().map(PathBuf::as_path)).ok();
        let Some(path) = in_stage.filter(|path| ends_who_looks(project, path)) else {
            stage::remove(&note).map_err(Trouble::Run)?;
            continue;
        };
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

/// The folders that hold all stage folders of a sheet, one for each root.
fn stage_bases(plan: &Plan) -> Vec<PathBuf> {
    plan.roots.iter().filter_map(|root| root.path.as_deref()).map(|root| stage_base(plan, root).into()).collect()
}

/// All stage folders of a sheet that runs have left.
fn left(plan: &Plan) -> Vec<LeftFolder> {
    let folders = stage_bases(plan)
        .into_iter()
        .flat_map(|base| std::fs::read_dir(base).into_iter().flatten().filter_map(Result::ok));
    let of_script = |folder: &Path, tag: &str| -> Vec<LeftFolder> {
        let calls = std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok).map(|entry| entry.path());
        let name = |path: &Path| path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        calls.map(|path| LeftFolder { name: name(&path), path, tag: tag.to_owned() }).collect()
    };
    let named = folders.filter_map(|folder| {
        let name = folder.file_name().to_string_lossy().into_owned();
        if name.starts_with(SCRIPT) {
            return Some(of_script(&folder.path(), &name));
        }
        let tag = name.rsplit_once('~')?.1.split('-').next()?.to_owned();
        Some(vec![LeftFolder { path: folder.path(), name, tag }])
    });
    let mut all: Vec<LeftFolder> = named.flatten().collect();
    all.sort_by(|a, b| a.path.cmp(&b.path));
    all
}

/// Stage folders of runs that are over, as `over` says by their tags.
#[must_use]
pub fn left_folders(plan: &Plan, over: &dyn Fn(&str) -> bool) -> Vec<PathBuf> {
    left(plan).into_iter().filter(|left| over(&left.tag)).map(|left| left.path).collect()
}

/// The call whose stage folder has a name: a planned one, or a part of one for some of its frames.
fn part_of(calls: &HashMap<String, Call>, left: &LeftFolder) -> Option<Call> {
    let (id, mark) = match left.name.rsplit_once('~') {
        Some((id, mark)) => (id, mark.to_owned()),
        None => (left.name.as_str(), format!("script{}", left.tag.rsplit('-').next().unwrap_or_default())),
    };
    let (unit, span) = id.split_once('.').map_or((id, None), |(unit, span)| (unit, Some(span)));
    let call = calls.get(unit)?;
    let frames = match span {
        Some(span) => FrameExpr::parse(span).ok()?.frames(None, None)?.intersect(&call.frames),
        None => call.frames.clone(),
    };
    Some(Call { id: id.to_owned(), frames, mark, ..call.clone() })
}

/// Takes away stage folders that are empty, up to the root's own `.truepath`. Nobody else may work below them: on some shares
/// a member believes for a while that a folder is there still.
pub fn remove_empty_bases(plan: &Plan) {
    for base in stage_bases(plan) {
        for folder in base.ancestors().take(3) {
            // A folder that is not empty stays.
            let _ = std::fs::remove_dir(folder);
        }
    }
}
