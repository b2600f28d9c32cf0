//! One invocation with its command line and everything around it, for scripts and for running alike.

use std::path::Path;

use truepath_core::invoke::arguments::arguments;
use truepath_core::invoke::target::{self, Step, Write};
use truepath_core::plan::{Invocation, Series};
use truepath_core::sheet::{Key, Setting};

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
        let env = job.settings.values.iter().filter_map(|(key, given)| match (key, &*given.value) {
            (Key::Env(name), Setting::Text(value)) => Some((name.clone(), value.clone())),
            _ => None,
        });
        let labels = invocation
            .series
            .iter()
            .flat_map(|at| &plan.series[*at].passes)
            .map(|pass| job.passes[*pass].label.clone());
        Some(Step {
            id: invocation.id.clone(),
            job: job.name.clone(),
            passes: labels.collect(),
            frames: invocation.frames.clone(),
            program: text(&facts::program(
                adapter,
                Path::new(&plan.home.folder),
                (&around.program, &self.machine.programs),
            )),
            arguments: arguments(plan, invocation, adapter, &invocation.frames, &stage),
            env: env.collect(),
            log: format!("{}/logs/{}.log", text(&lock::state_folder(&self.sheet)), invocation.id),
            writes: invocation.series.iter().map(|at| Write { series: *at, stage: stage(&plan.series[*at]) }).collect(),
        })
    }
}
