//! The documents of `--json`. Paths are absolute, frames are expressions, fps is text, what is unknown is null.

use std::path::Path;

use serde_json::{Map, Value, json};
use truepath_core::diagnostic::{Finding, Level};
use truepath_core::frames::Frames;
use truepath_core::plan::{Plan, Series, SeriesKind};
use truepath_core::run::event::Event;
use truepath_core::source::{Place, Sources};
use truepath_core::verify::{Footage, Near, Outcome, STATES, State, Verdict};
use truepath_core::whose::Owner;

use super::whose::FileAnswer;
use truepath_project::Queue;
use truepath_project::run::EndedRun;

/// One document, ending with a line break.
pub fn text(document: &Value) -> String {
    let mut text = serde_json::to_string_pretty(document).unwrap_or_default();
    text.push('\n');
    text
}

/// `names --json`.
pub fn names(plans: &[&Plan]) -> Value {
    let of_plan =
        |plan: &&Plan| plan.series.iter().chain(&plan.movies).map(|series| name(plan, series)).collect::<Vec<_>>();
    let series: Vec<Value> = plans.iter().flat_map(of_plan).collect();
    json!({ "truepath": 1, "series": series })
}

pub fn pass(plan: &Plan, series: &Series) -> Value {
    if series.passes.len() == 1 { json!(plan.jobs[series.job].passes[series.passes[0]].label) } else { Value::Null }
}

fn kind(series: &Series) -> &'static str {
    match series.kind {
        SeriesKind::Sequence => "sequence",
        SeriesKind::Still => "still",
        SeriesKind::Movie => "movie",
    }
}

fn name(plan: &Plan, series: &Series) -> Value {
    let job = &plan.jobs[series.job];
    let values: Map<String, Value> = job.vars.iter().map(|(name, value)| (name.clone(), json!(value))).collect();
    let known = series.is_known();
    let movie = series.kind == SeriesKind::Movie;
    let file = |frame: Option<i64>| frame.or(movie.then_some(0)).filter(|_| known).map(|frame| series.name(frame));
    let frames = series.frames.as_ref();
    json!({
        "series": series.id,
        "job": job.name,
        "camera": job.camera.as_deref(),
        "values": values,
        "pass": pass(plan, series),
        "kind": kind(series),
        "pattern": known.then(|| series.pattern.typed()),
        "frames": frames.map(ToString::to_string),
        "count": series.count(),
        "first": file(frames.and_then(Frames::first)),
        "last": file(frames.and_then(Frames::last)),
        "type": series.file_type.map(|known| known.name),
        "bits": series.bits.map(|bits| bits.to_string()),
        "channels": series.channels.map(|channels| channels.to_string()),
        "width": series.size.map(|size| size.width),
        "height": series.size.map(|size| size.height),
        "fps": series.film.as_deref().map_or(job.fps, |film| film.fps).map(|fps| fps.to_string()),
        "codec": series.film.as_deref().and_then(|film| film.codec),
        "shown": series.film.as_deref().map(|film| film.shown()),
    })
}

/// `check --json`.
pub fn check<'p>(
    parts: impl Iterator<Item = (Option<&'p str>, &'p [Finding], &'p Sources)>,
    unchecked: &[String],
    folder: &Path,
) -> Value {
    let (mut found, mut allowed, mut errors, mut warnings) = (Vec::new(), Vec::new(), 0, 0);
    for (mode, findings, sources) in parts {
        for finding in findings {
            let document = self::finding(finding, (mode, sources, folder));
            match finding.allowed {
                Some(_) => allowed.push(document),
                None => {
                    errors += usize::from(finding.level == Level::Error);
                    warnings += usize::from(finding.level == Level::Warning);
                    found.push(document);
                }
            }
        }
    }
    json!({
        "truepath": 1, "findings": found, "allow": allowed, "errors": errors, "warnings": warnings,
        "modes_not_checked": unchecked,
    })
}

/// One finding of a mode, or of no mode.
fn finding(finding: &Finding, (mode, sources, folder): (Option<&str>, &Sources, &Path)) -> Value {
    let at = |place: Place| {
        let (start, end) = sources.lines(place);
        // Texts that are no files, such as what was typed, keep their names.
        let file = folder.join(&sources.get(place.file).name);
        let file = if file.exists() { file.display().to_string() } else { sources.get(place.file).name.clone() };
        json!({ "file": file, "line": start.line, "column": start.column, "end_line": end.line, "end_column": end.column })
    };
    json!({
            "check": finding.check.name(),
            "level": finding.level.name(),
            "message": finding.message,
            "job": finding.job,
            "at": finding.at.as_ref().map(|place| at(place.at)),
            "label": finding.at.as_ref().map(|place| &place.value),
            "also": finding.also.iter().map(|also| json!({ "at": at(also.at), "label": also.value })).collect::<Vec<_>>(),
            "help": finding.help,
            "fix": finding.fix.as_ref().map(|fix| json!({ "at": at(fix.at), "write": fix.write })),
            "more": finding.more,
            "asks_machine": finding.check.check().asks_machine,
            "because": finding.allowed,
            "mode": mode,
    })
}

/// Missing frames of a series that are findings of their own; the range of all stands beside them.
const MOST_MISSING: usize = 10_000;

