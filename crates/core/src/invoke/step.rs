//! One invocation with its command line and everything around it, for scripts and for running alike.

use std::collections::{BTreeMap, BTreeSet};

use crate::adapter::Adapter;
use crate::frames::Frames;
use crate::plan::{Adapters, Invocation, Plan, Series};
use crate::resolve::{Job, paths};
use crate::sheet::Key;

use super::arguments::{Bench, arguments, environment};
use super::export::{Export, Exports, arguments as export_arguments, exporter};
use super::target::{Product, Step, Write, stage_folder};
use super::written::expected;

/// All that steps are made from.
#[derive(Clone, Copy, Debug)]
pub struct Shop<'s> {
    /// The plan.
    pub plan: &'s Plan,
    /// The adapters of its jobs.
    pub adapters: &'s Adapters,
    /// What is made of scenes before they are rendered.
    pub exports: &'s Exports,
    /// Full paths of programs by the names of their adapters.
    pub programs: &'s BTreeMap<String, String>,
    /// The folder of the sheet's state.
    pub state: &'s str,
}

impl Shop<'_> {
    /// The step of an invocation; `None` where its job has no adapter.
    pub fn step(&self, invocation: &Invocation) -> Option<Step> {
        let plan = self.plan;
        let job = &plan.jobs[invocation.job];
        let adapter = self.adapter(job)?;
        let stage = |series: &Series| stage_folder(plan, invocation, series);
        let labels = invocation
            .series
            .iter()
            .flat_map(|at| &plan.series[*at].passes)
            .map(|pass| job.passes[*pass].label.clone());
        let log = format!("{}/logs/{}.log", self.state, invocation.marked());
        let export = self.exports.of_job.get(&invocation.job).map(|at| &self.exports.all[*at]);
        let product = export.map(|export| self.product(export).path);
        let bench = Bench { stage: &stage, log: &log, product: product.as_deref(), still: invocation.still.as_ref() };
        Some(Step {
            product: None,
            needs: export.map(|export| export.id.clone()).into_iter().collect(),
            id: invocation.id.clone(),
            job: job.name.clone(),
            passes: labels.collect(),
            frames: invocation.frames.clone(),
            program: self.program(adapter),
            arguments: arguments(plan, invocation, adapter, &invocation.frames, bench),
            env: environment(plan, invocation, adapter, &invocation.frames, bench),
            log: log.clone(),
            writes: expected(plan, invocation, adapter, &invocation.frames, bench)
                .into_iter()
                .map(|expected| Write {
                    series: expected.series,
                    stage: stage(&plan.series[expected.series]),
                    expected,
                })
                .collect(),
        })
    }

    /// A call with only the series and frames that are `wanted` (by series), in as many calls as its program needs.
    pub fn narrowed(&self, call: &Invocation, wanted: &[Frames]) -> Vec<Invocation> {
        let of = |series: &usize| wanted[*series].intersect(&call.frames);
        let series: Vec<usize> = call.series.iter().copied().filter(|series| !of(series).is_empty()).collect();
        let frames = series.iter().fold(Frames::none(), |sum, series| sum.union(&of(series)));
        let adapter = self.adapter(&self.plan.jobs[call.job]).filter(|_| !frames.is_empty());
        let call = Invocation { series, ..call.clone() };
        adapter.map(|adapter| call.for_frames(adapter, &frames)).unwrap_or_default()
    }

    /// The steps of a call, split by frames until no command line is longer than `most` bytes. One that is too long even for
    /// a single frame stays as it is.
    pub fn fitting(&self, call: &Invocation, most: usize) -> Vec<Step> {
        let Some(step) = self.step(call) else { return Vec::new() };
        let length: usize = step.arguments.iter().map(|word| word.len() + 3).sum::<usize>() + step.program.len();
        if length <= most || call.frames.count() < 2 {
            return vec![step];
        }
        let half = (call.frames.count() + 1) / 2;
        let adapter = self.adapter(&self.plan.jobs[call.job]);
        let halves = call.frames.chunks(half).flat_map(|frames| {
            let id = format!("{}.{}-{}", call.id, frames.first().unwrap_or(0), frames.last().unwrap_or(0));
            adapter.map(|_| Invocation { id, frames, ..call.clone() })
        });
        halves.flat_map(|part| self.fitting(&part, most)).collect()
    }

    /// The exports that some calls need, each once.
    pub fn exports(&self, calls: &[Invocation]) -> Vec<Step> {
        let wanted: BTreeSet<usize> =
            calls.iter().filter_map(|call| self.exports.of_job.get(&call.job).copied()).collect();
        wanted.into_iter().filter_map(|at| self.export(&self.exports.all[at])).collect()
    }

    /// Where renderers find what an export makes.
    fn product(&self, export: &Export) -> Product {
        let folder = format!("{}/exports/{}", self.state, export.id);
        Product { staged: format!("{folder}/.part/{}", export.file), path: format!("{folder}/{}", export.file) }
    }

    fn export(&self, export: &Export) -> Option<Step> {
        let (plan, product) = (self.plan, self.product(export));
        let job = &plan.jobs[export.job];
        let adapter = exporter(job, self.adapters)?;
        let log = format!("{}/logs/{}.log", self.state, export.id);
        let folder = paths::parent(&product.staged);
        Some(Step {
            id: export.id.clone(),
            job: job.name.clone(),
            passes: Vec::new(),
            frames: Frames::none(),
            program: self.program(adapter),
            arguments: export_arguments(plan, export.job, adapter, (folder, &export.file), &log),
            env: Vec::new(),
            log,
            writes: Vec::new(),
            product: Some(product),
            needs: Vec::new(),
        })
    }

    /// The adapter of a job.
    fn adapter(&self, job: &Job) -> Option<&Adapter> {
        self.adapters.get(job.settings.text(&Key::Adapter)?)
    }

    /// The full path of an adapter's program.
    fn program(&self, adapter: &Adapter) -> String {
        self.programs.get(&adapter.name).cloned().unwrap_or_default()
    }
}
