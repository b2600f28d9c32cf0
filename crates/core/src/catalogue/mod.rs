//! What file types can hold, as data. Checks, adapters and verification all ask here and keep no such knowledge of their own.

pub mod codecs;
mod pictures;
mod words;

use std::fmt;

use serde::{Serialize, Serializer};

pub use codecs::{AUDIO_CODECS, CODECS};
pub use pictures::{CONTAINERS, PICTURES};
pub use words::{AsWritten, Bits, Channels, Choice, Chroma, Compression, Effort};

/// A picture type or a container of movies, and what it can hold.
#[derive(Debug, PartialEq, Eq)]
pub struct FileType {
    /// Its name in a sheet.
    pub name: &'static str,
    /// Its name for people.
    pub title: &'static str,
    /// Its extensions, the usual one first.
    pub extensions: &'static [&'static str],
    /// Depths of a sample; of a container those that any of its codecs holds.
    pub bits: &'static [Bits],
    /// Channel layouts.
    pub channels: &'static [Channels],
    /// Whether one file may hold several passes.
    pub layers: bool,
    /// Compressions; empty where there is nothing to choose.
    pub compressions: &'static [Compression],
    /// Whether a quality can be asked for.
    pub quality: bool,
    /// Whether pixels come back other than they went in.
    pub lossy: bool,
    /// Compressions after which pixels come back other than they went in.
    pub lossy_compressions: &'static [Compression],
    /// Which pixels it is meant for.
    pub light: Light,
    /// The largest width and height in pixels.
    pub largest: u32,
    /// Codecs of a container; empty for pictures.
    pub codecs: &'static [&'static Codec],
    /// Codecs of a container's sound.
    pub audio_codecs: &'static [&'static AudioCodec],
    /// The specification these facts come from.
    pub source: &'static str,
}

/// Which pixels a file type is meant for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Light {
    /// Proportional to light.
    Linear,
    /// Treated to be looked at.
    Display,
    /// Both are usual.
    Either,
}

impl FileType {
    /// Whether `extension` (without dot, any case) is one of its own.
    #[must_use]
    pub fn has_extension(&self, extension: &str) -> bool {
        self.extensions.iter().any(|own| own.eq_ignore_ascii_case(extension))
    }

    /// Whether samples of a depth come back other than they went in. OpenEXR's `pxr24` rounds 32-bit floats only, `b44` and
    /// `b44a` pack halves only (OpenEXR, Technical Introduction, Data Compression).
    #[must_use]
    pub fn loses(&self, compression: Option<Compression>, bits: Option<Bits>) -> bool {
        let Some(own) = compression.filter(|own| self.compressions.contains(own)) else { return self.lossy };
        let keeps = match own {
            Compression::Pxr24 => bits == Some(Bits::Half),
            Compression::B44 | Compression::B44a => bits == Some(Bits::Float),
            _ => false,
        };
        self.lossy_compressions.contains(&own) && !keeps
    }

    /// Whether it holds movies.
    #[must_use]
    pub fn is_container(&self) -> bool {
        !self.codecs.is_empty()
    }
}

/// A codec of moving pictures and what it can hold.
#[derive(Debug, PartialEq, Eq)]
pub struct Codec {
    /// Its name in a sheet.
    pub name: &'static str,
    /// Its name for people.
    pub title: &'static str,
    /// Depths of a sample.
    pub bits: &'static [Bits],
    /// Chroma layouts, the usual one first.
    pub chroma: &'static [Chroma],
    /// Whether it holds alpha.
    pub alpha: bool,
    /// Whether pixels come back as they went in.
    pub lossless: bool,
    /// Whether its movies are worked on further, so that nothing in them should lose anything.
    pub master: bool,
    /// Whether a quality can be asked for.
    pub quality: bool,
    /// What it usually leaves of a pixel, in tenths of a byte.
    pub tenths_of_a_byte: u32,
    /// The smallest width and height in pixels.
    pub smallest: (u32, u32),
    /// The largest width and height in pixels.
    pub largest: u32,
    /// The largest number of pixels, where that is bound too.
    pub most_pixels: Option<u64>,
    /// The specification these facts come from.
    pub source: &'static str,
}

impl Codec {
    /// What width and height must be multiples of under a chroma layout: a sample of colour covers so many pixels.
    #[must_use]
    pub fn multiples(&self, chroma: Option<Chroma>) -> (u32, u32) {
        match chroma.or(self.chroma.first().copied()) {
            Some(Chroma::C420) => (2, 2),
            Some(Chroma::C422) => (2, 1),
            Some(Chroma::C444) | None => (1, 1),
        }
    }
}

/// A codec of sound.
#[derive(Debug, PartialEq, Eq)]
pub struct AudioCodec {
    /// Its name in a sheet.
    pub name: &'static str,
    /// Its name for people.
    pub title: &'static str,
    /// Whether samples come back as they went in.
    pub lossless: bool,
    /// Sample rates in hertz.
    pub rates: Rates,
    /// The specification these facts come from.
    pub source: &'static str,
}

