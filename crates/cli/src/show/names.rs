//! What will be written, as a table a tired person reads at a glance.

use std::sync::Arc;

use jiff::civil::DateTime;
use truepath_core::pins::{Wanted, WantedOf};
use truepath_core::plan::{Film, Plan, Series, SeriesKind};
use truepath_core::resolve::{Job, paths};
use truepath_core::sheet::Key;
use truepath_core::template::{Clock, Pattern};
use truepath_core::verify::{STATES, State, Verdict};

use super::{HEAD, MARK, ODD, QUIET, counted, paint};
use crate::lower::Screen;

/// Columns before a name that has a line of its own.
const NAME_INDENT: usize = 6;

/// Every job with its series.
pub fn text(plan: &Plan, unpinned: &Wanted, now: DateTime, screen: Screen) -> String {
    let mut out = String::new();
    for (at, job) in plan.jobs.iter().enumerate() {
        out.push_str(&heading(job, screen));
        let series: Vec<&Series> =
            plan.series[plan.series_of(at)].iter().chain(plan.movies.iter().filter(|movie| movie.job == at)).collect();
        let widest = series.iter().map(|series| super::width(&label(plan, series, job))).max().unwrap_or(0);
        for series in series {
            out.push_str(&row(plan, job, series, (widest, screen)));
        }
        let left = left_to_scene(job);
        if !left.is_empty() {
            out.push_str(&format!(
                "  {}\n",
                paint(screen, QUIET, format!("not set, the scene decides: {}", left.join(", ")))
            ));
        }
        if let Some(line) = pinned(plan, job, now) {
            out.push_str(&format!("  {}\n", paint(screen, QUIET, line)));
        }
        out.push('\n');
    }
    for line in would_be(unpinned) {
        out.push_str(&format!("{}\n", paint(screen, ODD, line)));
    }
    out
}

/// How many there are, how those that are there are judged, and what comes next.
pub fn closing(plans: &[&Plan], there: &[Verdict]) -> String {
    let all = || plans.iter().flat_map(|plan| plan.series.iter().chain(&plan.movies));
    let jobs: usize = plans.iter().map(|plan| plan.jobs.len()).sum();
    let movies = all().filter(|series| series.kind == SeriesKind::Movie).count();
    let files: i64 = all().filter_map(Series::count).sum();
    let movies = if movies == 0 { String::new() } else { format!("{}, ", counted(movies as i64, "movie")) };
    let series: usize = plans.iter().map(|plan| plan.series.len()).sum();
    let state = |(name, state): &(&str, State)| {
        let count: i64 = there.iter().map(|verdict| verdict.files(&[*state])).sum();
        (count > 0).then(|| format!("{count} {name}"))
    };
    let states: Vec<String> = STATES.iter().rev().filter_map(state).collect();
    let states = if states.is_empty() { String::new() } else { format!(" ({})", states.join(", ")) };
    format!(
        "{}, {}, {movies}{}{states}. Next: truepath check\n",
        counted(jobs as i64, "job"),
        counted(series as i64, "series"),
        counted(files, "file")
    )
}

/// What is pinned of a job, and how long ago: the version that it looked up, and the moment that its names hold.
fn pinned(plan: &Plan, job: &Arc<Job>, now: DateTime) -> Option<String> {
    let wanted = truepath_core::plan::wanted([job]);
    let wanted = wanted.jobs.get(&job.job)?;
    let mode = plan.pin_mode.as_deref();
    let looked_up = wanted.version.and_then(|_| plan.pins.pinned_version(&job.job, mode));
    let version = wanted.given.or(plan.pins.version(&job.job, mode).filter(|_| wanted.version.is_some()));
    let first = plan.pins.pinned(&job.job, mode, version);
    let moment = first.map(|first| {
        let user = first.user.as_ref().map(|user| format!(" by {user}")).unwrap_or_default();
        let host = first.host.as_ref().map(|host| format!(" on {host}")).unwrap_or_default();
        let clock = first.clock.map(|clock| format!(" {}, {}", clock.written("%Y-%m-%d %H:%M"), ago(clock, now)));
        format!("first run{}{user}{host}", clock.unwrap_or_default())
    });
    let version = looked_up.map(|version| format!("version {version}"));
    let parts: Vec<String> = version.into_iter().chain(moment).collect();
    (!parts.is_empty()).then(|| format!("pinned: {}", parts.join(", ")))
}

/// How long ago a moment was, in whole units.
fn ago(clock: Clock, now: DateTime) -> String {
    let then = DateTime::new(clock.year, clock.month, clock.day, clock.hour, clock.minute, clock.second, 0);
    let minutes = then.map_or(0, |then| now.duration_since(then).as_mins());
    match minutes {
        ..1 => "just now".to_owned(),
        1..60 => format!("{} ago", counted(minutes, "minute")),
        60..1440 => format!("{} ago", counted(minutes / 60, "hour")),
        _ => format!("{} ago", counted(minutes / 1440, "day")),
    }
}

/// What is not pinned yet and may be another value tomorrow.
fn would_be(unpinned: &Wanted) -> Vec<String> {
    let mut lines = Vec::new();
    let any = |wants: fn(&WantedOf) -> bool| unpinned.jobs.values().any(wants);
    let looked: Vec<&str> =
        [("date and time", any(|own| own.clock)), ("user", any(|own| own.user)), ("host", any(|own| own.host))]
            .iter()
            .filter(|(_, wanted)| *wanted)
            .map(|(name, _)| *name)
            .collect();
    if !looked.is_empty() {
        lines.push(format!("{} have the values of now; the first run or build pins them", looked.join(", ")));
    }
    let jobs = unpinned.jobs.iter().filter(|(_, own)| own.version.is_some()).map(|(job, _)| job.as_str());
    let jobs: Vec<&str> = jobs.collect();
    if !jobs.is_empty() {
        lines.push(format!("the version of {} is that of now; the first run or build pins it", jobs.join(", ")));
    }
    lines
}

