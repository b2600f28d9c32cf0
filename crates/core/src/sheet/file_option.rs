//! The options of a format: one table that all go through who read, compare, hand on or describe them.

use crate::catalogue::{self, AudioCodec, Bits, Channels, Choice, Chroma, Codec, Compression, Effort, FileType};
use crate::source::Spanned;

use super::Format;

/// One option of a `[formats.NAME]`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum FileOption {
    /// The file type.
    Type,
    /// The depth of a sample.
    Bits,
    /// Which channels there are.
    Channels,
    /// The compression of a picture.
    Compression,
    /// 0 to 100, of a lossy picture or movie.
    Quality,
    /// The codec of a movie.
    Codec,
    /// The chroma layout of a movie.
    Chroma,
    /// How hard an encoder works.
    Effort,
    /// The codec of a movie's sound.
    AudioCodec,
    /// 0 to 100, of a movie's sound.
    AudioQuality,
}

/// What is to be known of an option.
#[derive(Clone, Copy, Debug)]
pub struct OptionRow {
    /// Its key in a format, and the token that stands for it.
    pub name: &'static str,
    /// What it means.
    pub what: &'static str,
    /// The tokens that bring it to a program, each alone.
    pub tokens: &'static [&'static str],
    /// The key under `[accepts]` of an adapter that lists which of its values a program knows.
    pub accepted: Option<&'static str>,
}

/// The options that a picture's renderer may be told.
pub const OF_PICTURES: [FileOption; 5] =
    [FileOption::Type, FileOption::Bits, FileOption::Channels, FileOption::Compression, FileOption::Quality];

/// The options that a movie's encoder may be told.
pub const OF_MOVIES: [FileOption; 9] = [
    FileOption::Type,
    FileOption::Codec,
    FileOption::Bits,
    FileOption::Channels,
    FileOption::Chroma,
    FileOption::Quality,
    FileOption::Effort,
    FileOption::AudioCodec,
    FileOption::AudioQuality,
];

impl FileOption {
    /// All, in the order in which they are described.
    pub const ALL: [FileOption; 10] = [
        FileOption::Type,
        FileOption::Bits,
        FileOption::Channels,
        FileOption::Compression,
        FileOption::Quality,
        FileOption::Codec,
        FileOption::Chroma,
        FileOption::Effort,
        FileOption::AudioCodec,
        FileOption::AudioQuality,
    ];

    /// What is to be known of it.
    #[must_use]
    pub fn row(self) -> OptionRow {
        let row = |name, what, tokens, accepted| OptionRow { name, what, tokens, accepted };
        match self {
            FileOption::Type => {
                row("type", "The file type, as `truepath types` lists them.", &["type", "ext", "out"], Some("types"))
            }
            FileOption::Bits => row(
                "bits",
                "The depth of a sample: 8, 10, 12, 16, 32, half or float.",
                &["bits", "input_pixels", "pixel_layout", "full_pixel_layout"],
                Some("bits"),
            ),
            FileOption::Channels => row(
                "channels",
                "grey, grey-alpha, rgb or rgba.",
                &["channels", "input_pixels", "pixel_layout", "full_pixel_layout"],
                Some("channels"),
            ),
            FileOption::Compression => {
                row("compression", "The compression, in the type's own word.", &["compression"], Some("compressions"))
            }
            FileOption::Quality => row("quality", "0 to 100, the same scale for every lossy type.", &["quality"], None),
            FileOption::Codec => row("codec", "The codec of a movie.", &["codec"], Some("codecs")),
            FileOption::Chroma => row(
                "chroma",
                "The chroma layout of a movie: 420, 422 or 444.",
                &["chroma", "pixel_layout", "full_pixel_layout"],
                Some("chroma"),
            ),
            FileOption::Effort => row(
                "effort",
                "How hard the encoder works for a smaller file: low, normal or high, the same scale for every codec.",
                &["effort", "effort_usual"],
                None,
            ),
            FileOption::AudioCodec => {
                row("audio_codec", "The codec of a movie's sound.", &["audio_codec"], Some("audio_codecs"))
            }
            FileOption::AudioQuality => {
                row("audio_quality", "The quality of a movie's sound, 0 to 100.", &["audio_quality"], None)
            }
        }
    }

