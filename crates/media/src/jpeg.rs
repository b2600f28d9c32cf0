//! JPEG (ITU-T T.81): the head is the frame header SOF, the end the marker EOI.

use std::io::{Read, Seek, SeekFrom};

use truepath_core::catalogue::{Bits, Channels};
use truepath_core::verify::Picture;
use zune_jpeg::JpegDecoder;
use zune_jpeg::zune_core::options::DecoderOptions;

use crate::{Bytes, Content, Flaw, Type, flaw, tail};

pub struct Jpeg;

impl Type for Jpeg {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        bytes.seek(SeekFrom::Start(2)).map_err(flaw)?;
        loop {
            let mut marker = [0; 4];
            bytes.read_exact(&mut marker).map_err(|_| "the file is cut off before its frame header".to_owned())?;
            let [0xff, kind, high, low] = marker else { return Err("a marker is damaged".to_owned()) };
            let size = i64::from(u16::from_be_bytes([high, low]));
            // B.1.1.3: SOF0 to SOF15, without DHT, JPG and DAC, which lie between them.
            if (0xc0..=0xcf).contains(&kind) && ![0xc4, 0xc8, 0xcc].contains(&kind) {
                break;
            }
            if kind == 0xda {
                return Err("picture data comes before the frame header".to_owned());
            }
            bytes.seek_relative((size - 2).max(0)).map_err(flaw)?;
        }
        let mut frame = [0; 6];
        bytes.read_exact(&mut frame).map_err(flaw)?;
        let [bits, h1, h2, w1, w2, components] = frame;
        if tail::<2>(bytes, length)? != [0xff, 0xd9] {
            return Err("the file is cut off: it does not end with EOI".to_owned());
        }
        Ok(Picture {
            file_type: "jpeg",
            width: u32::from(u16::from_be_bytes([w1, w2])),
            height: u32::from(u16::from_be_bytes([h1, h2])),
            bits: match bits {
                8 => Some(Bits::Eight),
                12 => Some(Bits::Twelve),
                _ => None,
            },
            channels: match components {
                1 => Some(Channels::Grey),
                3 => Some(Channels::Rgb),
                _ => None,
            },
            compression: None,
            layers: Vec::new(),
        })
    }

    fn decode(&self, bytes: &mut Bytes, _: usize, content: Option<&mut Content>) -> Result<(), Flaw> {
        let options = DecoderOptions::default().set_strict_mode(true).set_max_width(65_535).set_max_height(65_535);
        let pixels = JpegDecoder::new_with_options(bytes, options).decode().map_err(flaw)?;
        if let Some(content) = content {
            content.add_all(pixels.iter().map(|value| f32::from(*value)), 1, false);
        }
        Ok(())
    }
}
