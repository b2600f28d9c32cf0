//! One file per command; each reads like the sentence in its help.

pub mod adapter;
mod adopt;
pub mod build;
pub mod check;
pub mod clean;
pub mod compare;
pub mod contact;
mod deliver;
pub mod demo;
pub mod encode;
pub mod estimate;
pub mod explain;

pub mod fixing;
mod gallery;
pub mod log;
mod loose;
pub mod manual;
pub mod movie;
pub mod names;
pub mod new;
pub mod parcel;
pub mod report;
pub mod run;
pub mod scene;
pub mod schema;
pub mod share_test;
pub mod stack;
pub mod status;
pub mod trust;
pub mod types;
pub mod verify;
pub mod whose;

use truepath_core::sheet::Existing;
use truepath_core::verify::Verdict;
use truepath_core::verify::fix::{self, NeededRun};

use crate::args::Common;

use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{Loaded, Queue};
use crate::show;

/// Prints findings to standard error, for commands whose answer is something else. Nothing found is nothing said.
fn tell_findings(queue: &Queue, around: &Around) {
    show::diagnostics::tell((&queue.findings(), &queue.sources), &sheet_names(queue, around), around.err);
}

fn sheet_names(queue: &Queue, around: &Around) -> String {
    show::diagnostics::names(queue.sheets.iter().map(|sheet| &sheet.sheet), around)
}

/// How a command ends that compares the disk with a plan which nobody can know: nothing is planned, not all names are known, or
/// what was typed has no meaning. Then what was found is told.
fn not_to_be_judged(queue: &Queue, around: &Around) -> Option<Exit> {
    let unknown = |sheet: &Loaded| !sheet.is_readable() || sheet.plan.series.iter().any(|series| !series.is_known());
    let nothing = queue.sheets.iter().all(|sheet| sheet.plan.series.is_empty() && sheet.plan.movies.is_empty());
    if !nothing && !queue.sheets.iter().any(unknown) && !queue.findings().iter().any(|own| queue.is_of_request(own)) {
        return None;
    }
    tell_findings(queue, around);
    Some(queue.stopped().map_or(Exit::No, Exit::from))
}

/// A command of ours with the sheet, the jobs and the settings of this call, ready to be pasted.
fn again(command: &str, common: &Common) -> String {
    pasted(&words(command, common))
}

/// A command line as it is typed into a shell.
fn pasted(words: &[String]) -> String {
    words.iter().map(|word| truepath_core::invoke::quote::sh::word(word)).collect::<Vec<_>>().join(" ")
}

fn words(command: &str, common: &Common) -> Vec<String> {
    let mut line: Vec<String> = ["truepath"].into_iter().chain(command.split(' ')).map(str::to_owned).collect();
    let options = [("--frames", common.frames.as_deref()), ("--scale", common.scale.as_deref())];
    let sheets: Vec<String> = common.sheet.iter().map(|sheet| sheet.display().to_string()).collect();
    let lists = [
        ("-f", &sheets),
        ("--mode", &common.mode),
        ("--camera", &common.camera),
        ("--pass", &common.pass),
        ("--set", &common.set),
    ];
    let single = options.iter().filter_map(|(name, value)| Some((*name, (*value)?)));
    let listed = lists.iter().flat_map(|(name, list)| list.iter().map(move |value| (*name, value.as_str())));
    for (name, value) in single.chain(listed) {
        line.extend([name.to_owned(), value.to_owned()]);
    }
    line.extend(common.jobs.iter().cloned());
    line
}

/// The commands that make the plans of a queue complete, in their order. `judged` has the verdicts of each sheet.
fn fixes<'v>(queue: &Queue, judged: impl IntoIterator<Item = &'v [Verdict]>, common: &Common) -> Vec<Vec<String>> {
    let several = queue.sheets.len() > 1;
    let of_sheet = |(at, (loaded, verdicts)): (usize, (&Loaded, &[Verdict]))| {
        let all = fix::fixes(&loaded.plan, verdicts).into_iter();
        all.map(|fix| fixed(loaded, fix, common, several.then_some(at))).collect::<Vec<_>>()
    };
    queue.sheets.iter().zip(judged).enumerate().flat_map(of_sheet).collect()
}

/// The same for one sheet, to be pasted. `at` is its place among several.
fn fixes_of(loaded: &Loaded, verdicts: &[Verdict], common: &Common, at: Option<usize>) -> Vec<String> {
    let all = fix::fixes(&loaded.plan, verdicts).into_iter();
    all.map(|fix| pasted(&fixed(loaded, fix, common, at))).collect()
}

/// The command of one fix. `at` is the sheet's place among several.
fn fixed(loaded: &Loaded, fix: NeededRun, common: &Common, at: Option<usize>) -> Vec<String> {
    let mut own = common.clone();
    if let Some(sheet) = at.and_then(|at| common.sheet.get(at)) {
        own.sheet = vec![sheet.clone()];
        // A name that was typed may be that of a job in another sheet.
        if !common.jobs.is_empty() {
            own.jobs = loaded.plan.jobs.iter().map(|job| job.name.clone()).collect();
        }
    }
    if !fix.jobs.is_empty() {
        own.jobs = fix.jobs;
    }
    if !fix.passes.is_empty() {
        own.pass = fix.passes;
    }
    own.frames = fix.frames.or(own.frames);
    let command = match fix.existing {
        Existing::Renew => "run --existing renew",
        Existing::Replace => "run --existing replace",
        Existing::Keep | Existing::Stop => "run --existing keep",
    };
    // A sheet that keeps by itself need not be told so.
    let command =
        if fix.existing == Existing::Keep && loaded.plan.run.existing == Existing::Keep { "run" } else { command };
    let command = match (fix.movies, fix.existing) {
        (false, _) => command,
        (true, Existing::Replace) => "run --existing replace",
        (true, _) => "movie",
    };
    let mut line = words(command, &own);
    line.extend(fix.only.into_iter().flat_map(|id| ["--only".to_owned(), id]));
    if loaded.retouched {
        line.insert(2, "--final".to_owned());
    }
    line
}
