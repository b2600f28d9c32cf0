//! Words about movies.

use crate::adapter::Adapter;
use crate::catalogue::{AudioCodec, Codec};
use crate::diagnostic::Words;
use crate::frames::Frames;
use crate::invoke::encode::{self, Wish};
use crate::resolve::Job;
use crate::sheet::{Fps, Size};
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
    Words::new(format!("the movie jumps: frames {missing} are not rendered"), "made of a sequence with gaps").help(
        "write gaps = \"hold\" to show the frame before for as long, gaps = \"close\" to leave them out, or render them",
    )
}

pub fn nothing_shown(movie: &str) -> Words {
    Words::new(format!("the movie `{movie}` has no frame to show"), "none of its job's frames is left")
        .help("write frames of the job, or take `frames` out of the movie")
}

pub fn fps_unknown(movie: &str) -> Words {
    Words::new(format!("nothing says at which rate the movie `{movie}` runs"), "neither it nor its job has `fps`")
        .help("write fps = 24 in the movie or in the job")
}

pub fn fps_differs(fps: Fps, own: Fps, job: &str) -> Words {
    Words::new(
        format!("the movie runs at {fps} frames per second, the job `{job}` at {own}"),
        "faster or slower than it was made",
    )
    .help("leave `fps` out of the movie to take the job's own")
}

pub fn sizes_differ((job, size): (&Job, Option<Size>), (other, theirs): (&Job, Option<Size>)) -> Words {
    let said = |size: Option<Size>| size.map_or_else(|| "unknown".to_owned(), |size| size.to_string());
    let message =
        format!("`{}` is {}, `{}` is {}: one movie has one size", job.name, said(size), other.name, said(theirs));
    Words::new(message, "frames of several sizes in one movie").help("write size = \"WIDTHxHEIGHT\" in the movie")
}

pub fn timecode(text: &str, fps: Option<Fps>) -> Words {
    let at = fps.map(|fps| format!(" at {fps} frames per second")).unwrap_or_default();
    Words::new(format!("{text} is no timecode{at}"), "hours, minutes, seconds and frames are wanted")
        .help("write it as \"01:00:00:00\"; a `;` before the frames drops numbers, at 30000/1001 and 60000/1001 only")
}

pub fn burn_token(name: &str) -> Words {
    Words::new(format!("there is no token `{name}` for the line below a picture"), "not known here")
        .help("every token of paths is, and {name}, {frame} and {timecode} of the frame itself")
}

pub fn no_encoder(wish: &Wish<'_>, known: &[&str]) -> Words {
    Words::new(format!("no encoder makes {}", asked(wish)), "nothing can make this movie").help(format!(
        "ask for less, or put an adapter with kind = \"encoder\" beside the sheet; in the box: {}",
        listed(known)
    ))
}

pub fn encoder_cannot(adapter: &Adapter, wish: &Wish<'_>) -> Words {
    let name = &adapter.name;
    Words::new(format!("{name} does not make {}", asked(wish)), "more than this encoder does").help(format!(
        "`truepath adapter show {name}` lists what it does; leave `adapter` out to take the first that can"
    ))
}

/// All that is asked of an encoder, so that what it cannot do is among it.
fn asked(wish: &Wish<'_>) -> String {
    let size = wish.size.map(|size| format!(", {size}")).unwrap_or_default();
    let chroma = wish.format.chroma.as_ref().map(|chroma| format!(", chroma {}", chroma.value)).unwrap_or_default();
    let alpha = if wish.alpha { ", with alpha" } else { "" };
    let codec = wish.format.audio_codec.as_ref().map(|codec| format!(" as {}", codec.value)).unwrap_or_default();
    let sound = wish.audio.map(|path| format!(", with the sound {path}{codec}")).unwrap_or_default();
    let bits = encode::bits(wish.format, wish.codec);
    format!("{} in {} of {bits} bits{chroma}{size}{alpha}{sound}", wish.codec.title, wish.container.title)
}

pub fn encoder_not_here(program: &str, movie: &str, codec: &Codec) -> Words {
    Words::new(
        format!("the movie `{movie}` needs {program} for {}, and it is not on this machine", codec.title),
        "cannot be made here",
    )
    .help(format!(
        "install {program}, or ask for what the built-in encoder makes: h264 in mp4, mjpeg in mov or avi, with pcm sound in mov or avi"
    ))
}

pub fn encoder_unknown_here(adapter: &Adapter, codec: &Codec, own: &str) -> Words {
    let name = &adapter.name;
    Words::new(
        format!("this machine's {name} cannot make {}: it does not know `{own}`", codec.title),
        "cannot be made here",
    )
    .help(format!("install a {name} that can, or choose another codec"))
}

pub fn option_not_carried(option: &str, adapter: &Adapter, codec: &Codec) -> Words {
    Words::new(format!("`{option}` does not reach {} for {}", adapter.name, codec.title), "this would be ignored")
        .help("leave it out, or take another codec or encoder")
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
    .help("what is longer is cut off and what is shorter ends in silence; take the sound that was cut to these frames")
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