    /// Its key in a format.
    #[must_use]
    pub fn name(self) -> &'static str {
        self.row().name
    }

    /// The option with a key.
    #[must_use]
    pub fn named(name: &str) -> Option<FileOption> {
        FileOption::ALL.into_iter().find(|option| option.name() == name)
    }

    /// The option whose accepted values an adapter lists under a key of `[accepts]`.
    #[must_use]
    pub fn accepted(key: &str) -> Option<FileOption> {
        FileOption::ALL.into_iter().find(|option| option.row().accepted == Some(key))
    }

    /// Whether it is about a movie's sound.
    #[must_use]
    pub fn is_of_sound(self) -> bool {
        matches!(self, FileOption::AudioCodec | FileOption::AudioQuality)
    }

    /// What a format gives for it, as it is spelt, and where.
    #[must_use]
    pub fn given(self, format: &Format) -> Option<Spanned<String>> {
        fn text<T: ToString>(given: Option<&Spanned<T>>) -> Option<Spanned<String>> {
            given.map(|own| Spanned::new(own.value.to_string(), own.at))
        }
        match self {
            FileOption::Type => text(format.kind.as_ref()),
            FileOption::Bits => text(format.bits.as_ref()),
            FileOption::Channels => text(format.channels.as_ref()),
            FileOption::Compression => text(format.compression.as_ref()),
            FileOption::Quality => text(format.quality.as_ref()),
            FileOption::Codec => text(format.codec.as_ref()),
            FileOption::Chroma => text(format.chroma.as_ref()),
            FileOption::Effort => text(format.effort.as_ref()),
            FileOption::AudioCodec => text(format.audio_codec.as_ref()),
            FileOption::AudioQuality => text(format.audio_quality.as_ref()),
        }
    }

    /// All words that it can have, of any type; none where it is a number.
    #[must_use]
    pub fn words(self) -> Vec<&'static str> {
        fn all<T: Choice>() -> Vec<&'static str> {
            T::ALL.iter().map(|own| own.word()).collect()
        }
        match self {
            FileOption::Type => catalogue::types().map(|known| known.name).collect(),
            FileOption::Bits => all::<Bits>(),
            FileOption::Channels => all::<Channels>(),
            FileOption::Compression => all::<Compression>(),
            FileOption::Codec => all::<&Codec>(),
            FileOption::Chroma => all::<Chroma>(),
            FileOption::Effort => all::<Effort>(),
            FileOption::AudioCodec => all::<&AudioCodec>(),
            FileOption::Quality | FileOption::AudioQuality => Vec::new(),
        }
    }

    /// Its words that files of a type can have; `None` where no type decides.
    #[must_use]
    pub fn of_type(self, known: &FileType) -> Option<Vec<&'static str>> {
        fn some<T: Choice>(list: &[T]) -> Option<Vec<&'static str>> {
            Some(list.iter().map(|own| own.word()).collect())
        }
        match self {
            FileOption::Bits => some(known.bits),
            FileOption::Channels => some(known.channels),
            FileOption::Compression => some(known.compressions),
            FileOption::Codec => some(known.codecs),
            FileOption::AudioCodec => some(known.audio_codecs),
            FileOption::Type
            | FileOption::Quality
            | FileOption::Chroma
            | FileOption::Effort
            | FileOption::AudioQuality => None,
        }
    }

    /// Whether files of a type can have a value of it; of what no type decides, any.
    #[must_use]
    pub fn fits(self, known: &FileType, value: &str) -> bool {
        self.of_type(known).is_none_or(|words| words.contains(&value))
    }
}

/// The spelling of what a format gives for an option.
#[must_use]
pub fn spelt(format: Option<&Format>, option: FileOption) -> Option<String> {
    Some(option.given(format?)?.value)
}
