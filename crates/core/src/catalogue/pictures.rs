//! Picture types.

use super::Bits::{Eight, Float, Half, Sixteen, Ten, Twelve};
use super::Channels::{Grey, GreyAlpha, Rgb, Rgba};
use super::{Compression, FileType, Light, codecs};

/// What most picture types have in common, so that each entry says only what is its own.
const PLAIN: FileType = FileType {
    name: "",
    title: "",
    extensions: &[],
    bits: &[Eight],
    channels: &[Grey, Rgb],
    layers: false,
    compressions: &[],
    quality: false,
    lossy: false,
    lossy_compressions: &[],
    light: Light::Either,
    largest: 65_535,
    codecs: &[],
    audio_codecs: &[],
    source: "",
};

/// Every picture type that can be named in a sheet.
pub const PICTURES: &[FileType] = &[
    FileType {
        name: "png",
        title: "Portable Network Graphics",
        extensions: &["png"],
        bits: &[Eight, Sixteen],
        channels: &[Grey, GreyAlpha, Rgb, Rgba],
        light: Light::Display,
        largest: 2_147_483_647,
        source: "W3C Portable Network Graphics (third edition), 11.2.1",
        ..PLAIN
    },
    FileType {
        name: "jpeg",
        title: "JPEG",
        extensions: &["jpg", "jpeg"],
        quality: true,
        lossy: true,
        light: Light::Display,
        source: "ITU-T T.81, B.2.2; baseline with JFIF (ITU-T T.871)",
        ..PLAIN
    },
    FileType {
        name: "tiff",
        title: "TIFF",
        extensions: &["tif", "tiff"],
        bits: &[Eight, Sixteen, Float],
        channels: &[Grey, GreyAlpha, Rgb, Rgba],
        compressions: &[Compression::None, Compression::Lzw, Compression::Deflate, Compression::PackBits],
        largest: 4_294_967_295,
        source: "TIFF revision 6.0, and its technical notes for deflate and float samples",
        ..PLAIN
    },
    FileType {
        name: "exr",
        title: "OpenEXR",
        extensions: &["exr"],
        bits: &[Half, Float],
        channels: &[Grey, GreyAlpha, Rgb, Rgba],
        layers: true,
        compressions: &[
            Compression::None,
            Compression::Rle,
            Compression::Zips,
            Compression::Zip,
            Compression::Piz,
            Compression::Pxr24,
            Compression::B44,
            Compression::B44a,
            Compression::Dwaa,
            Compression::Dwab,
        ],
        lossy_compressions: &[
            Compression::Pxr24,
            Compression::B44,
            Compression::B44a,
            Compression::Dwaa,
            Compression::Dwab,
        ],
        light: Light::Linear,
        largest: 2_147_483_647,
        source: "OpenEXR file layout, version 2",
        ..PLAIN
    },
    FileType {
        name: "tga",
        title: "TGA",
        extensions: &["tga"],
        channels: &[Grey, Rgb, Rgba],
        compressions: &[Compression::None, Compression::Rle],
        light: Light::Display,
        source: "TGA File Format Specification, version 2.0",
        ..PLAIN
    },
    FileType {
        name: "bmp",
        title: "BMP",
        extensions: &["bmp"],
        channels: &[Rgb, Rgba],
        light: Light::Display,
        largest: 2_147_483_647,
        source: "Windows GDI, BITMAPINFOHEADER and BITMAPV5HEADER",
        ..PLAIN
    },
    FileType {
        name: "webp",
        title: "WebP",
        extensions: &["webp"],
        channels: &[Rgb, Rgba],
        compressions: &[Compression::Lossy, Compression::Lossless],
        lossy_compressions: &[Compression::Lossy],
        quality: true,
        lossy: true,
        light: Light::Display,
        largest: 16_384,
        source: "RFC 9649, 2.5 and 2.6; RFC 6386, 9.1",
        ..PLAIN
    },
    FileType {
        name: "hdr",
        title: "Radiance HDR",
        extensions: &["hdr"],
        // Three mantissas and a shared exponent, which programs hand out as floats.
        bits: &[Float],
        channels: &[Rgb],
        compressions: &[Compression::None, Compression::Rle],
        light: Light::Linear,
        // The usual run lengths are defined for lines of 8 to 32767 pixels.
        largest: 32_767,
        source: "Radiance Picture File Format, filefmts.pdf",
        ..PLAIN
    },
    FileType {
        name: "dpx",
        title: "DPX",
        extensions: &["dpx"],
        bits: &[Eight, Ten, Twelve, Sixteen, Float],
        channels: &[Grey, Rgb, Rgba],
        compressions: &[Compression::None, Compression::Rle],
        largest: 4_294_967_295,
        source: "SMPTE ST 268-1:2014, tables 1 to 3",
        ..PLAIN
    },
];

