//! Words about file types and codecs.

use crate::catalogue::Bits;
use crate::catalogue::Channels;
use crate::catalogue::{Codec, FileType};
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
        Some(kind) => words.also(kind.at, "the type").help("take one that it holds, or another type"),
        None => words,
    }
}

pub fn compression_not_held(compression: &Spanned<String>, known: &FileType) -> Words {
    let words =
        Words::new(format!("{} has no compression `{}`", known.name, compression.value), "unknown to this type");
    if known.compressions.is_empty() {
        return words.help("leave `compression` out: this type has nothing to choose");
    }
    let near = crate::diagnostic::nearest(&compression.value, known.compressions.iter().copied());
    let words = words.help(format!("it has {}", listed(known.compressions)));
    match near {
        Some(near) => words.fix(compression.at, near),
        None => words,
    }
}

pub fn codec_not_held(codec: &Spanned<String>, known: &FileType) -> Words {
    let words = Words::new(format!("{} does not hold the codec `{}`", known.name, codec.value), "unknown to this type");
    if known.codecs.is_empty() {
        return words.help("leave `codec` out: this is a picture type");
    }
    let near = crate::diagnostic::nearest(&codec.value, known.codecs.iter().copied());
    let words = words.help(format!("it holds {}", listed(known.codecs)));
    match near {
        Some(near) => words.fix(codec.at, near),
        None => words,
    }
}

pub fn quality_not_held(name: &str) -> Words {
    Words::new(format!("{name} has no quality to choose"), "this would be ignored")
        .help("leave `quality` out, or take a lossy type or codec")
}

pub fn type_unknown(written: Option<&str>) -> Words {
    let help = "give the job a format with a type, or let the path end in .png, .jpg, .tif or .exr";
    match written {
        Some(written) => Words::new(format!("no file type has the extension `{written}`"), "unknown").help(help),
        None => Words::new("nothing says which file type this is", "no format and no extension").help(help),
    }
}

pub fn extension_differs(written: &str, known: &FileType, format: Option<&Format>, at: Option<Place>) -> Words {
    let mut words =
        Words::new(format!("the extension is .{written}, the file type is {}", known.name), "this says another type")
            .help("write {ext}, which always fits");
    if let Some(kind) = format.and_then(|format| format.kind.as_ref()) {
        words = words.also(kind.at, "the type");
    }
    match at {
        Some(at) => words.fix(at, "{ext}"),
        None => words,
    }
}

pub fn layers_not_held(known: &FileType) -> Words {
    Words::new(format!("{} holds one pass a file", known.name), "asks for all passes in one")
        .help("write layers = \"apart\", or take type = \"exr\"")
}

pub fn layer_of_another_type(pass: &str, own: &FileType, file: &FileType) -> Words {
    let message = format!("the pass `{pass}` asks for {}, and shares a file of type {}", own.name, file.name);
    Words::new(message, "one file has one type")
        .help(format!("give the pass a format of type {}, or write layers = \"apart\"", file.name))
}

pub fn movie_option(name: &str, known: &FileType) -> Words {
    Words::new(format!("{} is a picture type and has no {name}", known.name), "this would be ignored")
        .help("leave it out, or take a container and a codec")
}

pub fn codec_bits(bits: Bits, codec: &Codec) -> Words {
    Words::new(format!("{} has no depth of {bits} bits", codec.title), format!("it has {}", listed(codec.bits)))
        .help("take one that it has, or another codec")
}

pub fn codec_chroma(chroma: &str, codec: &Codec) -> Words {
    Words::new(format!("{} has no chroma {chroma}", codec.title), format!("it has {}", listed(codec.chroma)))
        .help("take one that it has, or another codec")
}

pub fn alpha_lost(codec: &Codec) -> Words {
    let with: Vec<&str> = crate::catalogue::CODECS.iter().filter(|codec| codec.alpha).map(|codec| codec.name).collect();
    Words::new(format!("{} cannot hold alpha", codec.title), "what is transparent would be lost")
        .help(format!("alpha is held by {}", with.join(", ")))
}

pub fn audio_in_picture(known: &FileType) -> Words {
    Words::new(format!("{} is a picture type and holds no sound", known.name), "this would be ignored")
        .help("leave it out, or take a container such as mov")
}

pub fn audio_codec_not_held(written: &Spanned<String>, known: &FileType) -> Words {
    let words =
        Words::new(format!("{} does not hold the audio codec `{}`", known.name, written.value), "unknown to this type")
            .help(format!("it holds {}", listed(known.audio_codecs)));
    match crate::diagnostic::nearest(&written.value, known.audio_codecs.iter().copied()) {
        Some(near) => words.fix(written.at, near),
        None => words,
    }
}

pub fn movie_rendered() -> Words {
    Words::new("the renderer would write this movie itself", "what is lost at 90 percent is lost whole")
        .help("render a sequence, with {frame} in its name, and make the movie of it with a [[movie]]")
}

pub fn passes_into_movie(count: usize) -> Words {
    Words::new(format!("{count} passes would be rendered straight into movies"), "numbers do not survive a movie codec")
        .help("render sequences, and make a movie of the one to be looked at with a [[movie]]")
}
