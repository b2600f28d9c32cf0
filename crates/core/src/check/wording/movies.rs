//! Words about movies.

use crate::catalogue::AudioCodec;
use crate::diagnostic::Words;
use crate::frames::Frames;
use crate::resolve::Job;
use crate::sheet::Fps;
use crate::source::Place;
use crate::source::Spanned;

use super::listed;

pub fn movie_of_nothing(of: &str, near: Option<&str>, at: Place) -> Words {
    let words = Words::new(format!("there is no job `{of}` to make a movie of"), "nothing is called so");
    match near {
        Some(near) => words.help(format!("write \"{near}\"")).fix(at, near),
        None => words.help("a movie shows the frames of a job of this sheet"),
    }
}

pub fn movie_without_pass(pass: &Spanned<String>, job: &Job) -> Words {
    let passes = listed(job.passes.iter().map(|pass| pass.label.clone()));
    Words::new(format!("the job `{}` has no pass `{}` to show", job.name, pass.value), format!("it has {passes}"))
}

pub fn movie_of_disabled(of: &str) -> Words {
    Words::new(format!("the job `{of}` is not enabled, so its movie is never made"), "not rendered unless it is named")
        .help("enable the job, or take the movie out")
}

pub fn gaps(missing: &Frames) -> Words {
    Words::new(format!("the movie jumps: frames {missing} are not rendered"), "made of a sequence with gaps")
        .help("render the frames in between, or make movies of the parts")
}

pub fn fps_differs(fps: Fps, own: Fps) -> Words {
    Words::new(
        format!("the movie runs at {fps} frames per second, its job at {own}"),
        "faster or slower than it was made",
    )
    .help("leave `fps` out of the movie to take the job's own")
}

pub fn audio_missing(path: &str, why: &str) -> Words {
    Words::new(format!("the sound {path} cannot be used"), why.to_owned())
        .help("a relative path starts at the folder of the sheet it is written in")
}

pub fn audio_length(seconds: f64, picture: f64) -> Words {
    let word = if seconds < picture { "shorter" } else { "longer" };
    Words::new(
        format!("the sound lasts {seconds:.3} s, the picture {picture:.3} s"),
        format!("{word} than the picture by {:.3} s", (seconds - picture).abs()),
    )
    .help("take the sound that was cut to these frames")
}

pub fn audio_rate(rate: u32, codec: Option<&AudioCodec>) -> Words {
    let label = match codec {
        Some(codec) => format!("unusual for {}", codec.title),
        None => "unusual with pictures".to_owned(),
    };
    Words::new(format!("the sound has {rate} samples a second"), label).help("48000 is usual with pictures")
}

pub fn without_movie(job: &str) -> Words {
    Words::new(format!("no movie is made of `{job}`"), "this job")
        .help(format!("write a [[movie]] with of = \"{job}\", or say with [[meant]] that none is wanted"))
}
