//! PNG (W3C Portable Network Graphics, third edition): the head is IHDR, the end an empty IEND chunk.

use truepath_core::catalogue::{Bits, Channels};
use truepath_core::verify::Picture;

use crate::{Bytes, Content, Flaw, Type, flaw, tail};

pub struct Png;

/// An empty chunk named IEND and its CRC, 11.2.5.
const END: [u8; 12] = *b"\0\0\0\0IEND\xae\x42\x60\x82";

/// So much memory a head may take: a colour profile and other notes. Damaged ones must not ask for all there is.
const HEAD: usize = 64 << 20;

impl Type for Png {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        let reader =
            png::Decoder::new_with_limits(&mut *bytes, png::Limits { bytes: HEAD }).read_info().map_err(flaw)?;
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
            compression: None,
            layers: Vec::new(),
        };
        drop(reader);
        if tail(bytes, length)? == END {
            Ok(picture)
        } else {
            Err("the file is cut off: it does not end with IEND".to_owned())
        }
    }

    fn decode(&self, bytes: &mut Bytes, most: usize, mut content: Option<&mut Content>) -> Result<(), Flaw> {
        let mut decoder = png::Decoder::new_with_limits(bytes, png::Limits { bytes: most.saturating_add(HEAD) });
        decoder.set_ignore_text_chunk(true);
        let mut reader = decoder.read_info().map_err(flaw)?;
        let (kind, depth) = reader.output_color_type();
        let channels = kind.samples();
        let alpha = matches!(kind, png::ColorType::GrayscaleAlpha | png::ColorType::Rgba);
        while let Some(row) = reader.next_row().map_err(flaw)? {
            match (content.as_deref_mut(), depth) {
                (Some(content), png::BitDepth::Sixteen) => {
                    let values =
                        row.data().chunks_exact(2).map(|pair| f32::from(u16::from_be_bytes([pair[0], pair[1]])));
                    content.add_all(values, channels, alpha);
                }
                (Some(content), png::BitDepth::Eight) if kind != png::ColorType::Indexed => {
                    content.add_all(row.data().iter().map(|value| f32::from(*value)), channels, alpha);
                }
                _ => {}
            }
        }
        reader.finish().map_err(flaw)
    }
}
