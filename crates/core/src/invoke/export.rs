//! Exporters: what is made of a scene before it is rendered. Jobs that ask for the very same share one export.

use std::collections::{BTreeMap, HashMap};

use crate::adapter::{Adapter, AdapterKind};
use crate::frames::Frames;
use crate::plan::{Adapters, Plan};
use crate::resolve::{Job, paths};
use crate::template::{expand_text, slug};

use super::scope::{ArgumentScope, CallPaths};
use super::written_file::{FileText, of_output};

/// One export.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Export {
    /// Its name, fit for a folder.
    pub id: String,
    /// A job that it is made for, as an index into the plan's jobs.
    pub job: usize,
    /// The file it makes.
    pub file: String,
}

/// The exports of a plan.
#[derive(Clone, Debug, Default)]
pub struct Exports {
    /// Each once.
    pub all: Vec<Export>,
    /// The export of each job that has one.
    pub of_job: BTreeMap<usize, usize>,
}

/// The file that an exporter makes, and the one that keeps what it says.
#[derive(Clone, Copy, Debug)]
pub struct Made<'m> {
    /// Where it writes.
    pub staged: &'m str,
    /// Its log.
    pub log: &'m str,
}

/// The exporter of a job.
#[must_use]
pub fn exporter<'a>(job: &Job, adapters: &'a Adapters) -> Option<&'a Adapter> {
    adapters.get(job.export.as_deref()?).filter(|adapter| adapter.kind == AdapterKind::Exporter)
}

/// Which exports the jobs of a plan need.
#[must_use]
pub fn exports(plan: &Plan, adapters: &Adapters) -> Exports {
    let mut exports = Exports::default();
    let mut known: HashMap<(String, Vec<String>), usize> = HashMap::new();
    for (at, job) in plan.jobs.iter().enumerate() {
        let (Some(adapter), Some(scene)) = (exporter(job, adapters), &job.scene) else { continue };
        let Some(file) = file(plan, at, adapter) else { continue };
        // Where it goes and what is written down of it is the same for all that ask for the same.
        let words = told(plan, at, adapter, Made { staged: &format!("/{file}"), log: "" }).arguments;
        let key = (adapter.name.clone(), words);
        let number = *known.entry(key).or_insert_with(|| {
            let id = format!("export-{}-{}", slug(paths::stem(&scene.value)), exports.all.len() + 1);
            exports.all.push(Export { id, job: at, file });
            exports.all.len() - 1
        });
        exports.of_job.insert(at, number);
    }
    exports
}

/// The file that an exporter makes for a job: the first of its `writes`.
fn file(plan: &Plan, job: usize, adapter: &Adapter) -> Option<String> {
    let frames = &Frames::none();
    let call = scope(plan, job, adapter, frames, "");
    let stem = paths::stem(&plan.jobs[job].scene.as_ref()?.value).to_owned();
    let output = call.scene_output("", &stem)?;
    match adapter.writes.first() {
        Some(template) => expand_text(&template.value, &|name| call.lookup(name, &output)),
        None => Some(paths::file_name(&plan.jobs[job].scene.as_ref()?.value).to_owned()),
    }
}

/// An export as a call: it writes no pictures.
fn scope<'c>(plan: &'c Plan, job: usize, adapter: &'c Adapter, frames: &'c Frames, log: &'c str) -> ArgumentScope<'c> {
    let paths_of_call = CallPaths { stage: &|_| String::new(), log, product: None, still: None };
    ArgumentScope {
        plan,
        job: &plan.jobs[job],
        adapter,
        frames,
        series: &[],
        paths_of_call,
        outputs: Vec::new(),
        stage: None,
    }
}

/// What an exporter is told.
#[derive(Clone, Debug, Default)]
pub struct Told {
    /// Its arguments.
    pub arguments: Vec<String>,
    /// Where it starts.
    pub folder: String,
    /// The files that are written before it starts.
    pub files: Vec<FileText>,
}

/// What an exporter is told that makes a file; nothing where its job has no pass.
#[must_use]
pub fn told(plan: &Plan, job: usize, adapter: &Adapter, made: Made<'_>) -> Told {
    let frames = plan.jobs[job].frames.clone().unwrap_or_default();
    let scope = scope(plan, job, adapter, &frames, made.log);
    let output = scope.scene_output(paths::parent(made.staged), paths::file_name(made.staged));
    let Some(output) = output else { return Told::default() };
    let mut arguments = scope.filled(&output, |filling| filling.spread(&adapter.arguments));
    arguments.extend(scope.pairs(&output));
    Told { arguments, folder: scope.start_folder(Some(&output)), files: of_output(&scope, &output) }
}
