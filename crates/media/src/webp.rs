//! WebP (RFC 9649): a RIFF container that says how long it is.

use std::io::{Read, Seek, SeekFrom};

use image_webp::WebPDecoder;
use truepath_core::catalogue::{Bits, Channels};
use truepath_core::verify::Picture;

use crate::{Bytes, Content, Flaw, Type, flaw};

pub struct WebP;

impl Type for WebP {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        let mut head = [0; 8];
        bytes.read_exact(&mut head).map_err(flaw)?;
        let size = u64::from(u32::from_le_bytes([head[4], head[5], head[6], head[7]])) + 8;
        if size > length {
            return Err("the file is cut off: it is shorter than it says".to_owned());
        }
        bytes.seek(SeekFrom::Start(0)).map_err(flaw)?;
        let decoder = WebPDecoder::new(&mut *bytes).map_err(flaw)?;
        let (width, height) = decoder.dimensions();
        let channels = if decoder.has_alpha() { Channels::Rgba } else { Channels::Rgb };
        let (bits, channels) = (Some(Bits::Eight), Some(channels));
        Ok(Picture { file_type: "webp", width, height, bits, channels, compression: None, layers: Vec::new() })
    }

    fn decode(&self, bytes: &mut Bytes, most: usize, content: Option<&mut Content>) -> Result<(), Flaw> {
        let mut decoder = WebPDecoder::new(bytes).map_err(flaw)?;
        decoder.set_memory_limit(most);
        let size = decoder.output_buffer_size().filter(|size| *size <= most);
        let mut pixels = vec![0; size.ok_or("the picture is too large to be decoded")?];
        decoder.read_image(&mut pixels).map_err(flaw)?;
        if let Some(content) = content {
            let channels = if decoder.has_alpha() { 4 } else { 3 };
            content.add_all(pixels.iter().map(|value| f32::from(*value)), channels, channels == 4);
        }
        Ok(())
    }
}
