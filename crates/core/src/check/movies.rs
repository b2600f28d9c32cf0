//! Movies: of what, at which rate, with which sound.

use crate::template::token::PathToken;
use std::collections::BTreeSet;

use crate::diagnostic::{Slug, nearest};
use crate::frames::{Frames, Timecode};
use crate::invoke::encode;
use crate::plan::film::Clip;
use crate::plan::{Film, Series};
use crate::resolve::{Job, Movie};
use crate::sheet::read::part_of;
use crate::sheet::{Format, Gaps, Key, PassKind};
use crate::source::Spanned;

use super::{Sink, SoundFile, wording};

/// Sample rates that go with pictures everywhere, in hertz.
const USUAL: [u32; 3] = [44_100, 48_000, 96_000];

pub fn check(sink: &mut Sink<'_, '_>) {
    sources(sink);
    for job in &sink.input.plan.jobs {
        for movie in &job.movies {
            if movie.shows.is_none() {
                let words = wording::movies::movie_without_pass(&movie.pass.name, job);
                sink.add(Slug::MoviePassMissing, Some(movie.pass.name.at), job, words);
            }
            sound_file(sink, job, movie);
            line(sink, job, movie);
        }
    }
    for series in &sink.input.plan.movies {
        let job = sink.job(series);
        let own = job.movies.iter().find(|movie| movie.pass.path == series.path);
        let (Some(movie), Some(film)) = (own, series.film.as_deref()) else { continue };
        gaps(sink, job, movie, film);
        parts(sink, job, movie, film);
        audio(sink, job, movie, film);
        drops(sink, (series, movie), film);
        super::encoder::check(sink, series, movie);
    }
    without(sink);
}

/// Movies of jobs that do not exist, or are not enabled.
fn sources(sink: &mut Sink<'_, '_>) {
    let sheet = sink.input.sheet;
    for of in sheet.movies.iter().flat_map(|movie| &movie.of) {
        let names = || sheet.jobs.iter().filter_map(|job| job.name.as_ref()).map(|name| name.value.as_str());
        let plans = || sink.input.rivals.iter().chain([sink.input.plan]).flat_map(|plan| &plan.jobs);
        if plans().any(|job| job.job == of.value || job.name == of.value) {
            continue;
        }
        let job = of.value.split('/').next().unwrap_or(&of.value);
        if !names().any(|name| name == job) {
            let words = wording::movies::movie_of_nothing(&of.value, nearest(&of.value, names()), of.at);
            sink.findings.add(Slug::MovieOfUnknown, Some(of.at), None, words);
        } else if job != of.value && plans().any(|planned| planned.job == job) {
            let names = plans().filter(|planned| planned.job == job).map(|planned| planned.name.as_str());
            let words = wording::movies::movie_of_nothing(&of.value, nearest(&of.value, names), of.at);
            sink.findings.add(Slug::MovieOfUnknown, Some(of.at), None, words);
        } else if sink.input.whole {
            sink.findings.add(Slug::MovieOfDisabled, Some(of.at), None, wording::movies::movie_of_disabled(&of.value));
        }
    }
}

/// Frames that are left out, where a movie is not to be made then.
fn gaps(sink: &mut Sink<'_, '_>, job: &Job, movie: &Movie, film: &Film) {
    let refused = film.clips.iter().filter(|clip| clip.gaps == Gaps::Refuse).map(Clip::missing);
    let missing = refused.fold(Frames::none(), |sum, missing| sum.union(&missing));
    if !missing.is_empty() {
        let at = movie.entry.gaps.as_ref().map_or(movie.entry.name.at, |gaps| gaps.at);
        sink.add(Slug::MovieGaps, Some(at), job, wording::movies::gaps(&missing));
    }
    if film.shown() == 0 && !film.clips.is_empty() {
        let at = movie.entry.frames.as_ref().map(|frames| frames.at);
        sink.add(
            Slug::FramesEmpty,
            at.or(Some(movie.entry.name.at)),
            job,
            wording::movies::nothing_shown(&movie.entry.name.value),
        );
    }
    let unread = movie.entry.fps.is_none() && job.given.unread.contains(&Key::Fps);
    if film.fps.is_none() && !unread {
        sink.add(
            Slug::MovieFpsUnknown,
            Some(movie.entry.name.at),
            job,
            wording::movies::fps_unknown(&movie.entry.name.value),
        );
    }
}

/// What the frames have and the codec does not keep, unless the movie's own format or `over` says that it is known.
fn drops(sink: &mut Sink<'_, '_>, (series, movie): (&Series, &Movie), film: &Film) {
    let Some(codec) = film.codec else { return };
    let shown = film.clips.iter().map(|clip| {
        let part = &sink.input.plan.series[clip.series];
        encode::ShownFrames { channels: part.channels, bits: part.bits, colour: clip.colour }
    });
    let known = series.format.as_deref().cloned().unwrap_or_else(|| Format::named(movie.entry.name.clone()));
    let dropped = encode::dropped((codec, &known), (film.over.is_some(), film.colour), shown);
    if let Some(dropped) = dropped {
        let words = wording::movies::drops(codec, dropped);
        sink.add(Slug::MovieDrops, Some(movie.entry.name.at), sink.job(series), words);
    }
}

