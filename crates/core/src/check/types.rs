//! File types: what they cannot hold. Formats are looked at where they stand, used or not.

use crate::catalogue::{self, FileType};
use crate::diagnostic::Slug;
use crate::plan::{Series, SeriesKind};
use crate::resolve::written_extension;
use crate::sheet::{FileOption, Format, Key};

use super::spelling::is_foreign;
use super::{Sink, in_path, wording};

pub fn check(sink: &mut Sink<'_, '_>) {
    for format in &sink.input.sheet.formats {
        if let Some(known) = format.kind.as_ref().and_then(|kind| catalogue::by_name(&kind.value)) {
            format_holds(sink, format, known);
        }
    }
    for series in sink.series() {
        extension(sink, series);
        layers(sink, series);
    }
}

fn format_holds(sink: &mut Sink<'_, '_>, format: &Format, known: &FileType) {
    if let Some(bits) = format.bits.as_ref().filter(|bits| !known.bits.contains(&bits.value)) {
        sink.findings.add(
            Slug::BitsNotHeld,
            Some(bits.at),
            None,
            wording::types::bits_not_held(bits.value, known, format),
        );
    }
    if let Some(channels) = format.channels.as_ref().filter(|channels| !known.channels.contains(&channels.value)) {
        sink.findings.add(
            Slug::ChannelsNotHeld,
            Some(channels.at),
            None,
            wording::types::channels_not_held(channels.value, known, format),
        );
    }
    if let Some(compression) = format.compression.as_ref().filter(|own| !own.value.is_in(known.compressions)) {
        sink.findings.add(
            Slug::CompressionNotHeld,
            Some(compression.at),
            None,
            wording::types::compression_not_held(compression, known),
        );
    }
    codec_holds(sink, format, known);
    audio(sink, format, known);
}

/// What the codec of a movie cannot hold.
fn codec_holds(sink: &mut Sink<'_, '_>, format: &Format, known: &FileType) {
    let Some(written) = &format.codec else {
        if let Some(quality) = format.quality.as_ref().filter(|_| !known.quality) {
            sink.findings.add(
                Slug::QualityNotHeld,
                Some(quality.at),
                None,
                wording::types::quality_not_held(known.name),
            );
        }
        for option in [FileOption::Chroma, FileOption::Effort].into_iter().filter(|_| !known.is_container()) {
            if let Some(given) = option.given(format) {
                let words = wording::types::movie_option(option.name(), known);
                sink.findings.add(Slug::CodecOptionNotHeld, Some(given.at), None, words);
            }
        }
        return;
    };
    if !written.value.is_in(known.codecs) {
        sink.findings.add(Slug::CodecNotHeld, Some(written.at), None, wording::types::codec_not_held(written, known));
    }
    let Some(codec) = written.value.known() else { return };
    if let Some(quality) = format.quality.as_ref().filter(|_| !codec.quality) {
        sink.findings.add(Slug::QualityNotHeld, Some(quality.at), None, wording::types::quality_not_held(codec.title));
    }
    if let Some(bits) =
        format.bits.as_ref().filter(|bits| known.bits.contains(&bits.value) && !codec.bits.contains(&bits.value))
    {
        let words = wording::types::codec_bits(bits.value, codec).also(written.at, "the codec");
        sink.findings.add(Slug::CodecOptionNotHeld, Some(bits.at), None, words);
    }
    if let Some(chroma) = format.chroma.as_ref().filter(|chroma| !codec.chroma.contains(&chroma.value)) {
        let words = wording::types::codec_chroma(chroma.value, codec).also(written.at, "the codec");
        sink.findings.add(Slug::CodecOptionNotHeld, Some(chroma.at), None, words);
    }
    if let Some(channels) = format.channels.as_ref().filter(|channels| channels.value.alpha() && !codec.alpha) {
        let words = wording::types::alpha_lost(codec).also(written.at, "the codec");
        sink.findings.add(Slug::AlphaLost, Some(channels.at), None, words);
    }
}

