//! One file per command; each reads like the sentence in its help.

pub mod adapter;
pub mod build;
pub mod check;
pub mod demo;
pub mod explain;
pub mod formats;
pub mod log;
pub mod mend;
pub mod names;
pub mod new;
mod replace;
pub mod run;
pub mod scene;
pub mod schema;
pub mod status;
pub mod verify;
pub mod whose;

use crate::args::Common;
use truepath_exec::failure::Failure;

use crate::lower::Surroundings;
use crate::pipeline::{Loaded, Queue};
use crate::show;

/// Prints findings to standard error, for commands whose answer is something else. Nothing found is nothing said.
fn tell_findings(queue: &Queue, around: &Surroundings) {
    let findings = queue.findings();
    if findings.iter().any(|finding| finding.meant.is_none()) {
        show::tell(&show::diagnostics::text(&findings, &queue.sources, &sheet_names(queue, around), around.err));
    }
}

fn sheet_names(queue: &Queue, around: &Surroundings) -> String {
    queue
        .sheets
        .iter()
        .map(|sheet| crate::pipeline::load::short(&sheet.sheet, &around.folder))
        .collect::<Vec<_>>()
        .join(", ")
}

/// Fixes looked-up values before anything is built or rendered with them.
///
/// False where somebody else has pinned other values in this moment: theirs hold, and the sheet has to be read again.
fn pin(loaded: &Loaded, anew: bool) -> Result<bool, Failure> {
    let wanted = truepath_core::plan::wanted(&loaded.plan.jobs);
    if wanted.is_nothing() || (loaded.unpinned.is_nothing() && !anew) {
        return Ok(true);
    }
    let pinned = truepath_exec::state::pins::write(&loaded.state, &loaded.pins, anew)?;
    Ok(pinned == loaded.pins)
}

/// A command of ours with the sheet, the jobs and the settings of this call, ready to be pasted.
fn again(command: &str, common: &Common) -> String {
    use truepath_core::invoke::quote::sh::word;
    let mut line = format!("truepath {command}");
    let options = [("--frames", common.frames.as_deref()), ("--scale", common.scale.as_deref())];
    let sheets: Vec<String> = common.sheet.iter().map(|sheet| sheet.display().to_string()).collect();
    let lists = [
        ("-f", &sheets),
        ("--mode", &common.mode),
        ("--camera", &common.camera),
        ("--pass", &common.pass),
        ("--set", &common.set),
    ];
    let pairs = options.iter().filter_map(|(name, value)| Some((*name, (*value)?)));
    for (name, value) in
        pairs.chain(lists.iter().flat_map(|(name, list)| list.iter().map(move |value| (*name, value.as_str()))))
    {
        line.push_str(&format!(" {name} {}", word(value)));
    }
    for job in &common.jobs {
        line.push_str(&format!(" {}", word(job)));
    }
    line
}

/// Settings of the command line that change the picture must not end up under final names unnoticed.
fn guard_final(loaded: &Loaded, is_final: bool) -> Result<(), Failure> {
    if !loaded.retouched || is_final {
        return Ok(());
    }
    let message = "these settings change the picture, and the files would bear the final names";
    Err(Failure::unreadable(message)
        .help("lay a mode with a path of its own over it (--mode NAME), or say --final if that is meant"))
}

/// Running and building need a renderer for every job.
fn need_adapters(loaded: &Loaded) -> Result<(), Failure> {
    match loaded.plan.jobs.iter().find(|job| job.adapter.as_deref().is_none()) {
        Some(job) => Err(Failure::unreadable(format!(
            "the job `{}` has no adapter: nothing says which renderer to call",
            job.name
        ))
        .help("write adapter = \"understudy\" in the job or in [defaults]")),
        None => Ok(()),
    }
}