/// Rates and sizes of what is put together.
fn parts(sink: &mut Sink<'_, '_>, job: &Job, movie: &Movie, film: &Film) {
    let plan = sink.input.plan;
    let jobs = || film.clips.iter().map(|clip| &plan.jobs[plan.series[clip.series].job]);
    let own =
        jobs().find_map(|part| part.fps.filter(|own| film.fps.is_some_and(|fps| fps != *own)).map(|own| (part, own)));
    if let (Some((part, own)), Some(fps)) = (own, film.fps) {
        let at = movie.entry.fps.as_ref().map_or(movie.entry.name.at, |fps| fps.at);
        sink.add(Slug::MovieFpsDiffers, Some(at), job, wording::movies::fps_differs(fps, own, &part.name));
    }
    let odd = jobs().find(|part| movie.entry.size.is_none() && part.size != job.size);
    if let Some(odd) = odd {
        let words = wording::movies::sizes_differ((job, job.size), (odd, odd.size));
        sink.add(Slug::MovieSizesDiffer, Some(movie.entry.name.at), job, words);
    }
}

/// The line below the picture, and the timecode it may show.
fn line(sink: &mut Sink<'_, '_>, job: &Job, movie: &Movie) {
    if let Some(start) = &movie.entry.start_timecode {
        let fps = movie.entry.fps.as_ref().map(|fps| fps.value).or(job.fps);
        let counted = fps.map(|fps| fps.frames.div_ceil(fps.seconds));
        if counted.is_some_and(|counted| Timecode::parse(&start.value, counted).is_none()) {
            let words = wording::movies::timecode(&start.value, fps);
            sink.add(Slug::ValueNotUnderstood, Some(start.at), job, words);
        }
    }
    let Some(burn) = &movie.entry.burn else { return };
    let known = |name: &str| {
        let plan = sink.input.plan;
        ["name", "frame", "timecode"].contains(&name)
            || PathToken::named(name).is_some()
            || plan.roots.iter().any(|root| root.name == name)
            || plan.jobs.iter().any(|job| job.vars.contains_key(name))
    };
    let unknown: Vec<_> = burn.value.tokens().filter(|token| !known(&token.name)).collect();
    for token in unknown {
        let text = Spanned::new(burn.value.to_string(), burn.at);
        let at = part_of(&text, token.range.clone());
        let names = PathToken::names().chain(["name", "frame", "timecode"]);
        let near = nearest(&token.name, names).filter(|_| (at.end - at.start) as usize == token.range.len());
        sink.add(Slug::TokenUnknown, Some(at), job, wording::movies::burn_token(token, near, at));
    }
}

fn sound_file(sink: &mut Sink<'_, '_>, job: &Job, movie: &Movie) {
    let (Some(audio), Some(machine)) = (&movie.audio, sink.input.machine) else { return };
    if let Some(SoundFile::Unread(why)) = machine.sounds.get(&audio.value) {
        sink.add(Slug::AudioMissing, Some(audio.at), job, wording::movies::audio_missing(&audio.value, why));
    }
}

fn audio(sink: &mut Sink<'_, '_>, job: &Job, movie: &Movie, film: &Film) {
    let (Some(audio), Some(machine)) = (&movie.audio, sink.input.machine) else { return };
    let Some(SoundFile::Known(seconds, rate)) = machine.sounds.get(&audio.value).cloned() else { return };
    if let (Some(picture), Some(fps)) = (film.seconds(), film.fps) {
        let lasts = seconds + film.audio_offset;
        if (lasts - picture).abs() > 1.0 / fps.value() {
            sink.add(Slug::AudioLengthDiffers, Some(audio.at), job, wording::movies::audio_length(lasts, picture));
        }
    }
    let format = movie.pass.format.as_deref();
    let codec = format.and_then(|format| format.audio_codec.as_ref()?.value.known());
    if !codec.map_or(USUAL.contains(&rate), |codec| codec.rates.has(rate) && (codec.lossless || rate >= 32_000)) {
        sink.add(Slug::AudioRateUnusual, Some(audio.at), job, wording::movies::audio_rate(rate, codec));
    }
}

/// Jobs that no movie shows, in a sheet that makes movies.
fn without(sink: &mut Sink<'_, '_>) {
    if sink.input.sheet.movies.is_empty() || !sink.input.whole || sink.input.plan.mode.is_some() {
        return;
    }
    let jobs: BTreeSet<&str> = sink.input.plan.jobs.iter().map(|job| job.job.as_str()).collect();
    // A movie of a job that does not exist may have been meant for this one.
    let known = |of: &Spanned<String>| jobs.contains(of.value.split('/').next().unwrap_or_default());
    if sink.input.sheet.movies.iter().any(|movie| movie.of.is_empty() || !movie.of.iter().all(known)) {
        return;
    }
    let mut said = BTreeSet::new();
    for job in &sink.input.plan.jobs {
        let shown = job.passes.iter().any(|pass| pass.kind == PassKind::Colour);
        let several = job.frames.as_ref().is_some_and(|frames| frames.count() > 1);
        let in_reel = sink
            .input
            .sheet
            .movies
            .iter()
            .flat_map(|movie| &movie.of)
            .any(|of| of.value == job.job || of.value == job.name);
        if job.movies.is_empty() && !in_reel && shown && several && said.insert(&job.job) {
            sink.add(Slug::SequenceWithoutMovie, Some(job.at), job, wording::movies::without_movie(&job.job));
        }
    }
}
