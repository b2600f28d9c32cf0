//! The scheduler of a cluster: what it takes, and how a script is handed to it.

use std::path::Path;
use std::process::{Command, Stdio};

use truepath_core::invoke::command_line::CommandLine;
use truepath_core::invoke::script::cluster::{Cluster, SchedulerLimits};
use truepath_core::plan::Plan;
use truepath_core::run::meant::Intent;
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::record::answer;

/// A script that was submitted.
#[derive(Clone, Debug)]
pub struct Submitted {
    /// What it said.
    pub said: String,
    /// What it said on standard error.
    pub noted: String,
}

/// Starts a script that submits itself.
///
/// # Errors
/// When it cannot be started, or the scheduler refuses it. Nothing is left half-submitted: the script takes back what it had
/// submitted.
pub fn submit(cluster: &dyn Cluster, path: &Path) -> Result<Submitted, Failure> {
    let said = Command::new("sh").arg(path).stdin(Stdio::null()).stdout(Stdio::piped()).output();
    let said = said.map_err(|error| Failure::machine("start", path, &error))?;
    let noted = String::from_utf8_lossy(&said.stderr).trim().to_owned();
    if said.status.success() {
        return Ok(Submitted { said: String::from_utf8_lossy(&said.stdout).into_owned(), noted });
    }
    if noted.starts_with(UNDER_WAY) {
        return Err(Failure::new(Cause::Machine, noted).help("`truepath status` shows what each task renders"));
    }
    let limit = cluster.refusals().iter().find(|(said, _)| noted.contains(said)).map(|(_, help)| (*help).to_owned());
    let help =
        limit.unwrap_or_else(|| format!("check that this machine may submit jobs; the script is {}", path.display()));
    Err(Failure::new(Cause::Machine, format!("the scheduler refused it: {noted}")).help(help))
}

/// How a script begins to say that its plan is under way.
const UNDER_WAY: &str = "this plan is being rendered";

/// What the scheduler takes. Its program is looked for on the path; where it is missing or does not answer, no limit is known.
pub(super) fn ask(cluster: &dyn Cluster, folder: &Path) -> SchedulerLimits {
    let said = answer::scheduler(&cluster.limits(), folder);
    said.map(|said| cluster.read_limits(&said.text)).unwrap_or_default()
}

/// Whether a script is short enough.
pub(super) fn fits(limits: SchedulerLimits, text: &str) -> Result<(), Failure> {
    let Some((most, called)) = limits.script.filter(|(most, _)| text.len() > *most) else { return Ok(()) };
    let [size, most] = [text.len(), most].map(|bytes| format!("{:.1} MB", bytes as f64 / 1e6));
    let message = format!("the script has {size}, and the scheduler takes {most} ({called})");
    let help = "without --plain it is short for every plan; or build parts of the sheet: a job, --frames";
    Err(Failure::new(Cause::Machine, message).help(help))
}

/// What tells a plan from others that are submitted.
pub(super) fn plan_of(plan: &Plan, steps: &[CommandLine]) -> String {
    let meant = serde_json::to_string(&Intent::of(plan, &[], "")).unwrap_or_default();
    let mut hash = blake3::Hasher::new();
    hash.update(meant.as_bytes());
    for step in steps {
        hash.update(step.id.as_bytes()).update(b"\0").update(step.frames.to_string().as_bytes()).update(b"\0");
    }
    hash.finalize().to_hex()[..16].to_owned()
}
