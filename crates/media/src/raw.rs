//! Types whose pixels stand in the file as they are, or in simple runs: BMP, TGA, Radiance HDR, DPX. There is nothing to
//! decode that could fail beyond the runs, so that looking whether all of them are there is decoding.

use std::io::{BufRead, Read, Seek, SeekFrom};

use truepath_core::catalogue::{Bits, Channels};
use truepath_core::verify::Picture;

use crate::{Bytes, Content, Flaw, Type, flaw};

pub struct Bmp;
pub struct Tga;
pub struct Hdr;
pub struct Dpx;

fn cut() -> Flaw {
    "the file is cut off: a part of the picture is not there".to_owned()
}

fn head<const N: usize>(bytes: &mut Bytes) -> Result<[u8; N], Flaw> {
    let mut head = [0; N];
    bytes.read_exact(&mut head).map_err(|_| cut())?;
    Ok(head)
}

fn at_least(length: u64, needed: Option<u64>) -> Result<(), Flaw> {
    if needed.is_some_and(|needed| needed <= length) { Ok(()) } else { Err(cut()) }
}

/// BITMAPFILEHEADER, 14 bytes, and the start of BITMAPINFOHEADER (Windows GDI).
impl Type for Bmp {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        let head = head::<34>(bytes)?;
        let four = |at: usize| u32::from_le_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]);
        let (width, height) = (four(18), (four(22) as i32).unsigned_abs());
        let depth = u16::from_le_bytes([head[28], head[29]]);
        // Rows are padded to four bytes; only run-length kinds are smaller, and those say their own size.
        let row = (u64::from(width) * u64::from(depth)).div_ceil(32) * 4;
        let data = if matches!(four(30), 1 | 2) { None } else { row.checked_mul(u64::from(height)) };
        at_least(length, Some(data.map_or(u64::from(four(2)), |data| data + u64::from(four(10)))))?;
        Ok(Picture {
            file_type: "bmp",
            width,
            height,
            bits: Some(Bits::Eight),
            channels: Some(if depth == 32 { Channels::Rgba } else { Channels::Rgb }),
            compression: None,
            layers: Vec::new(),
        })
    }

    fn decode(&self, _: &mut Bytes, _: usize, _: Option<&mut Content>) -> Result<(), Flaw> {
        Ok(())
    }
}

/// TGA File Format Specification 2.0: 18 bytes of head, an identification, a colour map, then pixels or packets of them.
impl Type for Tga {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        let head = head::<18>(bytes)?;
        let two = |at: usize| u32::from(u16::from_le_bytes([head[at], head[at + 1]]));
        let (width, height, depth) = (two(12), two(14), u64::from(head[16]));
        let channels = match (head[2], depth) {
            (2 | 10, 24) => Channels::Rgb,
            (2 | 10, 32) => Channels::Rgba,
            (3 | 11, 8) => Channels::Grey,
            _ => return Err("this is no picture of a known type".to_owned()),
        };
        let start = 18 + u64::from(head[0]) + u64::from(two(5)) * u64::from(head[7]).div_ceil(8);
        let pixels = u64::from(width) * u64::from(height);
        if head[2] < 9 {
            at_least(length, Some(start + pixels * (depth / 8)))?;
        } else {
            bytes.seek(SeekFrom::Start(start)).map_err(flaw)?;
            packets(bytes, pixels, depth / 8)?;
        }
        let bits = Some(Bits::Eight);
        Ok(Picture {
            file_type: "tga",
            width,
            height,
            bits,
            channels: Some(channels),
            compression: None,
            layers: Vec::new(),
        })
    }

    fn decode(&self, _: &mut Bytes, _: usize, _: Option<&mut Content>) -> Result<(), Flaw> {
        Ok(())
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
    let skipped = std::io::copy(&mut bytes.by_ref().take(count), &mut std::io::sink()).map_err(flaw)?;
    if skipped == count { Ok(()) } else { Err(cut()) }
}

