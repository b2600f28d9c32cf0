//! Command lines as JSON, for programs. Written call by call, since there may be a hundred thousand of them.

use std::collections::BTreeMap;

use rayon::iter::{IntoParallelRefIterator, ParallelIterator};
use serde::Serialize;

use crate::plan::Plan;

use super::Step;

/// The document: every invocation of some plans.
#[must_use]
pub fn document(scripts: &[(&Plan, Vec<Step>)]) -> String {
    let one = |(plan, step): (&'_ Plan, &'_ Step)| {
        let writes = step.writes.iter().map(|write| {
            let series = &plan.series[write.series];
            let pass = (series.passes.len() == 1).then(|| plan.jobs[series.job].passes[series.passes[0]].label.clone());
            Writes { series: series.id.clone(), pass, pattern: series.pattern.spelt(), frames: step.frames.to_string() }
        });
        Call {
            id: step.id.clone(),
            job: step.job.clone(),
            passes: step.passes.clone(),
            frames: step.frames.to_string(),
            program: step.program.clone(),
            arguments: step.arguments.clone(),
            env: step.env.iter().cloned().collect(),
            folder: plan.home.folder.clone(),
            log: step.log.clone(),
            writes: writes.collect(),
            needs: step.needs.clone(),
        }
    };
    let steps = scripts.iter().flat_map(|(plan, steps)| steps.iter().map(move |step| (*plan, step)));
    let steps: Vec<(&Plan, &Step)> = steps.collect();
    let written: Vec<String> =
        steps.par_iter().map(|step| serde_json::to_string(&one(*step)).unwrap_or_default()).collect();
    format!("{{\n  \"truepath\": 1,\n  \"invocations\": [\n    {}\n  ]\n}}\n", written.join(",\n    "))
}

/// One invocation in JSON.
#[derive(Serialize)]
struct Call {
    id: String,
    job: String,
    passes: Vec<String>,
    frames: String,
    program: String,
    arguments: Vec<String>,
    env: BTreeMap<String, String>,
    folder: String,
    log: String,
    writes: Vec<Writes>,
    needs: Vec<String>,
}

/// One series of an invocation in JSON.
#[derive(Serialize)]
struct Writes {
    series: String,
    pass: Option<String>,
    pattern: String,
    frames: String,
}
