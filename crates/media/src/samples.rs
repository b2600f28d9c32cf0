//! Samples of pixels.

use bytemuck::NoUninit;
use truepath_core::catalogue::Channels;

/// Samples as their file has them.
#[derive(Clone, Debug, PartialEq)]
pub enum Samples {
    /// 0 to 255.
    Eight(Vec<u8>),
    /// 0 to 65535.
    Sixteen(Vec<u16>),
    /// Any number; 1 is white.
    Float(Vec<f32>),
}

/// Samples of one pixel.
#[must_use]
pub fn samples_of(channels: Channels) -> usize {
    match channels {
        Channels::Grey => 1,
        Channels::GreyAlpha => 2,
        Channels::Rgb => 3,
        Channels::Rgba => 4,
    }
}

/// A digest of samples, as they lie in memory.
pub fn sum<T: NoUninit>(values: &[T]) -> u64 {
    u64::from(crc32fast::hash(bytemuck::cast_slice(values)))
}
