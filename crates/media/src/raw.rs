//! Types whose pixels stand in the file as they are, or in simple runs: BMP, TGA, Radiance HDR. No checksum guards them: a
//! byte that was changed in a pixel cannot be told from one that was meant.

use std::io::{BufRead, Cursor, Read, Seek, SeekFrom};

use image::{DynamicImage, ImageError, ImageFormat, ImageReader, Limits};
use truepath_core::catalogue::{Bits, Channels, Compression};
use truepath_core::picture::Content;
use truepath_core::verify::Picture;

use crate::samples::sum;
use crate::stats::of_pixels;
use crate::{Bytes, Flaw, Type, cut, disk};

pub struct Bmp;
pub struct Tga;
pub struct Hdr;

fn head<const N: usize>(bytes: &mut Bytes) -> Result<[u8; N], Flaw> {
    let mut head = [0; N];
    bytes.read_exact(&mut head).map_err(|_| cut())?;
    Ok(head)
}

fn at_least(length: u64, needed: Option<u64>) -> Result<(), Flaw> {
    if needed.is_some_and(|needed| needed <= length) { Ok(()) } else { Err(cut()) }
}

/// BITMAPFILEHEADER, 14 bytes, then BITMAPCOREHEADER or BITMAPINFOHEADER and its successors (Windows GDI).
impl Type for Bmp {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        let first = head::<18>(bytes)?;
        let four =
            |bytes: &[u8], at: usize| u32::from_le_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]]);
        let two = |bytes: &[u8], at: usize| u16::from_le_bytes([bytes[at], bytes[at + 1]]);
        let start = u64::from(four(&first, 10));
        let (width, height, depth, kind, size) = if four(&first, 14) == 12 {
            let rest = head::<8>(bytes)?;
            (u32::from(two(&rest, 0)), u32::from(two(&rest, 2)), two(&rest, 6), 0, 0)
        } else {
            let rest = head::<22>(bytes)?;
            let height = (four(&rest, 4) as i32).unsigned_abs();
            (four(&rest, 0), height, two(&rest, 10), four(&rest, 12), four(&rest, 16))
        };
        if width == 0 || height == 0 || ![1, 2, 4, 8, 16, 24, 32].contains(&depth) && ![4, 5].contains(&kind) {
            return Err("its header is damaged".into());
        }
        // Rows are padded to four bytes; only run-length kinds are smaller, and those say their own size.
        let row = (u64::from(width) * u64::from(depth)).div_ceil(32) * 4;
        let data =
            if matches!(kind, 1 | 2 | 4 | 5) { Some(u64::from(size)) } else { row.checked_mul(u64::from(height)) };
        at_least(length, data.and_then(|data| data.checked_add(start)))?;
        let mut besides = Vec::new();
        if depth <= 8 && kind < 4 {
            besides.push("its colours are in a palette".to_owned());
        } else if depth == 16 {
            besides.push("it has 16 bits a pixel".to_owned());
        }
        let bits = besides.is_empty().then_some(Bits::Eight);
        let channels = besides.is_empty().then_some(if depth == 32 { Channels::Rgba } else { Channels::Rgb });
        Ok(Picture { bits, channels, besides, ..Picture::plain("bmp", width, height) })
    }

    fn decode(&self, bytes: &[u8], picture: &mut Picture, most: usize) -> Result<Content, Flaw> {
        unpacked(bytes, (ImageFormat::Bmp, most), picture)
    }
}

/// TGA File Format Specification 2.0: 18 bytes of head, an identification, a colour map, then pixels or packets of them.
impl Type for Tga {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        let head = head::<18>(bytes)?;
        let two = |at: usize| u32::from(u16::from_le_bytes([head[at], head[at + 1]]));
        let (width, height, depth) = (two(12), two(14), u64::from(head[16]));
        let palette = matches!(head[2], 1 | 9);
        let (channels, bits, other) = match (head[2], depth) {
            (2 | 10, 24) => (Some(Channels::Rgb), Some(Bits::Eight), None),
            (2 | 10, 32) => (Some(Channels::Rgba), Some(Bits::Eight), None),
            (3 | 11, 8) => (Some(Channels::Grey), Some(Bits::Eight), None),
            (3 | 11, 16) => (Some(Channels::GreyAlpha), Some(Bits::Eight), None),
            (2 | 10, 15 | 16) => (None, None, Some("it has 16 bits a pixel")),
            (1 | 9, 8 | 15 | 16) => (None, None, Some("its colours are in a palette")),
            _ => return Err("this is not a picture of a known type".into()),
        };
        if head[1] > 1 || palette != (head[1] == 1) && palette || width == 0 || height == 0 {
            return Err("its header is damaged".into());
        }
        let start = 18 + u64::from(head[0]) + u64::from(two(5)) * u64::from(head[7]).div_ceil(8);
        let pixels = u64::from(width) * u64::from(height);
        if head[2] < 9 {
            at_least(length, Some(start + pixels * depth.div_ceil(8)))?;
        } else {
            bytes.seek(SeekFrom::Start(start)).map_err(disk)?;
            packets(bytes, pixels, depth.div_ceil(8))?;
        }
        let mut besides = Vec::from_iter(other.map(str::to_owned));
        // Image descriptor: pixels from right to left.
        if head[17] & 0x10 != 0 {
            besides.push("it is stored mirrored".to_owned());
        }
        let compression = Some(if head[2] < 9 { Compression::None } else { Compression::Rle }.into());
        Ok(Picture { bits, channels, compression, besides, ..Picture::plain("tga", width, height) })
    }

    fn decode(&self, bytes: &[u8], picture: &mut Picture, most: usize) -> Result<Content, Flaw> {
        unpacked(bytes, (ImageFormat::Tga, most), picture)
    }
}

