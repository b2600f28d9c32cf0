//! What lies on disk, as a table: a line per series, then every frame that is not good.

use anstyle::Style;
use truepath_core::frames::Frames;
use truepath_core::plan::{Plan, Series};
use truepath_core::verify::{Near, Outcome, STATES, State, Verdict};

use super::{BAD, GOOD, HEAD, ODD, QUIET, counted, paint, state as signed};
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
        let states = if states.is_empty() { vec![signed(screen, GOOD, "complete")] } else { states };
        let good = verdict.in_state(State::Good).count();
        let columns = format!("{}  {:>7}  {good:>7}", super::pad(&series.id, widest), verdict.planned.count());
        out.push_str(&super::in_columns(&columns, &states, screen));
    }
    let (mut lines, mut files) = (Vec::new(), Vec::new());
    for verdict in verdicts {
        let series = plan.output(verdict.series);
        let away = verdict.gone.iter().fold(Frames::none(), |sum, (_, frames)| sum.union(frames));
        let missing = &verdict.in_state(State::Missing).minus(&away);
        let missing = (!missing.is_empty()).then_some((State::Missing, missing, ""));
        let away = verdict.gone.iter().map(|(why, frames)| (State::Missing, frames, why.as_str()));
        let found = verdict.findings.iter().filter(|(state, ..)| *state != State::Foreign);
        let found = found.map(|(state, why, frames)| (*state, frames, why.as_str()));
        for (state, frames, why) in missing.into_iter().chain(away).chain(found) {
            lines.push(line(plan, screen, series, (state, frames, why)));
            files.push(frames.count());
        }
        for (note, frames) in &verdict.notes {
            let frames = cut(&frames.to_string());
            let head = paint(screen, QUIET, format!("{:12}", "note"));
            let note = paint(screen, QUIET, note);
            lines.push(format!(
                "  {head}  {}  {frames}\n                {note}\n",
                relative(plan, &series.pattern.typed())
            ));
            files.push(0);
        }
        for (line, count) in near_lines(verdict, screen) {
            lines.push(line);
            files.push(count);
        }
        for path in verdict.stray.iter().take(MOST_LINES) {
            lines.push(format!("  {}  {}\n", super::pad(&signed(screen, ODD, "stray"), 12), relative(plan, path)));
            files.push(1);
        }
        let more = verdict.stray.len().saturating_sub(MOST_LINES);
        files.extend((more > 0).then(|| i64::try_from(more).unwrap_or(i64::MAX)));
    }
    if !lines.is_empty() {
        out.push('\n');
    }
    let more: i64 = files.iter().skip(MOST_LINES).sum();
    out.extend(lines.into_iter().take(MOST_LINES));
    if more > 0 {
        let more = counted(more, "more file");
        out.push_str(&paint(screen, QUIET, format!("  and {more}; --json lists them all\n")));
    }
    out
}

/// The states of a series that are not good, with their frames; a movie has none.
pub fn states(verdict: &Verdict, screen: Screen) -> Vec<String> {
    let told = |(name, state): &(&str, State)| {
        let frames = verdict.in_state(*state);
        let shown = *state != State::Good && !frames.is_empty();
        let frames = if verdict.is_movie { String::new() } else { format!(" {}", cut(&frames.to_string())) };
        shown.then(|| signed(screen, style(*state), format!("{name}{frames}")))
    };
    STATES.iter().filter_map(told).collect()
}

/// The closing lines: how all stands, the commands that make it complete, and what is to be looked at.
pub fn closing(verdicts: &[&Verdict], fixes: &[String], screen: Screen) -> String {
    let files = |states: &[State]| verdicts.iter().map(|verdict| verdict.files(states)).sum::<i64>();
    let planned: i64 = verdicts.iter().map(|verdict| verdict.planned.count()).sum();
    let whole = files(&[State::Good, State::Foreign, State::Odd, State::Unproven]);
    let out = match (Outcome::of(verdicts.iter().copied()), fixes) {
        (Outcome::Complete, _) => {
            signed(screen, GOOD, format!("complete: {} as planned", counted(planned, "file"))) + "\n"
        }
        (Outcome::AsPlanned, _) => {
            signed(screen, GOOD, format!("{whole} of {} as planned", counted(planned, "file"))) + "\n"
        }
        (Outcome::Incomplete, fixes) => {
            let good = files(&[State::Good, State::Foreign]);
            let bad = signed(screen, BAD, format!("not complete: {good} of {} good", counted(planned, "file")));
            match fixes {
                [] => format!("{bad}\n"),
                [one] => format!("{bad}. Fix it: {one}\n"),
                several => format!("{bad}. Fix it, in this order:\n  {}\n", several.join("\n  ")),
            }
        }
    };
    out + &to_be_looked_at(verdicts, screen)
}

