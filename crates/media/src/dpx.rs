//! DPX (SMPTE ST 268-1:2014): a head of 2,048 bytes whose table 2 describes the first picture element at byte 800, then rows
//! of samples that begin at whole words. No checksum guards them.

use std::io::{Cursor, Read, Seek, SeekFrom};

use truepath_core::catalogue::{Bits, Channels, Compression};
use truepath_core::picture::Content;
use truepath_core::verify::Picture;

use crate::samples::{Samples, samples_of, sum};
use crate::stats::of_pixels;
use crate::{Bytes, Flaw, Type, cut, disk};

pub struct Dpx;

/// Bytes of the head that are read.
const HEAD: usize = 812;

/// What the head says.
struct DpxHead {
    little: bool,
    width: u32,
    height: u32,
    kind: u8,
    depth: u8,
    packing: u16,
    runs: bool,
    signed: bool,
    /// Where the pixels begin.
    start: u64,
    /// Bytes of the whole file, as it says.
    length: u32,
}

impl DpxHead {
    fn read(reader: &mut impl Read) -> Result<DpxHead, Flaw> {
        let mut head = [0; HEAD];
        reader.read_exact(&mut head).map_err(|_| cut())?;
        let little = &head[..4] == b"XPDS";
        let four = |at: usize| {
            let four = [head[at], head[at + 1], head[at + 2], head[at + 3]];
            if little { u32::from_le_bytes(four) } else { u32::from_be_bytes(four) }
        };
        let two = |at: usize| {
            let two = [head[at], head[at + 1]];
            if little { u16::from_le_bytes(two) } else { u16::from_be_bytes(two) }
        };
        // The element has a place of its own; where it says none, pixels begin where the file says.
        let start = Some(four(808)).filter(|at| (HEAD as u32..u32::MAX).contains(at)).unwrap_or(four(4));
        let head = DpxHead {
            little,
            width: four(772),
            height: four(776),
            kind: head[800],
            depth: head[803],
            packing: two(804),
            runs: two(806) == 1,
            signed: four(780) == 1,
            start: u64::from(start),
            length: four(16),
        };
        if head.width == 0 || head.height == 0 || head.start < HEAD as u64 {
            Err("its header is damaged".into())
        } else {
            Ok(head)
        }
    }

    /// Channels and samples of a pixel.
    fn channels(&self) -> (Option<Channels>, u64) {
        match self.kind {
            50 => (Some(Channels::Rgb), 3),
            51 | 52 => (Some(Channels::Rgba), 4),
            6 => (Some(Channels::Grey), 1),
            _ => (None, 1),
        }
    }

    /// Bytes of a row in a file of a length, `None` where it is shorter than that. Filled packing puts three samples of ten
    /// bits into four bytes, and one of twelve into two. Rows end at whole words; some programs leave the last bytes out.
    fn row(&self, length: u64) -> Option<u64> {
        let samples = u64::from(self.width) * self.channels().1;
        let bytes = match (self.depth, self.packing) {
            (10, 1 | 2) => samples.div_ceil(3) * 4,
            (12, 1 | 2) => samples * 2,
            (depth, _) => (samples * u64::from(depth)).div_ceil(8),
        };
        let end = |row: u64| row.checked_mul(u64::from(self.height)).and_then(|data| data.checked_add(self.start));
        let padded = bytes.div_ceil(4) * 4;
        match end(padded) {
            Some(end) if end <= length => Some(padded),
            // Such a file has not a byte more: one that does was cut off.
            _ => Some(bytes).filter(|bytes| end(*bytes) == Some(length)),
        }
    }

    /// Why its pixels are not read here.
    fn unread(&self) -> Option<String> {
        if self.runs {
            return Some("its pixels are run-length encoded, which True Path cannot read".to_owned());
        }
        if self.channels().0.is_none() || self.kind == 52 {
            return Some(format!("True Path cannot read pixels of kind {}", self.kind));
        }
        match (self.depth, self.packing) {
            (8 | 16 | 32, _) | (10 | 12, 1 | 2) => None,
            (depth, packing) => Some(format!("True Path cannot read samples of {depth} bits in packing {packing}")),
        }
    }
}

