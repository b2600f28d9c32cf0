//! What lies on disk, as a table: a line per series, then every frame that is not good.

use anstyle::Style;
use truepath_core::plan::Plan;
use truepath_core::verify::{STATES, State, Verdict};

use super::{BAD, GOOD, HEAD, ODD, QUIET, counted, paint};
use crate::lower::Screen;

/// Lines of one kind before the rest is only counted.
const MOST_LINES: usize = 20;

/// All verdicts.
pub fn text(plan: &Plan, verdicts: &[Verdict], screen: Screen) -> String {
    let widest = plan.series.iter().map(|series| super::width(&series.id)).max().unwrap_or(0);
    let mut out =
        format!("{}\n", paint(screen, HEAD, format!("{:widest$}  {:>7}  {:>7}  state", "series", "planned", "good")));
    for verdict in verdicts {
        let series = &plan.series[verdict.series];
        let told = |(name, state): &(&str, State)| {
            let frames = verdict.in_state(*state);
            let shown = *state != State::Good && !frames.is_empty();
            shown.then(|| paint(screen, style(*state), format!("{name} {}", cut(&frames.to_string()))))
        };
        let states: Vec<String> = STATES.iter().filter_map(told).collect();
        let state = if states.is_empty() { paint(screen, GOOD, "complete") } else { states.join("  ") };
        out.push_str(&format!(
            "{}  {:>7}  {:>7}  {state}\n",
            super::pad(&series.id, widest),
            verdict.expected.count(),
            verdict.in_state(State::Good).count()
        ));
    }
    let mut lines: Vec<String> = Vec::new();
    for verdict in verdicts {
        let series = &plan.series[verdict.series];
        let missing = verdict.in_state(State::Missing).iter().map(|frame| (State::Missing, frame, ""));
        let found = verdict.findings.iter().filter(|(state, ..)| *state != State::Foreign);
        let found = found.flat_map(|(state, why, frames)| frames.iter().map(|frame| (*state, frame, why.as_str())));
        let all = missing.chain(found);
        lines.extend(all.map(|(state, frame, why)| line(plan, screen, (state, &series.name(frame), why))));
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
    let good = total(|v| v.in_state(State::Good).count() + v.in_state(State::Foreign).count());
    let (expected, foreign) = (total(|v| v.expected.count()), total(|v| v.in_state(State::Foreign).count()));
    if verdicts.iter().all(|verdict| verdict.is_complete()) {
        let strange = match foreign {
            0 => String::new(),
            count => format!(", {count} of them not rendered by `truepath run`"),
        };
        let words = format!("complete: {} as planned", counted(expected, "file"));
        return format!("\n{}{strange}\n", paint(screen, GOOD, words));
    }
    let bad = paint(screen, BAD, format!("not complete: {good} of {} good", counted(expected, "file")));
    format!("\n{bad}. Mend it: {mend}\n")
}

fn line(plan: &Plan, screen: Screen, (state, path, why): (State, &str, &str)) -> String {
    let why = if why.is_empty() { String::new() } else { format!("\n           {}", paint(screen, QUIET, why)) };
    format!("  {}  {}{why}\n", paint(screen, style(state), format!("{:7}", state.name())), relative(plan, path))
}

/// How loud a state is.
pub fn style(state: State) -> Style {
    match state {
        State::Missing | State::Broken => BAD,
        State::Wrong | State::Stale | State::Changed | State::Odd => ODD,
        State::Foreign => QUIET,
        State::Good => GOOD,
    }
}

/// A path as it is seen from the sheet's folder.
pub fn relative(plan: &Plan, path: &str) -> String {
    truepath_core::resolve::paths::seen_from(path, &plan.home.folder)
}

/// A long list of frames, cut at a comma.
pub fn cut(frames: &str) -> String {
    if frames.len() <= 60 {
        return frames.to_owned();
    }
    let end = frames[..60].rfind(',').unwrap_or(60);
    format!("{},...", &frames[..end])
}
