//! Picture types.

use super::Bits::{Eight, Float, Half, Sixteen};
use super::Channels::{Grey, GreyAlpha, Rgb, Rgba};
use super::FileType;

/// Every picture type that can be named in a sheet.
pub const TYPES: &[FileType] = &[
    FileType {
        name: "png",
        extensions: &["png"],
        bits: &[Eight, Sixteen],
        channels: &[Grey, GreyAlpha, Rgb, Rgba],
        layers: false,
        compressions: &[],
        quality: false,
        largest: 2_147_483_647,
        source: "W3C Portable Network Graphics (third edition), 11.2.1",
    },
    FileType {
        name: "jpeg",
        extensions: &["jpg", "jpeg"],
        bits: &[Eight],
        channels: &[Grey, Rgb],
        layers: false,
        compressions: &[],
        quality: true,
        largest: 65_535,
        source: "ITU-T T.81, B.2.2; baseline with JFIF (ITU-T T.871)",
    },
    FileType {
        name: "tiff",
        extensions: &["tif", "tiff"],
        bits: &[Eight, Sixteen, Float],
        channels: &[Grey, GreyAlpha, Rgb, Rgba],
        layers: false,
        compressions: &["none", "lzw", "deflate", "packbits"],
        quality: false,
        largest: 4_294_967_295,
        source: "TIFF revision 6.0; Adobe Photoshop TIFF technical notes for deflate and float samples",
    },
    FileType {
        name: "exr",
        extensions: &["exr"],
        bits: &[Half, Float],
        channels: &[Grey, GreyAlpha, Rgb, Rgba],
        layers: true,
        compressions: &["none", "rle", "zips", "zip", "piz"],
        quality: false,
        largest: 2_147_483_647,
        source: "OpenEXR file layout, version 2",
    },
];
