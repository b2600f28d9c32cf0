//! A plan as the tasks of a cluster's scheduler.

use std::ops::Range;
use std::path::{Path, PathBuf};
use std::time::Duration;

use truepath_core::invoke::command_line::CommandLine;
use truepath_core::invoke::script::cluster::{self, Batch, Cluster, SchedulerLimits};
use truepath_core::invoke::script::{self, Script};
use truepath_core::plan::Plan;
use truepath_core::resolve::paths;
use truepath_core::run::cost::Costs;
use truepath_exec::disk;
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::threads::Cores;

use super::calls::guard_words;
use super::scheduler::{ask, fits, plan_of};
use super::{BuildRequest, Built, costs, parts};
use crate::surroundings::Surroundings;

/// How long a task is meant to take where frames were measured, in seconds: long enough that its start does not count, short enough
/// that little is lost with it.
const TASK: f64 = 30.0 * 60.0;
/// Most tasks of an array, unless somebody asks for more: many schedulers take no more than a thousand.
const MOST: usize = 1000;
/// Tasks where nothing was measured.
const UNMEASURED: usize = 50;
/// What is asked for above what was measured.
const MARGIN: f64 = 1.5;
/// What a task takes beside its frames, in seconds: its start, and looking at the disk.
const BESIDE: f64 = 180.0;

/// A script that submits itself as an array of tasks.
pub struct Tasks {
    cluster: &'static dyn Cluster,
    /// The script.
    pub text: String,
    /// How many tasks there are.
    pub count: usize,
    /// How many there would be if the scheduler took them, and what it calls that limit.
    pub limited: Option<(usize, &'static str)>,
    /// Seconds that the longest takes; `None` while nothing was measured.
    pub longest: Option<f64>,
    /// The time that each asks for.
    pub time: Option<Duration>,
    /// The memory in bytes that each asks for.
    pub memory: Option<u64>,
    /// The list of the calls of each task, and where it is kept; none where the script has the calls in itself.
    list: Option<(PathBuf, String)>,
    /// The folder for what tasks say.
    logs: PathBuf,
    /// Where the script is kept when nobody names a file for it.
    own: PathBuf,
}

/// How the steps are cut, and what is known of that.
struct TaskCut {
    parts: Vec<Range<usize>>,
    limited: Option<(usize, &'static str)>,
    /// Seconds of the longest part with one worker.
    longest: f64,
}

impl Tasks {
    /// The tasks of a sheet; `None` where there is nothing to render. `count` is how many are wanted: without it, what was measured
    /// decides.
    ///
    /// # Errors
    /// When the journals cannot be read, something cannot be asked of the scheduler, or the script is too long for it.
    pub fn of(
        (built, cluster): (&Built<'_>, &'static dyn Cluster),
        request: &BuildRequest<'_>,
        count: Option<usize>,
        around: &Surroundings,
    ) -> Result<Option<Tasks>, Failure> {
        let Built { loaded, steps, .. } = built;
        let (plan, costs) = (&loaded.plan, costs(loaded)?);
        let (exports, movies) = script::around(steps);
        if steps.len() == exports + movies && movies == 0 {
            return Ok(None);
        }
        let limits = ask(cluster, loaded.state.folder());
        let cut = cut((plan, steps), &costs, count, limits);
        let (time, memory) = asked(plan, &costs, cut.longest);
        let name = cluster::name(plan);
        let logs = loaded.state.tasks(cluster);
        let own_words = std::iter::once(paths::from_system(&around.program));
        let words: Vec<String> = own_words.chain(guard_words(request, loaded)).collect();
        let calls = cluster::calls(steps, &cut.parts);
        let list = logs.join(format!("{}.calls", &blake3::hash(calls.as_bytes()).to_hex()[..16]));
        let batch = Batch {
            cluster,
            name: &name,
            logs: &paths::from_system(&logs),
            parts: &cut.parts,
            exports: exports > 0,
            time,
            memory,
            guard: request.guarded.then_some(words.as_slice()),
            plan: &plan_of(plan, steps),
            calls: &paths::from_system(&list),
        };
        let plain = BuildRequest { keep_going: true, pause: false, ..*request };
        let wish = Script { is_task: true, ..built.wish(&plain) };
        let text = cluster::script(plan, steps, &batch, (&wish, &Cores)).map_err(|why| {
            Failure::of(Cause::Unreadable, why).help("or leave threads out, and let each task have one core")
        })?;
        fits(limits, &text)?;
        let foreseen = costs.is_known() && !cut.parts.is_empty();
        Ok(Some(Tasks {
            cluster,
            text,
            count: cut.parts.len(),
            limited: cut.limited,
            longest: foreseen.then(|| cut.longest / plan.run.workers.max(1) as f64),
            time,
            memory,
            list: request.guarded.then_some((list, calls)),
            own: loaded.state.folder().join(format!("{name}.{}", cluster.extension())),
            logs,
        }))
    }

