//! Part of a run: what comes before its first frame.

use truepath_core::plan::Call;
use truepath_exec::failure::Failure;
use truepath_exec::process::SystemPrograms;
use truepath_exec::state::journal::Journal;

use super::work::Work;
use super::{RunRequest, prepare};
use crate::exit_code::Exit;
use crate::pipeline::Loaded;
use crate::show::{self, counted};

/// Whether a call's name is that of an export.
pub fn is_export(id: &str, loaded: &Loaded) -> bool {
    loaded.exports.all.iter().any(|export| export.id == id)
}

/// Makes nothing but what comes before the first frame; of exports those that are named, where any are.
pub(super) fn exports(
    request: &RunRequest<'_>,
    named: &[&String],
    work: &Work<'_>,
    journal: &Journal,
) -> Result<Exit, Failure> {
    let (loaded, around) = (work.loaded, request.around);
    let lines = loaded.command_lines(around);
    let is_wanted = |call: &Call| named.is_empty() || lines.export_of(call.job).is_some_and(|id| named.contains(&id));
    let calls = work.calls(&[], false).into_iter().filter(is_wanted);
    let parts: Vec<_> = calls.flat_map(|call| lines.narrowed(&call, work.need)).collect();
    let made = lines.exports(&parts, "").len();
    let programs = SystemPrograms::guarded(&around.program);
    let blocked = prepare(request, loaded, &parts, (journal, &programs))?.blocked;
    if let Some(first) = blocked.into_values().next() {
        return Err(first);
    }
    show::tell(&format!("{} ready\n", counted(i64::try_from(made).unwrap_or(i64::MAX), "exported scene")));
    Ok(Exit::Well)
}
