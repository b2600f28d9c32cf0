//! PNG (W3C Portable Network Graphics, third edition): the head is IHDR, the end an empty IEND chunk.

use truepath_core::catalogue::{Bits, Channels};
use truepath_core::verify::Picture;

use crate::{Bytes, Flaw, Type, flaw, tail};

pub struct Png;

/// An empty chunk named IEND and its CRC, 11.2.5.
const END: [u8; 12] = *b"\0\0\0\0IEND\xae\x42\x60\x82";

/// More memory than any planned picture needs; a damaged head must not ask for all there is.
const MOST_BYTES: usize = 8 << 30;

impl Type for Png {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        let reader =
            png::Decoder::new_with_limits(&mut *bytes, png::Limits { bytes: MOST_BYTES }).read_info().map_err(flaw)?;
        let info = reader.info();
        let picture = Picture {
            file_type: "png",
            width: info.width,
            height: info.height,
            bits: match info.bit_depth {
                png::BitDepth::Eight => Some(Bits::Eight),
                png::BitDepth::Sixteen => Some(Bits::Sixteen),
                _ => None,
            },
            channels: match info.color_type {
                png::ColorType::Grayscale => Some(Channels::Grey),
                png::ColorType::GrayscaleAlpha => Some(Channels::GreyAlpha),
                png::ColorType::Rgb => Some(Channels::Rgb),
                png::ColorType::Rgba => Some(Channels::Rgba),
                png::ColorType::Indexed => None,
            },
            layers: Vec::new(),
        };
        drop(reader);
        if tail(bytes, length)? == END {
            Ok(picture)
        } else {
            Err("the file is cut off: it does not end with IEND".to_owned())
        }
    }

    fn decode(&self, bytes: &mut Bytes) -> Result<(), Flaw> {
        let mut reader =
            png::Decoder::new_with_limits(bytes, png::Limits { bytes: MOST_BYTES }).read_info().map_err(flaw)?;
        while reader.next_row().map_err(flaw)?.is_some() {}
        reader.finish().map_err(flaw)
    }
}
