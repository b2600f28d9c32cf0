//! `check`: every mistake, before the first frame.

use std::collections::BTreeSet;

use truepath_core::diagnostic::{Finding, Level};

use super::fixing;
use crate::args::{CheckArgs, Common, OutputForm};
use truepath_exec::failure::Failure;

use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, LoadOptions, Loaded, Queue};
use crate::show;

/// Shows every finding with its place, its reason and its remedy; fixes first what is certain, when asked to.
pub fn run(args: &CheckArgs, around: &Around) -> Result<Exit, Failure> {
    if args.common.json && args.to == OutputForm::Sarif {
        return Err(Failure::unreadable("--json and --to sarif are two forms").help("remove one of them"));
    }
    let form = if args.common.json { OutputForm::Json } else { args.to };
    let load = |common: &Common| {
        pipeline::load(common, around, LoadOptions { offline: args.offline, ..LoadOptions::default() })
    };
    let queue = if args.fix {
        let fixed = fixing::fix(&args.common, around, args.offline)?;
        match form {
            OutputForm::Text => show::print(&fixing::told(&fixed, around.out))?,
            OutputForm::Json | OutputForm::Sarif => show::tell(&fixing::told(&fixed, around.err)),
        }
        fixed.queue
    } else {
        load(&args.common)?
    };
    let modes = modes(&queue);
    let mut views = vec![ModeView::of(None, queue, &BTreeSet::new())];
    if args.all_modes {
        let known: BTreeSet<FindingWords> = views[0].findings.iter().map(said).collect();
        for mode in &modes {
            // Of several sheets only those are looked at again that have the mode.
            let has = |sheet: &&Loaded| sheet.written.modes.iter().any(|own| own.name.value == *mode);
            let sheets = views[0].queue.sheets.iter().filter(has).map(|sheet| sheet.sheet.clone());
            let sheet = if args.common.sheet.is_empty() { Vec::new() } else { sheets.collect() };
            let queue = load(&Common { mode: vec![mode.clone()], sheet, ..args.common.clone() })?;
            views.push(ModeView::of(Some(mode.clone()), queue, &known));
        }
    }
    let unchecked = if args.all_modes || !args.common.mode.is_empty() { Vec::new() } else { modes };
    match form {
        OutputForm::Text => {
            let mut text: Vec<String> = views.iter().map(|view| view.text(around)).collect();
            if !unchecked.is_empty() {
                text.push(format!("not checked: {} (--all-modes)\n", named(&unchecked)));
            }
            show::print(&text.concat())?;
        }
        OutputForm::Json => {
            let parts = views.iter().map(|view| (view.mode.as_deref(), view.findings.as_slice(), &view.queue.sources));
            show::print_exact(&show::json::text(&show::json::check(parts, &unchecked, &around.folder)))?;
        }
        OutputForm::Sarif => {
            let name = super::sheet_names(&views[0].queue, around);
            let parts = views.iter().map(|view| (view.findings.as_slice(), &view.queue.sources));
            show::print_exact(&show::json::text(&show::sarif::document(parts, (&name, &around.folder))))?;
        }
    }
    let stopped = views.iter().filter_map(|view| view.queue.stopped()).max().map(Exit::from);
    let warned = |view: &ModeView| view.findings.iter().any(|own| own.level == Level::Warning && own.allowed.is_none());
    let warned = args.strict && views.iter().any(warned);
    Ok(stopped.unwrap_or(if warned { Exit::No } else { Exit::Well }))
}

/// What was found with one mode, or with none.
struct ModeView {
    mode: Option<String>,
    queue: Queue,
    findings: Vec<Finding>,
}

/// What makes a finding the same one in a mode as without: what it says, of which job and at which place.
type FindingWords = (&'static str, String, Option<String>, Option<u32>);

fn said(finding: &Finding) -> FindingWords {
    (finding.check.name(), finding.message.clone(), finding.job.clone(), finding.at.as_ref().map(|at| at.at.start))
}

impl ModeView {
    /// What is found, without what is known already.
    fn of(mode: Option<String>, queue: Queue, known: &BTreeSet<FindingWords>) -> ModeView {
        let findings = queue.findings().into_iter().filter(|finding| !known.contains(&said(finding))).collect();
        ModeView { mode, queue, findings }
    }

    fn text(&self, around: &Around) -> String {
        let name = super::sheet_names(&self.queue, around);
        let name = self.mode.as_ref().map_or(name.clone(), |mode| format!("{name} with the mode {mode}"));
        show::diagnostics::text(&self.findings, &self.queue.sources, &name, around.out)
    }
}

/// The modes of all sheets, each once, in their order.
fn modes(queue: &Queue) -> Vec<String> {
    let mut names: Vec<String> = Vec::new();
    for mode in queue.sheets.iter().flat_map(|sheet| &sheet.written.modes) {
        if !names.contains(&mode.name.value) {
            names.push(mode.name.value.clone());
        }
    }
    names
}

fn named(modes: &[String]) -> String {
    match modes {
        [one] => format!("the mode {one}"),
        several => format!("the modes {}", several.join(", ")),
    }
}
