//! How a plan stands, from what is on disk and what the journals say: done, running, failed, missing, times.

use std::collections::{BTreeMap, HashMap};

use crate::frames::Frames;
use crate::plan::Plan;
use crate::verify::{State, Verdict};

use super::event::Task;
use super::history::{History, PastCall, Session};
use super::outstanding::advised;
use super::pace::{Load, Pace};
use super::trial::plain;

/// How one series stands.
#[derive(Clone, Debug, Default)]
pub struct SeriesStatus {
    /// What stands on disk.
    pub verdict: Verdict,
    /// Frames that are missing or broken and that renderers work on, and where.
    pub running: Vec<Running>,
    /// Frames that are missing or broken and were given up.
    pub failed: Frames,
    /// Seconds that renderers took for files of these names: those of other versions do not count.
    pub spent: f64,
    /// Seconds until what is advised is done, with as many workers as there are; `None` while nothing was measured.
    pub left: Option<f64>,
}

/// A call that runs now.
#[derive(Clone, Debug)]
pub struct Running {
    /// The machine.
    pub host: String,
    /// The task of a cluster's scheduler that it runs in.
    pub task: Option<Task>,
    /// Which worker there.
    pub worker: usize,
    /// What of its frames is not there yet.
    pub frames: Frames,
    /// When it was started, in seconds after the session at [`Running::session`] began.
    pub since: f64,
    /// Index into the history's sessions.
    pub session: usize,
}

impl SeriesStatus {
    /// Frames that renderers work on.
    #[must_use]
    pub fn busy(&self) -> Frames {
        self.running.iter().fold(Frames::none(), |sum, call| sum.union(&call.frames))
    }
}

/// How every series stands. `is_alive` tells whether a session still runs.
#[must_use]
pub fn tally(
    plan: &Plan,
    verdicts: Vec<Verdict>,
    history: &History,
    is_alive: &dyn Fn(&Session) -> bool,
) -> Vec<SeriesStatus> {
    let alive: Vec<usize> = (0..history.sessions.len()).filter(|at| is_alive(&history.sessions[*at])).collect();
    let pixels = plan.series.iter().filter_map(|series| {
        let size = series.size?;
        Some((series.id.as_str(), f64::from(size.width) * f64::from(size.height)))
    });
    let pixels: HashMap<&str, f64> = pixels.collect();
    let (pace, spent) = spent(plan, history, &pixels);
    let tally = Tally {
        history,
        open: open_calls(history, &alive),
        failed: failed(history),
        workers: workers(plan, history, &alive),
        pixels,
        pace,
        spent,
    };
    verdicts.into_iter().map(|verdict| tally.row(&plan.output(verdict.series).id, verdict)).collect()
}

/// What the journals say, by the names of series.
struct Tally<'t> {
    history: &'t History,
    /// Calls that run now, each with the index of its session.
    open: HashMap<&'t str, Vec<(usize, &'t PastCall)>>,
    /// Frames that were given up.
    failed: HashMap<&'t str, Frames>,
    workers: f64,
    pixels: HashMap<&'t str, f64>,
    pace: Pace,
    spent: BTreeMap<&'t str, f64>,
}

impl Tally<'_> {
    fn row(&self, id: &str, verdict: Verdict) -> SeriesStatus {
        let missing = verdict.in_any(&[State::Missing, State::Broken]);
        let running = self.open.get(id).into_iter().flatten().map(|(session, call)| Running {
            host: self.history.sessions[*session].began.host.clone(),
            task: self.history.sessions[*session].began.task.clone(),
            worker: call.started.worker,
            frames: call.started.frames.intersect(&missing),
            since: call.started.t,
            session: *session,
        });
        let running: Vec<Running> = running.collect();
        let busy = running.iter().fold(Frames::none(), |sum, call| sum.union(&call.frames));
        let failed = self.failed.get(id).map(|own| own.intersect(&missing).minus(&busy));
        let load = Load {
            kind: id.to_owned(),
            pixels: self.pixels.get(id).copied().unwrap_or(0.0),
            frames: advised(&verdict).count() as f64,
        };
        SeriesStatus {
            failed: failed.unwrap_or_default(),
            running,
            spent: self.spent.get(id).copied().unwrap_or(0.0),
            left: self.pace.left([&load]).map(|seconds| seconds / self.workers),
            verdict,
        }
    }
}

fn open_calls<'h>(history: &'h History, alive: &[usize]) -> HashMap<&'h str, Vec<(usize, &'h PastCall)>> {
    let mut open: HashMap<&str, Vec<(usize, &PastCall)>> = HashMap::new();
    for at in alive {
        for call in history.sessions[*at].calls.iter().filter(|call| call.ended.is_none()) {
            call.started.series.iter().for_each(|name| open.entry(name).or_default().push((*at, call)));
        }
    }
    open
}

fn failed(history: &History) -> HashMap<&str, Frames> {
    let mut failed: HashMap<&str, Frames> = HashMap::new();
    for failure in history.sessions.iter().flat_map(|session| &session.failures) {
        for series in &failure.series {
            let own = failed.entry(series).or_default();
            *own = own.union(&failure.frames);
        }
    }
    failed
}

/// How fast renderers were, and what they took for the files of each series.
fn spent<'h>(plan: &Plan, history: &'h History, pixels: &HashMap<&str, f64>) -> (Pace, BTreeMap<&'h str, f64>) {
    let (mut pace, mut spent) = (Pace::default(), BTreeMap::<&str, f64>::new());
    let places: HashMap<&str, &str> =
        plan.outputs().map(|(_, series)| (series.id.as_str(), series.place.as_str())).collect();
    for session in &history.sessions {
        let here: HashMap<&str, &str> =
            session.series.iter().map(|of| (of.series.as_str(), of.pattern.as_str())).collect();
        // Other versions lie elsewhere: what they took was not spent on these files.
        let is_own = |name: &str| match (here.get(name), places.get(name)) {
            (Some(there), Some(own)) => there == own,
            _ => true,
        };
        for call in &session.calls {
            let Some(ended) = &call.ended else { continue };
            let share = ended.seconds / call.started.series.len().max(1) as f64;
            for name in &call.started.series {
                if is_own(name) {
                    *spent.entry(name).or_default() += share;
                }
                let landed = call.landed.iter().find(|(own, _)| own == name).map_or(0, |(_, frames)| frames.len());
                let kind = plain(name);
                let pixels = pixels.get(kind).copied().unwrap_or(0.0);
                pace.add(&Load { kind: kind.to_owned(), pixels, frames: landed as f64 }, share);
            }
        }
    }
    (pace, spent)
}

/// Renderers that work at a time: those that run, or as many as the sheet asks for.
fn workers(plan: &Plan, history: &History, alive: &[usize]) -> f64 {
    let open = alive.iter().map(|at| history.sessions[*at].calls.iter().filter(|call| call.ended.is_none()).count());
    let open: usize = open.sum();
    if open > 0 { open as f64 } else { plan.run.workers.max(1) as f64 }
}
