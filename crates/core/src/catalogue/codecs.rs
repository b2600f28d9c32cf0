//! Codecs of moving pictures and of sound.

use super::Bits::{Eight, Sixteen, Ten, Twelve};
use super::{AudioCodec, Codec, Rates};

const PLAIN: Codec = Codec {
    name: "",
    title: "",
    bits: &[Eight],
    chroma: &["420"],
    alpha: false,
    lossless: false,
    master: false,
    quality: true,
    smallest: (1, 1),
    largest: 65_535,
    most_pixels: None,
    source: "",
};

const PRORES_422: Codec = Codec {
    bits: &[Ten],
    chroma: &["422"],
    master: true,
    // Each member of the family has a rate of its own instead.
    quality: false,
    source: "SMPTE RDD 36:2015",
    ..PLAIN
};

const PRORES_444: Codec = Codec { bits: &[Ten, Twelve], chroma: &["444"], alpha: true, ..PRORES_422 };

const DNXHR: Codec = Codec {
    bits: &[Eight],
    chroma: &["422"],
    master: true,
    quality: false,
    smallest: (256, 120),
    source: "SMPTE ST 2019-1:2016",
    ..PLAIN
};

/// Every codec of moving pictures.
pub const CODECS: &[Codec] = &[
    Codec {
        name: "h264",
        title: "H.264",
        bits: &[Eight, Ten],
        chroma: &["420", "422", "444"],
        // Level 6.2: 139264 macroblocks of 16x16, each side at most the root of eight times as many.
        largest: 16_880,
        most_pixels: Some(35_651_584),
        source: "ITU-T H.264, A.2 and table A-1",
        ..PLAIN
    },
    Codec {
        name: "hevc",
        title: "HEVC",
        bits: &[Eight, Ten, Twelve],
        chroma: &["420", "422", "444"],
        // Level 6.2: MaxLumaPs 35651584, each side at most the root of eight times as many.
        largest: 16_888,
        most_pixels: Some(35_651_584),
        source: "ITU-T H.265, A.3 and table A.8",
        ..PLAIN
    },
    Codec {
        name: "av1",
        title: "AV1",
        bits: &[Eight, Ten, Twelve],
        chroma: &["420", "422", "444"],
        smallest: (1, 1),
        // Level 6.3.
        largest: 16_384,
        most_pixels: Some(35_651_584),
        source: "AV1 Bitstream and Decoding Process Specification, 6.10.4 and A.3",
        ..PLAIN
    },
    Codec {
        name: "vp9",
        title: "VP9",
        bits: &[Eight, Ten, Twelve],
        chroma: &["420", "422", "444"],
        // Level 6.2.
        largest: 16_384,
        most_pixels: Some(35_651_584),
        source: "VP9 Bitstream and Decoding Process Specification, 7.2 and annex A",
        ..PLAIN
    },
    Codec { name: "prores-proxy", title: "ProRes 422 Proxy", ..PRORES_422 },
    Codec { name: "prores-lt", title: "ProRes 422 LT", ..PRORES_422 },
    Codec { name: "prores", title: "ProRes 422", ..PRORES_422 },
    Codec { name: "prores-hq", title: "ProRes 422 HQ", ..PRORES_422 },
    Codec { name: "prores-4444", title: "ProRes 4444", ..PRORES_444 },
    Codec { name: "prores-4444-xq", title: "ProRes 4444 XQ", ..PRORES_444 },
    Codec { name: "dnxhr-lb", title: "DNxHR LB", ..DNXHR },
    Codec { name: "dnxhr-sq", title: "DNxHR SQ", ..DNXHR },
    Codec { name: "dnxhr-hq", title: "DNxHR HQ", ..DNXHR },
    Codec { name: "dnxhr-hqx", title: "DNxHR HQX", bits: &[Ten, Twelve], ..DNXHR },
    Codec { name: "dnxhr-444", title: "DNxHR 444", bits: &[Ten, Twelve], chroma: &["444"], ..DNXHR },
    Codec {
        name: "ffv1",
        title: "FFV1",
        bits: &[Eight, Ten, Twelve, Sixteen],
        chroma: &["420", "422", "444"],
        alpha: true,
        lossless: true,
        master: true,
        quality: false,
        source: "RFC 9043, 4.2",
        ..PLAIN
    },
    Codec { name: "mjpeg", title: "Motion JPEG", chroma: &["420", "422", "444"], source: "ITU-T T.81, B.2.2", ..PLAIN },
    Codec {
        name: "png",
        title: "PNG frames",
        bits: &[Eight, Sixteen],
        chroma: &["444"],
        alpha: true,
        lossless: true,
        master: true,
        quality: false,
        source: "W3C Portable Network Graphics (third edition), 11.2.1",
        ..PLAIN
    },
];

/// Every codec of sound.
pub const AUDIO_CODECS: &[AudioCodec] = &[
    AudioCodec {
        name: "aac",
        title: "AAC",
        lossless: false,
        rates: Rates::Only(&[
            7350, 8000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000, 64_000, 88_200, 96_000,
        ]),
        source: "ISO/IEC 14496-3, table 1.18",
    },
    AudioCodec {
        name: "opus",
        title: "Opus",
        lossless: false,
        rates: Rates::Only(&[8000, 12_000, 16_000, 24_000, 48_000]),
        source: "RFC 6716, table 1",
    },
    AudioCodec { name: "flac", title: "FLAC", lossless: true, rates: Rates::UpTo(1_048_575), source: "RFC 9639, 8.2" },
    AudioCodec {
        name: "pcm",
        title: "PCM",
        lossless: true,
        rates: Rates::UpTo(u32::MAX),
        source: "Multimedia Programming Interface and Data Specifications 1.0, WAVE format",
    },
];
