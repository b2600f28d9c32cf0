//! A batch script for a cluster's scheduler: it submits itself as an array of tasks with what comes before and after them. What
//! is the same for all of them stands here and in `tasks.sh`; each scheduler is a [`Cluster`], in a file of its own.

mod grid_engine;
mod slurm;

use crate::flaw::Flaw;
use std::fmt::Write as _;
use std::ops::Range;
use std::time::Duration;

use crate::invoke::command_line::CommandLine;
use crate::invoke::quote::sh::word;
use crate::plan::Plan;
use crate::run::tasks::ClusterTask;
use crate::sheet::ClusterEntry;
use crate::threads::Threads;

use super::Script;
use super::sh::{self, Pieces};

/// How a task that the scheduler holds is let go or given up, with the commands for both.
fn freed(release: &str, cancel: &str, id: &str) -> String {
    format!("{release} {id}, or {cancel} {id} and let the end render it")
}

/// A program and its arguments, to be asked something.
pub type Question = (&'static str, Vec<String>);

/// What a scheduler takes, as far as it says so.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct SchedulerLimits {
    /// Tasks of an array, and what the scheduler calls that.
    pub array: Option<(usize, &'static str)>,
    /// Bytes of a script, and what the scheduler calls that.
    pub script: Option<(usize, &'static str)>,
}

/// A cluster's scheduler: how a script submits to it, and how it is asked and told.
pub trait Cluster: Sync + std::fmt::Debug {
    /// Its name.
    fn name(&self) -> &'static str;
    /// The folder for what its tasks say, beside the logs of calls.
    fn folder(&self) -> &'static str;
    /// What the names of its scripts end with.
    fn extension(&self) -> &'static str;
    /// Lines at the head of a script that it reads where somebody submits the script by hand, and how that is done.
    fn head(&self, batch: &Batch<'_>) -> (String, String);
    /// What a sheet asks of it, as options of the program that submits.
    ///
    /// # Errors
    /// In words, what it cannot be asked.
    fn options(&self, wish: &ClusterEntry) -> Result<Vec<String>, Flaw>;
    /// How a script submits, looks and cancels.
    fn functions(&self) -> &'static str;
    /// What shows the tasks of a name.
    fn states(&self, name: &str) -> Question;
    /// The tasks in the answer; lines that are none are passed over. `own` are the numbers of jobs that were submitted.
    fn tasks(&self, answer: &str, own: &[u64]) -> Vec<ClusterTask>;
    /// What shows its limits.
    fn limits(&self) -> Question;
    /// The limits in the answer.
    fn read_limits(&self, answer: &str) -> SchedulerLimits;
    /// Parts of its refusals, and what to do about each.
    fn refusals(&self) -> &'static [(&'static str, &'static str)];
    /// The command that stops all jobs of a name.
    fn stop(&self, name: &str) -> String;
}

/// Slurm.
pub const SLURM: &dyn Cluster = &slurm::Slurm;
/// Grid Engine.
pub const GRID_ENGINE: &dyn Cluster = &grid_engine::GridEngine;
/// All schedulers that scripts are written for.
pub const ALL: [&dyn Cluster; 2] = [SLURM, GRID_ENGINE];

/// How the work is dealt out.
#[derive(Clone, Debug)]
pub struct Batch<'b> {
    /// The scheduler.
    pub cluster: &'b dyn Cluster,
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
    let name = crate::template::slug(&name);
    // Not every scheduler takes a name that begins with a digit.
    let head = if name.starts_with(|sign: char| sign.is_ascii_digit()) { "t" } else { "" };
    head.chars().chain(name.chars()).take(NAME).collect()
}

/// The whole script. `steps` are in the order of a plan: exports, calls that render, movies.
///
/// # Errors
/// In words, what the scheduler cannot be asked.
pub fn script(
    plan: &Plan,
    steps: &[CommandLine],
    batch: &Batch<'_>,
    (wish, threads): (&Script<'_>, &dyn Threads),
) -> Result<String, Flaw> {
    let mut out = head(plan, steps, batch)?;
    if let Some(words) = batch.guard {
        let words: Vec<String> = words.iter().map(|text| word(text)).collect();
        let _ = write!(out, "\nrender() {{ exec {} \"$@\"; }}\ncalls={}\n", words.join(" "), word(batch.calls));
        out.push_str(GUARDED);
        return Ok(out);
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
    out.push_str("part)\n  case $place in\n");
    for (at, (calls, files)) in sizes.iter().enumerate() {
        let _ = writeln!(out, "  {}) at=0 total={calls} planned={files}; part_{} ;;", at + 1, at + 1);
    }
    let _ = writeln!(out, "  esac\n  free_the_end\n  finish ;;\nesac\nat=0 total={} planned={}", all.0, all.1);
    out.push_str("succeed\n(\n");
    out.extend((1..=sizes.len()).map(|at| format!("part_{at}\n")));
    out.push_str("movies\nfinish\n) &\npass_on\nconclude\n");
    Ok(out)
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
fn head(plan: &Plan, steps: &[CommandLine], batch: &Batch<'_>) -> Result<String, Flaw> {
    let cluster = batch.cluster;
    let (lines, by_hand) = cluster.head(batch);
    let mut out = format!("#!/bin/sh\n{lines}");
    for line in super::head(plan, steps) {
        let _ = writeln!(out, "# {line}");
    }
    let _ = writeln!(
        out,
        "# {by_hand} {} tasks and one that ends the plan.\n# Submitted again once that is over, it renders what is not there yet. {}\n",
        batch.parts.len(),
        cluster.stop(batch.name)
    );
    let values = [
        ("name", batch.name.to_owned()),
        ("task_logs", batch.logs.to_owned()),
        ("plan", batch.plan.to_owned()),
        ("tasks", batch.parts.len().to_string()),
        ("at_once", plan.run.cluster.at_once.map(|count| count.to_string()).unwrap_or_default()),
        ("has_first", if batch.exports { "yes" } else { "no" }.to_owned()),
        ("guarded", if batch.guard.is_some() { "yes" } else { "no" }.to_owned()),
        ("minutes", batch.time.map(|time| time.as_secs().div_ceil(60).max(1).to_string()).unwrap_or_default()),
        ("megabytes", batch.memory.map(|bytes| bytes.div_ceil(1 << 20).to_string()).unwrap_or_default()),
    ];
    for (key, value) in values {
        let _ = writeln!(out, "{key}={}", word(&value));
    }
    let asked: Vec<String> =
        cluster.options(&plan.run.cluster)?.iter().map(|option| format!(" {}", word(option))).collect();
    let _ = write!(
        out,
        "\n# submit ROLE FACTOR WHEN JOB: submits this file, with what its sheet asks for.\nsubmit() {{ submit_with \"$1\" \"$2\" \"$3\" \"$4\"{}; }}\n{}{TASKS}",
        asked.concat(),
        cluster.functions()
    );
    Ok(out)
}

/// How tasks follow one another.
const TASKS: &str = include_str!("tasks.sh");

/// A whole number that stands behind a name and signs between them.
fn number_after(text: &str, name: &str) -> Option<usize> {
    let from = text.find(name)? + name.len();
    let digits = text[from..].trim_start_matches([' ', '=', '\t']);
    digits[..digits.find(|sign: char| !sign.is_ascii_digit()).unwrap_or(digits.len())].parse().ok()
}

/// What each task does where this program makes the calls. It takes the place of the shell that starts it, so that a signal
/// reaches it.
const GUARDED: &str = r#"
case $role in
  first) render --share --exports ;;
  part)
    # Names of calls have no blanks.
    set -- $(sed -n "${place}p" <"$calls")
    code=0
    if [ $# -gt 0 ]; then
      for id do shift; set -- "$@" --only "$id"; done
      begin render --share "$@"
      pass_on
    fi
    free_the_end
    exit "$code" ;;
esac
succeed
begin render
pass_on
# Whoever still shares the work is worked with.
if [ "$code" -eq 4 ]; then
  begin render --share
  pass_on
fi
[ "$code" -ne 3 ] || echo "given up: \`truepath status\` and \`truepath log\` tell why"
conclude
"#;
