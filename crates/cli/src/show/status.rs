//! How a plan stands, as a table; and what single frames are made of.

use serde_json::{Value, json};
use truepath_core::frames::Frames;
use truepath_core::plan::Plan;
use truepath_core::run::fingerprint::{Fingerprint, UNKNOWN};
use truepath_core::run::history::{History, past};
use truepath_core::run::tally::SeriesStatus;
use truepath_core::run::tasks::ClusterTask;
use truepath_core::verify::{Outcome, STATES, State, Verdict};

use super::progress::span;
use super::verdicts::{closing as closing_of_verdicts, cut, states};
use super::{BAD, GOOD, HEAD, MARK, ODD, QUIET, paint, state};
use crate::lower::{Around, Screen};
use truepath_project::Loaded;

/// Widest value that is shown whole.
const WIDE: usize = 60;

/// How one sheet stands.
pub struct Stand {
    /// Its series.
    pub rows: Vec<SeriesStatus>,
    /// What the journals say.
    pub history: History,
    /// What a cluster's scheduler says of the tasks of this plan.
    pub tasks: Vec<ClusterTask>,
    /// Why the scheduler, which has such tasks or had them, says nothing.
    pub unanswered: Option<String>,
}

/// The table of one sheet, and what runs where.
pub fn table(plan: &Plan, stand: &Stand, around: &Around) -> String {
    let screen = around.out;
    let outputs = plan.series.iter().chain(&plan.movies);
    let widest = outputs.map(|series| super::width(&series.id)).max().unwrap_or(0).max("series".len());
    let head = format!("{:widest$}  {:>13}  {:>10}  {:>10}  state", "series", "good", "spent", "left");
    let mut out = format!("{}\n", paint(screen, HEAD, head));
    let row = |name: &str, good: &str, spent: f64, left: Option<f64>| {
        let spent = if spent > 0.0 { span(spent) } else { String::new() };
        format!("{}  {good:>13}  {spent:>10}  {:>10}", super::pad(name, widest), left.map(span).unwrap_or_default())
    };
    let left = |row: &SeriesStatus| row.left.filter(|_| row.verdict.is_incomplete());
    for series in &stand.rows {
        let verdict = &series.verdict;
        let good = format!("{} of {}", verdict.in_state(State::Good).count(), verdict.planned.count());
        let mut parts = states(verdict, screen);
        for (name, frames, style) in [("running", series.busy(), MARK), ("failed", series.failed.clone(), BAD)] {
            if !frames.is_empty() {
                parts.push(state(screen, style, format!("{name} {}", cut(&frames.to_string()))));
            }
        }
        if parts.is_empty() {
            parts.push(state(screen, GOOD, "complete"));
        }
        let id = &plan.output(verdict.series).id;
        out.push_str(&super::in_columns(&row(id, &good, series.spent, left(series)), &parts, screen));
    }
    if stand.rows.len() > 1 {
        let sum = |of: &dyn Fn(&SeriesStatus) -> i64| stand.rows.iter().map(of).sum::<i64>();
        let good = sum(&|row| row.verdict.in_state(State::Good).count());
        let good = format!("{good} of {}", sum(&|row| row.verdict.planned.count()));
        let spent = stand.rows.iter().map(|row| row.spent).sum();
        // Movies have no time of their own: they are short beside their frames.
        let open = stand.rows.iter().filter(|row| row.verdict.is_incomplete() && !row.verdict.is_movie);
        let known: Vec<f64> = open.clone().filter_map(|row| row.left).collect();
        let all = known.len() == open.count();
        let total = (!known.is_empty()).then(|| known.iter().sum());
        let note = if all || known.is_empty() { String::new() } else { "and what was not measured yet".to_owned() };
        let line = row("total", &good, spent, total);
        out.push_str(&super::in_columns(&paint(screen, HEAD, line), &[note], screen));
    }
    out.push_str(&not_there(plan, stand, screen));
    out.push_str(&running(plan, stand, around));
    out.push_str(&cluster(stand, screen));
    out
}

/// What bears its name no more, and why.
fn not_there(plan: &Plan, stand: &Stand, screen: Screen) -> String {
    let mut out = String::new();
    let mut lines: Vec<String> = Vec::new();
    for row in &stand.rows {
        let id = &plan.output(row.verdict.series).id;
        let away = row.verdict.gone.iter().map(|(why, frames)| match row.verdict.is_movie {
            true => format!("  {id}: {why}\n"),
            false => format!("  {id} {}: {why}\n", cut(&frames.to_string())),
        });
        lines.extend(away);
    }
    if !lines.is_empty() {
        out.push_str(&format!("\n{}\n", paint(screen, HEAD, "not there")));
        out.extend(lines);
    }
    out
}

