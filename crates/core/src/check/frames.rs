//! Frames: none, unknown, beyond the scene, or rendered twice.

use std::collections::HashMap;

use crate::diagnostic::Slug;
use crate::frames::{Frames, What};
use crate::plan::SeriesKind;
use crate::resolve::Job;
use crate::sheet::setting::{Carrier, Changes};
use crate::sheet::{Key, Setting};

use super::{Sink, wording};

pub fn check(sink: &mut Sink<'_, '_>) {
    let plan = sink.input.plan;
    for job in &plan.jobs {
        step(sink, job);
        rate(sink, job);
        let place = job.given.place(&Key::Frames).or(Some(job.at));
        let Some(frames) = &job.frames else {
            let said = job.given.unread.contains(&Key::Frames) || job.given.unread.contains(&Key::Fps);
            let scene = job.scene.as_ref().is_some_and(|scene| {
                sink.input.machine.is_some_and(|machine| {
                    !machine.missing.contains(&scene.value) && !machine.damaged.contains_key(&scene.value)
                })
            });
            if scene && !said {
                sink.add(Slug::FramesUnknown, place, job, wording::frames::frames_unknown(job.facts.is_some()));
            }
            continue;
        };
        if frames.is_empty() {
            sink.add(Slug::FramesEmpty, place, job, wording::frames::frames_empty());
        }
        if let Some(span) = job.facts.as_ref().and_then(|facts| facts.frames(job.fps)) {
            within(sink, job, frames, &span);
        }
    }
    one(sink);
    twice(sink);
}

/// Frames against the span that the scene declares.
fn within(sink: &mut Sink<'_, '_>, job: &Job, frames: &Frames, span: &Frames) {
    let place = job.given.place(&Key::Frames).or(Some(job.at));
    let beyond = frames.minus(span);
    let own = own_frames(job, span);
    let by_handles = own.as_ref().is_some_and(|own| own.minus(span).is_empty());
    match job.given.place(&Key::Handles).filter(|_| by_handles) {
        Some(at) if !beyond.is_empty() => {
            sink.add(Slug::HandlesOutsideScene, Some(at), job, wording::frames::handles_outside(&beyond, span));
        }
        _ if !beyond.is_empty() => {
            sink.add(Slug::FramesOutsideScene, place, job, wording::frames::frames_outside(&beyond, span));
        }
        _ => {}
    }
    // What modes and the command line leave out is left out on purpose.
    let left_out = if job.narrowed { Frames::none() } else { span.minus(frames) };
    if !left_out.is_empty() {
        sink.add(Slug::SceneSpanNotCovered, place, job, wording::frames::span_not_covered(&left_out, span));
    }
}

/// The job's frames without its handles.
fn own_frames(job: &Job, span: &Frames) -> Option<Frames> {
    match job.given.value(&Key::Frames) {
        Some(Setting::Frames(expr)) => expr.frames(Some(span), None),
        _ => Some(span.clone()),
    }
}

/// A step whose last frame is not the end of its range.
fn step(sink: &mut Sink<'_, '_>, job: &Job) {
    let Some(given) = job.given.get(&Key::Frames) else { return };
    let Setting::Frames(expr) = &*given.value else { return };
    for part in &expr.parts {
        let What::Range(first, last) = part.what else { continue };
        let reached = last - (last - first) % part.every;
        if reached != last {
            sink.add(
                Slug::StepMissesEnd,
                given.at,
                job,
                wording::frames::step_misses_end((first, last), part.every, reached),
            );
        }
    }
}

/// Another rate than the scene's.
fn rate(sink: &mut Sink<'_, '_>, job: &Job) {
    let scene = job.facts.as_ref().and_then(|facts| facts.fps);
    if let (Some(at), Some(fps), Some(scene)) = (job.given.place(&Key::Fps), job.fps, scene)
        && fps != scene
    {
        sink.add(Slug::FpsDiffers, Some(at), job, wording::frames::fps_differs(fps, scene));
    }
}

/// A single frame with a number in its name.
fn one(sink: &mut Sink<'_, '_>) {
    let counted = |series: &&crate::plan::Series| {
        series.kind == SeriesKind::Sequence && series.frames.as_ref().is_some_and(|frames| frames.count() == 1)
    };
    for series in sink.input.plan.series.iter().filter(counted) {
        let job = sink.job(series);
        if !job.narrowed {
            let place = job.given.place(&Key::Frames).or(Some(job.at));
            sink.add(Slug::SequenceOfOne, place, job, wording::frames::sequence_of_one());
        }
    }
}

/// Two jobs that render the same picture: all that reaches the renderer is alike, and some frames are.
fn twice(sink: &mut Sink<'_, '_>) {
    let plan = sink.input.plan;
    let mut alike: HashMap<String, Vec<&Job>> = HashMap::new();
    for job in &plan.jobs {
        let Some(scene) = &job.scene else { continue };
        alike.entry(format!("{}\n{}", scene.value, picture(sink, job))).or_default().push(job);
    }
    for jobs in alike.values().filter(|jobs| jobs.len() > 1) {
        for (at, job) in jobs.iter().enumerate() {
            let meets = |other: &&&Job| match (&job.frames, &other.frames) {
                (Some(a), Some(b)) => job.name != other.name && !a.intersect(b).is_empty(),
                _ => false,
            };
            let Some(other) = jobs[..at].iter().find(meets) else { continue };
            let both = job.frames.as_ref().zip(other.frames.as_ref()).map(|(a, b)| a.intersect(b)).unwrap_or_default();
            let place = job.given.place(&Key::Frames).or(Some(job.at));
            sink.add(Slug::FramesTwice, place, job, wording::frames::frames_twice(other, &both));
        }
    }
}

/// All of a job that changes its picture, as text.
fn picture(sink: &Sink<'_, '_>, job: &Job) -> String {
    let handed = sink.adapter(job).is_none_or(|adapter| !adapter.variable.is_empty());
    // Scene, passes and their formats are compared as they were resolved.
    let resolved = |key: &Key| matches!(key, Key::Scene | Key::Passes | Key::Format);
    let counts = |key: &Key| match key.row().carrier {
        Carrier::Variables => handed,
        _ => key.row().changes == Changes::Picture && !resolved(key),
    };
    let given = job.given.values.iter().filter(|(key, _)| counts(key));
    let mut text: Vec<String> = given.map(|(key, given)| format!("{key}={}", given.value)).collect();
    let passes = job.passes.iter().map(|pass| {
        let format = pass.format.as_ref().map_or("", |format| format.name.value.as_str());
        format!("{} {format} {:?}", pass.name.value, pass.colour)
    });
    text.extend(passes);
    text.join("\n")
}
