//! A batch script for Slurm: it submits itself as an array of tasks with what comes before and after them. What its options
//! mean is told in sbatch(1), what tasks find in their environment there under "output environment variables".

use std::fmt::Write as _;
use std::ops::Range;
use std::time::Duration;

use crate::invoke::command_line::CommandLine;
use crate::invoke::quote::sh::word;
use crate::plan::Plan;
use crate::sheet::ClusterEntry;
use crate::threads::Threads;

use super::Script;
use super::sh::{self, Pieces};

/// How the work is dealt out.
#[derive(Clone, Debug)]
pub struct Batch<'b> {
    /// The name of its jobs.
    pub name: &'b str,
    /// Where the tasks write what they say.
    pub logs: &'b str,
    /// What the tasks make: the first and the last of some steps, without exports and movies.
    pub parts: &'b [Range<usize>],
    /// Whether scenes have to be exported first.
    pub exports: bool,
    /// Longest time that a task may take; the scheduler's own where it is not known.
    pub time: Option<Duration>,
    /// Bytes of memory of a task; the scheduler's own where they are not known.
    pub memory: Option<u64>,
    /// This program and its arguments, where it makes the calls of each task.
    pub guard: Option<&'b [String]>,
    /// What tells this plan from others: no two of one are rendered at once.
    pub plan: &'b str,
    /// The file that has the names of each task's calls, a line each: see [`calls`].
    pub calls: &'b str,
}

/// Longest name of a job.
const NAME: usize = 60;

/// A name for the jobs of one plan: the sheet's, and the modes that are laid over it.
#[must_use]
pub fn name(plan: &Plan) -> String {
    let mode = plan.mode.as_ref().map(|mode| format!("-{mode}")).unwrap_or_default();
    let stem = plan.home.sheet.rsplit('/').next().unwrap_or_default().trim_end_matches(".toml");
    let name: String = format!("{stem}{mode}-{}", plan.home.mark.get(..6).unwrap_or(&plan.home.mark));
    crate::template::slug(&name).chars().take(NAME).collect()
}

