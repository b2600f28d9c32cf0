//! Words about movies.

use crate::adapter::Adapter;
use crate::catalogue::{AudioCodec, Codec};
use crate::diagnostic::Words;
use crate::frames::Frames;
use crate::invoke::encode::{self, Dropped, EncoderNeeds};
use crate::resolve::Job;
use crate::sheet::{Fps, Size};
use crate::source::Place;
use crate::source::Spanned;
use crate::template::Token;

use super::listed;

pub fn movie_of_nothing(of: &str, near: Option<&str>, at: Place) -> Words {
    let words = Words::new(format!("the movie shows the job `{of}`, which does not exist"), "not defined");
    match near {
        Some(near) => words.help(format!("write \"{near}\"")).fix(at, near),
        None => words.help("`of` takes the name of a job in this sheet"),
    }
}

pub fn movie_without_pass(pass: &Spanned<String>, job: &Job) -> Words {
    let passes = listed(job.passes.iter().map(|pass| pass.label.clone()));
    Words::new(format!("the job `{}` has no pass `{}`", job.name, pass.value), format!("it has {passes}"))
}

pub fn movie_of_disabled(of: &str) -> Words {
    Words::new(
        format!("the job `{of}` is not enabled, so this movie is not made"),
        "this job is rendered only when it is named",
    )
    .help("enable the job, or remove the movie")
}

pub fn gaps(missing: &Frames) -> Words {
    Words::new(
        format!("the movie has gaps: {} {} not rendered", missing.worded(), missing.are()),
        "this sequence has gaps",
    )
    .help("write gaps = \"hold\" to repeat the frame before, gaps = \"close\" to skip them, or render them")
}

pub fn nothing_shown(movie: &str) -> Words {
    Words::new(format!("the movie `{movie}` has no frames"), "its job renders none of these frames")
        .help("give frames that the job renders, or remove `frames` from the movie")
}

pub fn fps_unknown(movie: &str) -> Words {
    Words::new(format!("the movie `{movie}` has no frame rate"), "neither the movie nor its job has `fps`")
        .help("write fps = 24 in the movie or in the job")
}

pub fn fps_differs(fps: Fps, own: Fps, job: &str) -> Words {
    Words::new(
        format!("the movie has {fps} frames per second, the job `{job}` has {own}"),
        "faster or slower than it was made",
    )
    .help("remove `fps` from the movie to use the job's rate")
}

pub fn drops(codec: &Codec, dropped: Dropped) -> Words {
    let known = match (dropped.alpha, dropped.bits) {
        (true, Some((_, to))) => format!("write over = \"black\" in the movie and bits = {to} in its format"),
        (true, None) => "write over = \"black\" in the movie".to_owned(),
        (false, Some((_, to))) => format!("write bits = {to} in its format"),
        (false, None) => String::new(),
    };
    Words::new(format!("in this movie {dropped} ({})", codec.title), "this movie")
        .help(format!("if this is intended, {known}; or choose a codec that keeps it, such as prores-4444"))
}

pub fn sizes_differ((job, size): (&Job, Option<Size>), (other, theirs): (&Job, Option<Size>)) -> Words {
    let said = |size: Option<Size>| size.map_or_else(|| "unknown".to_owned(), |size| size.to_string());
    let message =
        format!("a movie has one size, but `{}` is {} and `{}` is {}", job.name, said(size), other.name, said(theirs));
    Words::new(message, "these frames have different sizes").help("write size = \"WIDTHxHEIGHT\" in the movie")
}

pub fn timecode(text: &str, fps: Option<Fps>) -> Words {
    let at = fps.map(|fps| format!(" at {fps} frames per second")).unwrap_or_default();
    Words::new(format!("{text} is not a timecode{at}"), "a timecode has hours, minutes, seconds and frames")
        .help("write \"01:00:00:00\"; a `;` before the frames means drop-frame, for 30000/1001 and 60000/1001 only")
}

pub fn burn_token(token: &Token, near: Option<&str>, at: Place) -> Words {
    let words = Words::new(format!("`burn` has no token `{}`", token.name), "not defined");
    match near {
        Some(near) => words.help(format!("write {{{near}}}")).fix(at, format!("{{{near}}}")),
        None => words.help("it takes every token that a path takes, and {name}, {frame} and {timecode}"),
    }
}

pub fn no_encoder(wish: &EncoderNeeds<'_>, known: &[&str]) -> Words {
    Words::new(format!("no encoder can make {}", asked(wish)), "this movie cannot be made").help(format!(
        "choose other options, or put an adapter with kind = \"encoder\" beside the sheet; True Path brings {}",
        listed(known)
    ))
}

pub fn encoder_cannot(adapter: &Adapter, wish: &EncoderNeeds<'_>) -> Words {
    let name = &adapter.name;
    Words::new(format!("{name} cannot make {}", asked(wish)), "this encoder cannot make it").help(format!(
        "`truepath adapter show {name}` lists what it can make; remove `adapter` to use the first encoder that can"
    ))
}

/// All that is asked of an encoder, so that what it cannot do is among it.
fn asked(wish: &EncoderNeeds<'_>) -> String {
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
        format!("the movie `{movie}` needs {program} for {}, and {program} is not on this machine", codec.title),
        "this machine cannot make it",
    )
    .help(format!(
        "install {program}, or choose what the built-in encoder makes: h264 in mp4, mjpeg in mov or avi, with pcm sound in mov or avi"
    ))
}

pub fn encoder_unknown_here(adapter: &Adapter, codec: &Codec, own: &str) -> Words {
    let name = &adapter.name;
    Words::new(
        format!("{name} on this machine cannot make {}: its list of encoders has no `{own}`", codec.title),
        "this machine cannot make it",
    )
    .help(format!("install a version of {name} that can, or choose another codec"))
}

pub fn option_not_carried(option: &str, adapter: &Adapter, codec: &Codec) -> Words {
    Words::new(format!("{} has no `{option}` for {}", adapter.name, codec.title), "the program would ignore this")
        .help("remove it, or choose another codec or encoder")
}

pub fn audio_missing(path: &str, why: &str) -> Words {
    Words::new(format!("the sound file {path} cannot be used"), why.to_owned())
        .help("a relative path starts at the folder of the sheet it is written in")
}

pub fn audio_length(seconds: f64, picture: f64) -> Words {
    let word = if seconds < picture { "shorter" } else { "longer" };
    Words::new(
        format!("the sound lasts {seconds:.3} s, the picture {picture:.3} s"),
        format!("{word} than the picture by {:.3} s", (seconds - picture).abs()),
    )
    .help("the rest of a longer sound is cut off, and a shorter one ends in silence; use the sound that was cut for these frames")
}

pub fn audio_rate(rate: u32, codec: Option<&AudioCodec>) -> Words {
    let label = match codec {
        Some(codec) => format!("unusual for {}", codec.title),
        None => "unusual with pictures".to_owned(),
    };
    Words::new(format!("the sound has {rate} samples per second"), label).help("48000 is usual with pictures")
}

pub fn without_movie(job: &str) -> Words {
    Words::new(format!("the job `{job}` has no movie"), "this job")
        .help(format!("write a [[movie]] with of = \"{job}\", or an [[allow]] entry if this job needs none"))
}
