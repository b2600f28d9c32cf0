//! The words that file options have in a sheet: an enum for each option, with one list of its spellings.

use std::fmt;

use serde::{Serialize, Serializer};

/// One of a fixed list of words.
pub trait Choice: Copy + Eq + fmt::Display + 'static {
    /// All, in the order in which they are listed.
    const ALL: &'static [Self];

    /// How it is spelt in a sheet.
    #[must_use]
    fn word(self) -> &'static str;

    /// The one that is spelt so.
    #[must_use]
    fn spelt(word: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|own| own.word() == word)
    }

    /// All with their spellings.
    fn pairs() -> Vec<(&'static str, Self)> {
        Self::ALL.iter().map(|own| (own.word(), *own)).collect()
    }
}

macro_rules! choices {
    ($($(#[$doc:meta])* $name:ident { $($(#[$of:meta])* $variant:ident $word:literal)+ })+) => { $(
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub enum $name { $($(#[$of])* $variant,)+ }

        impl Choice for $name {
            const ALL: &'static [$name] = &[$($name::$variant),+];

            fn word(self) -> &'static str {
                match self { $($name::$variant => $word,)+ }
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(self.word())
            }
        }

        impl Serialize for $name {
            fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
                to.serialize_str(self.word())
            }
        }
    )+ };
}

choices! {
    /// Depth of one sample.
    Bits {
        /// 8-bit integer.
        Eight "8"
        /// 10-bit integer.
        Ten "10"
        /// 12-bit integer.
        Twelve "12"
        /// 16-bit integer.
        Sixteen "16"
        /// 32-bit integer.
        ThirtyTwo "32"
        /// 16-bit float.
        Half "half"
        /// 32-bit float.
        Float "float"
    }

    /// Which channels a picture has.
    Channels {
        /// One.
        Grey "grey"
        /// One and alpha.
        GreyAlpha "grey-alpha"
        /// Three.
        Rgb "rgb"
        /// Three and alpha.
        Rgba "rgba"
    }

    /// How a picture is packed. Several types have one of the same name; [`super::FileType::compressions`] says which type has which.
    Compression {
        /// Not at all.
        None "none"
        /// Run lengths.
        Rle "rle"
        /// TIFF: Lempel, Ziv and Welch.
        Lzw "lzw"
        /// TIFF: zlib.
        Deflate "deflate"
        /// TIFF: run lengths of bytes.
        PackBits "packbits"
        /// OpenEXR: zlib, a line at a time.
        Zips "zips"
        /// OpenEXR: zlib, 16 lines at a time.
        Zip "zip"
        /// OpenEXR: wavelets, lossless.
        Piz "piz"
        /// OpenEXR: 32-bit floats rounded to 24 bits, then zlib.
        Pxr24 "pxr24"
        /// OpenEXR: halves in blocks of fixed size.
        B44 "b44"
        /// OpenEXR: the same, flat areas smaller.
        B44a "b44a"
        /// OpenEXR: discrete cosines, 32 lines at a time.
        Dwaa "dwaa"
        /// OpenEXR: the same, 256 lines at a time.
        Dwab "dwab"
        /// WebP: as a frame of VP8.
        Lossy "lossy"
        /// WebP: every pixel as it was.
        Lossless "lossless"
    }

    /// Chroma layouts (ITU-T H.264, 6.2).
    Chroma {
        /// Colour for every fourth pixel.
        C420 "420"
        /// Colour for every second pixel.
        C422 "422"
        /// Colour for every pixel.
        C444 "444"
    }

    /// How much work an encoder does for a smaller file: one scale for every codec, put into the encoder's own words by its adapter.
    Effort {
        /// Little: larger files, soon.
        Low "low"
        /// What is usual.
        Normal "normal"
        /// Much: smaller files, later.
        High "high"
    }
}

impl Bits {
    /// How many bytes a sample takes in memory.
    #[must_use]
    pub fn bytes(self) -> u32 {
        match self {
            Bits::Eight => 1,
            Bits::Ten | Bits::Twelve | Bits::Sixteen | Bits::Half => 2,
            Bits::ThirtyTwo | Bits::Float => 4,
        }
    }
}

impl Channels {
    /// How many there are.
    #[must_use]
    pub fn count(self) -> u32 {
        match self {
            Channels::Grey => 1,
            Channels::GreyAlpha => 2,
            Channels::Rgb => 3,
            Channels::Rgba => 4,
        }
    }

    /// Whether there is an alpha among them.
    #[must_use]
    pub fn alpha(self) -> bool {
        matches!(self, Channels::GreyAlpha | Channels::Rgba)
    }
}

/// What somebody wrote, or a file says, where a word of a list belongs: checks tell what the type at hand has instead.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum AsWritten<T> {
    /// One of them.
    Known(T),
    /// None of them.
    Other(String),
}

impl<T: Choice> AsWritten<T> {
    /// What a text stands for.
    #[must_use]
    pub fn of(text: &str) -> AsWritten<T> {
        T::spelt(text).map_or_else(|| AsWritten::Other(text.to_owned()), AsWritten::Known)
    }

    /// The word, where it is one.
    #[must_use]
    pub fn known(&self) -> Option<T> {
        match self {
            AsWritten::Known(own) => Some(*own),
            AsWritten::Other(_) => None,
        }
    }

    /// Its spelling.
    #[must_use]
    pub fn text(&self) -> &str {
        match self {
            AsWritten::Known(own) => own.word(),
            AsWritten::Other(text) => text,
        }
    }

    /// Whether it is one of some.
    #[must_use]
    pub fn is_in(&self, list: &[T]) -> bool {
        self.known().is_some_and(|own| list.contains(&own))
    }
}

/// Nothing.
impl<T> Default for AsWritten<T> {
    fn default() -> AsWritten<T> {
        AsWritten::Other(String::new())
    }
}

impl<T: Choice> Serialize for AsWritten<T> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(self.text())
    }
}

impl<T: Choice> From<T> for AsWritten<T> {
    fn from(own: T) -> AsWritten<T> {
        AsWritten::Known(own)
    }
}

impl<T: Choice> fmt::Display for AsWritten<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.text())
    }
}