/// Sample rates in hertz.
#[derive(Debug, PartialEq, Eq)]
pub enum Rates {
    /// These and no other.
    Only(&'static [u32]),
    /// All up to this one.
    UpTo(u32),
}

impl Rates {
    /// Whether a rate is among them.
    #[must_use]
    pub fn has(&self, rate: u32) -> bool {
        match self {
            Rates::Only(rates) => rates.contains(&rate),
            Rates::UpTo(most) => rate <= *most,
        }
    }
}

/// Every file type that can be named in a sheet: pictures, then containers.
pub fn types() -> impl Iterator<Item = &'static FileType> {
    PICTURES.iter().chain(CONTAINERS)
}

/// The type with a name.
#[must_use]
pub fn by_name(name: &str) -> Option<&'static FileType> {
    types().find(|known| known.name == name)
}

/// The type that an extension stands for.
#[must_use]
pub fn by_extension(extension: &str) -> Option<&'static FileType> {
    types().find(|known| known.has_extension(extension))
}

macro_rules! named {
    ($($kind:ident in $list:ident)+) => { $(
        impl fmt::Display for $kind {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(self.name)
            }
        }

        impl Serialize for $kind {
            fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
                to.serialize_str(self.name)
            }
        }

        impl Choice for &'static $kind {
            const ALL: &'static [Self] = $list;

            fn word(self) -> &'static str {
                self.name
            }
        }
    )+ };
}

named! { Codec in CODECS AudioCodec in AUDIO_CODECS }

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::{
        AUDIO_CODECS, Bits, CODECS, CONTAINERS, Choice, Chroma, Codec, Compression, PICTURES, by_extension, by_name,
        types,
    };

    #[test]
    fn every_name_is_used_once_and_every_reference_leads_somewhere() {
        let names: Vec<&str> = types().map(|known| known.name).collect();
        assert_eq!(names.iter().collect::<BTreeSet<_>>().len(), names.len());
        for known in types() {
            assert!(!known.source.is_empty() && !known.title.is_empty(), "{}", known.name);
            for extension in known.extensions {
                assert_eq!(by_extension(&extension.to_uppercase()), Some(known));
            }
            assert!(known.lossy_compressions.iter().all(|own| known.compressions.contains(own)), "{}", known.name);
            assert!(known.codecs.iter().all(|own| CODECS.contains(own)), "{}", known.name);
            assert!(known.audio_codecs.iter().all(|own| AUDIO_CODECS.contains(own)), "{}", known.name);
        }
        for held in CODECS {
            assert!(CONTAINERS.iter().any(|container| container.codecs.contains(held)), "{}", held.name);
            assert!(!held.bits.is_empty() && !held.chroma.is_empty() && !held.source.is_empty());
        }
        for held in AUDIO_CODECS {
            assert!(CONTAINERS.iter().any(|container| container.audio_codecs.contains(held)), "{}", held.name);
        }
        assert!(
            PICTURES.iter().all(|known| !known.bits.is_empty() && !known.channels.is_empty() && !known.is_container())
        );
    }

    #[test]
    fn colour_that_covers_several_pixels_binds_the_size() {
        let bound = |name: &str, chroma| <&Codec>::spelt(name).map(|codec| codec.multiples(chroma));
        assert_eq!(bound("h264", None), Some((2, 2)));
        assert_eq!(bound("h264", Some(Chroma::C422)), Some((2, 1)));
        assert_eq!(bound("prores-4444", None), Some((1, 1)));
        assert_eq!(bound("png", None), Some((1, 1)));
    }

    #[test]
    fn whether_pixels_are_lost_hangs_on_compression_and_depth() {
        let loses = |name: &str, compression, bits| by_name(name).map(|known| known.loses(compression, bits));
        for (name, compression, bits, lost) in [
            ("exr", None, None, false),
            ("exr", Some(Compression::Zip), None, false),
            ("exr", Some(Compression::Dwab), Some(Bits::Float), true),
            ("exr", Some(Compression::Pxr24), Some(Bits::Float), true),
            ("exr", Some(Compression::Pxr24), None, true),
            ("exr", Some(Compression::Pxr24), Some(Bits::Half), false),
            ("exr", Some(Compression::B44a), Some(Bits::Half), true),
            ("exr", Some(Compression::B44), Some(Bits::Float), false),
            ("webp", Some(Compression::Lossless), None, false),
            ("webp", Some(Compression::Lossy), None, true),
            ("webp", None, None, true),
            ("jpeg", None, None, true),
            ("tiff", Some(Compression::Lzw), None, false),
        ] {
            assert_eq!(loses(name, compression, bits), Some(lost), "{name} {compression:?} {bits:?}");
        }
    }
}
