//! Command lines as JSON, for programs. Written call by call, since there may be a hundred thousand of them.

use std::collections::BTreeMap;

use serde::Serialize;

use crate::plan::Plan;
use crate::threads::{Threads, map};

use crate::invoke::command_line::CommandLine;

/// The document: every call of some plans.
#[must_use]
pub fn document(scripts: &[(&Plan, Vec<CommandLine>)], threads: &dyn Threads) -> String {
    let one = |(plan, step): (&'_ Plan, &'_ CommandLine)| {
        let writes = step.writes.iter().map(|write| {
            let series = &plan.series[write.series];
            let pass = (series.passes.len() == 1).then(|| plan.jobs[series.job].passes[series.passes[0]].label.clone());
            Writes { series: series.id.clone(), pass, pattern: series.pattern.spelt(), frames: step.frames.to_string() }
        });
        CallDocument {
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
    let steps: Vec<(&Plan, &CommandLine)> = steps.collect();
    let written = map(threads, &steps, |step| serde_json::to_string(&one(*step)).unwrap_or_default());
    format!("{{\n  \"truepath\": 1,\n  \"calls\": [\n    {}\n  ]\n}}\n", written.join(",\n    "))
}

/// One call in JSON.
#[derive(Serialize)]
struct CallDocument {
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

/// One series of a call in JSON.
#[derive(Serialize)]
struct Writes {
    series: String,
    pass: Option<String>,
    pattern: String,
    frames: String,
}
