//! Mistakes of a command line: nothing that it would come to is shown.

use std::path::Path;

use truepath_exec::failure::{Failure, Whole};
use truepath_project::Queue;

use super::{Screen, diagnostics, json};

/// The mistakes of a command line that a queue was opened with, as the failure that they are.
pub fn failure(queue: &Queue, (folder, screen): (&Path, Screen), as_json: bool) -> Option<Failure> {
    let (typed, sources) = (queue.mistyped(), &queue.sources);
    let mut failure = Failure::unreadable(typed.first()?.message.clone());
    failure.whole = Some(if as_json {
        Whole::Document(json::text(&json::check(std::iter::once((None, typed.as_slice(), sources)), &[], folder)))
    } else {
        Whole::Text(diagnostics::text(&typed, sources, "the command line", screen))
    });
    Some(failure)
}
