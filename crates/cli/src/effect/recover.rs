//! After a crash: renderers that were left running are ended, whole frames in stage are landed, the rest is removed.

use std::collections::{BTreeMap, HashMap};
use std::path::PathBuf;

use truepath_core::frames::FrameExpr;
use truepath_core::invoke::target::stage_base;
use truepath_core::plan::{Invocation, Plan, invocations};
use truepath_core::run::event::Began;
use truepath_core::run::fingerprint::Fingerprint;
use truepath_core::run::history::{Depth, Session};

use super::call::{labels, staged};
use super::journal::{self, Journal};
use super::stage::{self, Fate, Landing};
use super::{lock, process};
use crate::exit_code::Failure;
use crate::lower::Surroundings;
use crate::pipeline::Loaded;

/// Whether a run has ended for certain: it was on this start of this system, and its process is gone.
pub fn is_over(began: &Began) -> bool {
    process::is_here(&began.boot, &began.space) && !process::is_alive(began.process, &began.born)
}

/// What was found.
#[derive(Debug, Default)]
pub struct Recovered {
    /// Files that landed.
    pub landed: i64,
    /// Renderers that were running still.
    pub ended: u64,
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
pub fn recover(
    loaded: &Loaded,
    around: &Surroundings,
    journal: &Journal,
    made: &[Option<Fingerprint>],
    mine: &dyn Fn(&str) -> bool,
) -> Result<Recovered, Failure> {
    let plan = &loaded.plan;
    let left: Vec<Left> = left(plan).into_iter().filter(|left| mine(&left.tag)).collect();
    let mut recovered = Recovered::default();
    if left.is_empty() {
        remove_empty_bases(plan);
        return Ok(recovered);
    }
    let state = lock::state_folder(&loaded.sheet);
    let calls: HashMap<String, Invocation> =
        invocations(plan, &|job| loaded.adapter(job)).map(|call| (call.id.clone(), call)).collect();
    let mut by_tag: BTreeMap<&str, Vec<&Left>> = BTreeMap::new();
    for left in &left {
        by_tag.entry(&left.tag).or_default().push(left);
    }
    for (tag, folders) in by_tag {
        let end = format!("-{tag}.jsonl");
        let history = journal::read_some(&state, Depth::Calls, |name| name.ends_with(&end));
        let session = history.sessions.first();
        for left in folders {
            let call = session.and_then(|session| {
                let log = format!("/{}.log", left.name);
                session.calls.iter().find(|call| call.started.log.ends_with(&log))
            });
            if call.is_some_and(|call| call.ended.is_some()) && !stage::files(&left.path).is_empty() {
                continue;
            }
            if let (Some(session), Some(call)) = (session, call) {
                let here = process::is_here(&session.began.boot, &session.began.space);
                recovered.ended += u64::from(here && process::end_group(call.started.process, &call.started.born));
            }
            let invocation = part_of(&calls, &left.name, tag);
            if let (Some(session), Some(invocation)) = (session, invocation) {
                let call = Whose { loaded, around, made, session };
                recovered.landed += call.land(&invocation, journal)?;
            }
            stage::clear(&left.path)?;
        }
    }
    remove_empty_bases(plan);
    Ok(recovered)
}

/// Whose frames are landed.
struct Whose<'w> {
    loaded: &'w Loaded,
    around: &'w Surroundings,
    made: &'w [Option<Fingerprint>],
    session: &'w Session,
}

impl Whose<'_> {
    /// Lands whole frames of a call where nothing stands. Frames that were made of something else than they would be now
    /// are of no use.
    fn land(&self, call: &Invocation, journal: &Journal) -> Result<i64, Failure> {
        let plan = &self.loaded.plan;
        let Some(step) = self.loaded.shop(self.around).step(call) else { return Ok(0) };
        let mut landed = 0;
        for path in staged(&step) {
            let Some((at, frame)) = step.place(&path.to_string_lossy()) else { continue };
            let series = &plan.series[at];
            let Some(made) = self.made[at].as_ref() else { continue };
            let then = self.session.series.iter().find(|of| of.series == series.id);
            if then.is_none_or(|then| !made.differences(&then.made).is_empty()) {
                continue;
            }
            let (target, labels) = (PathBuf::from(series.name(frame)), labels(plan, series));
            let landing = Landing {
                staged: &path,
                target: &target,
                call: "",
                series,
                labels: &labels,
                frame,
                made: Some(made),
                over: false,
            };
            if let Fate::Landed(..) = stage::land(&landing, journal)? {
                landed += 1;
            }
        }
        Ok(landed)
    }
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

/// The call whose stage folder has a name: a planned one, or a part of one for some of its frames.
fn part_of(calls: &HashMap<String, Invocation>, name: &str, tag: &str) -> Option<Invocation> {
    let (id, mark) = name.rsplit_once('~').filter(|(_, mark)| mark.starts_with(tag))?;
    let (unit, span) = id.split_once('.').map_or((id, None), |(unit, span)| (unit, Some(span)));
    let call = calls.get(unit)?;
    let frames = match span {
        Some(span) => FrameExpr::parse(span).ok()?.frames(None, None)?.intersect(&call.frames),
        None => call.frames.clone(),
    };
    Some(Invocation { id: id.to_owned(), frames, mark: mark.to_owned(), ..call.clone() })
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
