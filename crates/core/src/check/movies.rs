//! Movies: of what, at which rate, with which sound.

use std::collections::BTreeSet;

use crate::catalogue;
use crate::diagnostic::nearest;
use crate::resolve::{Job, Movie};
use crate::sheet::PassKind;

use super::{Sink, Sound, wording};

/// Sample rates that go with pictures everywhere, in hertz.
const USUAL: [u32; 3] = [44_100, 48_000, 96_000];

pub fn check(sink: &mut Sink<'_, '_>) {
    sources(sink);
    for job in &sink.input.plan.jobs {
        for movie in &job.movies {
            if movie.shows.is_none() {
                let words = wording::movies::movie_without_pass(&movie.pass.name, job);
                sink.add("movie-pass-missing", Some(movie.pass.name.at), job, words);
            }
            gaps(sink, job, movie);
            audio(sink, job, movie);
        }
    }
    without(sink);
}

/// Movies of jobs that do not exist, or are not enabled.
fn sources(sink: &mut Sink<'_, '_>) {
    let sheet = sink.input.sheet;
    for movie in &sheet.movies {
        let Some(of) = &movie.of else { continue };
        let names = || sheet.jobs.iter().filter_map(|job| job.name.as_ref()).map(|name| name.value.as_str());
        let plans = sink.input.rivals.iter().chain([sink.input.plan]);
        let planned = plans.flat_map(|plan| &plan.jobs).any(|job| job.job == of.value);
        if planned {
            continue;
        }
        if !names().any(|name| name == of.value) {
            let words = wording::movies::movie_of_nothing(&of.value, nearest(&of.value, names()), of.at);
            sink.findings.add("movie-of-unknown", Some(of.at), None, words);
        } else if sink.input.whole {
            sink.findings.add("movie-of-disabled", Some(of.at), None, wording::movies::movie_of_disabled(&of.value));
        }
    }
}

fn gaps(sink: &mut Sink<'_, '_>, job: &Job, movie: &Movie) {
    if let (Some(fps), Some(own)) = (&movie.fps, job.fps)
        && fps.value != own
    {
        sink.add("movie-fps-differs", Some(fps.at), job, wording::movies::fps_differs(fps.value, own));
    }
    // What modes and the command line leave out is left out on purpose.
    let Some(frames) = job.frames.as_ref().filter(|_| !job.narrowed) else { return };
    let (Some(first), Some(last)) = (frames.first(), frames.last()) else { return };
    if frames.count() != last - first + 1 {
        let missing = crate::frames::Frames::range(first, last).minus(frames);
        sink.add("movie-gaps", Some(movie.name.at), job, wording::movies::gaps(&missing));
    }
}

fn audio(sink: &mut Sink<'_, '_>, job: &Job, movie: &Movie) {
    let (Some(audio), Some(machine)) = (&movie.audio, sink.input.machine) else { return };
    let Some(sound) = machine.sounds.get(&audio.value) else { return };
    let (seconds, rate) = match sound {
        Sound::Unread(why) => {
            sink.add("audio-missing", Some(audio.at), job, wording::movies::audio_missing(&audio.value, why));
            return;
        }
        Sound::Unknown => return,
        Sound::Known(seconds, rate) => (*seconds, *rate),
    };
    let fps = movie.fps.as_ref().map(|fps| fps.value).or(job.fps);
    if let (Some(fps), Some(frames)) = (fps, job.frames.as_ref().filter(|_| !job.narrowed)) {
        let picture = frames.count() as f64 / fps.value();
        if (seconds - picture).abs() > 1.0 / fps.value() {
            sink.add("audio-length-differs", Some(audio.at), job, wording::movies::audio_length(seconds, picture));
        }
    }
    let format = movie.pass.format.as_deref();
    let codec = format.and_then(|format| catalogue::audio_codec(&format.audio_codec.as_ref()?.value));
    if !codec.map_or(USUAL.contains(&rate), |codec| codec.rates.has(rate) && (codec.lossless || rate >= 32_000)) {
        sink.add("audio-rate-unusual", Some(audio.at), job, wording::movies::audio_rate(rate, codec));
    }
}

/// Jobs that no movie shows, in a sheet that makes movies.
fn without(sink: &mut Sink<'_, '_>) {
    if sink.input.sheet.movies.is_empty() || !sink.input.whole || sink.input.plan.mode.is_some() {
        return;
    }
    let jobs: BTreeSet<&str> = sink.input.plan.jobs.iter().map(|job| job.job.as_str()).collect();
    // A movie of a job that does not exist may have been meant for this one.
    if sink.input.sheet.movies.iter().any(|movie| movie.of.as_ref().is_none_or(|of| !jobs.contains(of.value.as_str())))
    {
        return;
    }
    let mut said = BTreeSet::new();
    for job in &sink.input.plan.jobs {
        let shown = job.passes.iter().any(|pass| pass.kind == PassKind::Colour);
        let several = job.frames.as_ref().is_some_and(|frames| frames.count() > 1);
        if job.movies.is_empty() && shown && several && said.insert(&job.job) {
            sink.add("sequence-without-movie", Some(job.at), job, wording::movies::without_movie(&job.job));
        }
    }
}
