//! Codecs of moving pictures and of sound.

use super::Bits::{Eight, Sixteen, Ten, Twelve};
use super::Chroma::{C420, C422, C444};
use super::{AudioCodec, Codec, Rates};

const PLAIN: Codec = Codec {
    name: "",
    title: "",
    bits: &[Eight],
    chroma: &[C420],
    alpha: false,
    lossless: false,
    master: false,
    quality: true,
    tenths_of_a_byte: 1,
    smallest: (1, 1),
    largest: 65_535,
    most_pixels: None,
    source: "",
};

const PRORES_422: Codec = Codec {
    bits: &[Ten],
    chroma: &[C422],
    master: true,
    tenths_of_a_byte: 6,
    // Each member of the family has a rate of its own instead.
    quality: false,
    source: "SMPTE RDD 36:2015",
    ..PLAIN
};

const PRORES_444: Codec = Codec { bits: &[Ten, Twelve], chroma: &[C444], alpha: true, ..PRORES_422 };

const DNXHR: Codec = Codec {
    bits: &[Eight],
    chroma: &[C422],
    master: true,
    quality: false,
    tenths_of_a_byte: 6,
    smallest: (256, 120),
    source: "SMPTE ST 2019-1:2016",
    ..PLAIN
};

/// H.264.
pub const H264: Codec = Codec {
    name: "h264",
    title: "H.264",
    bits: &[Eight, Ten],
    chroma: &[C420, C422, C444],
    // Level 6.2: 139264 macroblocks of 16x16, each side at most the root of eight times as many.
    largest: 16_880,
    most_pixels: Some(35_651_584),
    source: "ITU-T H.264, A.2 and table A-1",
    ..PLAIN
};

/// HEVC.
pub const HEVC: Codec = Codec {
    name: "hevc",
    title: "HEVC",
    bits: &[Eight, Ten, Twelve],
    chroma: &[C420, C422, C444],
    // Level 6.2: MaxLumaPs 35651584, each side at most the root of eight times as many.
    largest: 16_888,
    most_pixels: Some(35_651_584),
    source: "ITU-T H.265, A.3 and table A.8",
    ..PLAIN
};

/// AV1.
pub const AV1: Codec = Codec {
    name: "av1",
    title: "AV1",
    bits: &[Eight, Ten, Twelve],
    chroma: &[C420, C422, C444],
    smallest: (1, 1),
    // Level 6.3.
    largest: 16_384,
    most_pixels: Some(35_651_584),
    source: "AV1 Bitstream and Decoding Process Specification, 6.10.4 and A.3",
    ..PLAIN
};

/// VP9.
pub const VP9: Codec = Codec {
    name: "vp9",
    title: "VP9",
    bits: &[Eight, Ten, Twelve],
    chroma: &[C420, C422, C444],
    // Level 6.2.
    largest: 16_384,
    most_pixels: Some(35_651_584),
    source: "VP9 Bitstream and Decoding Process Specification, 7.2 and annex A",
    ..PLAIN
};

/// ProRes 422 Proxy.
pub const PRORES_PROXY: Codec = Codec { name: "prores-proxy", title: "ProRes 422 Proxy", ..PRORES_422 };

/// ProRes 422 LT.
pub const PRORES_LT: Codec = Codec { name: "prores-lt", title: "ProRes 422 LT", ..PRORES_422 };

/// ProRes 422.
pub const PRORES: Codec = Codec { name: "prores", title: "ProRes 422", ..PRORES_422 };

/// ProRes 422 HQ.
pub const PRORES_HQ: Codec = Codec { name: "prores-hq", title: "ProRes 422 HQ", ..PRORES_422 };

/// ProRes 4444.
pub const PRORES_4444: Codec = Codec { name: "prores-4444", title: "ProRes 4444", ..PRORES_444 };

/// ProRes 4444 XQ.
pub const PRORES_4444_XQ: Codec = Codec { name: "prores-4444-xq", title: "ProRes 4444 XQ", ..PRORES_444 };