/// Sound in a container that does not hold it, or in no container at all.
fn audio(sink: &mut Sink<'_, '_>, format: &Format, known: &FileType) {
    if !known.is_container() {
        let asked = format.audio_codec.as_ref().map(|codec| codec.at).or(format.audio_quality.as_ref().map(|q| q.at));
        if let Some(at) = asked {
            sink.findings.add(Slug::AudioInPicture, Some(at), None, wording::types::audio_in_picture(known));
        }
        return;
    }
    let Some(written) = &format.audio_codec else { return };
    if !written.value.is_in(known.audio_codecs) {
        let words = wording::types::audio_codec_not_held(written, known);
        sink.findings.add(Slug::AudioCodecNotHeld, Some(written.at), None, words);
    }
    let master = format.codec.as_ref().and_then(|codec| codec.value.known()).filter(|codec| codec.master);
    let sound = written.value.known().filter(|sound| !sound.lossless);
    if let (Some(codec), Some(sound)) = (master, sound) {
        sink.findings.add(Slug::AudioSqueezed, Some(written.at), None, wording::types::audio_squeezed(sound, codec));
    }
    let lossless = written.value.known().filter(|codec| codec.lossless);
    if let (Some(codec), Some(quality)) = (lossless, &format.audio_quality) {
        sink.findings.add(Slug::QualityNotHeld, Some(quality.at), None, wording::types::quality_not_held(codec.title));
    }
}

fn extension(sink: &mut Sink<'_, '_>, series: &Series) {
    let Some(path) = &series.path else { return };
    let job = sink.job(series);
    let written = written_extension(&path.value);
    if series.format_lost {
        return;
    }
    let Some(known) = series.file_type else {
        let place = written.map_or(Some(path.at), |_| last_extension(series));
        sink.add(Slug::TypeUnknown, place, job, wording::types::type_unknown(written));
        return;
    };
    // What is no extension of anything is part of the name: then its extension is missing.
    if let Some(written) = written.filter(|written| !known.has_extension(written) && !is_foreign(written)) {
        let at = last_extension(series);
        let format = series.format.as_deref();
        sink.add(Slug::ExtensionDiffers, at, job, wording::types::extension_differs(written, known, format, at));
    }
}

fn last_extension(series: &Series) -> Option<crate::source::Place> {
    let text = series.path.as_ref()?.value.to_string();
    in_path(series, text.rfind('.').map_or(0, |dot| dot + 1)..text.len())
}

fn layers(sink: &mut Sink<'_, '_>, series: &Series) {
    let Some(known) = series.file_type else { return };
    let job = sink.job(series);
    let place = job.given.place(&Key::Layers).or(Some(job.at));
    if series.passes.len() > 1 && !known.layers {
        sink.add(Slug::LayersNotHeld, place, job, wording::types::layers_not_held(known));
    }
    // One file has one type, whatever the formats of its passes say.
    for pass in series.passes.iter().skip(1).map(|pass| &job.passes[*pass]) {
        let kind = pass.format.as_deref().and_then(|format| format.kind.as_ref());
        if let (Some(kind), Some(own)) = (kind, pass.file_type.filter(|own| own.name != known.name)) {
            let words = wording::types::layer_of_another_type(&pass.label, own, known);
            sink.add(Slug::LayersNotHeld, Some(kind.at), job, words);
        }
    }
    // Movies are made from sequences; a renderer that writes one itself cannot be resumed.
    if series.kind == SeriesKind::Movie || !known.is_container() {
        return;
    }
    let at = series.path.as_ref().map(|path| path.at);
    if job.passes.len() > 1 {
        sink.add(Slug::PassesIntoMovie, at, job, wording::types::passes_into_movie(job.passes.len()));
    } else {
        sink.add(Slug::MovieRendered, at, job, wording::types::movie_rendered());
    }
}
