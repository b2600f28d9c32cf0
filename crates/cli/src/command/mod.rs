//! One file per command; each reads like the sentence in its help.

pub mod build;
pub mod check;
pub mod demo;
pub mod explain;
pub mod names;
pub mod new;
pub mod run;
pub mod verify;

use crate::args::Common;
use crate::exit_code::{Exit, Failure};
use crate::lower::Surroundings;
use crate::pipeline::Loaded;
use crate::show;

/// Prints findings to standard error, for commands whose answer is something else. Nothing found is nothing said.
fn tell_findings(loaded: &Loaded, around: &Surroundings) {
    let findings = loaded.findings.clone().sorted();
    if !findings.is_empty() {
        show::tell(&show::diagnostics::text(&findings, &loaded.sources, &sheet_name(loaded, around), around.err));
    }
}

fn sheet_name(loaded: &Loaded, around: &Surroundings) -> String {
    crate::effect::load::short(&loaded.sheet, &around.folder)
}

/// A command of ours with the sheet, the jobs and the settings of this call, ready to be pasted.
fn again(command: &str, common: &Common) -> String {
    use truepath_core::invoke::quote::sh::word;
    let mut line = format!("truepath {command}");
    let options = [("--frames", common.frames.as_deref()), ("--scale", common.scale.as_deref())];
    let sheet = common.sheet.as_ref().map(|sheet| sheet.display().to_string());
    let lists = [("--camera", &common.camera), ("--pass", &common.pass), ("--set", &common.set)];
    let pairs = sheet
        .iter()
        .map(|sheet| ("-f", sheet.as_str()))
        .chain(options.iter().filter_map(|(name, value)| Some((*name, (*value)?))));
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
    let message = "these settings change the picture, and the files would bear the final names".to_owned();
    let help = Some("give the call names of its own (--set path=...), or say --final if that is meant".to_owned());
    Err(Failure { message, help, exit: Exit::Unreadable })
}
