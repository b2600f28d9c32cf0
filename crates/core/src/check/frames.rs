//! Frames: none, unknown, or beyond the scene.

use crate::frames::Frames;
use crate::sheet::Key;

use super::{Sink, wording};

pub fn check(sink: &mut Sink<'_, '_>) {
    let plan = sink.input.plan;
    for job in &plan.jobs {
        let place = job.settings.place(&Key::Frames).or(Some(job.at));
        let Some(frames) = &job.frames else {
            let said = job.settings.unread.contains(&Key::Frames) || job.settings.unread.contains(&Key::Fps);
            let scene = job.scene.as_ref().is_some_and(|scene| {
                sink.input.machine.is_some_and(|machine| {
                    !machine.missing.contains(&scene.value) && !machine.damaged.contains_key(&scene.value)
                })
            });
            if scene && !said {
                sink.add("frames-unknown", place, job, wording::frames_unknown(job.facts.is_some()));
            }
            continue;
        };
        if frames.is_empty() {
            sink.add("frames-empty", place, job, wording::frames_empty());
        }
        let span = job.facts.as_ref().and_then(|facts| facts.frames(job.fps));
        if let Some(span) = span {
            let beyond = frames.minus(&span);
            if !beyond.is_empty() {
                sink.add("frames-outside-scene", place, job, wording::frames_outside(&beyond, &span));
            }
            // What modes and the command line leave out is left out on purpose.
            let left_out = if job.narrowed { Frames::none() } else { span.minus(frames) };
            if !left_out.is_empty() {
                sink.add("scene-span-not-covered", place, job, wording::span_not_covered(&left_out, &span));
            }
        }
    }
}
