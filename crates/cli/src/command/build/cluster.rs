//! `build --to slurm` and `--to grid-engine`: the plan as an array of tasks.

use std::ops::Range;
use std::path::Path;
use std::time::Duration;

use truepath_core::invoke::command_line::CommandLine;
use truepath_core::invoke::script::cluster::{self, Batch, Cluster, SchedulerLimits};
use truepath_core::invoke::script::{self, Script};
use truepath_core::plan::Plan;
use truepath_core::resolve::paths;
use truepath_core::run::cost::Costs;
use truepath_exec::disk;
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::guard::Deliveries;
use truepath_exec::threads::Cores;

use super::submit::{ask, fits, plan_of, submit};
use super::{Built, costs, parts};
use crate::args::BuildArgs;
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::show::progress::span;
use crate::show::{self, counted};

/// How long a task is meant to take where frames were measured: long enough that its start does not count, short enough that
/// little is lost with it.
const TASK: f64 = 30.0 * 60.0;
/// Most tasks of an array, unless somebody asks for more: many schedulers take no more than a thousand.
const MOST: usize = 1000;
/// Tasks where nothing was measured.
const UNMEASURED: usize = 50;
/// What is asked for above what was measured.
const MARGIN: f64 = 1.5;
/// What a task takes beside its frames: its start, and looking at the disk.
const BESIDE: f64 = 180.0;

/// Where the script goes.
pub struct ScriptTarget<'t> {
    /// The scheduler that it is for.
    pub cluster: &'t dyn Cluster,
    /// The file that was named.
    pub output: Option<&'t Path>,
    /// What may be written there.
    pub deliveries: &'t Deliveries,
}

