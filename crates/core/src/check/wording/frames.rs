//! Words about frames.

use crate::diagnostic::Words;
use crate::frames::Frames;
use crate::resolve::Job;
use crate::sheet::Fps;

pub fn frames_unknown(facts: bool) -> Words {
    let label = if facts { "the scene declares no span" } else { "nothing is known about the scene" };
    Words::new("nothing says which frames this job has", label)
        .help("write frames = \"1-96\"; of scenes that know seconds only, fps is needed too")
}

pub fn frames_empty() -> Words {
    Words::new("no frame is left to render", "this leaves nothing")
}

pub fn frames_outside(beyond: &Frames, span: &Frames) -> Words {
    Words::new(format!("frames {beyond} lie outside the scene's span"), format!("the scene declares {span}"))
        .help(format!("write frames = \"{span}\", or leave `frames` out to take the scene's span"))
}

pub fn span_not_covered(left_out: &Frames, span: &Frames) -> Words {
    Words::new(format!("frames {left_out} of the scene are not rendered"), format!("the scene declares {span}"))
        .help("if that is meant: [checks] scene-span-not-covered = \"off\"")
}

pub fn handles_outside(beyond: &Frames, span: &Frames) -> Words {
    Words::new(
        format!("the handles reach to frames {beyond}, outside the scene's span"),
        format!("the scene declares {span}"),
    )
    .help("take shorter handles, or lengthen the scene")
}

pub fn step_misses_end((first, last): (i64, i64), every: i64, reached: i64) -> Words {
    Words::new(
        format!("every {every} from {first} ends at frame {reached}, not at {last}"),
        "the last frame is never reached",
    )
    .help(format!("write {first}-{reached}/{every}, or take another step"))
}

pub fn fps_differs(fps: Fps, scene: Fps) -> Words {
    Words::new(
        format!("the job runs at {fps} frames per second, the scene at {scene}"),
        format!("the scene says {scene}"),
    )
    .help("leave `fps` out to take the scene's own")
}

pub fn sequence_of_one() -> Words {
    Words::new("a single frame has a frame number in its name", "one frame")
        .help("for a still, take {frame} out of the path; for a sequence, ask for more frames")
}

pub fn frames_twice(other: &Job, both: &Frames) -> Words {
    Words::new(format!("frames {both} are rendered for `{}` as well", other.name), "the same picture a second time")
        .also(other.given.place(&crate::sheet::Key::Frames).unwrap_or(other.at), "the first time")
        .help("leave them out of one of the two")
}
