//! What will be written, as a table a tired person reads at a glance.

use truepath_core::pins::Wanted;
use truepath_core::plan::{Plan, Series, SeriesKind};
use truepath_core::resolve::{Job, paths};
use truepath_core::sheet::Key;

use super::{HEAD, MARK, ODD, QUIET, counted, paint};
use crate::lower::Screen;

/// Every job with its series.
pub fn text(plan: &Plan, unpinned: &Wanted, screen: Screen) -> String {
    let mut out = String::new();
    for (at, job) in plan.jobs.iter().enumerate() {
        out.push_str(&heading(job, screen));
        let series: Vec<&Series> =
            plan.series[plan.series_of(at)].iter().chain(plan.movies.iter().filter(|movie| movie.job == at)).collect();
        let widest = series.iter().map(|series| label(series, job).len()).max().unwrap_or(0);
        for series in series {
            out.push_str(&row(plan, job, series, (widest, screen)));
        }
        let left = left_to_scene(job);
        if !left.is_empty() {
            out.push_str(&format!("  {}\n", paint(screen, QUIET, format!("left to the scene: {}", left.join(", ")))));
        }
        out.push('\n');
    }
    for line in would_be(unpinned) {
        out.push_str(&format!("{}\n", paint(screen, ODD, line)));
    }
    out
}

/// How many there are, and what comes next.
pub fn closing(plans: &[&Plan]) -> String {
    let all = || plans.iter().flat_map(|plan| plan.series.iter().chain(&plan.movies));
    let jobs: usize = plans.iter().map(|plan| plan.jobs.len()).sum();
    let movies = all().filter(|series| series.kind == SeriesKind::Movie).count();
    let files: i64 = all().filter_map(Series::count).sum();
    let movies = if movies == 0 { String::new() } else { format!("{}, ", counted(movies as i64, "movie")) };
    let series: usize = plans.iter().map(|plan| plan.series.len()).sum();
    format!(
        "{}, {}, {movies}{}. Next: truepath check\n",
        counted(jobs as i64, "job"),
        counted(series as i64, "series"),
        counted(files, "file")
    )
}

/// What is not pinned yet and may be another value tomorrow.
fn would_be(unpinned: &Wanted) -> Vec<String> {
    let mut lines = Vec::new();
    let looked: Vec<&str> = [("date and time", unpinned.clock), ("user", unpinned.user), ("host", unpinned.host)]
        .iter()
        .filter(|(_, wanted)| *wanted)
        .map(|(name, _)| *name)
        .collect();
    if !looked.is_empty() {
        lines.push(format!("{} are what they would be now; the first run or build fixes them", looked.join(", ")));
    }
    if !unpinned.versions.is_empty() {
        let jobs: Vec<&str> = unpinned.versions.keys().map(String::as_str).collect();
        lines.push(format!(
            "the version of {} is what it would be now; the first run or build fixes it",
            jobs.join(", ")
        ));
    }
    lines
}

fn heading(job: &Job, screen: Screen) -> String {
    let frames = match &job.frames {
        Some(frames) => format!("frames {frames} ({})", frames.count()),
        None => paint(screen, ODD, "frames unknown"),
    };
    let size = job.size.map_or_else(|| "size unknown".to_owned(), |size| size.to_string());
    let fps = job.fps.map_or_else(|| "fps unknown".to_owned(), |fps| format!("{fps} fps"));
    format!("{}  {frames}, {size}, {fps}\n", paint(screen, HEAD, &job.name))
}

fn label(series: &Series, job: &Job) -> String {
    if series.kind == SeriesKind::Movie {
        return "movie".to_owned();
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
    let label = label(series, job);
    let head = format!("  {label:widest$}  {}", paint(screen, QUIET, format!("{kind:<16}")));
    if !series.is_known() {
        return format!("{head}  {}\n", paint(screen, ODD, "no name yet: see the findings"));
    }
    let relative =
        |path: &str| path.strip_prefix(&plan.home.folder).map_or(path, |rest| rest.trim_start_matches('/')).to_owned();
    let plain = relative(&series.pattern.with_frame(|width| "\u{1}".repeat(width)));
    let room = screen.width.saturating_sub(2 + widest + 2 + 16 + 2);
    let pattern = marked(&shortened(&plain, room, screen), screen);
    let mut out = format!("{head}  {pattern}\n");
    let frames = series.frames.as_ref();
    let ends = frames.and_then(|frames| frames.first()).zip(frames.and_then(|frames| frames.last()));
    if let (SeriesKind::Sequence, Some((first, last))) = (series.kind, ends) {
        let indent = " ".repeat(2 + widest + 2 + 16 + 2);
        let name = |frame: i64| paths::file_name(&series.name(frame)).to_owned();
        let dots = if screen.unicode { "…" } else { "..." };
        out.push_str(&paint(screen, QUIET, format!("{indent}{} {dots} {}\n", name(first), name(last))));
    }
    out
}

/// A path that fits: folders are left out from the middle, never anything of the file's own name, where names differ.
fn shortened(path: &str, room: usize, screen: Screen) -> String {
    if path.chars().count() <= room || !screen.terminal {
        return path.to_owned();
    }
    let dots = if screen.unicode { "…" } else { "..." };
    let parts: Vec<&str> = path.split('/').collect();
    let (Some(first), Some(file)) = (parts.first(), parts.last()) else { return path.to_owned() };
    // As many of the folders next to the file as fit behind the first one.
    let tail = |from: usize| format!("{first}/{dots}/{}", parts[from..].join("/"));
    let fits = (2..parts.len()).map(tail).find(|short| short.chars().count() <= room);
    fits.unwrap_or_else(|| format!("{dots}/{file}"))
}

/// The holes of a pattern, painted.
fn marked(path: &str, screen: Screen) -> String {
    let mut out = String::new();
    let mut run = 0;
    for c in path.chars().chain(['\0']) {
        if c == '\u{1}' {
            run += 1;
            continue;
        }
        if run > 0 {
            out.push_str(&paint(screen, MARK, "#".repeat(run)));
            run = 0;
        }
        if c != '\0' {
            out.push(c);
        }
    }
    out
}

/// Settings that nobody gives, so that the scene decides.
fn left_to_scene(job: &Job) -> Vec<String> {
    let known = |key: &Key| match key {
        Key::Frames => job.frames.is_some(),
        Key::Fps => job.fps.is_some(),
        Key::Size => job.full_size.is_some(),
        key => job.settings.get(key).is_some(),
    };
    [Key::Camera, Key::Frames, Key::Fps, Key::Size, Key::Samples, Key::Colour]
        .into_iter()
        .filter(|key| !known(key))
        .map(|key| key.to_string())
        .collect()
}