/// Every container of movies.
pub const CONTAINERS: &[FileType] = &[
    FileType {
        name: "mp4",
        title: "MP4",
        extensions: &["mp4"],
        codecs: &[&codecs::H264, &codecs::HEVC, &codecs::AV1, &codecs::VP9],
        audio_codecs: &[&codecs::AAC, &codecs::OPUS, &codecs::FLAC],
        source: "ISO/IEC 14496-14 and -15; codecs as registered with the MP4 Registration Authority",
        ..CONTAINER
    },
    FileType {
        name: "mov",
        title: "QuickTime movie",
        extensions: &["mov"],
        codecs: &[
            &codecs::H264,
            &codecs::HEVC,
            &codecs::PRORES_PROXY,
            &codecs::PRORES_LT,
            &codecs::PRORES,
            &codecs::PRORES_HQ,
            &codecs::PRORES_4444,
            &codecs::PRORES_4444_XQ,
            &codecs::DNXHR_LB,
            &codecs::DNXHR_SQ,
            &codecs::DNXHR_HQ,
            &codecs::DNXHR_HQX,
            &codecs::DNXHR_444,
            &codecs::MJPEG,
            &codecs::PNG_FRAMES,
        ],
        audio_codecs: &[&codecs::AAC, &codecs::PCM],
        source: "QuickTime File Format specification; SMPTE RDD 36, RDD 44 and ST 2019-4",
        ..CONTAINER
    },
    FileType {
        name: "mkv",
        title: "Matroska",
        extensions: &["mkv"],
        codecs: &[
            &codecs::H264,
            &codecs::HEVC,
            &codecs::AV1,
            &codecs::VP9,
            &codecs::FFV1,
            &codecs::MJPEG,
            &codecs::PRORES_PROXY,
            &codecs::PRORES_LT,
            &codecs::PRORES,
            &codecs::PRORES_HQ,
            &codecs::PRORES_4444,
            &codecs::PRORES_4444_XQ,
        ],
        audio_codecs: &[&codecs::AAC, &codecs::OPUS, &codecs::FLAC, &codecs::PCM],
        source: "RFC 9559; Matroska codec mappings",
        ..CONTAINER
    },
    FileType {
        name: "webm",
        title: "WebM",
        extensions: &["webm"],
        codecs: &[&codecs::VP9, &codecs::AV1],
        audio_codecs: &[&codecs::OPUS],
        source: "WebM Container Guidelines; AV1 in Matroska/WebM",
        ..CONTAINER
    },
    FileType {
        name: "avi",
        title: "AVI",
        extensions: &["avi"],
        codecs: &[&codecs::MJPEG, &codecs::FFV1, &codecs::PNG_FRAMES],
        audio_codecs: &[&codecs::PCM, &codecs::AAC],
        source: "AVI RIFF File Reference; registered FOURCC and WAVE format tags",
        ..CONTAINER
    },
];

/// A container holds what its codecs hold.
const CONTAINER: FileType = FileType {
    bits: &[Eight, Ten, Twelve, Sixteen],
    channels: &[Grey, GreyAlpha, Rgb, Rgba],
    quality: true,
    light: Light::Display,
    ..PLAIN
};
