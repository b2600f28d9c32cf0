//! Words about frames.

use crate::diagnostic::Words;
use crate::frames::Frames;
use crate::resolve::Job;
use crate::sheet::Fps;

pub fn frames_unknown(facts: bool) -> Words {
    let label = if facts { "the scene declares no span" } else { "the scene does not say which frames it has" };
    Words::new("this job has no frames: neither the sheet nor the scene gives a range", label)
        .help("write frames = \"1-96\"; a scene that is timed in seconds needs fps as well")
}

pub fn frames_empty() -> Words {
    Words::new("this job has no frame to render", "this range is empty")
}

pub fn frames_outside(beyond: &Frames, span: &Frames) -> Words {
    Words::new(
        format!("{} {} outside the scene's span", beyond.worded(), beyond.are()),
        format!("the scene declares {span}"),
    )
    .help(format!("write frames = \"{span}\", or remove `frames` to use the scene's span"))
}

pub fn span_not_covered(left_out: &Frames, span: &Frames) -> Words {
    Words::new(
        format!("{} of the scene {} not rendered", left_out.worded(), left_out.are()),
        format!("the scene declares {span}"),
    )
    .help("if this is intended, write scene-span-not-covered = \"off\" under [checks]")
}

pub fn handles_outside(beyond: &Frames, span: &Frames) -> Words {
    Words::new(
        format!("the handles reach to {}, outside the scene's span", beyond.worded()),
        format!("the scene declares {span}"),
    )
    .help("use shorter handles, or extend the scene")
}

pub fn step_misses_end((first, last): (i64, i64), every: i64, reached: i64) -> Words {
    Words::new(
        format!("with step {every} from {first}, the last frame is {reached}, not {last}"),
        "the step does not reach the last frame",
    )
    .help(format!("write {first}-{reached}/{every}, or choose another step"))
}

pub fn fps_differs(fps: Fps, scene: Fps) -> Words {
    Words::new(format!("the job has {fps} frames per second, the scene has {scene}"), format!("the scene says {scene}"))
        .help("remove `fps` to use the scene's rate")
}

pub fn sequence_of_one() -> Words {
    Words::new("a single frame has a frame number in its name", "this is a single frame")
        .help("for a still, remove {frame} from the path; for a sequence, give more frames")
}

pub fn frames_twice(other: &Job, both: &Frames) -> Words {
    Words::new(
        format!("{} {} rendered for `{}` as well", both.worded(), both.are(), other.name),
        "this job renders the same picture again",
    )
    .also(other.given.place(&crate::sheet::Key::Frames).unwrap_or(other.at), "first rendered here")
    .help("remove these frames from one of the two jobs")
}
