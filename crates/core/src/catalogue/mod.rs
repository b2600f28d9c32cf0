//! What file types can hold, as data. Checks, adapters and verification all ask here and keep no such knowledge of their own.

mod pictures;

use std::fmt;

pub use pictures::TYPES;

/// A picture type and what it can hold.
#[derive(Debug, PartialEq, Eq)]
pub struct FileType {
    /// Its name in a sheet.
    pub name: &'static str,
    /// Its extensions, the usual one first.
    pub extensions: &'static [&'static str],
    /// Depths of a sample.
    pub bits: &'static [Bits],
    /// Channel layouts.
    pub channels: &'static [Channels],
    /// Whether one file may hold several passes.
    pub layers: bool,
    /// Names of compressions; empty where there is nothing to choose.
    pub compressions: &'static [&'static str],
    /// Whether a quality can be asked for.
    pub quality: bool,
    /// Codecs of a container; empty for pictures.
    pub codecs: &'static [&'static str],
    /// The largest width and height in pixels.
    pub largest: u32,
    /// The specification these facts come from.
    pub source: &'static str,
}

impl FileType {
    /// Whether `extension` (without dot, any case) is one of its own.
    #[must_use]
    pub fn has_extension(&self, extension: &str) -> bool {
        self.extensions.iter().any(|own| own.eq_ignore_ascii_case(extension))
    }
}

/// The type with a name.
#[must_use]
pub fn by_name(name: &str) -> Option<&'static FileType> {
    TYPES.iter().find(|known| known.name == name)
}

/// The type that an extension stands for.
#[must_use]
pub fn by_extension(extension: &str) -> Option<&'static FileType> {
    TYPES.iter().find(|known| known.has_extension(extension))
}

/// Depth of one sample.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Bits {
    /// 8-bit integer.
    Eight,
    /// 10-bit integer.
    Ten,
    /// 12-bit integer.
    Twelve,
    /// 16-bit integer.
    Sixteen,
    /// 32-bit integer.
    ThirtyTwo,
    /// 16-bit float.
    Half,
    /// 32-bit float.
    Float,
}

/// Which channels a picture has.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Channels {
    /// One.
    Grey,
    /// One and alpha.
    GreyAlpha,
    /// Three.
    Rgb,
    /// Three and alpha.
    Rgba,
}

/// All depths with their names.
pub const BITS: [(&str, Bits); 7] = [
    ("8", Bits::Eight),
    ("10", Bits::Ten),
    ("12", Bits::Twelve),
    ("16", Bits::Sixteen),
    ("32", Bits::ThirtyTwo),
    ("half", Bits::Half),
    ("float", Bits::Float),
];

/// All channel layouts with their names.
pub const CHANNELS: [(&str, Channels); 4] =
    [("grey", Channels::Grey), ("grey-alpha", Channels::GreyAlpha), ("rgb", Channels::Rgb), ("rgba", Channels::Rgba)];

fn named<T: PartialEq>(list: &[(&'static str, T)], value: &T) -> &'static str {
    list.iter().find(|(_, known)| known == value).map_or("", |(name, _)| name)
}

impl fmt::Display for Bits {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(named(&BITS, self))
    }
}

impl fmt::Display for Channels {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(named(&CHANNELS, self))
    }
}

impl Channels {
    /// Whether there is an alpha among them.
    #[must_use]
    pub fn alpha(self) -> bool {
        matches!(self, Channels::GreyAlpha | Channels::Rgba)
    }
}
