//! Command lines as JSON, for programs. Written call by call, since there may be a hundred thousand of them.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use crate::invoke::command_line::{CallKind, CommandLine, stages};
use crate::invoke::written::{Spelt, glob};
use crate::plan::{Adapters, Plan};
use crate::resolve::paths;
use crate::run::cost::Costs;
use crate::threads::{Threads, map};

/// How every document begins.
pub const MARK: &str = "{\n  \"truepath\": 1,\n";

/// What is written of one sheet.
#[derive(Clone, Copy, Debug)]
pub struct Calls<'c> {
    /// Its plan.
    pub plan: &'c Plan,
    /// The adapters of its calls.
    pub adapters: &'c Adapters,
    /// Its calls.
    pub steps: &'c [CommandLine],
    /// What its frames were measured to cost.
    pub costs: &'c Costs,
}

/// The document: every call of some plans.
#[must_use]
pub fn document(sheets: &[Calls<'_>], threads: &dyn Threads) -> String {
    let one = |(own, step): (&'_ Calls<'_>, &'_ CommandLine)| {
        let Calls { plan, adapters, .. } = *own;
        let writes = step.writes.iter().map(|write| {
            let series = plan.output(write.series);
            let pass = (series.passes.len() == 1).then(|| plan.jobs[series.job].passes[series.passes[0]].label.clone());
            Writes { series: series.id.clone(), pass, pattern: series.pattern.spelt(), frames: step.frames.to_string() }
        });
        let lands = lands(plan, step);
        let mut folders: BTreeSet<String> = lands.iter().map(|land| paths::parent(&land.to).to_owned()).collect();
        folders.insert(paths::parent(&step.log).to_owned());
        CallDocument {
            id: step.id.clone(),
            kind: step.kind.name(),
            folders: folders.into_iter().collect(),
            stage: stages(step).into_iter().map(str::to_owned).collect(),
            lands,
            ok: adapters
                .get(&step.adapter)
                .filter(|_| !step.writes.is_empty())
                .map_or(vec![0], |own| own.exit.good_codes()),
            job: step.job.clone(),
            passes: step.passes.clone(),
            frames: step.frames.to_string(),
            program: step.program.clone(),
            arguments: step.arguments.clone(),
            env: step.env.iter().cloned().collect(),
            folder: step.folder.clone(),
            files: step
                .files
                .iter()
                .map(|file| FileDocument { path: file.path.clone(), text: file.text.clone() })
                .collect(),
            also: step.globs(false).collect(),
            keep: step.globs(true).collect(),
            log: step.log.clone(),
            writes: writes.collect(),
            needs: step.needs.clone(),
            resources: Resources::of(own, step),
        }
    };
    let steps: Vec<(&Calls<'_>, &CommandLine)> =
        sheets.iter().flat_map(|own| own.steps.iter().map(move |step| (own, step))).collect();
    let written = map(threads, &steps, |step| serde_json::to_string(&one(*step)).unwrap_or_default());
    format!("{MARK}  \"calls\": [\n    {}\n  ]\n}}\n", written.join(",\n    "))
}

/// The files of a call on their way to their names, in the order in which they are written.
fn lands(plan: &Plan, step: &CommandLine) -> Vec<Land> {
    if let Some(product) = &step.product {
        return vec![Land { from: product.staged.clone(), or: Vec::new(), to: product.path.clone() }];
    }
    let of_frame = |frame: i64| {
        step.writes.iter().map(move |write| {
            let spelt = |spelling: &Vec<Spelt>| format!("{}/{}", write.stage, glob(spelling));
            let mut spellings = write.expected.spellings(frame).iter().map(spelt).collect::<Vec<_>>().into_iter();
            let from = spellings.next().unwrap_or_default();
            Land { from, or: spellings.collect(), to: plan.output(write.series).name(frame) }
        })
    };
    step.frames.iter().flat_map(of_frame).collect()
}

/// One call in JSON.
#[derive(Serialize)]
struct CallDocument {
    id: String,
    kind: &'static str,
    job: String,
    passes: Vec<String>,
    frames: String,
    program: String,
    arguments: Vec<String>,
    env: BTreeMap<String, String>,
    folder: String,
    folders: Vec<String>,
    stage: Vec<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    files: Vec<FileDocument>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    also: Vec<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    keep: Vec<String>,
    ok: Vec<i64>,
    log: String,
    writes: Vec<Writes>,
    lands: Vec<Land>,
    needs: Vec<String>,
    resources: Resources,
}

/// What a call needs of the machine that a queue gives it; what nobody has said or measured is left out.
#[derive(Serialize)]
struct Resources {
    /// Cores: `[run.cluster]`.
    #[serde(skip_serializing_if = "Option::is_none")]
    threads: Option<i64>,
    /// Bytes: `[run.cluster]`, or the most that a program of this sheet was seen to hold.
    #[serde(skip_serializing_if = "Option::is_none")]
    memory: Option<u64>,
    /// Seconds that its frames were measured to take.
    #[serde(skip_serializing_if = "Option::is_none")]
    seconds: Option<f64>,
    /// Licences by name: those that its program holds, and those that each task takes from a scheduler.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    licences: BTreeMap<String, i64>,
    /// `[run.cluster]`; higher comes first.
    #[serde(skip_serializing_if = "Option::is_none")]
    priority: Option<i64>,
}

impl Resources {
    fn of(own: &Calls<'_>, step: &CommandLine) -> Resources {
        let cluster = &own.plan.run.cluster;
        let is_ours = |at: &usize| {
            let series = own.plan.output(*at);
            let job = &own.plan.jobs[series.job];
            job.name == step.job && series.passes.iter().any(|pass| step.passes.contains(&job.passes[*pass].label))
        };
        let outputs: Vec<usize> = match step.kind {
            CallKind::Render => own.plan.outputs().map(|(at, _)| at).filter(is_ours).collect(),
            _ => Vec::new(),
        };
        let cost = own.costs.cost(own.plan, &outputs, &step.frames).filter(|cost| cost.files > 0);
        let held = own.adapters.get(&step.adapter).into_iter().flat_map(|own| &own.needs.licences);
        Resources {
            threads: cluster.threads,
            memory: cluster.memory.or(own.costs.memory()),
            seconds: cost.map(|cost| (cost.seconds * 1000.0).round() / 1000.0),
            licences: held.map(|name| (name.clone(), 1)).chain(cluster.licences.clone()).collect(),
            priority: cluster.priority,
        }
    }
}

/// One file in JSON that is written before the program starts, once the stage folders are there.
#[derive(Serialize)]
struct FileDocument {
    path: String,
    text: String,
}

/// One file in JSON: where it is written, where it may be written instead, and the name it is given.
#[derive(Serialize)]
struct Land {
    from: String,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    or: Vec<String>,
    to: String,
}

/// One series of a call in JSON.
#[derive(Serialize)]
struct Writes {
    series: String,
    pass: Option<String>,
    pattern: String,
    frames: String,
}
