//! Treatment: whether pixels suit the file that holds them, and whether names tell what is in them.

use crate::catalogue::{Bits, Light};
use crate::diagnostic::Slug;
use crate::plan::{Series, SeriesKind};
use crate::resolve::{Job, Pass};
use crate::sheet::{Colour, PassKind};

use super::{Sink, wording};

pub fn check(sink: &mut Sink<'_, '_>) {
    for series in &sink.input.plan.series {
        let job = sink.job(series);
        for pass in series.passes.iter().map(|pass| &job.passes[*pass]) {
            data(sink, series, pass);
            light(sink, series, pass);
        }
    }
    let plan = sink.input.plan;
    for (at, job) in plan.jobs.iter().enumerate() {
        for movie in &job.movies {
            let shown = movie.shows.map(|pass| &job.passes[pass]);
            let linear = shown.is_some_and(|pass| pass.kind == PassKind::Colour && pass.colour == Some(Colour::Linear));
            if linear && movie.pass.colour != Some(Colour::Display) {
                sink.add(Slug::MovieLeftLinear, Some(movie.entry.name.at), job, wording::colour::movie_left_linear());
            }
        }
        let own = &plan.series[plan.series_of(at)];
        for (second, series) in own.iter().enumerate() {
            for first in &own[..second] {
                look_alike(sink, job, first, series);
            }
            mixed(sink, job, &own[..second], series);
        }
    }
}

/// Numbers in a file that rounds them.
fn data(sink: &mut Sink<'_, '_>, series: &Series, pass: &Pass) {
    let Some(known) = series.file_type.filter(|known| pass.kind == PassKind::Data && !known.is_container()) else {
        return;
    };
    let eight = series.bits == Some(Bits::Eight) || (series.bits.is_none() && known.bits == [Bits::Eight]);
    // Of several passes in one file each has its own format, and so its own depth.
    let format = pass.format.as_deref();
    let compression = format.and_then(|format| format.compression.as_ref()).and_then(|own| own.value.known());
    let bits = format.and_then(|format| format.bits.as_ref()).map(|own| own.value);
    let lossy = known.loses(compression, bits);
    if !lossy && !eight {
        return;
    }
    let job = sink.job(series);
    let how = match compression.filter(|_| lossy && !known.lossy) {
        Some(compression) => format!("{} with {compression} is lossy", known.name),
        None if lossy => format!("{} is lossy", known.name),
        None => format!("{} has only 8 bits here", known.name),
    };
    // The format may be right for all other passes: this one needs another.
    sink.add(Slug::DataSqueezed, Some(pass.name.at), job, wording::colour::data_squeezed(&pass.label, &how));
}

/// Colours in a type that is read the other way.
fn light(sink: &mut Sink<'_, '_>, series: &Series, pass: &Pass) {
    let (Some(known), Some(colour)) = (series.file_type, pass.colour) else { return };
    let check = match (pass.kind, known.light, colour) {
        (PassKind::Colour, Light::Linear, Colour::Display) => Slug::DisplayInLinearType,
        (PassKind::Colour, Light::Display, Colour::Linear) => Slug::LinearInDisplayType,
        _ => return,
    };
    let job = sink.job(series);
    let at = pass.colour_at.or(Some(job.at));
    sink.add(check, at, job, wording::colour::light(colour, known));
}

/// One pass written twice with two treatments, under names that do not tell which is which.
fn look_alike(sink: &mut Sink<'_, '_>, job: &Job, first: &Series, second: &Series) {
    let [a, b] = [first, second].map(|series| &job.passes[series.passes[0]]);
    let treated = a.name.value == b.name.value && a.colour.is_some() && b.colour.is_some() && a.colour != b.colour;
    let told = |series: &Series| series.path.as_ref().is_some_and(|path| path.value.has("colour"));
    if !treated || told(first) || told(second) || first.pattern.pieces().is_empty() {
        return;
    }
    let same_path = first.path.as_ref().map(|path| path.at) == second.path.as_ref().map(|path| path.at);
    let near = |a: &str, b: &str| strsim::damerau_levenshtein(a, b) <= 2;
    let stem = |series: &Series| {
        let text = series.pattern.spelt();
        text.rsplit_once('.').map_or(text.clone(), |(stem, _)| stem.to_owned())
    };
    let alike = if same_path { near(&a.label, &b.label) } else { near(&stem(first), &stem(second)) };
    if alike {
        let words = wording::colour::look_alike(&a.label, &b.label).also(a.name.at, "the first");
        sink.add(Slug::ColoursLookAlike, Some(b.name.at), job, words);
    }
}

/// Different picture types in one folder.
fn mixed(sink: &mut Sink<'_, '_>, job: &Job, before: &[Series], series: &Series) {
    let picture =
        |series: &Series| series.file_type.filter(|known| series.kind == SeriesKind::Sequence && !known.is_container());
    let (Some(known), Some(folder)) = (picture(series), series.pattern.folder()) else { return };
    let other = before.iter().find_map(|other| {
        picture(other).filter(|type_of| type_of.name != known.name && other.pattern.folder().as_ref() == Some(&folder))
    });
    if let Some(other) = other {
        let at = series.path.as_ref().map(|path| path.at);
        sink.add(Slug::TypesMixed, at, job, wording::colour::types_mixed(&folder.spelt(), (other, known)));
    }
}
