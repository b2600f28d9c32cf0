//! `build`: the command lines, as a script or as JSON.

use truepath_core::invoke::arguments::arguments;
use truepath_core::invoke::target::{self, Step, Write};
use truepath_core::plan::{Invocation, invocations};
use truepath_core::sheet::{Key, Setting};

use crate::args::{Build, Target};
use crate::effect::lock;
use crate::exit_code::{Exit, Failure};
use crate::lower::{Surroundings, text};
use crate::pipeline::{self, Loaded};
use crate::show;

/// Writes all invocations of the plan.
pub fn run(args: &Build, around: &Surroundings) -> Result<Exit, Failure> {
    let loaded = pipeline::load(&args.common, around, false)?;
    super::tell_findings(&loaded, around);
    if let Some(exit) = loaded.stopped() {
        return Ok(exit);
    }
    super::guard_final(&loaded, args.is_final)?;
    super::run::need_adapters(&loaded)?;
    let all: Vec<Invocation> = invocations(&loaded.plan, &|job| loaded.adapter(job)).collect();
    let steps: Vec<Step> = all.iter().filter_map(|invocation| step(&loaded, invocation, around)).collect();
    let body = if args.to == Target::Json || args.common.json {
        show::json::text(&show::json::build(&loaded.plan, &steps))
    } else {
        target::sh::script(&loaded.plan, &steps)
    };
    match &args.output {
        None => show::print(&body)?,
        Some(path) => {
            std::fs::write(path, body).map_err(|error| Failure::machine("write", path, &error))?;
            show::tell(&format!("{} in {}\n", show::counted(steps.len() as i64, "call"), path.display()));
        }
    }
    Ok(Exit::Well)
}

/// One invocation with its command line.
pub fn step(loaded: &Loaded, invocation: &Invocation, around: &Surroundings) -> Option<Step> {
    let plan = &loaded.plan;
    let job = &plan.jobs[invocation.job];
    let adapter = loaded.adapter(job)?;
    let stage = |series: &truepath_core::plan::Series| target::stage_folder(plan, invocation, series);
    let env = job.settings.values.iter().filter_map(|(key, given)| match (key, &*given.value) {
        (Key::Env(name), Setting::Text(value)) => Some((name.clone(), value.clone())),
        _ => None,
    });
    let labels =
        invocation.series.iter().flat_map(|at| &plan.series[*at].passes).map(|pass| job.passes[*pass].label.clone());
    Some(Step {
        id: invocation.id.clone(),
        job: job.name.clone(),
        passes: labels.collect(),
        frames: invocation.frames.clone(),
        program: if adapter.program == "truepath" { text(&around.program) } else { adapter.program.clone() },
        arguments: arguments(plan, invocation, adapter, &invocation.frames, &stage),
        env: env.collect(),
        log: format!("{}/logs/{}.log", text(&lock::state_folder(&loaded.sheet)), invocation.id),
        writes: invocation.series.iter().map(|at| Write { series: *at, stage: stage(&plan.series[*at]) }).collect(),
    })
}
