//! TIFF 6.0: the head is the first directory, which may stand anywhere; whole is a file that holds every strip or tile
//! that the directory names.

use tiff::ColorType;
use tiff::decoder::{Decoder, DecodingResult, Limits};
use tiff::tags::{SampleFormat, Tag};
use truepath_core::catalogue::{Bits, Channels};
use truepath_core::verify::Picture;

use crate::{Bytes, Content, Flaw, Type, flaw};

pub struct Tiff;

impl Type for Tiff {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        let mut decoder = Decoder::new(bytes).map_err(flaw)?;
        let (width, height) = decoder.dimensions().map_err(flaw)?;
        let kind = decoder.colortype().map_err(flaw)?;
        let format: Option<u16> = decoder
            .find_tag_unsigned_vec(Tag::SampleFormat)
            .map_err(flaw)?
            .and_then(|list: Vec<u16>| list.first().copied());
        let float = format == Some(SampleFormat::IEEEFP.to_u16());
        for (offsets, counts) in [(Tag::StripOffsets, Tag::StripByteCounts), (Tag::TileOffsets, Tag::TileByteCounts)] {
            let offsets: Vec<u64> = decoder.find_tag_unsigned_vec(offsets).map_err(flaw)?.unwrap_or_default();
            let counts: Vec<u64> = decoder.find_tag_unsigned_vec(counts).map_err(flaw)?.unwrap_or_default();
            if offsets.len() != counts.len()
                || offsets.iter().zip(&counts).any(|(at, size)| at.saturating_add(*size) > length || *at == 0)
            {
                return Err("the file is cut off: a part of the picture lies beyond its end".to_owned());
            }
        }
        let compression: Option<u16> = decoder.find_tag_unsigned(Tag::Compression).map_err(flaw)?;
        let samples: u16 = decoder.find_tag_unsigned(Tag::SamplesPerPixel).map_err(flaw)?.unwrap_or(1);
        Ok(Picture {
            file_type: "tiff",
            width,
            height,
            bits: match (kind.bit_depth(), float) {
                (8, false) => Some(Bits::Eight),
                (16, false) => Some(Bits::Sixteen),
                (32, false) => Some(Bits::ThirtyTwo),
                (16, true) => Some(Bits::Half),
                (32, true) => Some(Bits::Float),
                _ => None,
            },
            channels: match (kind, samples) {
                (ColorType::Palette(_) | ColorType::CMYK(_) | ColorType::CMYKA(_) | ColorType::Lab(_), _) => None,
                (_, 1) => Some(Channels::Grey),
                (_, 2) => Some(Channels::GreyAlpha),
                (_, 3) => Some(Channels::Rgb),
                (_, 4) => Some(Channels::Rgba),
                _ => None,
            },
            // TIFF 6.0, and Adobe's two numbers for deflate.
            compression: match compression {
                Some(1) => Some("none"),
                Some(5) => Some("lzw"),
                Some(8 | 32_946) => Some("deflate"),
                Some(32_773) => Some("packbits"),
                _ => None,
            },
            layers: Vec::new(),
        })
    }

    fn decode(&self, bytes: &mut Bytes, most: usize, content: Option<&mut Content>) -> Result<(), Flaw> {
        let mut limits = Limits::default();
        (limits.decoding_buffer_size, limits.intermediate_buffer_size) = (most, most);
        let mut decoder = Decoder::new(bytes).map_err(flaw)?.with_limits(limits);
        let pixels = decoder.read_image().map_err(flaw)?;
        let kind = decoder.colortype().map_err(flaw)?;
        let (channels, alpha) = match kind {
            ColorType::Gray(_) => (1, false),
            ColorType::GrayA(_) => (2, true),
            ColorType::RGB(_) => (3, false),
            ColorType::RGBA(_) => (4, true),
            _ => return Ok(()),
        };
        let Some(content) = content else { return Ok(()) };
        match pixels {
            DecodingResult::U8(values) => content.add_all(values.into_iter().map(f32::from), channels, alpha),
            DecodingResult::U16(values) => content.add_all(values.into_iter().map(f32::from), channels, alpha),
            DecodingResult::F16(values) => content.add_all(values.into_iter().map(f32::from), channels, alpha),
            DecodingResult::F32(values) => content.add_all(values.into_iter(), channels, alpha),
            _ => {}
        }
        Ok(())
    }
}