/// The whole script. `steps` are in the order of a plan: exports, calls that render, movies.
#[must_use]
pub fn script(
    plan: &Plan,
    steps: &[CommandLine],
    batch: &Batch<'_>,
    (wish, threads): (&Script<'_>, &dyn Threads),
) -> String {
    let mut out = head(plan, steps, batch);
    if let Some(words) = batch.guard {
        let words: Vec<String> = words.iter().map(|text| word(text)).collect();
        let _ = write!(out, "\nrender() {{ exec {} \"$@\"; }}\ncalls={}\n", words.join(" "), word(batch.calls));
        out.push_str(GUARDED);
        return out;
    }
    let Pieces { head, start, steps: bodies } = sh::pieces(plan, steps, wish, threads);
    let _ = write!(out, "\n{head}total=0\nplanned=0\n{start}\n");
    let first = batch.parts.first().map_or(steps.len(), |part| part.start);
    let last = batch.parts.last().map_or(first, |part| part.end);
    let mut function = |name: &str, range: Range<usize>| {
        let own = &steps[range.clone()];
        let _ = writeln!(out, "{name}() {{\n:\n{}}}", bodies[range].concat());
        (own.len(), super::planned(own))
    };
    // Exporters are functions that each call starts when it needs them.
    let exports: Vec<String> = steps[..first].iter().map(|step| format!("{}\n", sh::function(&step.id))).collect();
    function("exporters", 0..first);
    let mut sizes = vec![];
    for (at, part) in batch.parts.iter().enumerate() {
        sizes.push(function(&format!("part_{}", at + 1), part.clone()));
    }
    let movies = function("movies", last..steps.len());
    let all = sizes.iter().fold(movies, |sum, own| (sum.0 + own.0, sum.1 + own.1));
    let _ = writeln!(out, "exporters\ncase $role in\nfirst)\n{}exit\n;;", exports.concat());
    out.push_str("part)\n  case $SLURM_ARRAY_TASK_ID in\n");
    for (at, (calls, files)) in sizes.iter().enumerate() {
        let _ = writeln!(out, "  {}) at=0 total={calls} planned={files}; part_{} ;;", at + 1, at + 1);
    }
    let _ = writeln!(out, "  esac\n  free_the_end\n  finish ;;\nesac\nat=0 total={} planned={}", all.0, all.1);
    out.push_str("succeed\n(\n");
    out.extend((1..=sizes.len()).map(|at| format!("part_{at}\n")));
    out.push_str("movies\nfinish\n) &\npass_on\nconclude\n");
    out
}

/// The names of each task's calls, a line each. A script has no room for very many.
#[must_use]
pub fn calls(steps: &[CommandLine], parts: &[Range<usize>]) -> String {
    let line = |part: &Range<usize>| {
        let ids: Vec<&str> = steps[part.clone()].iter().map(|step| step.id.as_str()).collect();
        format!("{}\n", ids.join(" "))
    };
    parts.iter().map(line).collect()
}

/// What stands before the work: options, and how the script submits itself.
fn head(plan: &Plan, steps: &[CommandLine], batch: &Batch<'_>) -> String {
    let mut out = format!("#!/bin/sh\n#SBATCH --job-name={}\n#SBATCH --output={}\n", batch.name, start_log(batch.logs));
    for line in super::head(plan, steps) {
        let _ = writeln!(out, "# {line}");
    }
    let _ = writeln!(
        out,
        "# Submit it with sbatch, or start it with sh: both submit {} tasks and one that ends the plan.\n# Submitted again once that is over, it renders what is not there yet. `scancel --name={}` stops all that renders this sheet.\n",
        batch.parts.len(),
        batch.name
    );
    let values = [
        ("name", batch.name.to_owned()),
        ("slurm_logs", batch.logs.to_owned()),
        ("plan", batch.plan.to_owned()),
        ("tasks", batch.parts.len().to_string()),
        ("at_once", plan.run.cluster.at_once.map(|count| format!("%{count}")).unwrap_or_default()),
        ("has_first", if batch.exports { "yes" } else { "no" }.to_owned()),
        ("minutes", batch.time.map(|time| time.as_secs().div_ceil(60).max(1).to_string()).unwrap_or_default()),
        ("megabytes", batch.memory.map(|bytes| bytes.div_ceil(1 << 20).to_string()).unwrap_or_default()),
    ];
    for (key, value) in values {
        let _ = writeln!(out, "{key}={}", word(&value));
    }
    let asked: Vec<String> = options(&plan.run.cluster).iter().map(|option| format!(" {}", word(option))).collect();
    let _ = write!(
        out,
        "\n# submit FACTOR OPTIONS...: submits this file; the job's number comes back.\nsubmit() {{\n  factor=$1\n  shift\n  [ -z \"$minutes\" ] || set -- --time=\"$((minutes * factor))\" \"$@\"\n  [ -z \"$megabytes\" ] || set -- --mem=\"$((megabytes * factor))M\" \"$@\"\n  id=$(sbatch --parsable --job-name=\"$name\" --requeue --open-mode=append --signal=B:TERM@30{} \"$@\" \"$0\") || return\n  echo \"${{id%%;*}}\" | tee -a -- \"$ids\"\n}}\n{FUNCTIONS}",
        asked.concat()
    );
    out
}

/// Options of sbatch that a sheet asks for.
fn options(cluster: &ClusterEntry) -> Vec<String> {
    let texts = [("partition", &cluster.partition), ("account", &cluster.account), ("constraint", &cluster.constraint)];
    let mut all: Vec<String> =
        texts.into_iter().filter_map(|(name, value)| Some(format!("--{name}={}", value.as_ref()?))).collect();
    all.extend(cluster.threads.map(|threads| format!("--cpus-per-task={threads}")));
    if !cluster.licences.is_empty() {
        let each: Vec<String> = cluster.licences.iter().map(|(name, count)| format!("{name}:{count}")).collect();
        all.push(format!("--licenses={}", each.join(",")));
    }
    all.extend(cluster.options.iter().flatten().cloned());
    all
}

/// Where the script writes while it submits itself, as a line of options has it; nowhere, where no such line can say it.
fn start_log(logs: &str) -> String {
    if logs.chars().any(|sign| sign == '"' || sign == '\\' || sign.is_control()) {
        return "/dev/null".to_owned();
    }
    format!("\"{}/start.log\"", logs.replace('%', "%%"))
}

/// How tasks follow one another.
const FUNCTIONS: &str = include_str!("slurm.sh");

/// What each task does where this program makes the calls. It takes the place of the shell that starts it, so that a signal
/// reaches it.
const GUARDED: &str = r#"
case $role in
  first) render --share --exports ;;
  part)
    # Names of calls have no blanks.
    set -- $(sed -n "${SLURM_ARRAY_TASK_ID}p" <"$calls")
    code=0
    if [ $# -gt 0 ]; then
      for id do shift; set -- "$@" --only "$id"; done
      render --share "$@" &
      pass_on
    fi
    free_the_end
    exit "$code" ;;
esac
succeed
render &
pass_on
# Whoever still shares the work is worked with.
if [ "$code" -eq 4 ]; then
  render --share &
  pass_on
fi
conclude
"#;
