//! What shells complete: names of jobs, passes, modes, cameras, checks, types and adapters, looked up when the key is pressed.

use std::collections::BTreeSet;
use std::ffi::OsString;

use clap::CommandFactory;
use clap_complete::CompleteEnv;
use clap_complete::engine::{ArgValueCandidates, CompletionCandidate};
use truepath_core::catalogue::{CODECS, types};
use truepath_core::diagnostic::CHECKS;

use crate::args::{Cli, Common};
use crate::lower::{self, COMPLETE};
use crate::pipeline::{self, LoadOptions, Queue};

/// Answers a shell that asks what to complete. `false` where none does.
pub fn answered() -> bool {
    let Some(asking) = lower::asking() else { return false };
    // A shell that asks badly, or does not read, gets no answer: there is nobody to tell why.
    CompleteEnv::with_factory(command).var(COMPLETE).try_complete(asking.words.iter().cloned(), None).unwrap_or(true)
}

/// The command line with what each of its values can be.
pub fn command() -> clap::Command {
    with_candidates(Cli::command())
}

fn with_candidates(command: clap::Command) -> clap::Command {
    let name = command.get_name().to_owned();
    let add = |arg: clap::Arg| {
        let list: fn() -> Vec<CompletionCandidate> = match (name.as_str(), arg.get_id().as_str()) {
            (_, "jobs" | "job") => jobs,
            ("compare", "what") => jobs,
            (_, "pass" | "passes") => passes,
            (_, "mode") => modes,
            (_, "camera") => cameras,
            ("explain", "check") => checks,
            ("types", "name") => kinds,
            ("show" | "prove", "name") => adapters,
            _ => return arg,
        };
        arg.add(ArgValueCandidates::new(list))
    };
    command.mut_args(add).mut_subcommands(with_candidates)
}

/// The sheets that the words on the line mean, read without asking the disk for anything else.
fn queue() -> Option<Queue> {
    let around = lower::surroundings().ok()?;
    let after = |pair: &[OsString]| (pair[0] == "-f" || pair[0] == "--sheet").then(|| pair[1].clone().into());
    let sheet = lower::asking()?.words.windows(2).filter_map(after).collect();
    let common = Common { sheet, ..Common::default() };
    pipeline::lenient(&common, &around, LoadOptions { offline: true, ..LoadOptions::default() }).ok()
}

/// Names out of every sheet of the queue.
fn of_sheets(names: impl Fn(&pipeline::Loaded) -> Vec<String>) -> Vec<CompletionCandidate> {
    let queue = queue();
    let names = queue.iter().flat_map(|queue| &queue.sheets).flat_map(names);
    names.collect::<BTreeSet<String>>().into_iter().map(|name| candidate(&name)).collect()
}

/// A name as the shell that asks can put it on its line.
fn candidate(name: &str) -> CompletionCandidate {
    CompletionCandidate::new(match lower::asking().map(|asking| asking.shell.as_str()) {
        Some("bash") => name.chars().fold(String::new(), |mut out, sign| {
            let is_plain = sign.is_alphanumeric() || "/-_.,:@%+=".contains(sign);
            out.extend((!is_plain).then_some('\\'));
            out.push(sign);
            out
        }),
        _ => name.to_owned(),
    })
}

fn jobs() -> Vec<CompletionCandidate> {
    of_sheets(|sheet| sheet.stacked.iter().flat_map(|job| [job.name.clone(), job.job.clone()]).collect())
}

fn passes() -> Vec<CompletionCandidate> {
    let labels = |sheet: &pipeline::Loaded| -> Vec<String> {
        sheet.plan.jobs.iter().flat_map(|job| &job.passes).map(|pass| pass.label.clone()).collect()
    };
    of_sheets(labels)
}

fn modes() -> Vec<CompletionCandidate> {
    of_sheets(|sheet| sheet.written.modes.iter().map(|mode| mode.name.value.clone()).collect())
}

fn cameras() -> Vec<CompletionCandidate> {
    of_sheets(|sheet| sheet.plan.jobs.iter().filter_map(|job| job.camera.clone()).collect())
}

fn checks() -> Vec<CompletionCandidate> {
    CHECKS.iter().map(|check| CompletionCandidate::new(check.name).help(Some(check.summary.into()))).collect()
}

fn kinds() -> Vec<CompletionCandidate> {
    types().map(|known| known.name).chain(CODECS.iter().map(|known| known.name)).map(CompletionCandidate::new).collect()
}

fn adapters() -> Vec<CompletionCandidate> {
    of_sheets(|sheet| sheet.adapters.keys().cloned().collect())
}