/// What runs where.
fn running(plan: &Plan, stand: &Stand, around: &Around) -> String {
    let screen = around.out;
    let (mut out, mut lines) = (String::new(), Vec::new());
    for row in &stand.rows {
        for call in &row.running {
            let since = seconds(stand, call.session, call.since, &around.now());
            // Frames that are there are made again, or their call is about to end.
            let frames =
                if call.frames.is_empty() { String::new() } else { format!(" {}", cut(&call.frames.to_string())) };
            let id = &plan.output(row.verdict.series).id;
            let at = match &call.task {
                Some(task) if task.node.is_empty() => format!("{}, task {}", call.host, task.id),
                Some(task) => format!("{}, task {}", task.node, task.id),
                None => call.host.clone(),
            };
            lines.push(format!("  {at}, worker {}: {id}{frames}, for {}\n", call.worker, span(since)));
        }
    }
    if !lines.is_empty() {
        out.push_str(&format!("\n{}\n", paint(screen, HEAD, "running")));
        out.extend(lines);
    }
    out
}

/// What the scheduler says of the tasks that are not over, and of those that were cut short.
fn cluster(stand: &Stand, screen: Screen) -> String {
    let tasks = &stand.tasks;
    if let Some(why) = &stand.unanswered {
        let sign = state(screen, ODD, "unknown");
        return format!("\n{sign} what the tasks of the cluster do: {}\n", super::clean(why));
    }
    if !tasks.iter().any(ClusterTask::is_active) {
        return String::new();
    }
    let mut out = format!("\n{}\n", paint(screen, HEAD, "tasks of the cluster"));
    for task in tasks.iter().filter(|task| task.is_running()) {
        let state = task.state.to_lowercase();
        // A length of time, or the moment of the start.
        let word = if task.time.contains('/') { "since" } else { "for" };
        out.push_str(&format!("  {} {state} on {} {word} {}\n", task.id, super::clean(&task.node), task.time));
    }
    let mut groups: Vec<(String, Vec<&str>)> = Vec::new();
    for task in tasks.iter().filter(|task| !task.is_running()) {
        let why = match (task.is_waiting(), task.was_cut_short()) {
            (true, _) if task.is_held() => {
                format!("held by the scheduler ({}): {}", task.reason, task.free.as_deref().unwrap_or_default())
            }
            (true, _) if task.reason.is_empty() => "waiting".to_owned(),
            (true, _) => format!("waiting: {}", task.reason),
            (_, true) => format!("cut short: {}", task.state.to_lowercase().replace('_', " ")),
            _ => continue,
        };
        match groups.iter_mut().find(|(own, _)| *own == why) {
            Some((_, ids)) => ids.push(&task.id),
            None => groups.push((why, vec![&task.id])),
        }
    }
    for (why, ids) in groups {
        let more = if ids.len() > 1 { format!(" and {} more", ids.len() - 1) } else { String::new() };
        out.push_str(&format!("  {}{more} {}\n", ids[0], super::clean(&why)));
    }
    out
}

/// The closing lines: what `verify` says, with the log of what failed. While anything runs, nothing needs fixing yet.
pub fn closing(rows: &[&SeriesStatus], (log, fixes): (Option<String>, &[String]), screen: Screen) -> String {
    let running = rows.iter().any(|row| !row.running.is_empty());
    let verdicts: Vec<&Verdict> = rows.iter().map(|row| &row.verdict).collect();
    let why = log.map(|log| format!("See why some failed: {log}\n")).unwrap_or_default();
    format!("\n{why}{}", closing_of_verdicts(&verdicts, if running { &[] } else { fixes }, screen))
}

/// Seconds since something in a session, as far as the clocks of two machines can be believed; for people only.
fn seconds(stand: &Stand, session: usize, since: f64, now: &jiff::Zoned) -> f64 {
    let began = stand.history.sessions[session].began.at.parse::<jiff::Timestamp>();
    began.map_or(0.0, |began| (now.timestamp().duration_since(began).as_secs_f64() - since).max(0.0).floor())
}

