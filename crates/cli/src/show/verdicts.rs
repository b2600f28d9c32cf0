//! What lies on disk, as a table: a line per series, then every frame that is not good.

use anstyle::Style;
use truepath_core::plan::Plan;
use truepath_core::verify::{Outcome, STATES, State, Verdict};

use super::{BAD, GOOD, HEAD, ODD, QUIET, counted, paint};
use crate::lower::Screen;

/// Lines of one kind before the rest is only counted.
const MOST_LINES: usize = 20;

/// All verdicts.
pub fn text(plan: &Plan, verdicts: &[Verdict], screen: Screen) -> String {
    let outputs = plan.series.iter().chain(&plan.movies);
    let widest = outputs.map(|series| super::width(&series.id)).max().unwrap_or(0);
    let mut out =
        format!("{}\n", paint(screen, HEAD, format!("{:widest$}  {:>7}  {:>7}  state", "series", "planned", "good")));
    for verdict in verdicts {
        let series = plan.output(verdict.series);
        let states = states(verdict, screen);
        let state = if states.is_empty() { paint(screen, GOOD, "complete") } else { states.join("  ") };
        out.push_str(&format!(
            "{}  {:>7}  {:>7}  {state}\n",
            super::pad(&series.id, widest),
            verdict.expected.count(),
            verdict.in_state(State::Good).count()
        ));
    }
    let (mut lines, mut all): (Vec<String>, i64) = (Vec::new(), 0);
    for verdict in verdicts {
        let series = plan.output(verdict.series);
        let missing = verdict.in_state(State::Missing).iter().map(|frame| (State::Missing, frame, ""));
        let found = verdict.findings.iter().filter(|(state, ..)| *state != State::Foreign);
        let found = found.flat_map(|(state, why, frames)| frames.iter().map(|frame| (*state, frame, why.as_str())));
        // A billion lines that nobody sees are counted, not written.
        let room = MOST_LINES - lines.len().min(MOST_LINES);
        let told = missing.chain(found).take(room);
        lines.extend(told.map(|(state, frame, why)| line(plan, screen, (state, &series.name(frame), why))));
        let room = MOST_LINES - lines.len().min(MOST_LINES);
        let stray = |path: &String| format!("  {}   {}\n", paint(screen, ODD, "stray "), relative(plan, path));
        lines.extend(verdict.stray.iter().take(room).map(stray));
        let named = verdict.findings.iter().filter(|(state, ..)| *state != State::Foreign);
        all += verdict.in_state(State::Missing).count() + named.map(|(.., frames)| frames.count()).sum::<i64>();
        all += i64::try_from(verdict.stray.len()).unwrap_or(i64::MAX);
    }
    if !lines.is_empty() {
        out.push('\n');
    }
    let more = all - i64::try_from(lines.len()).unwrap_or(0);
    out.extend(lines);
    if more > 0 {
        out.push_str(&paint(screen, QUIET, format!("  and {more} more; --json lists them all\n")));
    }
    out
}

/// The states of a series that are not good, with their frames; a movie has none.
pub fn states(verdict: &Verdict, screen: Screen) -> Vec<String> {
    let told = |(name, state): &(&str, State)| {
        let frames = verdict.in_state(*state);
        let shown = *state != State::Good && !frames.is_empty();
        let frames = if verdict.is_movie { String::new() } else { format!(" {}", cut(&frames.to_string())) };
        shown.then(|| paint(screen, style(*state), format!("{name}{frames}")))
    };
    STATES.iter().filter_map(told).collect()
}

/// The closing lines: how all stands, the commands that make it complete, and what is to be looked at.
pub fn closing(verdicts: &[&Verdict], fixes: &[String], screen: Screen) -> String {
    let files = |states: &[State]| verdicts.iter().map(|verdict| verdict.files(states)).sum::<i64>();
    let planned: i64 = verdicts.iter().map(|verdict| verdict.expected.count()).sum();
    let whole = files(&[State::Good, State::Foreign, State::Odd]);
    let mut out = match (Outcome::of(verdicts.iter().copied()), fixes) {
        (Outcome::Complete, _) => {
            paint(screen, GOOD, format!("complete: {} as planned", counted(planned, "file"))) + "\n"
        }
        (Outcome::AsPlanned, _) => {
            paint(screen, GOOD, format!("{whole} of {} as planned", counted(planned, "file"))) + "\n"
        }
        (Outcome::Incomplete, fixes) => {
            let good = files(&[State::Good, State::Foreign]);
            let bad = paint(screen, BAD, format!("not complete: {good} of {} good", counted(planned, "file")));
            match fixes {
                [] => format!("{bad}\n"),
                [one] => format!("{bad}. Mend it: {one}\n"),
                several => format!("{bad}. Mend it, in this order:\n  {}\n", several.join("\n  ")),
            }
        }
    };
    let odd = files(&[State::Odd]);
    if odd > 0 {
        let words = format!("{} odd, most likely not what was meant: look at the pictures", is_or_are(odd, "file"));
        out.push_str(&format!("{}: {words}\n", paint(screen, ODD, "warning")));
    }
    let foreign = files(&[State::Foreign]);
    if foreign > 0 {
        let of = if foreign == 1 { "it is" } else { "they are" };
        let words = format!("{} foreign: no journal knows what {of} made of", is_or_are(foreign, "file"));
        out.push_str(&format!("{}: {words}\n", paint(screen, QUIET, "note")));
    }
    out
}

/// `1 file is`, `3 files are`.
fn is_or_are(count: i64, one: &str) -> String {
    format!("{} {}", counted(count, one), if count == 1 { "is" } else { "are" })
}

fn line(plan: &Plan, screen: Screen, (state, path, why): (State, &str, &str)) -> String {
    let why = if why.is_empty() { String::new() } else { format!("\n           {}", paint(screen, QUIET, why)) };
    format!("  {}  {}{why}\n", paint(screen, style(state), format!("{:7}", state.name())), relative(plan, path))
}

/// How loud a state is.
pub fn style(state: State) -> Style {
    match state {
        State::Missing | State::Unreadable | State::Broken => BAD,
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
