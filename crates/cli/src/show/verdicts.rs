//! What lies on disk, as a table: a line per series, then every frame that is not good.

use truepath_core::plan::Plan;
use truepath_core::verify::{State, Verdict};

use super::{BAD, GOOD, HEAD, ODD, QUIET, counted, paint};
use crate::lower::Screen;

/// Lines of one kind before the rest is only counted.
const MOST_LINES: usize = 20;

/// All verdicts.
pub fn text(plan: &Plan, verdicts: &[Verdict], screen: Screen) -> String {
    let widest = plan.series.iter().map(|series| series.id.chars().count()).max().unwrap_or(0);
    let mut out =
        format!("{}\n", paint(screen, HEAD, format!("{:widest$}  {:>7}  {:>7}  state", "series", "planned", "good")));
    for verdict in verdicts {
        let series = &plan.series[verdict.series];
        let states =
            [("missing", &verdict.missing, BAD), ("broken", &verdict.broken, BAD), ("wrong", &verdict.wrong, ODD)];
        let states: Vec<String> = states
            .iter()
            .filter(|(_, frames, _)| !frames.is_empty())
            .map(|(name, frames, style)| paint(screen, *style, format!("{name} {}", cut(&frames.to_string()))))
            .collect();
        let state = if states.is_empty() { paint(screen, GOOD, "complete") } else { states.join("  ") };
        out.push_str(&format!(
            "{:widest$}  {:>7}  {:>7}  {state}\n",
            series.id,
            verdict.expected.count(),
            verdict.good.count()
        ));
    }
    let mut lines: Vec<String> = Vec::new();
    for verdict in verdicts {
        let series = &plan.series[verdict.series];
        lines.extend(
            verdict
                .missing
                .iter()
                .take(MOST_LINES)
                .map(|frame| line(plan, screen, (State::Missing, &series.name(frame), ""))),
        );
        lines.extend(verdict.findings.iter().map(|(_, state, path, why)| line(plan, screen, (*state, path, why))));
        lines.extend(
            verdict.stray.iter().map(|path| format!("  {}   {}\n", paint(screen, ODD, "stray "), relative(plan, path))),
        );
    }
    if !lines.is_empty() {
        out.push('\n');
    }
    let more = lines.len().saturating_sub(MOST_LINES);
    out.extend(lines.into_iter().take(MOST_LINES));
    if more > 0 {
        out.push_str(&paint(screen, QUIET, format!("  and {more} more; --json lists them all\n")));
    }
    out
}

/// The closing line: whether all is well, and what would mend it.
pub fn closing(verdicts: &[&Verdict], mend: &str, screen: Screen) -> String {
    let total = |pick: fn(&Verdict) -> i64| verdicts.iter().map(|verdict| pick(verdict)).sum::<i64>();
    let (expected, good) = (total(|v| v.expected.count()), total(|v| v.good.count()));
    if verdicts.iter().all(|verdict| verdict.is_complete()) {
        return format!("\n{}\n", paint(screen, GOOD, format!("complete: {} as planned", counted(expected, "file"))));
    }
    let bad = paint(screen, BAD, format!("not complete: {good} of {} good", counted(expected, "file")));
    format!("\n{bad}. Mend it: {mend}\n")
}

fn line(plan: &Plan, screen: Screen, (state, path, why): (State, &str, &str)) -> String {
    let (name, style) = match state {
        State::Missing => ("missing", BAD),
        State::Broken => ("broken ", BAD),
        State::Wrong => ("wrong  ", ODD),
        State::Good => ("good   ", GOOD),
    };
    let why = if why.is_empty() { String::new() } else { format!("\n           {}", paint(screen, QUIET, why)) };
    format!("  {}  {}{why}\n", paint(screen, style, name), relative(plan, path))
}

fn relative<'p>(plan: &Plan, path: &'p str) -> &'p str {
    path.strip_prefix(&plan.home.folder).map_or(path, |rest| rest.trim_start_matches('/'))
}

/// A long list of frames, cut at a comma.
fn cut(frames: &str) -> String {
    if frames.len() <= 60 {
        return frames.to_owned();
    }
    let end = frames[..60].rfind(',').unwrap_or(60);
    format!("{},...", &frames[..end])
}