    /// Writes what the script needs beside it. The scheduler makes no folder for what the tasks say.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn keep(&self, built: &Built<'_>) -> Result<(), Failure> {
        let made = built.loaded.state.make().and_then(|()| std::fs::create_dir_all(&self.logs));
        made.map_err(|error| Failure::machine("make the folder", &self.logs, &error))?;
        match &self.list {
            Some((path, calls)) => disk::keep(path, calls).map_err(|error| Failure::machine("write", path, &error)),
            None => Ok(()),
        }
    }

    /// Writes the script where it is kept when nobody names a file for it.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn keep_script(&self) -> Result<&Path, Failure> {
        let kept = disk::keep(&self.own, &self.text).and_then(|()| disk::make_executable(&self.own));
        kept.map_err(|error| Failure::machine("write", &self.own, &error))?;
        Ok(&self.own)
    }

    /// The scheduler.
    #[must_use]
    pub fn cluster(&self) -> &'static dyn Cluster {
        self.cluster
    }
}

/// What each task asks for: what the sheet says, else what was measured with a margin.
fn asked(plan: &Plan, costs: &Costs, longest: f64) -> (Option<Duration>, Option<u64>) {
    let workers = plan.run.workers.max(1) as f64;
    let all: Vec<_> = plan.outputs().filter_map(|(at, own)| Some((at, own.frames.as_ref()?))).collect();
    let foreseen = costs.is_known().then(|| longest * costs.range(plan, &all).high / workers * MARGIN + BESIDE);
    let wish = &plan.run.cluster;
    let time = wish.time.or_else(|| foreseen.and_then(|seconds| Duration::try_from_secs_f64(seconds).ok()));
    let held = costs.memory().map(|bytes| (bytes as f64 * workers * MARGIN) as u64 + (256 << 20));
    (time, wish.memory.or(held))
}

/// The steps of each task.
fn cut(
    (plan, steps): (&Plan, &[CommandLine]),
    costs: &Costs,
    count: Option<usize>,
    limits: SchedulerLimits,
) -> TaskCut {
    let (exports, movies) = script::around(steps);
    let rendering = &steps[exports..steps.len() - movies];
    let seconds = |steps: &[_]| steps.iter().map(|step| parts::weight(plan, step, costs)).sum::<f64>();
    let usual = if costs.is_known() { (seconds(rendering) / TASK).ceil() as usize } else { UNMEASURED };
    let count = count.unwrap_or(usual.clamp(1, MOST));
    let (most, called) = limits.array.unwrap_or((usize::MAX, ""));
    let mut own = parts::cut(plan, steps, costs, count.min(most));
    if own.is_empty() {
        // Only movies are left: the one task has nothing to do, and the last one makes them.
        own.push(exports..exports);
    }
    let longest = own.iter().map(|part| seconds(&steps[part.clone()])).fold(0.0, f64::max);
    TaskCut { parts: own, limited: (count > most).then_some((count, called)), longest }
}
