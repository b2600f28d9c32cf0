//! The command line of a call with everything around it, for scripts and for running alike.

use std::collections::{BTreeMap, BTreeSet};

use crate::adapter::{self, Adapter};
use crate::frames::Frames;
use crate::plan::{Adapters, Call, MOVIE, Plan, Series, marked};
use crate::resolve::{Job, paths};

use super::arguments::{arguments, environment};
use super::export::{Exports, exporter, told};
use super::film;
use super::scope::{ArgumentScope, CallPaths, ExportPaths};
use super::stage::stage_folder;
use super::written::{ByProducts, Expected, besides, expected};
use super::written_file::{FileText, texts};

/// One command line of a plan with everything around it.
#[derive(Clone, Debug)]
pub struct CommandLine {
    /// The call's name.
    pub id: String,
    /// What it makes.
    pub kind: CallKind,
    /// The job.
    pub job: String,
    /// Whose program it calls.
    pub adapter: String,
    /// Its passes.
    pub passes: Vec<String>,
    /// Frames it is given.
    pub frames: Frames,
    /// Full path of the program.
    pub program: String,
    /// Arguments.
    pub arguments: Vec<String>,
    /// Where it starts.
    pub folder: String,
    /// Files that are written before it starts.
    pub files: Vec<FileText>,
    /// What it writes beside its pictures.
    pub besides: Vec<ByProducts>,
    /// Environment on top of the given one.
    pub env: Vec<(String, String)>,
    /// Where its output is written down.
    pub log: String,
    /// What it writes: stage folder and series.
    pub writes: Vec<Write>,
    /// What an exporter makes, instead of pictures.
    pub product: Option<Product>,
    /// Steps that have to be over before.
    pub needs: Vec<String>,
}

/// The folder beside all products in which exports are written; a mark follows.
pub const PART: &str = ".part";

/// What a command line makes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CallKind {
    /// Another scene, for a renderer.
    Export,
    /// Pictures.
    Render,
    /// A movie.
    Encode,
    /// Whatever the other calls left, and what comes after the plan.
    End,
}

impl CallKind {
    /// Its name.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            CallKind::Export => "export",
            CallKind::Render => "render",
            CallKind::Encode => "encode",
            CallKind::End => "end",
        }
    }
}

/// A file that an exporter makes of a scene.
#[derive(Clone, Debug)]
pub struct Product {
    /// Where it writes it.
    pub staged: String,
    /// Where renderers find it.
    pub path: String,
}

/// One series of a step.
#[derive(Clone, Debug)]
pub struct Write {
    /// The series.
    pub series: usize,
    /// Where the program writes.
    pub stage: String,
    /// The names under which its files come out there.
    pub expected: Expected,
}

impl CommandLine {
    /// The series and the frame of a staged file; `None` where it is none that this step may write.
    #[must_use]
    pub fn place(&self, path: &str) -> Option<(usize, i64)> {
        self.writes.iter().find_map(|write| {
            let relative = path.strip_prefix(write.stage.as_str())?.strip_prefix('/')?;
            let frame = write.expected.frame(relative)?;
            self.frames.contains(frame).then_some((write.series, frame))
        })
    }
}

impl CommandLine {
    /// A staged file that its program writes beside its pictures: its path in the stage folder, and whether it is kept.
    #[must_use]
    pub fn beside<'p>(&self, path: &'p str) -> Option<(&'p str, bool)> {
        self.besides.iter().find_map(|beside| {
            let write = self.writes.iter().find(|write| write.series == beside.series)?;
            let relative = path.strip_prefix(write.stage.as_str())?.strip_prefix('/')?;
            beside.is_name_of(relative).then_some((relative, beside.is_kept))
        })
    }

    /// Where files are kept that its program writes beside its pictures.
    #[must_use]
    pub fn kept(&self) -> String {
        format!("{}.files", self.log.strip_suffix(".log").unwrap_or(&self.log))
    }

    /// What it writes beside its pictures, with `*` for anything: what is removed, or what is kept.
    pub fn globs(&self, kept: bool) -> impl Iterator<Item = String> + '_ {
        self.besides.iter().filter(move |beside| beside.is_kept == kept).filter_map(|beside| {
            let write = self.writes.iter().find(|write| write.series == beside.series)?;
            Some(format!("{}/{}", write.stage, beside.glob))
        })
    }
}