/// What a verdict says of a series: the same in `verify` and in `status`.
pub fn verdict(plan: &Plan, verdict: &Verdict) -> Value {
    let series = plan.output(verdict.series);
    let finding = |(state, why, frames): &(State, String, Frames)| {
        let one = |frame: i64| {
            let check = format!("frame-{}", state.name());
            json!({ "check": check, "frame": frame, "path": series.name(frame), "message": why })
        };
        frames.iter().map(one).collect::<Vec<_>>()
    };
    let mut document = json!({
        "series": series.id, "job": plan.jobs[series.job].name, "pass": pass(plan, series), "kind": kind(series),
        "planned": verdict.planned.to_string(),
    });
    let good_first = STATES.iter().rev().take(1).chain(&STATES[..STATES.len() - 1]);
    for (name, state) in good_first {
        document[*name] = json!(verdict.in_state(*state).to_string());
    }
    document["stray"] = json!(verdict.stray);
    // A billion frames that are missing are a range, not a billion lines.
    let missing = verdict.in_state(State::Missing);
    let missing: Frames = Frames::from_ascending(missing.iter().take(MOST_MISSING));
    let missing = (State::Missing, "not there".to_owned(), missing);
    document["findings"] = json!([&missing].into_iter().chain(&verdict.findings).flat_map(finding).collect::<Vec<_>>());
    let folder = |path: &str| truepath_core::resolve::paths::parent(path).to_owned();
    let near = |near: &Near| {
        let path = series.name(near.frame);
        json!({ "frame": near.frame, "path": format!("{}/{}", folder(&path), near.from), "should_be": path, "why": near.why })
    };
    document["near"] = json!(verdict.near.iter().map(near).collect::<Vec<_>>());
    let note = |(note, frames): &(String, Frames)| json!({ "frames": frames, "note": note });
    document["notes"] = json!(verdict.notes.iter().map(note).collect::<Vec<_>>());
    let gone = |(why, frames): &(String, Frames)| json!({ "frames": frames, "why": why });
    document["put_away"] = json!(verdict.gone.iter().map(gone).collect::<Vec<_>>());
    document
}

/// `verify --json`.
pub fn verify<'v>(judged: impl Iterator<Item = (&'v Plan, &'v Vec<Verdict>)> + Clone, fixes: &[Vec<String>]) -> Value {
    let outcome = Outcome::of(judged.clone().flat_map(|(_, verdicts)| verdicts));
    let of_sheet =
        |(plan, verdicts): (&Plan, &'v Vec<Verdict>)| verdicts.iter().map(|own| verdict(plan, own)).collect::<Vec<_>>();
    let series: Vec<Value> = judged.flat_map(of_sheet).collect();
    json!({ "truepath": 1, "outcome": outcome.name(), "series": series, "fix": fixes })
}

/// `run --json`: what `verify` says afterwards, and what was done.
pub fn run(plans: &[&Plan], ended: &[EndedRun], fixes: &[Vec<String>]) -> Value {
    let judged: Vec<(&Plan, &Vec<Verdict>)> = plans.iter().copied().zip(ended.iter().map(|own| &own.after)).collect();
    let mut document = verify(judged.into_iter(), fixes);
    if ended.iter().any(|own| own.outcome.interrupted) {
        document["outcome"] = json!("interrupted");
    }
    let sum = |of: &dyn Fn(&EndedRun) -> i64| ended.iter().map(of).sum::<i64>();
    document["needed"] = json!(sum(&|own| own.total));
    document["landed"] = json!(sum(&|own| own.outcome.landed));
    document["left"] = json!(sum(&|own| own.left));
    document["seconds"] = json!(ended.iter().map(|own| own.seconds).sum::<f64>());
    document["exported"] = json!(ended.iter().filter_map(|own| own.exported).reduce(|sum, own| sum + own));
    let failed = |event: &Event| match event {
        Event::Failed { job, series, frames, why, .. } => {
            Some(json!({ "job": job, "series": series, "frames": frames, "why": why }))
        }
        Event::GaveUp { job, why } => Some(json!({ "job": job, "series": [], "frames": null, "why": why })),
        _ => None,
    };
    document["failed"] = json!(ended.iter().flat_map(|own| &own.failures).filter_map(failed).collect::<Vec<_>>());
    document
}

/// `movie -o --json`.
pub fn movie(path: &Path, footage: &Footage) -> Value {
    json!({
        "truepath": 1, "path": path, "frames": footage.frames,
        "fps": footage.fps.map(|fps| fps.to_string()), "width": footage.width, "height": footage.height,
        "codec": footage.codec, "container": footage.container,
        "sound": footage.sound.as_ref().map(|sound| &sound.codec),
    })
}

/// `whose --json`.
pub fn whose(queue: &Queue, answers: &[FileAnswer<'_>]) -> Value {
    let one = |answer: &FileAnswer<'_>| {
        let FileAnswer { path, sheet, plan, owner } = answer;
        let (at, frame) = match owner {
            Owner::Series(at, frame) => (at, frame),
            Owner::Nobody(why, _) => {
                return json!({
                    "path": path, "series": null, "job": null, "camera": null, "values": {}, "pass": null, "version": null,
                    "frame": null, "mode": null, "sheet": null, "why": why,
                });
            }
        };
        let series = plan.output(*at);
        let mut document = name(plan, series);
        let job = &plan.jobs[series.job];
        let version = plan.version_of(job);
        let values = document["values"].take();
        json!({
            "path": path, "series": series.id, "job": job.name, "camera": document["camera"], "values": values,
            "pass": document["pass"], "version": version, "frame": frame, "mode": plan.mode,
            "sheet": queue.sheets[*sheet].sheet.display().to_string(),
        })
    };
    json!({ "truepath": 1, "files": answers.iter().map(one).collect::<Vec<_>>() })
}
