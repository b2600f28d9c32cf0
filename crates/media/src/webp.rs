//! WebP (RFC 9649): a RIFF container that says how long it is.

use std::io::{Cursor, Read, Seek, SeekFrom};

use image_webp::{DecodingError, WebPDecoder};
use truepath_core::catalogue::{Bits, Channels, Compression};
use truepath_core::picture::Content;
use truepath_core::verify::Picture;

use crate::stats::of_pixels;
use crate::{Bytes, Flaw, Type, besides_bytes, cut, disk, exif};

pub struct WebP;

impl Type for WebP {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        let mut head = [0; 12];
        bytes.read_exact(&mut head).map_err(|_| cut())?;
        if &head[8..] != b"WEBP" {
            return Err("this is not a picture of a known type".into());
        }
        let end = u64::from(u32::from_le_bytes([head[4], head[5], head[6], head[7]])) + 8;
        if end > length {
            return Err("the file is cut off: it is shorter than it says".into());
        }
        let mut found = Chunks::default();
        let mut at = 12;
        while at + 8 <= end {
            let mut chunk = [0; 8];
            bytes.seek(SeekFrom::Start(at)).map_err(disk)?;
            bytes.read_exact(&mut chunk).map_err(|_| cut())?;
            let size = u64::from(u32::from_le_bytes([chunk[4], chunk[5], chunk[6], chunk[7]]));
            if at + 8 + size > end {
                return Err("the file is cut off: a part of it is longer than the rest".into());
            }
            found.take(&chunk[..4], size, bytes)?;
            at += 8 + size + size % 2;
        }
        let mut picture = found.picture()?;
        if length > end + end % 2 {
            picture.besides.push(besides_bytes(length - end));
        }
        Ok(picture)
    }

    fn decode(&self, bytes: &[u8], picture: &mut Picture, most: usize) -> Result<Content, Flaw> {
        let mut decoder = WebPDecoder::new(Cursor::new(bytes)).map_err(said)?;
        decoder.set_memory_limit(most);
        let size = decoder.output_buffer_size().filter(|size| *size <= most);
        let mut pixels = vec![0; size.ok_or("the picture is too large to decode")?];
        if decoder.is_animated() {
            for _ in 0..decoder.num_frames() {
                decoder.read_frame(&mut pixels).map_err(said)?;
            }
        } else {
            decoder.read_image(&mut pixels).map_err(said)?;
        }
        let channels = if decoder.has_alpha() { 4 } else { 3 };
        let (width, height) = decoder.dimensions();
        let sum = u64::from(crc32fast::hash(&pixels));
        let mut content = of_pixels((width as usize, height as usize), channels, &pixels, sum);
        // Alpha that is left out since all is opaque is the same everywhere.
        if picture.opaque {
            content.alpha = Some((255.0, 255.0));
        }
        Ok(content)
    }
}

/// What the chunks of a file say.
#[derive(Default)]
struct Chunks {
    size: Option<(u32, u32)>,
    compression: Option<Compression>,
    alpha: bool,
    frames: usize,
    turned: Option<String>,
}

impl Chunks {
    /// Takes in a chunk whose head was read.
    fn take(&mut self, name: &[u8], size: u64, bytes: &mut Bytes) -> Result<(), Flaw> {
        let mut start = |count: usize| {
            let mut body = vec![0; count];
            bytes.read_exact(&mut body).map_err(|_| cut()).map(|()| body)
        };
        let three = |three: &[u8]| u32::from_le_bytes([three[0], three[1], three[2], 0]);
        match name {
            b"VP8X" if size >= 10 => {
                let head = start(10)?;
                self.size = Some((three(&head[4..]) + 1, three(&head[7..]) + 1));
                self.alpha |= head[0] & 0x10 != 0;
            }
            // RFC 6386, 9.1: three bytes of tag, the start code, then 14 bits for each side.
            b"VP8 " if size >= 10 => {
                let head = start(10)?;
                if head[3..6] != [0x9d, 1, 0x2a] {
                    return Err("its header is damaged".into());
                }
                let side = |at: usize| u32::from(u16::from_le_bytes([head[at], head[at + 1]]) & 0x3fff);
                self.size.get_or_insert((side(6), side(8)));
                self.compression = Some(Compression::Lossy);
            }
            // RFC 9649, 3.4: a mark, then 14 bits for each side, and one for alpha.
            b"VP8L" if size >= 5 => {
                let head = start(5)?;
                if head[0] != 0x2f {
                    return Err("its header is damaged".into());
                }
                let bits = u32::from_le_bytes([head[1], head[2], head[3], head[4]]);
                self.size.get_or_insert(((bits & 0x3fff) + 1, (bits >> 14 & 0x3fff) + 1));
                self.alpha |= bits >> 28 & 1 == 1;
                self.compression = Some(Compression::Lossless);
            }
            b"ALPH" => self.alpha = true,
            b"ANMF" if size >= 24 => {
                self.frames += 1;
                // The first chunk of a frame says how it is packed.
                let head = start(24)?;
                let lossless = &head[16..20] == b"VP8L";
                self.compression.get_or_insert(if lossless { Compression::Lossless } else { Compression::Lossy });
            }
            b"EXIF" if size < 1 << 20 => {
                let notes = start(size as usize)?;
                self.turned = exif::turned(notes.strip_prefix(b"Exif\0\0").unwrap_or(&notes));
            }
            _ => {}
        }
        Ok(())
    }

    fn picture(self) -> Result<Picture, Flaw> {
        let (Some((width, height)), Some(compression)) = (self.size, self.compression) else {
            return Err("the file is cut off: its picture is missing".into());
        };
        let mut besides = Vec::from_iter(self.turned);
        if self.frames > 0 {
            besides.push(format!("it has {} frames", self.frames));
        }
        Ok(Picture {
            bits: Some(Bits::Eight),
            channels: Some(if self.alpha { Channels::Rgba } else { Channels::Rgb }),
            compression: Some(compression.into()),
            // Encoders leave an alpha out that is opaque everywhere.
            opaque: !self.alpha && compression == Compression::Lossless,
            besides,
            ..Picture::plain("webp", width, height)
        })
    }
}

/// What the decoder found, in words of our own.
pub fn said(error: DecodingError) -> Flaw {
    match error {
        DecodingError::IoError(error) => disk(error),
        DecodingError::MemoryLimitExceeded => "it asks for more memory than a picture of its size needs".into(),
        DecodingError::ImageTooLarge => "the picture is too large to decode".into(),
        _ => "its pixels are damaged: they cannot be decompressed".into(),
    }
}
