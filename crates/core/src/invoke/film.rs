//! A movie to the command line that makes it: True Path itself, which hands frames to an encoder.

use crate::adapter::Adapter;
use crate::catalogue::FileType;
use crate::plan::{Adapters, Film, Plan, Series};
use crate::sheet::{Format, Gaps};
use crate::source::{FileId, Place, Spanned};

use super::encode::EncoderNeeds;

/// What a movie asks of its encoder; `format` is its own. `None` where its codec is not known.
#[must_use]
pub fn wish<'w>(series: &'w Series, film: &'w Film, format: &'w Format) -> Option<EncoderNeeds<'w>> {
    Some(EncoderNeeds {
        container: series.file_type?,
        codec: film.codec?,
        format,
        size: series.size,
        alpha: series.channels.is_some_and(|channels| channels.alpha()) && film.over.is_none(),
        audio: film.audio.as_deref(),
    })
}

/// The encoder of a movie: the one that it names, else the first in the box that can do what its format asks.
#[must_use]
pub fn encoder<'a>(series: &Series, film: &Film, adapters: &'a Adapters) -> Option<&'a Adapter> {
    wish(series, film, &format_of(series))?.choose(film.encoder.as_deref(), adapters)
}

/// The file options of a movie; those of a format that gives nothing where it has none.
#[must_use]
pub fn format_of(series: &Series) -> Format {
    let nothing = || Format::named(Spanned::new(String::new(), Place::new(FileId(0), 0..0)));
    series.format.as_deref().cloned().unwrap_or_else(nothing)
}

/// The arguments of `truepath` that make a movie.
#[must_use]
pub fn arguments(plan: &Plan, series: &Series, encoder: &str, out: &str) -> Vec<String> {
    let Some(film) = series.film.as_deref() else { return Vec::new() };
    let mut words: Vec<String> = vec!["encode".to_owned()];
    for clip in &film.clips {
        words.push(plan.series[clip.series].pattern.typed());
    }
    let mut add = |option: &str, value: Option<String>| {
        // One word, so that a value may begin with a minus sign.
        words.extend(value.map(|value| format!("--{option}={value}")));
    };
    for clip in &film.clips {
        let shift = plan.series[clip.series].shift.0;
        add("frames", Some(clip.frames.shifted(shift).to_string()));
        let held = clip.gaps == Gaps::Hold && !clip.missing().is_empty();
        let span = crate::frames::Frames::range(clip.span.0, clip.span.1);
        let span = if held { span } else { clip.frames.clone() };
        add("span", Some(span.shifted(shift).to_string()));
        add("layer", clip.layer.clone().or((film.clips.iter().any(|clip| clip.layer.is_some())).then(String::new)));
        add("pixels", Some(clip.colour.map_or_else(|| "type".to_owned(), |colour| colour.to_string())));
    }
    let format = format_of(series);
    add("fps", film.fps.map(|fps| fps.to_string()));
    add("type", series.file_type.map(|known: &FileType| known.name.to_owned()));
    add("codec", film.codec.map(|codec| codec.name.to_owned()));
    add("quality", format.quality.map(|quality| quality.value.to_string()));
    add("effort", format.effort.map(|effort| effort.value.to_string()));
    add("chroma", format.chroma.map(|chroma| chroma.value.to_string()));
    add("bits", format.bits.map(|bits| bits.value.to_string()));
    add("channels", format.channels.map(|channels| channels.value.to_string()));
    add("audio", film.audio.clone());
    add("audio-offset", Some(film.audio_offset).filter(|offset| *offset != 0.0).map(|offset| offset.to_string()));
    add("audio-codec", film.audio.as_ref().and(format.audio_codec).map(|codec| codec.value.to_string()));
    add("audio-quality", film.audio.as_ref().and(format.audio_quality).map(|quality| quality.value.to_string()));
    add("size", film.size.map(|size| size.to_string()));
    add("colour", Some(film.colour.to_string()));
    add("over", film.over.map(|over| over.to_string()));
    add("burn", film.burn.clone());
    add("start-timecode", film.start.map(|start| start.to_string()));
    add("encoder", Some(encoder.to_owned()));
    add("out", Some(out.to_owned()));
    words
}