/// The stage folders of a step, each once.
#[must_use]
pub fn stages(step: &CommandLine) -> Vec<&str> {
    let mut stages: Vec<&str> = step.writes.iter().map(|write| write.stage.as_str()).collect();
    stages.extend(step.product.as_ref().map(|product| paths::parent(&product.staged)));
    stages.dedup();
    stages
}

/// All that steps are made from.
#[derive(Clone, Copy, Debug)]
pub struct CommandLines<'s> {
    /// The plan.
    pub plan: &'s Plan,
    /// The adapters of its jobs.
    pub adapters: &'s Adapters,
    /// What is made of scenes before they are rendered.
    pub exports: &'s Exports,
    /// Full paths of programs by the names of their adapters.
    pub programs: &'s BTreeMap<String, String>,
    /// Where the logs of calls go.
    pub logs: &'s str,
    /// The folder of what each export makes, in the order of the exports.
    pub products: &'s [String],
}

impl<'s> CommandLines<'s> {
    /// The step of a call; `None` where its job has no adapter.
    pub fn step(&self, call: &Call) -> Option<CommandLine> {
        let plan = self.plan;
        let job = &plan.jobs[call.job];
        if call.is_movie(plan) {
            return self.movie(call);
        }
        let adapter = self.adapter(job)?;
        let stage = |series: &Series| stage_folder(plan, call, series);
        let labels =
            call.series.iter().flat_map(|at| &plan.series[*at].passes).map(|pass| job.passes[*pass].label.clone());
        let log = format!("{}/{}.log", self.logs, call.marked());
        let export = self.exports.of_job.get(&call.job).copied();
        let product = export.map(|at| self.product(at, "").path);
        let paths_of_call =
            CallPaths { stage: &stage, log: &log, product: product.as_deref(), still: call.still.as_ref() };
        let scope = ArgumentScope::of_call(plan, call, adapter, paths_of_call);
        Some(CommandLine {
            product: None,
            adapter: adapter.name.clone(),
            needs: export.map(|at| self.exports.all[at].id.clone()).into_iter().collect(),
            id: call.id.clone(),
            kind: CallKind::Render,
            job: job.name.clone(),
            passes: labels.collect(),
            frames: call.frames.clone(),
            program: self.program(adapter),
            arguments: arguments(&scope),
            env: environment(&scope),
            folder: scope.start_folder(scope.outputs.first()),
            besides: besides(&scope),
            files: texts(&scope),
            log: log.clone(),
            writes: expected(&scope)
                .into_iter()
                .map(|expected| Write {
                    series: expected.series,
                    stage: stage(&plan.series[expected.series]),
                    expected,
                })
                .collect(),
        })
    }

    /// The command line that makes a movie.
    fn movie(&self, call: &Call) -> Option<CommandLine> {
        let (plan, at) = (self.plan, *call.series.first()?);
        let movie = plan.output(at);
        let film = movie.film.as_deref()?;
        let encoder = film::encoder(movie, film, self.adapters)?;
        let stage = stage_folder(plan, call, movie);
        let path = movie.name(MOVIE);
        let file = paths::file_name(&path);
        let maker = self.adapters.get(adapter::MOVIE)?;
        Some(CommandLine {
            product: None,
            adapter: maker.name.clone(),
            needs: Vec::new(),
            kind: CallKind::Encode,
            id: call.id.clone(),
            job: plan.jobs[call.job].name.clone(),
            passes: plan.labels(movie).into_iter().map(str::to_owned).collect(),
            frames: call.frames.clone(),
            program: self.program(maker),
            arguments: film::arguments(plan, movie, &encoder.name, &format!("{stage}/{file}")),
            env: Vec::new(),
            folder: plan.home.folder.clone(),
            files: Vec::new(),
            besides: Vec::new(),
            log: format!("{}/{}.log", self.logs, call.marked()),
            writes: vec![Write { series: at, expected: Expected::one(at, file, MOVIE), stage }],
        })
    }

