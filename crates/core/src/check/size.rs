//! Sizes: what types and codecs hold, what the scene was made for, regions.

use std::collections::HashMap;

use crate::catalogue::{Chroma, Codec};
use crate::diagnostic::Slug;
use crate::plan::{Series, film};
use crate::resolve::Job;
use crate::sheet::{Key, Layer, Setting, Size};
use crate::source::Place;

use super::{Sink, wording};

/// Aspects that differ by less than this are the same, rounded to pixels: half a percent.
const ALIKE: f64 = 0.005;

pub fn check(sink: &mut Sink<'_, '_>) {
    for series in sink.series() {
        held(sink, series);
    }
    let plan = sink.input.plan;
    for job in &plan.jobs {
        scale(sink, job);
        region(sink, job);
        aspect(sink, job);
    }
    aspects(sink);
}

fn codec_of(series: &Series) -> Option<(&'static Codec, Option<Chroma>)> {
    let format = series.format.as_deref();
    let codec = match series.film {
        Some(_) => film::codec(series)?,
        None => format?.codec.as_ref()?.value.known()?,
    };
    Some((codec, format.and_then(|format| format.chroma.as_ref()).map(|chroma| chroma.value)))
}

/// What the type and the codec of a series hold.
fn held(sink: &mut Sink<'_, '_>, series: &Series) {
    let (Some(known), job) = (series.file_type, sink.job(series)) else { return };
    let (size, at) = job
        .region_pixels()
        .filter(|_| job.size.is_some())
        .map(|[_, _, width, height]| Size { width, height })
        .map_or((series.size, Key::Size), |region| (Some(region), Key::Region));
    let Some(size) = size else { return };
    let own = job.movies.iter().find(|movie| series.film.is_some() && movie.pass.path == series.path);
    let given = own.and_then(|movie| {
        movie.entry.size.as_ref().map(|size| size.at).or(movie.entry.scale.as_ref().map(|scale| scale.at))
    });
    let place = given.or(job.given.place(&at)).or(job.given.place(&Key::Size)).or(Some(job.at));
    if size.width > known.largest || size.height > known.largest {
        sink.add(Slug::SizeNotHeld, place, job, wording::size::size_not_held(size, known));
        return;
    }
    let Some((codec, chroma)) = codec_of(series) else { return };
    let pixels = u64::from(size.width) * u64::from(size.height);
    let small = size.width < codec.smallest.0 || size.height < codec.smallest.1;
    let large = size.width > codec.largest || size.height > codec.largest;
    if small || large || codec.most_pixels.is_some_and(|most| pixels > most) {
        sink.add(Slug::SizeNotHeld, place, job, wording::size::codec_size(size, codec, small));
        return;
    }
    let (across, down) = codec.multiples(chroma);
    if size.width % across == 0 && size.height % down == 0 {
        return;
    }
    let Some(chroma) = chroma.or(codec.chroma.first().copied()) else { return };
    if at == Key::Region {
        sink.add(Slug::RegionOdd, place, job, wording::size::region_odd(size, codec, chroma));
        return;
    }
    // Only where the sheet's own size is the file's size is it certain what to write instead.
    let even = Size { width: size.width.next_multiple_of(across), height: size.height.next_multiple_of(down) };
    let words = match own {
        // The frames stay as they are: it is the movie that takes another size.
        Some(movie) if given.is_none() => {
            let name = movie.entry.name.at;
            let behind = Place { start: name.end + 1, end: name.end + 1, ..name };
            let words = wording::size::size_odd(size, (codec, chroma), None);
            words.help(format!("write size = \"{even}\" in the movie")).fix(behind, format!("\nsize = \"{even}\""))
        }
        Some(movie) => {
            let fix = movie.entry.size.as_ref().map(|size| (size.at, even));
            wording::size::size_odd(size, (codec, chroma), fix)
        }
        None => {
            let plain = job.full_size == Some(size);
            let fix = job.given.place(&Key::Size).filter(|_| plain).map(|at| (at, even));
            wording::size::size_odd(size, (codec, chroma), fix)
        }
    };
    let place = if given.is_none() { own.map(|movie| movie.entry.name.at).or(place) } else { place };
    sink.add(Slug::SizeOdd, place, job, words);
}

fn region(sink: &mut Sink<'_, '_>, job: &Job) {
    let (Some(text), Some(full)) = (job.region.as_deref(), job.size) else { return };
    let numbers: Vec<u64> = text.split(',').filter_map(|part| part.trim().parse().ok()).collect();
    // Percents were looked at when they were read.
    let [x, y, width, height] = numbers[..] else { return };
    if x + width > u64::from(full.width) || y + height > u64::from(full.height) {
        sink.add(Slug::RegionOutside, job.given.place(&Key::Region), job, wording::size::region_outside(full));
    }
}

fn scale(sink: &mut Sink<'_, '_>, job: &Job) {
    let Some(given) = job.given.get(&Key::Scale) else { return };
    let Setting::Number(percent) = *given.value else { return };
    if percent < 100.0 && given.layer < Layer::Mode && given.layer > Layer::BuiltIn {
        sink.add(Slug::ScaleOutsideMode, given.at, job, wording::size::scale_outside_mode(percent));
    }
    let Some(full) = job.full_size else { return };
    let whole = |side: u32| (f64::from(side) * percent / 100.0).fract().abs() < 1e-9;
    if !(whole(full.width) && whole(full.height)) {
        sink.add(Slug::SizeRounded, given.at, job, wording::size::size_rounded(full, percent));
    }
}

fn ratio(size: Size) -> f64 {
    f64::from(size.width) / f64::from(size.height)
}

fn differ(a: Size, b: Size) -> bool {
    (ratio(a) / ratio(b) - 1.0).abs() > ALIKE
}

fn aspect(sink: &mut Sink<'_, '_>, job: &Job) {
    let scene = job.facts.as_ref().and_then(|facts| facts.size);
    if let (Some(at), Some(size), Some(scene)) = (job.given.place(&Key::Size), job.full_size, scene)
        && differ(size, scene)
    {
        sink.add(Slug::AspectDiffers, Some(at), job, wording::size::aspect_differs(size, scene));
    }
}

/// Jobs of one scene whose aspects differ: each is compared with the first.
fn aspects(sink: &mut Sink<'_, '_>) {
    let plan = sink.input.plan;
    let mut first: HashMap<&str, (&Job, Size, Place)> = HashMap::new();
    for job in &plan.jobs {
        let (Some(scene), Some(size)) = (&job.scene, job.full_size) else { continue };
        let at = job.given.place(&Key::Size).unwrap_or(job.at);
        let (other, known, place) = first.entry(&scene.value).or_insert((job, size, at));
        if differ(size, *known) && *place != at {
            let words = wording::size::aspects_mixed((size, *known), other).also(*place, "the other");
            sink.add(Slug::AspectsMixed, Some(at), job, words);
        }
    }
}
