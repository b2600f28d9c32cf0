//! Mistakes of a command line: nothing that it would come to is shown.

use std::path::Path;

use truepath_core::diagnostic::{Finding, Level};
use truepath_core::source::Sources;
use truepath_exec::failure::{Failure, Whole};

use super::{Screen, diagnostics, json};

/// What is wrong with a value that was typed, whatever the sheet says.
const MISTAKES: [&str; 4] = ["not-toml", "value-not-understood", "unknown-key", "frames-not-understood"];
/// What was typed and is not in the sheet.
const UNKNOWN: &str = "name-unknown";

/// The mistakes of a command line among some findings, as the failure that they are.
pub fn failure(
    findings: &[Finding],
    sources: &Sources,
    (folder, screen): (&Path, Screen),
    as_json: bool,
) -> Option<Failure> {
    let is_typed = |finding: &Finding| match &finding.at {
        // Texts that were typed have the name of their option.
        Some(at) => MISTAKES.contains(&finding.check) && sources.get(at.at.file).name.starts_with("--"),
        None => finding.check == UNKNOWN,
    };
    let typed = findings.iter().filter(|finding| finding.level == Level::Error && is_typed(finding));
    let typed: Vec<Finding> = typed.cloned().collect();
    let mut failure = Failure::unreadable(typed.first()?.message.clone());
    failure.whole = Some(if as_json {
        Whole::Document(json::text(&json::check(std::iter::once((None, typed.as_slice(), sources)), &[], folder)))
    } else {
        Whole::Text(diagnostics::text(&typed, sources, "the command line", screen))
    });
    Some(failure)
}
