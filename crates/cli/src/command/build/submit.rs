//! The scheduler of a cluster: what it takes, and how a script is handed to it.

use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use truepath_core::invoke::command_line::CommandLine;
use truepath_core::plan::Plan;
use truepath_core::run::meant::Intent;
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::record::answer;

use crate::exit_code::Exit;
use crate::show;

/// Starts the script, which submits itself.
pub fn submit(path: &Path) -> Result<Exit, Failure> {
    let said = Command::new("sh").arg(path).stdin(Stdio::null()).stdout(Stdio::piped()).output();
    let said = said.map_err(|error| Failure::machine("start", path, &error))?;
    show::tell(&String::from_utf8_lossy(&said.stdout));
    let errors = String::from_utf8_lossy(&said.stderr).trim().to_owned();
    if said.status.success() {
        if !errors.is_empty() {
            show::tell(&format!("{errors}\n"));
        }
        show::tell("`truepath status` shows what each task renders\n");
        return Ok(Exit::Well);
    }
    // Nothing is left half-submitted: the script takes back what it had submitted.
    let _ = std::io::stdout().flush();
    if errors.starts_with(UNDER_WAY) {
        return Err(Failure::new(Cause::Machine, errors).help("`truepath status` shows what each task renders"));
    }
    let message = format!("the scheduler refused it: {errors}");
    let limit = LIMITS.iter().find(|(said, _)| errors.contains(said)).map(|(_, help)| (*help).to_owned());
    let help =
        limit.unwrap_or_else(|| format!("check that this machine may submit jobs; the script is {}", path.display()));
    Err(Failure::new(Cause::Machine, message).help(help))
}

/// How a script begins to say that its plan is under way.
const UNDER_WAY: &str = "this plan is being rendered";

/// SchedulerLimits of which the scheduler says only that they are exceeded, and what to do about it.
const LIMITS: [(&str, &str); 4] = [
    ("Invalid job array", "the array is too large for this cluster (MaxArraySize): fewer tasks with --parts N"),
    ("MaxSubmit", "a user may have fewer tasks here at a time (MaxSubmitJobs): fewer tasks with --parts N"),
    ("SubmitJob", "a user may have fewer tasks here at a time (MaxSubmitJobs): fewer tasks with --parts N"),
    (
        "job violates",
        "an account or partition limits tasks, their time or memory: see [run.cluster], or fewer tasks with --parts N",
    ),
];

/// What the scheduler takes, as far as it says so.
#[derive(Default)]
pub struct SchedulerLimits {
    /// Places of an array.
    pub array: Option<usize>,
    /// Bytes of a script.
    pub script: Option<usize>,
}

/// How long the scheduler may think.
const PATIENCE: Duration = Duration::from_secs(5);

impl SchedulerLimits {
    /// Asks scontrol, which is looked for on the path. Where it is missing or does not answer, no limit is known.
    pub fn ask(folder: &Path) -> SchedulerLimits {
        let words = ["show", "config"].map(str::to_owned);
        let Ok(said) = answer::ask(Path::new("scontrol"), &words, folder, (PATIENCE, false)) else {
            return SchedulerLimits::default();
        };
        let number = |name: &str| {
            let from = said.text.find(name)? + name.len();
            let digits = said.text[from..].trim_start_matches([' ', '=']);
            digits[..digits.find(|sign: char| !sign.is_ascii_digit()).unwrap_or(digits.len())].parse().ok()
        };
        // Four megabytes are slurm.conf(5)'s own default.
        let script = number("max_script_size").or(number("MaxArraySize").map(|_| 4 << 20));
        SchedulerLimits { array: number("MaxArraySize"), script }
    }

    /// Whether a script is short enough.
    pub fn fits(&self, text: &str) -> Result<(), Failure> {
        let Some(most) = self.script.filter(|most| text.len() > *most) else { return Ok(()) };
        let [size, most] = [text.len(), most].map(|bytes| format!("{:.1} MB", bytes as f64 / 1e6));
        let message = format!("the script has {size}, and the scheduler takes {most} (max_script_size)");
        let help = "without --plain it is short for every plan; or build parts of the sheet: a job, --frames";
        Err(Failure::new(Cause::Machine, message).help(help))
    }
}

/// What tells a plan from others that are submitted.
pub fn plan_of(plan: &Plan, steps: &[CommandLine]) -> String {
    let meant = serde_json::to_string(&Intent::of(plan, &[], "")).unwrap_or_default();
    let mut hash = blake3::Hasher::new();
    hash.update(meant.as_bytes());
    for step in steps {
        hash.update(step.id.as_bytes()).update(b"\0").update(step.frames.to_string().as_bytes()).update(b"\0");
    }
    hash.finalize().to_hex()[..16].to_owned()
}