fn heading(job: &Job, screen: Screen) -> String {
    let frames = match &job.frames {
        Some(frames) => format!("{} ({})", frames.worded(), frames.count()),
        None => paint(screen, ODD, "frames unknown"),
    };
    let size = job.size.map_or_else(|| "size unknown".to_owned(), |size| size.to_string());
    let fps = job.fps.map_or_else(|| "fps unknown".to_owned(), |fps| format!("{fps} fps"));
    format!("{}  {frames}, {size}, {fps}\n", paint(screen, HEAD, &job.name))
}

fn label(plan: &Plan, series: &Series, job: &Job) -> String {
    if series.kind == SeriesKind::Movie {
        return series.own_name(plan).to_owned();
    }
    series.passes.iter().map(|pass| job.passes[*pass].label.as_str()).collect::<Vec<_>>().join("+")
}

fn row(plan: &Plan, job: &Job, series: &Series, (widest, screen): (usize, Screen)) -> String {
    let kind = [
        series.file_type.map(|known| known.name.to_owned()),
        series.bits.map(|bits| bits.to_string()),
        series.channels.map(|channels| channels.to_string()),
    ];
    let kind = kind.into_iter().flatten().collect::<Vec<_>>().join(" ");
    let label = label(plan, series, job);
    let head = format!("  {}  {}", super::pad(&label, widest), paint(screen, QUIET, format!("{kind:<16}")));
    if !series.is_known() {
        return format!("{head}  {}\n", paint(screen, ODD, "no name yet: see the findings"));
    }
    let before = 2 + widest + 2 + 16 + 2;
    // On a narrow terminal a name has a line of its own.
    let is_narrow = screen.terminal && screen.width < 100;
    let before = if is_narrow { NAME_INDENT } else { before };
    let room = screen.width.saturating_sub(before);
    let below = series.pattern.below(&plan.home.folder).unwrap_or_else(|| series.pattern.clone());
    let pattern = shortened(&below, room, screen).typed_with(|hole| paint(screen, MARK, hole));
    let indent = " ".repeat(before);
    let mut out = match is_narrow {
        true => format!("{}\n{indent}{pattern}\n", head.trim_end()),
        false => format!("{head}  {pattern}\n"),
    };
    if let Some(film) = series.film.as_deref() {
        out.push_str(&paint(screen, QUIET, format!("{indent}{}\n", shown(film, series))));
    }
    let frames = series.frames.as_ref();
    let ends = frames.and_then(|frames| frames.first()).zip(frames.and_then(|frames| frames.last()));
    if let (SeriesKind::Sequence, Some((first, last))) = (series.kind, ends) {
        let name = |frame: i64| paths::file_name(&series.name(frame)).to_owned();
        let dots = if screen.unicode { "…" } else { "..." };
        out.push_str(&paint(screen, QUIET, format!("{indent}{} {dots} {}\n", name(first), name(last))));
    }
    out
}

/// What a movie is: frames, rate, size, codec, sound.
fn shown(film: &Film, series: &Series) -> String {
    let fps = film.fps.map_or_else(|| "fps unknown".to_owned(), |fps| format!("{fps} fps"));
    let size = series.size.map_or_else(|| "size unknown".to_owned(), |size| size.to_string());
    let sound = if film.audio.is_some() { ", with sound" } else { "" };
    format!(
        "{}, {fps}, {size}, {}{sound}",
        counted(film.shown(), "frame"),
        film.codec.map_or("no codec", |codec| codec.name)
    )
}

/// A pattern that fits: folders are left out from the middle, never anything of the file's own name, where names differ.
fn shortened(pattern: &Pattern, room: usize, screen: Screen) -> Pattern {
    let width = |pattern: &Pattern| super::width(&pattern.typed());
    if width(pattern) <= room || !screen.terminal {
        return pattern.clone();
    }
    let mut dots = Pattern::default();
    dots.push_text(if screen.unicode { "…" } else { "..." });
    let parts = pattern.parts();
    let (Some(first), Some(file)) = (parts.first(), parts.last()) else { return pattern.clone() };
    // As many of the folders next to the file as fit behind the first one.
    let tail = |from: usize| {
        let own = [first.clone(), dots.clone()].into_iter().chain(parts[from..].iter().cloned());
        Pattern::joined(&own.collect::<Vec<_>>())
    };
    let fits = (2..parts.len()).map(tail).find(|short| width(short) <= room);
    // The root is never left out: it says which disk is filled.
    fits.unwrap_or_else(|| Pattern::joined(&[first.clone(), dots.clone(), file.clone()]))
}

/// Settings that nobody gives, so that the scene decides.
fn left_to_scene(job: &Job) -> Vec<String> {
    let known = |key: &Key| match key {
        Key::Frames => job.frames.is_some(),
        Key::Fps => job.fps.is_some(),
        Key::Size => job.full_size.is_some(),
        key => job.given.get(key).is_some(),
    };
    [Key::Camera, Key::Frames, Key::Fps, Key::Size, Key::Samples, Key::Colour]
        .into_iter()
        .filter(|key| !known(key))
        .map(|key| key.to_string())
        .collect()
}