    /// The adapter of a call's program.
    pub fn adapter_of(&self, call: &Call) -> Option<&'s Adapter> {
        match call.is_movie(self.plan) {
            true => self.adapters.get(adapter::MOVIE),
            false => self.adapter(&self.plan.jobs[call.job]),
        }
    }

    /// A call with only the series and frames that are `wanted` (by series), in as many calls as its program needs.
    pub fn narrowed(&self, call: &Call, wanted: &[Frames]) -> Vec<Call> {
        let of = |series: &usize| wanted[*series].intersect(&call.frames);
        let series: Vec<usize> = call.series.iter().copied().filter(|series| !of(series).is_empty()).collect();
        let frames = series.iter().fold(Frames::none(), |sum, series| sum.union(&of(series)));
        let adapter = self.adapter_of(call).filter(|_| !frames.is_empty());
        let call = Call { series, ..call.clone() };
        adapter.map(|adapter| call.for_frames(adapter, &frames)).unwrap_or_default()
    }

    /// The steps of a call, split by frames until no command line is longer than `most` bytes. One that is too long even for
    /// a single frame stays as it is.
    pub fn fitting(&self, call: &Call, most: usize) -> Vec<CommandLine> {
        let Some(step) = self.step(call) else { return Vec::new() };
        let length: usize = step.arguments.iter().map(|word| word.len() + 3).sum::<usize>() + step.program.len();
        if length <= most || call.frames.count() < 2 {
            return vec![step];
        }
        let half = (call.frames.count() + 1) / 2;
        let adapter = self.adapter_of(call);
        let halves = call.frames.chunks(half).flat_map(|frames| {
            let id = format!("{}.{}-{}", call.id, frames.first().unwrap_or(0), frames.last().unwrap_or(0));
            adapter.map(|_| Call { id, frames, ..call.clone() })
        });
        halves.flat_map(|part| self.fitting(&part, most)).collect()
    }

    /// The exports that some calls need, each once. Those that bear one `mark` write where no others do.
    pub fn exports(&self, calls: &[Call], mark: &str) -> Vec<CommandLine> {
        self.exports_of(calls.iter().map(|call| call.job), mark)
    }

    /// The exports that calls of some jobs need, each once.
    pub fn exports_of(&self, jobs: impl Iterator<Item = usize>, mark: &str) -> Vec<CommandLine> {
        let wanted: BTreeSet<usize> = jobs.filter_map(|job| self.exports.of_job.get(&job).copied()).collect();
        wanted.into_iter().filter_map(|at| self.export(at, mark)).collect()
    }

    /// The name of the export that a job's scene needs.
    pub fn export_of(&self, job: usize) -> Option<&'s String> {
        self.exports.of_job.get(&job).map(|at| &self.exports.all[*at].id)
    }

    /// Where renderers find what an export makes, and where it is written.
    fn product(&self, at: usize, mark: &str) -> Product {
        let (folder, file) = (self.products.get(at).map_or("", String::as_str), &self.exports.all[at].file);
        let (all, name) = (paths::parent(folder), paths::file_name(folder));
        Product { staged: format!("{all}/{}/{name}/{file}", marked(PART, mark)), path: format!("{folder}/{file}") }
    }

    fn export(&self, at: usize, mark: &str) -> Option<CommandLine> {
        let (plan, export, product) = (self.plan, &self.exports.all[at], self.product(at, mark));
        let job = &plan.jobs[export.job];
        let adapter = exporter(job, self.adapters)?;
        let log = format!("{}/{}.log", self.logs, marked(&export.id, mark));
        let told = told(plan, export.job, adapter, ExportPaths { staged: &product.staged, log: &log });
        Some(CommandLine {
            id: export.id.clone(),
            kind: CallKind::Export,
            job: job.name.clone(),
            adapter: adapter.name.clone(),
            passes: Vec::new(),
            frames: Frames::none(),
            program: self.program(adapter),
            arguments: told.arguments,
            env: told.env,
            folder: told.folder,
            besides: Vec::new(),
            files: told.files,
            log,
            writes: Vec::new(),
            product: Some(product),
            needs: Vec::new(),
        })
    }

    /// The adapter of a job.
    pub fn adapter(&self, job: &Job) -> Option<&'s Adapter> {
        self.adapters.get(job.adapter.as_deref()?)
    }

    /// The full path of an adapter's program.
    fn program(&self, adapter: &Adapter) -> String {
        self.programs.get(&adapter.name).cloned().unwrap_or_default()
    }
}
