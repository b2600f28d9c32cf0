//! Samples of pixels.

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

/// A digest of samples.
pub fn sum<T: Copy, const N: usize>(values: &[T], bytes: impl Fn(T) -> [u8; N]) -> u64 {
    let mut hasher = crc32fast::Hasher::new();
    for block in values.chunks(4096) {
        let block: Vec<u8> = block.iter().flat_map(|value| bytes(*value)).collect();
        hasher.update(&block);
    }
    u64::from(hasher.finalize())
}
