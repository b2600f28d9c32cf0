//! Encoders: that each planned movie has one, and that all its options reach it.

use crate::adapter::{Adapter, AdapterKind, Argument, BUILT_IN_ENCODERS, Word};
use crate::catalogue::Codec;
use crate::diagnostic::{Slug, nearest};
use crate::invoke::encode::{self, EncoderPixels, Encoding, has_alpha, lookup};
use crate::invoke::film;
use crate::invoke::spread::{Delivered, Filling};
use crate::plan::{Film, Series};
use crate::resolve::Movie;
use crate::sheet::{FileOption, OF_MOVIES, Size};
use crate::source::Place;
use crate::template::Part;

use super::{Sink, wording};

/// What is looked at for one movie.
pub fn check(sink: &mut Sink<'_, '_>, series: &Series, movie: &Movie) {
    let job = sink.job(series);
    let (Some(film), Some(container)) = (series.film.as_deref(), series.file_type) else { return };
    let Some(codec) = film.codec.filter(|codec| container.codecs.contains(codec)) else {
        return;
    };
    if let Some(named) = &movie.entry.adapter {
        match sink.input.adapters.get(&named.value) {
            None => {
                let near = nearest(&named.value, sink.input.adapters.keys().map(String::as_str));
                let words = wording::renderer::adapter_missing(&named.value, near, Some(named.at));
                sink.add(Slug::AdapterMissing, Some(named.at), job, words);
                return;
            }
            Some(adapter) if adapter.kind != AdapterKind::Encoder => {
                let words = wording::renderer::wrong_kind(adapter, "a movie must name an encoder");
                sink.add(Slug::AdapterMissing, Some(named.at), job, words);
                return;
            }
            Some(_) => {}
        }
    }
    let at = movie
        .entry
        .adapter
        .as_ref()
        .map(|adapter| adapter.at)
        .or(place_of_format(movie))
        .unwrap_or(movie.entry.name.at);
    let format = film::format_of(series);
    let Some(wish) = film::wish(series, film, &format) else { return };
    let Some(adapter) = wish.choose(film.encoder.as_deref(), sink.input.adapters) else {
        let words = wording::movies::no_encoder(&wish, &BUILT_IN_ENCODERS);
        sink.add(Slug::EncoderMissing, Some(at), job, words);
        return;
    };
    if !wish.can(adapter) {
        sink.add(Slug::EncoderMissing, Some(at), job, wording::movies::encoder_cannot(adapter, &wish));
        return;
    }
    here(sink, (series, movie), adapter, codec);
    if adapter.name != BUILT_IN_ENCODERS[0] {
        options(sink, (series, film), adapter, codec);
    }
}

fn place_of_format(movie: &Movie) -> Option<Place> {
    let format = movie.pass.format.as_deref()?;
    format.codec.as_ref().map(|codec| codec.at).or(format.kind.as_ref().map(|kind| kind.at))
}

/// Whether the encoder is on this machine, and knows the codec there.
fn here(sink: &mut Sink<'_, '_>, (series, movie): (&Series, &Movie), adapter: &Adapter, codec: &Codec) {
    let job = sink.job(series);
    let at = movie.entry.adapter.as_ref().map_or(movie.entry.name.at, |adapter| adapter.at);
    let Some(machine) = sink.input.machine else { return };
    if let Some(program) = machine.programs.get(&adapter.name) {
        let words = wording::movies::encoder_not_here(program, &movie.entry.name.value, codec);
        sink.add(Slug::ProgramMissing, Some(at), job, words);
        return;
    }
    super::renderer::here(sink, job, &adapter.name);
    let (Some(known), Some(own)) = (machine.encoders.get(&adapter.name), own_word(adapter, codec)) else { return };
    if !known.contains(own) {
        let words = wording::movies::encoder_unknown_here(adapter, codec, own);
        sink.add(Slug::ProgramMissing, Some(at), job, words);
    }
}

/// What an encoder's program calls a codec: the first word of its own.
fn own_word<'a>(adapter: &'a Adapter, codec: &'a Codec) -> Option<&'a str> {
    match adapter.words.get("codec")?.get(codec.name)? {
        Word::Text(word) => Some(word),
        Word::Arguments(list) => match list.first()? {
            Argument::Always(template) => match template.value.parts() {
                [Part::Text(text)] => Some(text),
                _ => None,
            },
            Argument::Group(_) => None,
        },
    }
}

/// File options that do not arrive on the command line.
fn options(sink: &mut Sink<'_, '_>, (series, film): (&Series, &Film), adapter: &Adapter, codec: &'static Codec) {
    let (Some(container), Some(fps)) = (series.file_type, film.fps) else { return };
    let format = film::format_of(series);
    let alpha = has_alpha(&format, codec, false);
    let encoding = Encoding {
        input: "-",
        input_first: "first",
        count: 1,
        size: film.size.unwrap_or(Size { width: 2, height: 2 }),
        fps,
        pixels: EncoderPixels { deep: false, alpha },
        colour: film.colour,
        audio: film.audio.as_deref().map(|path| (path, film.audio_offset)),
        start: film.start,
        container,
        codec,
        audio_codec: encode::audio_codec(adapter, (container, codec), &format),
        format: &format,
        out: "out",
    };
    let mut delivered = Delivered::default();
    let values = |name: &str| lookup(adapter, &encoding, name);
    delivered.follow(&adapter.arguments, &Filling { adapter, values: &values, lists: &|_| None });
    let arrives = |option: FileOption| {
        option.row().tokens.iter().any(|token| delivered.tokens.contains(*token)) || adapter.does_only(option)
    };
    let matters = |option: &FileOption| match option {
        // The encoder was chosen by these.
        FileOption::Type | FileOption::Codec => false,
        FileOption::Channels => alpha,
        own => film.audio.is_some() || !own.is_of_sound(),
    };
    let job = sink.job(series);
    for option in OF_MOVIES.into_iter().filter(matters) {
        let Some(given) = option.given(&format).filter(|_| !arrives(option)) else { continue };
        let words = wording::movies::option_not_carried(option.name(), adapter, codec);
        sink.add(Slug::SettingNotCarried, Some(given.at), job, words);
    }
}
