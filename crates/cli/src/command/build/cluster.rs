//! `build --to slurm`: the plan as an array of tasks.

use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use truepath_core::invoke::script::slurm::{self, Batch};
use truepath_core::invoke::script::{self, Script};
use truepath_core::resolve::paths;
use truepath_exec::disk;
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::guard::Deliveries;
use truepath_exec::threads::Cores;

use super::{Built, costs, parts};
use crate::args::BuildArgs;
use crate::exit_code::Exit;
use crate::lower::Surroundings;
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

/// Writes or submits the script.
pub fn build(
    (args, output): (&BuildArgs, Option<&Path>),
    built: &[Built<'_>],
    deliveries: &Deliveries,
    around: &Surroundings,
) -> Result<Exit, Failure> {
    let [Built { loaded, steps, broken }] = built else {
        let message = "a script for Slurm can hold one sheet".to_owned();
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
    let usual = if costs.is_known() { (seconds(rendering) / TASK).ceil() as usize } else { UNMEASURED };
    let count = args.parts.and_then(|parts| usize::try_from(parts).ok()).unwrap_or(usual.clamp(1, MOST));
    let mut cut = parts::cut(plan, steps, &costs, count);
    if cut.is_empty() {
        // Only movies are left: the one task has nothing to do, and the last one makes them.
        cut.push(exports..exports);
    }
    let longest = cut.iter().map(|part| seconds(&steps[part.clone()])).fold(0.0, f64::max);
    let workers = plan.run.workers.max(1) as f64;
    let foreseen = costs.is_known().then(|| longest * costs.bias().2.max(1.0) / workers * MARGIN + BESIDE);
    let cluster = &plan.run.cluster;
    let time = cluster.time.or_else(|| foreseen.and_then(|seconds| Duration::try_from_secs_f64(seconds).ok()));
    let held = costs.memory().map(|bytes| (bytes as f64 * workers * MARGIN) as u64 + (256 << 20));
    let name = slurm::name(plan);
    let logs = paths::from_system(&loaded.state.tasks());
    let words: Vec<String> =
        std::iter::once(paths::from_system(&around.program)).chain(super::guard_words(args, loaded)).collect();
    let batch = Batch {
        name: &name,
        logs: &logs,
        parts: &cut,
        exports: exports > 0,
        time,
        memory: cluster.memory.or(held),
        guard: (!args.plain).then_some(words.as_slice()),
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
    let text = slurm::script(plan, steps, &batch, (&wish, &Cores));
    // The scheduler makes no folder for what the tasks say.
    let made = loaded.state.make().and_then(|()| std::fs::create_dir_all(&logs));
    made.map_err(|error| Failure::machine("make the folder", &logs, &error))?;
    let own = loaded.state.folder().join(format!("{name}.sbatch"));
    let path = match (output, args.submit) {
        (Some(output), _) => {
            super::write(output, &text, args, deliveries)?;
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
        None => {
            "; their time is not known yet: measure it with `truepath estimate --measure first,middle,last`".to_owned()
        }
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
        show::tell(&format!("submit it: sbatch {}\n", super::super::pasted(&[path.display().to_string()])));
        return Ok(Exit::Well);
    }
    submit(path)
}

/// Starts the script, which submits itself.
fn submit(path: &Path) -> Result<Exit, Failure> {
    let said = Command::new("sh").arg(path).stdin(Stdio::null()).stdout(Stdio::piped()).output();
    let said = said.map_err(|error| Failure::machine("start", path, &error))?;
    show::tell(&String::from_utf8_lossy(&said.stdout));
    let errors = String::from_utf8_lossy(&said.stderr).trim().to_owned();
    if said.status.success() {
        if !errors.is_empty() {
            show::tell(&format!("{errors}\n"));
        }
        show::tell("`truepath status` shows what each task renders\n");
        return Ok(Exit::Well);
    }
    // Nothing is left half-submitted: the script takes back what it had submitted.
    let _ = std::io::stdout().flush();
    let message = format!("the scheduler refused it: {errors}");
    let help = format!("check that this machine may submit jobs; the script is {}", path.display());
    Err(Failure::new(Cause::Machine, message).help(help))
}