/// Walks packets until all pixels are there: the highest bit tells one pixel repeated from pixels in a row.
fn packets(bytes: &mut Bytes, pixels: u64, size: u64) -> Result<(), Flaw> {
    let mut found = 0;
    while found < pixels {
        let [packet] = head::<1>(bytes)?;
        let count = u64::from(packet & 0x7f) + 1;
        skip(bytes, if packet & 0x80 == 0 { count * size } else { size })?;
        found += count;
    }
    Ok(())
}

fn skip(bytes: &mut Bytes, count: u64) -> Result<(), Flaw> {
    let skipped = std::io::copy(&mut bytes.by_ref().take(count), &mut std::io::sink()).map_err(disk)?;
    if skipped == count { Ok(()) } else { Err(cut()) }
}

/// Radiance Picture File Format: lines of text up to an empty one, `-Y height +X width`, then lines of four bytes a pixel, each
/// component in runs where a line begins with 2, 2.
impl Type for Hdr {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        let mut line = String::new();
        loop {
            line.clear();
            let count = bytes.by_ref().take(4096).read_line(&mut line).map_err(disk)?;
            match (count, line.trim_end()) {
                (0, _) => return Err(cut()),
                (_, "") => break,
                _ => {}
            }
        }
        line.clear();
        bytes.by_ref().take(4096).read_line(&mut line).map_err(disk)?;
        let words: Vec<&str> = line.split_whitespace().collect();
        let [_, height, _, width] = words[..] else { return Err("the size is missing in its header".into()) };
        let (Ok(width), Ok(height)) = (width.parse::<u32>(), height.parse::<u32>()) else {
            return Err("the size in its header cannot be read".into());
        };
        // Even the shortest runs take a byte for every 127 pixels.
        at_least(length, Some(u64::from(height)))?;
        let mut runs = false;
        for _ in 0..height {
            runs |= scan_line(bytes, width)?;
        }
        // Lines of other widths than these have no runs of the usual kind.
        let compression =
            (8..=32_767).contains(&width).then_some(if runs { Compression::Rle } else { Compression::None }.into());
        let (bits, channels) = (Some(Bits::Float), Some(Channels::Rgb));
        Ok(Picture { bits, channels, compression, ..Picture::plain("hdr", width, height) })
    }

    fn decode(&self, bytes: &[u8], picture: &mut Picture, most: usize) -> Result<Content, Flaw> {
        unpacked(bytes, (ImageFormat::Hdr, most), picture)
    }
}

/// Walks one line; whether it stands there in runs.
fn scan_line(bytes: &mut Bytes, width: u32) -> Result<bool, Flaw> {
    let mut first = head::<4>(bytes)?;
    let runs = first[0] == 2 && first[1] == 2 && u32::from(u16::from_be_bytes([first[2], first[3]])) == width;
    if !runs {
        // The old kind: 1, 1, 1 and how often the pixel before is repeated, in eights of bits that follow each other.
        let (mut found, mut shift, mut any) = (0u32, 0, false);
        loop {
            if first[..3] == [1, 1, 1] {
                found = found.saturating_add(u32::from(first[3]) << shift);
                (shift, any) = ((shift + 8).min(24), true);
            } else {
                (found, shift) = (found + 1, 0);
            }
            if found >= width {
                return if found == width { Ok(any) } else { Err("a run in it is damaged".into()) };
            }
            first = head::<4>(bytes)?;
        }
    }
    for _ in 0..4 {
        let mut found = 0;
        while found < width {
            let [count] = head::<1>(bytes)?;
            let (count, data) = if count > 128 { (count - 128, 1) } else { (count, u64::from(count)) };
            if count == 0 {
                return Err("a run in it is damaged".into());
            }
            skip(bytes, data)?;
            found += u32::from(count);
            if found > width {
                return Err("a run in it is damaged".into());
            }
        }
    }
    Ok(true)
}

/// Unpacks a picture; what a library does not read is said of it.
fn unpacked(bytes: &[u8], (format, most): (ImageFormat, usize), picture: &mut Picture) -> Result<Content, Flaw> {
    let mut reader = ImageReader::with_format(Cursor::new(bytes), format);
    let mut limits = Limits::default();
    limits.max_alloc = Some(most as u64);
    reader.limits(limits);
    let image = match reader.decode() {
        Ok(image) => image,
        Err(ImageError::Unsupported(_)) => {
            picture.unproven = Some("its pixels are stored in a way that True Path cannot read".to_owned());
            return Ok(Content::default());
        }
        Err(error) => return Err(said(error)),
    };
    let size = (image.width() as usize, image.height() as usize);
    let channels = usize::from(image.color().channel_count());
    Ok(match &image {
        DynamicImage::ImageRgb32F(own) => of_pixels(size, channels, own, sum(own)),
        _ => of_pixels(size, channels, image.as_bytes(), sum(image.as_bytes())),
    })
}

/// What the decoder found, in words of our own.
pub fn said(error: ImageError) -> Flaw {
    match error {
        ImageError::IoError(error) => disk(error),
        ImageError::Limits(_) => "it asks for more memory than a picture of its size needs".into(),
        ImageError::Unsupported(_) => "its pixels are stored in a way that True Path cannot read".into(),
        _ => "its pixels are damaged: they cannot be decompressed".into(),
    }
}
