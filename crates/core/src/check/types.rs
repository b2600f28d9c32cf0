//! File types: what they cannot hold. Formats are looked at where they stand, used or not.

use crate::catalogue::{self, FileType};
use crate::plan::Series;
use crate::resolve::written_extension;
use crate::sheet::Format;

use super::{Sink, in_path, wording};

pub fn check(sink: &mut Sink<'_, '_>) {
    for format in &sink.input.sheet.formats {
        if let Some(known) = format.kind.as_ref().and_then(|kind| catalogue::by_name(&kind.value)) {
            format_holds(sink, format, known);
        }
    }
    for series in sink.series() {
        extension(sink, series);
        layers_and_size(sink, series);
    }
}

fn format_holds(sink: &mut Sink<'_, '_>, format: &Format, known: &FileType) {
    if let Some(bits) = format.bits.as_ref().filter(|bits| !known.bits.contains(&bits.value)) {
        sink.findings.add("bits-not-held", Some(bits.at), None, wording::bits_not_held(bits.value, known, format));
    }
    if let Some(channels) = format.channels.as_ref().filter(|channels| !known.channels.contains(&channels.value)) {
        sink.findings.add(
            "channels-not-held",
            Some(channels.at),
            None,
            wording::channels_not_held(channels.value, known, format),
        );
    }
    if let Some(compression) =
        format.compression.as_ref().filter(|name| !known.compressions.contains(&name.value.as_str()))
    {
        sink.findings.add(
            "compression-not-held",
            Some(compression.at),
            None,
            wording::compression_not_held(compression, known),
        );
    }
    if let Some(codec) = format.codec.as_ref().filter(|codec| !known.codecs.contains(&codec.value.as_str())) {
        sink.findings.add("codec-not-held", Some(codec.at), None, wording::codec_not_held(codec, known));
    }
    if let Some(quality) = format.quality.as_ref().filter(|_| !known.quality) {
        sink.findings.add("quality-not-held", Some(quality.at), None, wording::quality_not_held(known));
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
        sink.add("type-unknown", place, job, wording::type_unknown(written));
        return;
    };
    if let Some(written) = written.filter(|written| !known.has_extension(written)) {
        let at = last_extension(series);
        let format = series.format.as_deref();
        sink.add("extension-differs", at, job, wording::extension_differs(written, known, format, at));
    }
}

fn last_extension(series: &Series) -> Option<crate::source::Place> {
    let text = series.path.as_ref()?.value.to_string();
    in_path(series, text.rfind('.').map_or(0, |dot| dot + 1)..text.len())
}

fn layers_and_size(sink: &mut Sink<'_, '_>, series: &Series) {
    let Some(known) = series.file_type else { return };
    let job = sink.job(series);
    if series.passes.len() > 1 && !known.layers {
        let place = job.settings.place(&crate::sheet::Key::Layers).or(Some(job.at));
        sink.add("layers-not-held", place, job, wording::layers_not_held(known));
    }
    if let Some(size) = series.size.filter(|size| size.width > known.largest || size.height > known.largest) {
        let place = job.settings.place(&crate::sheet::Key::Size).or(Some(job.at));
        sink.add("size-not-held", place, job, wording::size_not_held(size, known));
    }
}