/// Writes or submits the script.
pub fn build(
    target: &ScriptTarget<'_>,
    args: &BuildArgs,
    built: &[Built<'_>],
    around: &Around,
) -> Result<Exit, Failure> {
    let ScriptTarget { cluster, output, deliveries } = *target;
    let [Built { loaded, steps, broken }] = built else {
        let message = format!("a script for {} can hold one sheet", cluster.name());
        return Err(Failure::unreadable(message).help("build each sheet separately: -f SHEET"));
    };
    let (plan, costs) = (&loaded.plan, costs(loaded)?);
    let (exports, movies) = script::around(steps);
    let rendering = &steps[exports..steps.len() - movies];
    if rendering.is_empty() && movies == 0 {
        show::tell("nothing to render: no tasks were written\n");
        return Ok(Exit::Well);
    }
    let seconds = |steps: &[_]| steps.iter().map(|step| parts::weight(plan, step, &costs)).sum::<f64>();
    let limits = ask(cluster, loaded.state.folder());
    let cut = cut(args, (plan, steps), &costs, limits);
    let longest = cut.iter().map(|part| seconds(&steps[part.clone()])).fold(0.0, f64::max);
    let workers = plan.run.workers.max(1) as f64;
    let all: Vec<_> = plan.outputs().filter_map(|(at, own)| Some((at, own.frames.as_ref()?))).collect();
    let foreseen = costs.is_known().then(|| longest * costs.range(plan, &all).high / workers * MARGIN + BESIDE);
    let wish = &plan.run.cluster;
    let time = wish.time.or_else(|| foreseen.and_then(|seconds| Duration::try_from_secs_f64(seconds).ok()));
    let held = costs.memory().map(|bytes| (bytes as f64 * workers * MARGIN) as u64 + (256 << 20));
    let name = cluster::name(plan);
    let logs = paths::from_system(&loaded.state.tasks(cluster));
    let words: Vec<String> =
        std::iter::once(paths::from_system(&around.program)).chain(super::calls::guard_words(args, loaded)).collect();
    let calls = cluster::calls(steps, &cut);
    let digest = plan_of(plan, steps);
    let list = loaded.state.tasks(cluster).join(format!("{}.calls", &blake3::hash(calls.as_bytes()).to_hex()[..16]));
    let batch = Batch {
        cluster,
        name: &name,
        logs: &logs,
        parts: &cut,
        exports: exports > 0,
        time,
        memory: wish.memory.or(held),
        guard: (!args.plain).then_some(words.as_slice()),
        plan: &digest,
        calls: &paths::from_system(&list),
    };
    let wish = Script {
        keep_going: true,
        pause: false,
        portable: false,
        is_task: true,
        adapters: &loaded.adapters,
        made: &loaded.ground.made_of,
        turn: loaded.ground.history.next_turn(),
        broken,
    };
    let text = cluster::script(plan, steps, &batch, (&wish, &Cores));
    let text = text.map_err(|why| {
        Failure::of(Cause::Unreadable, why).help("or leave threads out, and let each task have one core")
    })?;
    fits(limits, &text)?;
    // The scheduler makes no folder for what the tasks say.
    let made = loaded.state.make().and_then(|()| std::fs::create_dir_all(&logs));
    made.map_err(|error| Failure::machine("make the folder", &logs, &error))?;
    if !args.plain {
        disk::keep(&list, &calls).map_err(|error| Failure::machine("write", &list, &error))?;
    }
    let own = loaded.state.folder().join(format!("{name}.{}", cluster.extension()));
    let path = match (output, args.submit) {
        (Some(output), _) => {
            super::write(output, text.as_bytes(), args, deliveries)?;
            output
        }
        (None, true) => {
            let kept = disk::keep(&own, &text).and_then(|()| disk::make_executable(&own));
            kept.map_err(|error| Failure::machine("write", &own, &error))?;
            &own
        }
        (None, false) => {
            show::print_exact(&text)?;
            return Ok(Exit::Well);
        }
    };
    let tasks = counted(cut.len() as i64, "task");
    let each = match foreseen.filter(|_| !cut.is_empty()) {
        Some(_) => format!("; the longest takes about {}", span(longest / workers)),
        None => "; their time is not known yet: measure it with `truepath estimate --measure +24`".to_owned(),
    };
    show::tell(&format!("{tasks} in {}{each}\n", path.display()));
    let asked: Vec<String> = [
        time.map(|time| format!("{} min", time.as_secs().div_ceil(60).max(1))),
        batch.memory.map(|bytes| format!("{} MB", bytes.div_ceil(1 << 20))),
    ]
    .into_iter()
    .flatten()
    .collect();
    if !asked.is_empty() {
        show::tell(&format!("each task asks for {}\n", asked.join(" and ")));
    }
    if !args.submit {
        show::tell(&format!("submit it: sh {}\n", super::super::pasted(&[path.display().to_string()])));
        return Ok(Exit::Well);
    }
    submit(cluster, path)
}

/// The steps of each task.
fn cut(
    args: &BuildArgs,
    (plan, steps): (&Plan, &[CommandLine]),
    costs: &Costs,
    limits: SchedulerLimits,
) -> Vec<Range<usize>> {
    let (exports, movies) = script::around(steps);
    let rendering = &steps[exports..steps.len() - movies];
    let seconds: f64 = rendering.iter().map(|step| parts::weight(plan, step, costs)).sum();
    let usual = if costs.is_known() { (seconds / TASK).ceil() as usize } else { UNMEASURED };
    let count = args.parts.and_then(|parts| usize::try_from(parts).ok()).unwrap_or(usual.clamp(1, MOST));
    let (most, called) = limits.array.unwrap_or((usize::MAX, ""));
    if count > most {
        show::tell(&format!("note: {most} tasks instead of {count}: the scheduler takes no larger array ({called})\n"));
    }
    let mut cut = parts::cut(plan, steps, costs, count.min(most));
    if cut.is_empty() {
        // Only movies are left: the one task has nothing to do, and the last one makes them.
        cut.push(exports..exports);
    }
    cut
}