/// `status --json`.
pub fn json<'p>(
    sheets: impl Iterator<Item = (&'p Plan, &'p Stand)> + Clone,
    fixes: &[Vec<String>],
    now: &jiff::Zoned,
) -> Value {
    let one = |(plan, stand): (&Plan, &Stand)| {
        let row = |row: &SeriesStatus| {
            let at = row.running.iter().map(|call| {
                let since = seconds(stand, call.session, call.since, now);
                let task = call.task.as_ref().map(|task| json!({ "id": task.id, "node": task.node }));
                json!({ "host": call.host, "task": task, "worker": call.worker, "frames": call.frames.to_string(), "seconds": since })
            });
            let mut document = super::json::verdict(plan, &row.verdict);
            document["running"] = json!(row.busy().to_string());
            document["failed"] = json!(row.failed.to_string());
            document["seconds_spent"] = json!(row.spent);
            document["seconds_left"] = json!(row.left);
            document["at"] = json!(at.collect::<Vec<_>>());
            document
        };
        stand.rows.iter().map(row).collect::<Vec<_>>()
    };
    let unanswered = sheets.clone().find_map(|(_, stand)| stand.unanswered.as_ref());
    let tasks: Vec<&ClusterTask> = sheets.clone().flat_map(|(_, stand)| &stand.tasks).collect();
    let verdicts: Vec<&Verdict> = sheets.clone().flat_map(|(_, stand)| &stand.rows).map(|row| &row.verdict).collect();
    let outcome = Outcome::of(verdicts.iter().copied()).name();
    json!({ "truepath": 1, "outcome": outcome, "series": sheets.clone().flat_map(one).collect::<Vec<_>>(), "fix": fixes, "tasks": tasks, "scheduler": unanswered })
}

/// What is asked about frames of one series.
pub struct AskedFrames<'a> {
    /// The series and how its files are judged.
    pub verdict: &'a Verdict,
    /// The frames.
    pub frames: &'a Frames,
    /// What they would be rendered from now, where that can be looked up.
    pub now: Option<&'a Fingerprint>,
    /// Whether everything that they were rendered from is shown, too.
    pub all: bool,
}

/// What some frames of one series were made of, and would be made of now; of two frames also how they differ.
///
/// Also says whether anything differs.
pub fn why(loaded: &Loaded, asked: &AskedFrames<'_>, screen: Screen) -> (bool, String) {
    let AskedFrames { verdict, frames, now, all } = *asked;
    let series = loaded.plan.output(verdict.series);
    let history = &loaded.ground.history;
    let landed = history.of(series);
    let mut out = String::new();
    let mut differs = false;
    let mut made: Vec<&[(String, String)]> = Vec::new();
    for frame in frames.iter() {
        let (name, number) = (series.name(frame), series.number(frame));
        let bytes = std::fs::metadata(&name).map_or(0, |about| about.len());
        let own = STATES
            .iter()
            .find(|(_, own)| verdict.in_state(*own).contains(frame))
            .map_or(State::Missing, |found| found.1);
        let word = state(screen, super::verdicts::style(own), own.name());
        out.push_str(&format!(
            "{} frame {frame}  {word}  {}\n",
            paint(screen, HEAD, &series.id),
            super::verdicts::relative(&loaded.plan, &name)
        ));
        let then = past(landed, number, bytes).map(|(record, _)| history.made(&record));
        let differences = now.zip(then).map(|(now, then)| now.differences(then));
        differs |= then.is_none() || differences.as_ref().is_none_or(|list| !list.is_empty());
        let landed = if own == State::Missing { "it landed, " } else { "" };
        match (&then, &differences) {
            (None, _) => out.push_str("  True Path has no record of it\n"),
            (Some(_), None) => out.push_str("  its present inputs cannot be read\n"),
            (Some(_), Some(list)) if list.is_empty() => {
                out.push_str(&format!("  {landed}rendered from the same scene with the same settings\n"));
            }
            (Some(_), Some(list)) => {
                list.iter().for_each(|one| out.push_str(&format!("  {}\n", paint(screen, ODD, one))));
            }
        }
        made.extend(then);
    }
    if let [first, second] = made.as_slice() {
        let first = Fingerprint { parts: first.to_vec() };
        let differences = first.differences(second);
        let (a, b) = (frames.first().unwrap_or(0), frames.last().unwrap_or(0));
        let said = if differences.is_empty() { "from the same inputs" } else { "from different inputs" };
        out.push_str(&format!("  {a} and {b} were made {said}\n"));
        for one in differences {
            let spelt = |value: &Option<String>| value.clone().unwrap_or_else(|| "not given".to_owned());
            out.push_str(&format!("    {}: {} in {a}, {} in {b}\n", one.name, spelt(&one.is), spelt(&one.was)));
        }
    }
    if !all {
        return (differs, out);
    }
    let parts = now.map(|now| now.parts.as_slice()).or(made.first().copied()).unwrap_or_default();
    let widest = parts.iter().map(|(name, _)| super::width(name)).max().unwrap_or(0);
    for (name, value) in parts {
        let value = if value == UNKNOWN { "not defined, not compared".to_owned() } else { shortened(value) };
        out.push_str(&paint(screen, QUIET, format!("  {}  {value}\n", super::pad(name, widest))));
    }
    (differs, out)
}

fn shortened(value: &str) -> String {
    if value.chars().count() <= WIDE {
        value.to_owned()
    } else {
        format!("{} ...", value.chars().take(WIDE).collect::<String>())
    }
}
