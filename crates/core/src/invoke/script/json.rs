//! Command lines as JSON, for programs. Written call by call, since there may be a hundred thousand of them.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use crate::invoke::command_line::{CommandLine, stages};
use crate::invoke::written::{Spelt, glob};
use crate::plan::{Adapters, Plan};
use crate::resolve::paths;
use crate::threads::{Threads, map};

/// How every document begins.
pub const MARK: &str = "{\n  \"truepath\": 1,\n";

/// The document: every call of some plans.
#[must_use]
pub fn document(sheets: &[(&Plan, &Adapters, &[CommandLine])], threads: &dyn Threads) -> String {
    let one = |(plan, adapters, step): (&'_ Plan, &'_ Adapters, &'_ CommandLine)| {
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
        }
    };
    let steps = sheets.iter().flat_map(|(plan, own, steps)| steps.iter().map(move |step| (*plan, *own, step)));
    let steps: Vec<(&Plan, &Adapters, &CommandLine)> = steps.collect();
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