/// What is to be looked at, a line for each kind.
fn to_be_looked_at(verdicts: &[&Verdict], screen: Screen) -> String {
    let files = |states: &[State]| verdicts.iter().map(|verdict| verdict.files(states)).sum::<i64>();
    let mut out = String::new();
    let unreadable = files(&[State::Unreadable]);
    if unreadable > 0 {
        let words = format!(
            "{} neither read nor replaced: repair the disk or the permissions, then look again with `truepath verify --deep`",
            is_or_are(unreadable, "file")
        );
        out.push_str(&format!("{}: {words}\n", signed(screen, BAD, "unreadable")));
    }
    let odd = files(&[State::Odd]);
    if odd > 0 {
        let words = format!("{} odd, probably not intended: look at the pictures", is_or_are(odd, "file"));
        out.push_str(&format!("{}: {words}\n", signed(screen, ODD, "warning")));
    }
    let unproven = files(&[State::Unproven]);
    if unproven > 0 {
        let words = format!(
            "{} not proven: {} pixels are stored in a way that True Path cannot read",
            is_or_are(unproven, "file"),
            if unproven == 1 { "its" } else { "their" }
        );
        out.push_str(&format!("{}: {words}\n", signed(screen, ODD, "warning")));
    }
    let near: i64 = verdicts.iter().map(|verdict| i64::try_from(verdict.near.len()).unwrap_or(i64::MAX)).sum();
    if near > 0 {
        let words = format!(
            "{} almost the name of a missing one; `truepath verify --adopt` accepts {}",
            has_or_have(near),
            them(near)
        );
        out.push_str(&format!("{}: {words}\n", signed(screen, ODD, "near")));
    }
    let foreign = files(&[State::Foreign]);
    if foreign > 0 {
        let words = format!(
            "{} foreign: True Path has no record of {of}; `truepath verify --adopt` accepts {of}",
            is_or_are(foreign, "file"),
            of = them(foreign)
        );
        out.push_str(&format!("{}: {words}\n", paint(screen, QUIET, "note")));
    }
    out
}

/// `1 file has`, `3 files have`.
fn has_or_have(count: i64) -> String {
    format!("{} {}", counted(count, "file"), if count == 1 { "has" } else { "have" })
}

/// `it` for one, `them` for several.
fn them(count: i64) -> &'static str {
    if count == 1 { "it" } else { "them" }
}

/// `1 file is`, `3 files are`.
fn is_or_are(count: i64, one: &str) -> String {
    format!("{} {}", counted(count, one), if count == 1 { "is" } else { "are" })
}

/// Files of a series that are in one state for one reason: a path, or a pattern and which frames.
fn line(plan: &Plan, screen: Screen, series: &Series, found: (State, &Frames, &str)) -> String {
    let (state, frames, why) = found;
    let (first, count) = (frames.first().unwrap_or(0), frames.count());
    let path = match count {
        1 => relative(plan, &series.name(first)),
        _ => format!("{}  {}", relative(plan, &series.pattern.typed()), cut(&frames.to_string())),
    };
    let why = if why.is_empty() { String::new() } else { format!("\n                {}", paint(screen, QUIET, why)) };
    format!("  {}  {path}{why}\n", super::pad(&signed(screen, style(state), state.name()), 12))
}

/// Files that bear almost the name of a missing frame: a line for each way in which they differ.
fn near_lines(verdict: &Verdict, screen: Screen) -> Vec<(String, i64)> {
    let mut by_why: Vec<(&str, Vec<&Near>)> = Vec::new();
    for near in &verdict.near {
        match by_why.iter_mut().find(|(why, _)| *why == near.why) {
            Some((_, list)) => list.push(near),
            None => by_why.push((&near.why, vec![near])),
        }
    }
    let line = |(why, list): (&str, Vec<&Near>)| {
        let count = i64::try_from(list.len()).unwrap_or(i64::MAX);
        let frames = Frames::from_any(list.iter().map(|near| near.frame).collect());
        let (from, to) = list.first().map_or(("", ""), |near| (near.from.as_str(), near.to.as_str()));
        let which = if count > 1 { format!(", and so on for {}", cut(&frames.to_string())) } else { String::new() };
        let head = super::pad(&signed(screen, ODD, "near"), 12);
        let why = paint(screen, QUIET, format!("its name differs by {why}"));
        (format!("  {head}  {from} for {to}{which}\n                {why}\n"), count)
    };
    by_why.into_iter().map(line).collect()
}

/// How loud a state is.
pub fn style(state: State) -> Style {
    match state {
        State::Missing | State::Unreadable | State::Broken => BAD,
        State::Wrong | State::Stale | State::Changed | State::Odd | State::Unproven => ODD,
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
