//! `build`: the command lines, as a script or as JSON.

use std::path::Path;

use truepath_core::invoke::arguments::arguments;
use truepath_core::invoke::target::{self, Step, Write};
use truepath_core::plan::{Invocation, invocations};
use truepath_core::sheet::{Key, Setting};

use crate::args::{Build, Target};
use crate::effect::{facts, lock};
use crate::exit_code::{Exit, Failure};
use crate::lower::{Surroundings, text};
use crate::pipeline::{self, Loaded, Way};
use crate::show;

/// Writes all invocations of the plan.
pub fn run(args: &Build, around: &Surroundings) -> Result<Exit, Failure> {
    let queue = pipeline::load(&args.common, around, Way { offline: false, anew: args.anew })?;
    super::tell_findings(&queue, around);
    if let Some(exit) = queue.stopped() {
        return Ok(exit);
    }
    let mut scripts = Vec::new();
    for loaded in &queue.sheets {
        super::guard_final(loaded, args.is_final)?;
        super::run::need_adapters(loaded)?;
        super::pin(loaded, args.anew)?;
        let calls: Vec<Invocation> = invocations(&loaded.plan, &|job| loaded.adapter(job)).collect();
        scripts.push((&loaded.plan, calls.iter().filter_map(|call| step(loaded, call, around)).collect::<Vec<Step>>()));
    }
    let json = args.to == Target::Json || args.common.json;
    let body = if json {
        show::json::text(&show::json::build(&scripts))
    } else {
        let [(plan, steps)] = scripts.as_slice() else {
            return Err(
                Failure::unreadable("a script holds one sheet").help("build each sheet for itself, or take --to json")
            );
        };
        target::sh::script(plan, steps)
    };
    match &args.output {
        None => show::print(&body)?,
        Some(path) => {
            std::fs::write(path, body).map_err(|error| Failure::machine("write", path, &error))?;
            let calls: usize = scripts.iter().map(|(_, steps)| steps.len()).sum();
            show::tell(&format!("{} in {}\n", show::counted(calls as i64, "call"), path.display()));
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
        program: text(&facts::program(
            adapter,
            Path::new(&plan.home.folder),
            (&around.program, &loaded.machine.programs),
        )),
        arguments: arguments(plan, invocation, adapter, &invocation.frames, &stage),
        env: env.collect(),
        log: format!("{}/logs/{}.log", text(&lock::state_folder(&loaded.sheet)), invocation.id),
        writes: invocation.series.iter().map(|at| Write { series: *at, stage: stage(&plan.series[*at]) }).collect(),
    })
}