/// Radiance Picture File Format: lines of text up to an empty one, `-Y height +X width`, then lines of four bytes a pixel, each
/// component in runs where a line begins with 2, 2.
impl Type for Hdr {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        let mut line = String::new();
        loop {
            line.clear();
            let count = bytes.by_ref().take(4096).read_line(&mut line).map_err(flaw)?;
            match (count, line.trim_end()) {
                (0, _) => return Err(cut()),
                (_, "") => break,
                _ => {}
            }
        }
        line.clear();
        bytes.by_ref().take(4096).read_line(&mut line).map_err(flaw)?;
        let words: Vec<&str> = line.split_whitespace().collect();
        let [_, height, _, width] = words[..] else { return Err("the size is missing in its head".to_owned()) };
        let (Ok(width), Ok(height)) = (width.parse::<u32>(), height.parse::<u32>()) else {
            return Err("the size in its head cannot be read".to_owned());
        };
        // Even the shortest runs take a byte for every 127 pixels.
        at_least(length, Some(u64::from(height)))?;
        for _ in 0..height {
            scan_line(bytes, width)?;
        }
        let (bits, channels) = (Some(Bits::Float), Some(Channels::Rgb));
        Ok(Picture { file_type: "hdr", width, height, bits, channels, compression: None, layers: Vec::new() })
    }

    fn decode(&self, _: &mut Bytes, _: usize, _: Option<&mut Content>) -> Result<(), Flaw> {
        Ok(())
    }
}

fn scan_line(bytes: &mut Bytes, width: u32) -> Result<(), Flaw> {
    let first = head::<4>(bytes)?;
    let runs = first[0] == 2 && first[1] == 2 && u32::from(u16::from_be_bytes([first[2], first[3]])) == width;
    if !runs {
        return skip(bytes, u64::from(width.saturating_sub(1)) * 4);
    }
    for _ in 0..4 {
        let mut found = 0;
        while found < width {
            let [count] = head::<1>(bytes)?;
            let (count, data) = if count > 128 { (count - 128, 1) } else { (count, u64::from(count)) };
            if count == 0 {
                return Err("a run in it is damaged".to_owned());
            }
            skip(bytes, data)?;
            found += u32::from(count);
        }
    }
    Ok(())
}

/// SMPTE ST 268-1:2014, tables 1 and 2: the first picture element's description stands at byte 800.
impl Type for Dpx {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        let head = head::<812>(bytes)?;
        let little = &head[..4] == b"XPDS";
        let four = |at: usize| {
            let four = [head[at], head[at + 1], head[at + 2], head[at + 3]];
            if little { u32::from_le_bytes(four) } else { u32::from_be_bytes(four) }
        };
        let two = |at: usize| if little { four(at) & 0xffff } else { four(at) >> 16 };
        let (width, height, depth) = (four(772), four(776), u64::from(head[803]));
        let (channels, count) = match head[800] {
            50 => (Some(Channels::Rgb), 3),
            51 | 52 => (Some(Channels::Rgba), 4),
            6 => (Some(Channels::Grey), 1),
            _ => (None, 1),
        };
        let bits = match depth {
            8 => Some(Bits::Eight),
            10 => Some(Bits::Ten),
            12 => Some(Bits::Twelve),
            16 => Some(Bits::Sixteen),
            32 => Some(Bits::Float),
            _ => None,
        };
        let samples = u64::from(width) * count;
        // Filled packing puts three samples of ten bits into four bytes, and one of twelve into two.
        let row = match (depth, two(804)) {
            (10, 1 | 2) => samples.div_ceil(3) * 4,
            (12, 1 | 2) => samples * 2,
            _ => (samples * depth).div_ceil(32) * 4,
        };
        let needed = if two(806) == 1 { Some(u64::from(four(16))) } else { row.checked_mul(u64::from(height)) };
        at_least(length, needed.and_then(|data| data.checked_add(if two(806) == 1 { 0 } else { u64::from(four(4)) })))?;
        Ok(Picture { file_type: "dpx", width, height, bits, channels, compression: None, layers: Vec::new() })
    }

    fn decode(&self, _: &mut Bytes, _: usize, _: Option<&mut Content>) -> Result<(), Flaw> {
        Ok(())
    }
}
