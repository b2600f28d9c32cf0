//! Words about file types and codecs.

use crate::catalogue::Channels;
use crate::catalogue::{AsWritten, Bits, Choice, Chroma, Compression};
use crate::catalogue::{AudioCodec, Codec, FileType};
use crate::diagnostic::Words;
use crate::sheet::Format;
use crate::source::Place;
use crate::source::Spanned;

use super::listed;

pub fn bits_not_held(bits: Bits, known: &FileType, format: &Format) -> Words {
    of_type(
        Words::new(format!("{} cannot hold {bits} bits", known.name), format!("it holds {}", listed(known.bits))),
        format,
    )
}

pub fn channels_not_held(channels: Channels, known: &FileType, format: &Format) -> Words {
    let what = if channels.alpha() {
        format!("{} cannot hold alpha", known.name)
    } else {
        format!("{} cannot hold {channels}", known.name)
    };
    of_type(Words::new(what, format!("it holds {}", listed(known.channels))), format)
}

fn of_type(words: Words, format: &Format) -> Words {
    match &format.kind {
        Some(kind) => words.also(kind.at, "the type").help("choose one that it holds, or another type"),
        None => words,
    }
}

pub fn compression_not_held(compression: &Spanned<AsWritten<Compression>>, known: &FileType) -> Words {
    let words =
        Words::new(format!("{} has no compression `{}`", known.name, compression.value), "this type does not have it");
    if known.compressions.is_empty() {
        return words.help("remove `compression`: this type has none");
    }
    let near = crate::diagnostic::nearest(compression.value.text(), known.compressions.iter().map(|own| own.word()));
    let words = words.help(format!("it has {}", listed(known.compressions)));
    match near {
        Some(near) => words.fix(compression.at, near),
        None => words,
    }
}

pub fn codec_not_held(codec: &Spanned<AsWritten<&'static Codec>>, known: &FileType) -> Words {
    let words =
        Words::new(format!("{} cannot hold the codec `{}`", known.name, codec.value), "this type does not have it");
    if known.codecs.is_empty() {
        return words.help("remove `codec`: this is a picture type");
    }
    let near = crate::diagnostic::nearest(codec.value.text(), known.codecs.iter().map(|own| own.name));
    let words = words.help(format!("it holds {}", listed(known.codecs)));
    match near {
        Some(near) => words.fix(codec.at, near),
        None => words,
    }
}

pub fn quality_not_held(name: &str) -> Words {
    Words::new(format!("{name} has no `quality`"), "the program would ignore this")
        .help("remove `quality`, or choose a lossy type or codec")
}

pub fn type_unknown(written: Option<&str>) -> Words {
    let help = "give the job a format with a `type`, or end the path with .png, .jpg, .tif or .exr";
    match written {
        Some(written) => Words::new(format!("the extension `{written}` belongs to no file type"), "unknown").help(help),
        None => Words::new("this job has no file type", "it has no format, and this path has no extension").help(help),
    }
}

pub fn extension_differs(written: &str, known: &FileType, format: Option<&Format>, at: Option<Place>) -> Words {
    let mut words = Words::new(
        format!("the extension is .{written}, the file type is {}", known.name),
        "this extension belongs to another type",
    )
    .help("write {ext}, which always has the right extension");
    if let Some(kind) = format.and_then(|format| format.kind.as_ref()) {
        words = words.also(kind.at, "the type");
    }
    match at {
        Some(at) => words.fix(at, "{ext}"),
        None => words,
    }
}

pub fn layers_not_held(known: &FileType) -> Words {
    Words::new(format!("{} can hold one pass per file", known.name), "this puts all passes into one file")
        .help("write layers = \"apart\", or type = \"exr\"")
}

pub fn layer_of_another_type(pass: &str, own: &FileType, file: &FileType) -> Words {
    let message = format!("the pass `{pass}` has the type {}, but its file has the type {}", own.name, file.name);
    Words::new(message, "a file has one type")
        .help(format!("give the pass a format of type {}, or write layers = \"apart\"", file.name))
}

pub fn movie_option(name: &str, known: &FileType) -> Words {
    Words::new(format!("{} is a picture type and has no {name}", known.name), "the program would ignore this")
        .help("remove it, or choose a movie type with a codec")
}

pub fn codec_bits(bits: Bits, codec: &Codec) -> Words {
    Words::new(format!("{} has no depth of {bits} bits", codec.title), format!("it has {}", listed(codec.bits)))
        .help("choose one that it has, or another codec")
}

pub fn codec_chroma(chroma: Chroma, codec: &Codec) -> Words {
    Words::new(format!("{} has no chroma {chroma}", codec.title), format!("it has {}", listed(codec.chroma)))
        .help("choose one that it has, or another codec")
}

pub fn alpha_lost(codec: &Codec) -> Words {
    let with: Vec<&str> = crate::catalogue::CODECS.iter().filter(|codec| codec.alpha).map(|codec| codec.name).collect();
    Words::new(format!("{} cannot hold alpha", codec.title), "transparency would be lost")
        .help(format!("these can hold alpha: {}", with.join(", ")))
}

pub fn audio_squeezed(sound: &AudioCodec, codec: &Codec) -> Words {
    Words::new(
        format!("{} is a codec for masters, and its sound would be {}, which is lossy", codec.title, sound.title),
        "the sound loses what cannot be brought back",
    )
    .help("write audio_codec = \"pcm\", or leave it out: uncompressed sound is the usual beside this codec")
}

pub fn audio_in_picture(known: &FileType) -> Words {
    Words::new(format!("{} is a picture type and cannot hold sound", known.name), "the program would ignore this")
        .help("remove it, or choose a movie type such as mov")
}

pub fn audio_codec_not_held(written: &Spanned<AsWritten<&'static AudioCodec>>, known: &FileType) -> Words {
    let words = Words::new(
        format!("{} cannot hold the audio codec `{}`", known.name, written.value),
        "this type does not have it",
    )
    .help(format!("it holds {}", listed(known.audio_codecs)));
    match crate::diagnostic::nearest(written.value.text(), known.audio_codecs.iter().map(|own| own.name)) {
        Some(near) => words.fix(written.at, near),
        None => words,
    }
}

pub fn movie_rendered() -> Words {
    Words::new("the renderer would write this movie directly", "if it fails at 90 percent, everything is lost")
        .help("render a sequence with {frame} in its name, and add a [[movie]] that shows it")
}

pub fn passes_into_movie(count: usize) -> Words {
    Words::new(
        format!("{count} passes would be rendered directly into movies"),
        "a movie codec changes the values of data passes",
    )
    .help("render sequences, and add a [[movie]] that shows one of them")
}
