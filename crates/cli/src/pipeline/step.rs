//! One invocation with its command line and everything around it, for scripts and for running alike.

use std::path::Path;

use truepath_core::invoke::arguments::{Bench, arguments, environment};
use truepath_core::invoke::target::{self, Step, Write};
use truepath_core::plan::{Invocation, Series};

use super::Loaded;
use crate::effect::{facts, lock};
use crate::lower::{Surroundings, text};

impl Loaded {
    /// The step of an invocation; `None` where its job has no adapter.
    pub fn step(&self, invocation: &Invocation, around: &Surroundings) -> Option<Step> {
        let plan = &self.plan;
        let job = &plan.jobs[invocation.job];
        let adapter = self.adapter(job)?;
        let stage = |series: &Series| target::stage_folder(plan, invocation, series);
        let labels = invocation
            .series
            .iter()
            .flat_map(|at| &plan.series[*at].passes)
            .map(|pass| job.passes[*pass].label.clone());
        let log = format!("{}/logs/{}.log", text(&lock::state_folder(&self.sheet)), invocation.id);
        let bench = Bench { stage: &stage, log: &log, product: None };
        Some(Step {
            id: invocation.id.clone(),
            job: job.name.clone(),
            passes: labels.collect(),
            frames: invocation.frames.clone(),
            program: facts::program(
                adapter,
                (Path::new(&plan.home.folder), plan.home.system),
                (&around.program, &self.machine.programs),
            )
            .map_or_else(|name| name, |path| text(&path)),
            arguments: arguments(plan, invocation, adapter, &invocation.frames, bench),
            env: environment(plan, invocation, adapter, &invocation.frames, bench),
            log: log.clone(),
            writes: invocation.series.iter().map(|at| Write { series: *at, stage: stage(&plan.series[*at]) }).collect(),
        })
    }
}
