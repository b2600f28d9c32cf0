//! Exporters: what is made of a scene before it is rendered. Jobs that ask for the very same share one export.

use std::collections::{BTreeMap, HashMap};

use crate::adapter::{Adapter, AdapterKind};
use crate::frames::Frames;
use crate::plan::{Adapters, Plan};
use crate::resolve::{Job, paths};
use crate::template::{expand_text, slug};

use super::arguments::{ArgumentScope, CallPaths, pairs};
use super::spread::spread;

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
        let words = arguments(plan, at, adapter, &format!("/{file}"), "");
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
    let call =
        ArgumentScope { plan, job: &plan.jobs[job], adapter, frames: &Frames::none(), paths_of_call: nowhere("") };
    let stem = paths::stem(&plan.jobs[job].scene.as_ref()?.value).to_owned();
    let output = call.scene_output("", &stem)?;
    match adapter.writes.first() {
        Some(template) => expand_text(&template.value, &|name| call.lookup(name, &output)),
        None => Some(paths::file_name(&plan.jobs[job].scene.as_ref()?.value).to_owned()),
    }
}

fn nowhere(log: &str) -> CallPaths<'_> {
    CallPaths { stage: &|_| String::new(), log, product: None, still: None }
}

/// The arguments of an exporter that makes `file` in `folder`.
#[must_use]
pub fn arguments(plan: &Plan, job: usize, adapter: &Adapter, staged: &str, log: &str) -> Vec<String> {
    let (folder, file) = (paths::parent(staged), paths::file_name(staged));
    let frames = plan.jobs[job].frames.clone().unwrap_or_default();
    let call = ArgumentScope { plan, job: &plan.jobs[job], adapter, frames: &frames, paths_of_call: nowhere(log) };
    let Some(output) = call.scene_output(folder, file) else { return Vec::new() };
    let mut words = spread(&adapter.arguments, adapter, &|name| call.lookup(name, &output));
    words.extend(pairs(&call, &output));
    words
}
