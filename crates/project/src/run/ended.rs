//! The end of a run: what was done, what failed, and what stands now.

use std::collections::BTreeSet;
use std::process::Command;

use truepath_core::plan::Series;
use truepath_core::run::event::Event;
use truepath_core::run::history::Depth;
use truepath_core::template::{Lookup, Value, expand_text};
use truepath_core::verify::{State, Verdict};
use truepath_exec::failure::Failure;
use truepath_exec::state::journal;

use crate::listener::{Listener, News, Note};
use crate::open::Loaded;

pub use truepath_exec::scheduler::RunOutcome;

/// How the run of one sheet ended.
#[derive(Default)]
pub struct EndedRun {
    /// Files that were needed.
    pub total: i64,
    /// Exported scenes that were made or were there, where nothing else was asked for.
    pub exported: Option<i64>,
    /// What was done.
    pub outcome: RunOutcome,
    /// What stands now, by series, movies last.
    pub after: Vec<Verdict>,
    /// Files that were needed and are still not there, whoever was to make them.
    pub left: i64,
    /// What failed for good.
    pub failures: Vec<Event>,
    /// How long it took, in seconds.
    pub seconds: f64,
    /// The last line of the journal, where anything was rendered.
    pub over: Option<Event>,
}

impl EndedRun {
    /// Planned files that are not there, or not whole.
    #[must_use]
    pub fn lost(&self) -> i64 {
        self.after.iter().map(|verdict| verdict.files(&[State::Missing, State::Broken])).sum()
    }

    /// Whether all of the plan is there and as planned.
    #[must_use]
    pub fn is_complete(&self) -> bool {
        !self.after.iter().any(Verdict::is_incomplete)
    }

    /// The outcome in one word, as it stands in the journal.
    #[must_use]
    pub fn word(&self) -> &'static str {
        match (self.outcome.interrupted, self.is_complete()) {
            (true, _) => "interrupted",
            (false, true) => "complete",
            (false, false) => "incomplete",
        }
    }
}

/// Runs the sheet's own commands once the plan is over, also after failure, and once: neither when somebody has interrupted it,
/// nor again where nothing has landed or failed since. What they do wrong is told and changes nothing.
pub(super) fn afterwards(
    loaded: &Loaded,
    ended: &EndedRun,
    plan: &str,
    listener: &dyn Listener,
) -> Result<(), Failure> {
    let word = ended.word();
    if loaded.plan.run.after.is_empty() || ended.outcome.interrupted {
        return Ok(());
    }
    let history = journal::read(&loaded.state, Depth::Calls)?;
    let of_plan = |output: &Series| {
        let landed = history.of(output).iter();
        landed.filter(|(number, _)| output.frame_of(*number).is_some()).count() as u64
    };
    let landings: u64 = loaded.plan.outputs().map(|(_, output)| of_plan(output)).sum();
    // Frames that failed once more are another end than before.
    let own: BTreeSet<&str> = loaded.plan.outputs().map(|(_, output)| output.id.as_str()).collect();
    let failures = history.sessions.iter().flat_map(|session| &session.failures);
    let failures = failures.filter(|failure| failure.series.iter().any(|id| own.contains(id.as_str()))).count();
    if !loaded.state.takes_end(plan, &format!("{word}-{landings}-{failures}"))? {
        return Ok(());
    }
    let known =
        |name: &str| if name == "outcome" { Lookup::Value(Value::Text(word.to_owned())) } else { Lookup::Unknown };
    for command in &loaded.plan.run.after {
        let words: Vec<String> = command.iter().filter_map(|template| expand_text(template, &known)).collect();
        let Some((program, arguments)) = words.split_first() else { continue };
        let why = match Command::new(program).args(arguments).current_dir(&loaded.plan.home.folder).status() {
            Ok(status) if status.success() => continue,
            Ok(status) => format!("{program} ended with {status}"),
            Err(error) => format!("cannot start {program}: {error}"),
        };
        listener.hear(News::Note(&Note::After(why)));
    }
    Ok(())
}
