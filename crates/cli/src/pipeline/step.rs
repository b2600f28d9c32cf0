//! One invocation with its command line and everything around it, for scripts and for running alike.

use std::collections::BTreeSet;
use std::path::Path;

use truepath_core::adapter::Adapter;
use truepath_core::frames::Frames;
use truepath_core::invoke::arguments::{Bench, arguments, environment};
use truepath_core::invoke::export::{self, Export};
use truepath_core::invoke::target::{self, Product, Step, Write};
use truepath_core::invoke::written::expected;
use truepath_core::plan::{Invocation, Series};
use truepath_core::resolve::paths;
use truepath_core::sheet::Key;

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
        let export = self.exports.of_job.get(&invocation.job).map(|at| &self.exports.all[*at]);
        let product = export.map(|export| self.product(export).path);
        let bench = Bench { stage: &stage, log: &log, product: product.as_deref() };
        Some(Step {
            product: None,
            needs: export.map(|export| export.id.clone()).into_iter().collect(),
            id: invocation.id.clone(),
            job: job.name.clone(),
            passes: labels.collect(),
            frames: invocation.frames.clone(),
            program: self.program(adapter, around),
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
}

impl Loaded {
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
    pub fn fitting(&self, call: &Invocation, around: &Surroundings, most: usize) -> Vec<Step> {
        let Some(step) = self.step(call, around) else { return Vec::new() };
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
        halves.flat_map(|part| self.fitting(&part, around, most)).collect()
    }

    /// The exports that some calls need, each once.
    pub fn exports(&self, calls: &[Invocation], around: &Surroundings) -> Vec<Step> {
        let wanted: BTreeSet<usize> =
            calls.iter().filter_map(|call| self.exports.of_job.get(&call.job).copied()).collect();
        wanted.into_iter().filter_map(|at| self.export(&self.exports.all[at], around)).collect()
    }

    /// Where renderers find what an export makes.
    fn product(&self, export: &Export) -> Product {
        let folder = format!("{}/exports/{}", text(&lock::state_folder(&self.sheet)), export.id);
        Product { staged: format!("{folder}/.part/{}", export.file), path: format!("{folder}/{}", export.file) }
    }

    fn export(&self, export: &Export, around: &Surroundings) -> Option<Step> {
        let (plan, product) = (&self.plan, self.product(export));
        let job = &plan.jobs[export.job];
        let adapter = export::exporter(job, &self.adapters)?;
        let log = format!("{}/logs/{}.log", text(&lock::state_folder(&self.sheet)), export.id);
        let folder = paths::parent(&product.staged);
        Some(Step {
            id: export.id.clone(),
            job: job.name.clone(),
            passes: Vec::new(),
            frames: Frames::none(),
            program: self.program(adapter, around),
            arguments: export::arguments(plan, export.job, adapter, (folder, &export.file), &log),
            env: Vec::new(),
            log,
            writes: Vec::new(),
            product: Some(product),
            needs: Vec::new(),
        })
    }

    /// The full path of an adapter's program, looked for once; its name where it is nowhere.
    fn program(&self, adapter: &Adapter, around: &Surroundings) -> String {
        let home = &self.plan.home;
        let place = (Path::new(home.folder.as_str()), home.system);
        let known = (around.program.as_path(), &self.machine.programs);
        let look =
            |adapter: &Adapter| facts::program(adapter, place, known).map_or_else(|name| name, |path| text(&path));
        let all = self.programs.get_or_init(|| {
            let names =
                self.plan.jobs.iter().flat_map(|job| [Key::Adapter, Key::Export].map(|key| job.settings.text(&key)));
            let names: BTreeSet<&str> = names.flatten().collect();
            let found = names.into_iter().filter_map(|name| Some((name.to_owned(), look(self.adapters.get(name)?))));
            found.collect()
        });
        all.get(&adapter.name).cloned().unwrap_or_else(|| look(adapter))
    }
}