impl Type for Dpx {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        let head = DpxHead::read(bytes)?;
        let is_whole = if head.runs { u64::from(head.length) <= length } else { head.row(length).is_some() };
        if !is_whole {
            return Err(cut());
        }
        Ok(Picture {
            bits: match head.depth {
                8 => Some(Bits::Eight),
                10 => Some(Bits::Ten),
                12 => Some(Bits::Twelve),
                16 => Some(Bits::Sixteen),
                32 => Some(Bits::Float),
                _ => None,
            },
            channels: head.channels().0,
            compression: Some(if head.runs { Compression::Rle } else { Compression::None }.into()),
            besides: Vec::from_iter(head.signed.then(|| "its samples are signed".to_owned())),
            unproven: head.unread(),
            ..Picture::plain("dpx", head.width, head.height)
        })
    }

    fn decode(&self, bytes: &[u8], picture: &mut Picture, most: usize) -> Result<Content, Flaw> {
        if picture.unproven.is_some() {
            return Ok(Content::default());
        }
        let (channels, samples) = read(Cursor::new(bytes), most)?;
        let (size, count) = ((picture.width as usize, picture.height as usize), samples_of(channels));
        Ok(match samples {
            Samples::Eight(values) => of_pixels(size, count, &values, sum(&values)),
            Samples::Sixteen(values) => of_pixels(size, count, &values, sum(&values)),
            Samples::Float(values) => of_pixels(size, count, &values, sum(&values)),
        })
    }
}

/// Reads all samples: those of 8 and 16 bits and floats as they are, of 10 and 12 bits spread over 16.
pub fn read(mut bytes: impl Read + Seek, most: usize) -> Result<(Channels, Samples), Flaw> {
    let head = DpxHead::read(&mut bytes)?;
    if let Some(why) = head.unread() {
        return Err(why.into());
    }
    let (Some(channels), count) = head.channels() else { return Err(cut()) };
    let too_large = || "it asks for more memory than a picture of its size needs".to_owned();
    let length = bytes.seek(SeekFrom::End(0)).map_err(disk)?;
    let row_bytes = head.row(length).ok_or_else(cut)?;
    let size = usize::try_from(row_bytes).ok().filter(|size| *size <= most).ok_or_else(too_large)?;
    let row = head.width as usize * count as usize;
    let little = head.little;
    let word = |four: &[u8]| {
        let four = [four[0], four[1], four[2], four[3]];
        if little { u32::from_le_bytes(four) } else { u32::from_be_bytes(four) }
    };
    let half =
        |two: &[u8]| if little { u16::from_le_bytes([two[0], two[1]]) } else { u16::from_be_bytes([two[0], two[1]]) };
    bytes.seek(SeekFrom::Start(head.start)).map_err(disk)?;
    let mut line = vec![0; size];
    let (mut small, mut large, mut float) = (Vec::new(), Vec::new(), Vec::new());
    // Numbers of fewer bits are spread over the whole range.
    let spread = |value: u32, bits: u32| (value << (16 - bits) | value >> (2 * bits - 16)) as u16;
    for _ in 0..head.height {
        bytes.read_exact(&mut line).map_err(|_| cut())?;
        match head.depth {
            8 => small.extend_from_slice(&line[..row]),
            10 => {
                let lowest = if head.packing == 1 { 2 } else { 0 };
                let of_word = |four: &[u8]| {
                    let all = word(four) >> lowest;
                    [all >> 20 & 1023, all >> 10 & 1023, all & 1023]
                };
                large.extend(line.chunks_exact(4).flat_map(of_word).take(row).map(|value| spread(value, 10)));
            }
            12 => {
                let lowest = if head.packing == 1 { 4 } else { 0 };
                let value = |two: &[u8]| spread(u32::from(half(two)) >> lowest & 4095, 12);
                large.extend(line.chunks_exact(2).take(row).map(value));
            }
            16 => large.extend(line.chunks_exact(2).take(row).map(half)),
            _ => float.extend(line.chunks_exact(4).take(row).map(|four| f32::from_bits(word(four)))),
        }
    }
    Ok((
        channels,
        match head.depth {
            8 => Samples::Eight(small),
            32 => Samples::Float(float),
            _ => Samples::Sixteen(large),
        },
    ))
}