/// DNxHR LB.
pub const DNXHR_LB: Codec = Codec { name: "dnxhr-lb", title: "DNxHR LB", ..DNXHR };

/// DNxHR SQ.
pub const DNXHR_SQ: Codec = Codec { name: "dnxhr-sq", title: "DNxHR SQ", ..DNXHR };

/// DNxHR HQ.
pub const DNXHR_HQ: Codec = Codec { name: "dnxhr-hq", title: "DNxHR HQ", ..DNXHR };

/// DNxHR HQX.
pub const DNXHR_HQX: Codec = Codec { name: "dnxhr-hqx", title: "DNxHR HQX", bits: &[Ten, Twelve], ..DNXHR };

/// DNxHR 444.
pub const DNXHR_444: Codec =
    Codec { name: "dnxhr-444", title: "DNxHR 444", bits: &[Ten, Twelve], chroma: &[C444], ..DNXHR };

/// FFV1.
pub const FFV1: Codec = Codec {
    name: "ffv1",
    title: "FFV1",
    bits: &[Eight, Ten, Twelve, Sixteen],
    chroma: &[C420, C422, C444],
    alpha: true,
    lossless: true,
    master: true,
    quality: false,
    tenths_of_a_byte: 20,
    source: "RFC 9043, 4.2",
    ..PLAIN
};

/// Motion JPEG.
pub const MJPEG: Codec = Codec {
    name: "mjpeg",
    title: "Motion JPEG",
    chroma: &[C420, C422, C444],
    tenths_of_a_byte: 3,
    source: "ITU-T T.81, B.2.2",
    ..PLAIN
};

/// PNG frames.
pub const PNG_FRAMES: Codec = Codec {
    name: "png",
    title: "PNG frames",
    bits: &[Eight, Sixteen],
    chroma: &[C444],
    alpha: true,
    lossless: true,
    master: true,
    quality: false,
    tenths_of_a_byte: 20,
    source: "W3C Portable Network Graphics (third edition), 11.2.1",
    ..PLAIN
};

/// Every codec of moving pictures.
pub const CODECS: &[&Codec] = &[
    &H264,
    &HEVC,
    &AV1,
    &VP9,
    &PRORES_PROXY,
    &PRORES_LT,
    &PRORES,
    &PRORES_HQ,
    &PRORES_4444,
    &PRORES_4444_XQ,
    &DNXHR_LB,
    &DNXHR_SQ,
    &DNXHR_HQ,
    &DNXHR_HQX,
    &DNXHR_444,
    &FFV1,
    &MJPEG,
    &PNG_FRAMES,
];

/// AAC.
pub const AAC: AudioCodec = AudioCodec {
    name: "aac",
    title: "AAC",
    lossless: false,
    rates: Rates::Only(&[
        7350, 8000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000, 64_000, 88_200, 96_000,
    ]),
    source: "ISO/IEC 14496-3, table 1.18",
};

/// Opus.
pub const OPUS: AudioCodec = AudioCodec {
    name: "opus",
    title: "Opus",
    lossless: false,
    rates: Rates::Only(&[8000, 12_000, 16_000, 24_000, 48_000]),
    source: "RFC 6716, table 1",
};

/// FLAC.
pub const FLAC: AudioCodec =
    AudioCodec { name: "flac", title: "FLAC", lossless: true, rates: Rates::UpTo(1_048_575), source: "RFC 9639, 8.2" };

/// PCM.
pub const PCM: AudioCodec = AudioCodec {
    name: "pcm",
    title: "PCM",
    lossless: true,
    rates: Rates::UpTo(u32::MAX),
    source: "Multimedia Programming Interface and Data Specifications 1.0, WAVE format",
};

/// Every codec of sound.
pub const AUDIO_CODECS: &[&AudioCodec] = &[&AAC, &OPUS, &FLAC, &PCM];
