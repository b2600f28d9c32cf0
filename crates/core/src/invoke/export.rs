//! Exporters: what is made of a scene before it is rendered. Jobs that ask for the very same share one export.

use std::collections::{BTreeMap, HashMap};

use crate::adapter::{Adapter, AdapterKind};
use crate::frames::Frames;
use crate::plan::{Adapters, Plan};
use crate::resolve::{Job, paths};
use crate::template::{expand_text, slug};

use super::arguments::{arguments, environment};
use super::scope::{ArgumentScope, ExportPaths};
use super::written_file::{FileText, texts};

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
    let mut known: HashMap<(String, ExporterWords), usize> = HashMap::new();
    for (at, job) in plan.jobs.iter().enumerate() {
        let (Some(adapter), Some(scene)) = (exporter(job, adapters), &job.scene) else { continue };
        let Some(file) = file(plan, at, adapter) else { continue };
        // Where it goes and what is written down of it is the same for all that ask for the same.
        let told = told(plan, at, adapter, ExportPaths { staged: &format!("/{file}"), log: "" });
        let number = *known.entry((adapter.name.clone(), told)).or_insert_with(|| {
            // What stands behind a dot in the name of a call is a part of it.
            let stem = slug(paths::stem(&scene.value)).replace('.', "-");
            let id = format!("export-{stem}-{}", exports.all.len() + 1);
            exports.all.push(Export { id, job: at, file });
            exports.all.len() - 1
        });
        exports.of_job.insert(at, number);
    }
    exports
}

/// The file that an exporter makes for a job: the first of its `writes`.
fn file(plan: &Plan, job: usize, adapter: &Adapter) -> Option<String> {
    let scene = plan.jobs[job].scene.as_ref()?;
    let frames = &Frames::none();
    let made = ExportPaths { staged: paths::stem(&scene.value), log: "" };
    let scope = ArgumentScope::of_export(plan, job, (adapter, frames), made)?;
    let output = scope.outputs.first()?;
    match adapter.writes.first() {
        Some(template) => expand_text(&template.value, &|name| scope.lookup(name, output)),
        None => Some(paths::file_name(&scene.value).to_owned()),
    }
}

/// What an exporter is told.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct ExporterWords {
    /// Its arguments.
    pub arguments: Vec<String>,
    /// What is added to its environment.
    pub env: Vec<(String, String)>,
    /// Where it starts.
    pub folder: String,
    /// The files that are written before it starts.
    pub files: Vec<FileText>,
}

/// All that decides what an export makes, beside the files that it reads and the program: the same words on every machine
/// that names its roots alike.
#[must_use]
pub fn made_from(plan: &Plan, export: &Export, adapters: &Adapters) -> Vec<String> {
    let Some(adapter) = exporter(&plan.jobs[export.job], adapters) else { return Vec::new() };
    let told = told(plan, export.job, adapter, ExportPaths { staged: &format!("/{}", export.file), log: "" });
    let named = plan.roots.iter().filter_map(|root| Some((root.path.as_deref()?, root.name.as_str())));
    let mut folders: Vec<(&str, &str)> = named.chain([(plan.home.folder.as_str(), "home")]).collect();
    folders.sort_by_key(|(path, _)| std::cmp::Reverse(path.len()));
    let anywhere = |word: &String| {
        folders.iter().fold(word.clone(), |word, (path, name)| word.replace(path, &format!("{{{name}}}")))
    };
    let files = told.files.iter().flat_map(|file| [&file.path, &file.text]);
    let env = told.env.iter().flat_map(|(name, value)| [name, value]);
    let words = told.arguments.iter().chain([&told.folder]).chain(env).chain(files);
    [adapter.name.clone(), export.file.clone()].into_iter().chain(words.map(anywhere)).collect()
}

/// What an exporter is told that makes a file; nothing where its job has no pass.
#[must_use]
pub fn told(plan: &Plan, job: usize, adapter: &Adapter, made: ExportPaths<'_>) -> ExporterWords {
    let frames = plan.jobs[job].frames.clone().unwrap_or_default();
    let Some(scope) = ArgumentScope::of_export(plan, job, (adapter, &frames), made) else {
        return ExporterWords::default();
    };
    ExporterWords {
        arguments: arguments(&scope),
        env: environment(&scope),
        folder: scope.start_folder(scope.outputs.first()),
        files: texts(&scope),
    }
}
