//! What movie files are: MP4 and MOV, Matroska and WebM, AVI. Heads, tables and the places of all frames are read, never the
//! frames themselves, save the first, which tells what some codecs do not write anywhere else. Whatever the bytes say, no more
//! is kept in memory than `MOST_TABLE`, and no byte is read twice.

mod avi;
mod codec;
mod ffv1;
mod matroska;
mod mp4;

use std::io::{BufReader, Read, Seek, SeekFrom};
use std::path::Path;

use truepath_core::verify::{Footage, Fps, Seen};

use crate::{Bytes, Flaw, Storage};

/// The largest table of a movie that is read: ten times that of a day at 60 frames a second.
const MOST_TABLE: u64 = 512 << 20;
/// So much of a first frame is looked at.
const FIRST: u64 = 4096;

/// What stands at `path`, read as a movie.
///
/// # Errors
/// When the disk cannot answer; a file that is not there, or is no movie, is no error.
pub fn probe(path: &Path) -> std::io::Result<Seen> {
    crate::again(|| match crate::opened(path)? {
        Ok((file, length)) => probe_from(file, length),
        Err(seen) => Ok(seen),
    })
}

/// The same of a file that is open, or lies in memory.
///
/// # Errors
/// When a part of it that is wanted cannot be read.
pub fn probe_from(file: impl Storage + 'static, length: u64) -> std::io::Result<Seen> {
    let (file, failed) = crate::FileSource::new(file);
    let mut source = MovieBytes { bytes: BufReader::with_capacity(1 << 14, file), length };
    let footage = failed.unless(crate::caught(|| read(&mut source)))?;
    Ok(match footage {
        Ok(footage) => Seen::Movie(Box::new(footage)),
        Err(flaw) => Seen::Broken(flaw.to_string()),
    })
}

fn read(source: &mut MovieBytes) -> Result<Footage, Flaw> {
    let head = source.at(0, 12.min(source.length))?;
    if head.starts_with(b"\x1a\x45\xdf\xa3") {
        matroska::read(source)
    } else if head.starts_with(b"RIFF") && head.get(8..12) == Some(b"AVI ") {
        avi::read(source)
    } else if head
        .get(4..8)
        .is_some_and(|kind| [b"ftyp", b"moov", b"mdat", b"wide", b"free", b"skip"].iter().any(|own| kind == *own))
    {
        mp4::read(source)
    } else {
        Err("this is not a movie of a known type".into())
    }
}

/// A file and its length in bytes.
struct MovieBytes {
    bytes: Bytes,
    length: u64,
}

impl MovieBytes {
    /// Bytes of the file; fewer than asked for are a flaw.
    fn at(&mut self, place: u64, count: u64) -> Result<Vec<u8>, Flaw> {
        if place.checked_add(count).is_none_or(|end| end > self.length) {
            return Err(cut());
        }
        if count > MOST_TABLE {
            return Err(format!("a table in it asks for {count} bytes").into());
        }
        self.go(place)?;
        let mut bytes = vec![0; usize::try_from(count).map_err(|_| cut())?];
        self.bytes.read_exact(&mut bytes).map_err(|_| cut())?;
        Ok(bytes)
    }

    /// The beginning of something, as far as it is of use.
    fn first(&mut self, place: u64, size: u64) -> Vec<u8> {
        let size = size.min(FIRST).min(self.length.saturating_sub(place));
        self.at(place, size).unwrap_or_default()
    }

    /// Moves to a place; what is read already near it is not read again.
    fn go(&mut self, place: u64) -> Result<(), Flaw> {
        let here = self.bytes.stream_position().map_err(crate::disk)?;
        let by = i128::from(place) - i128::from(here);
        match i64::try_from(by) {
            Ok(by) => self.bytes.seek_relative(by).map_err(crate::disk),
            Err(_) => self.bytes.seek(SeekFrom::Start(place)).map(drop).map_err(crate::disk),
        }
    }
}

fn cut() -> Flaw {
    "the file is cut off: a part of the movie is missing".into()
}

/// Numbers in bytes; what lies beyond the end is 0, which no reader here takes for more than it is.
mod number {
    pub fn be16(bytes: &[u8], at: usize) -> u16 {
        bytes.get(at..at + 2).map_or(0, |two| u16::from_be_bytes([two[0], two[1]]))
    }
    pub fn be32(bytes: &[u8], at: usize) -> u32 {
        bytes.get(at..at + 4).map_or(0, |four| u32::from_be_bytes([four[0], four[1], four[2], four[3]]))
    }
    pub fn be64(bytes: &[u8], at: usize) -> u64 {
        u64::from(be32(bytes, at)) << 32 | u64::from(be32(bytes, at + 4))
    }
    pub fn le16(bytes: &[u8], at: usize) -> u16 {
        be16(bytes, at).swap_bytes()
    }
    pub fn le32(bytes: &[u8], at: usize) -> u32 {
        be32(bytes, at).swap_bytes()
    }
}

/// A rate as an exact fraction, from one that a container has rounded: whole numbers, their 1000/1001, and halves.
fn usual_rate(rate: f64, off: f64) -> Option<Fps> {
    if !rate.is_finite() || !(0.01..=10_000.0).contains(&rate) {
        return None;
    }
    let whole = (rate.round() as u32, 1);
    let drop = ((rate * 1.001).round() as u32 * 1000, 1001);
    let half = ((rate * 2.0).round() as u32, 2);
    let near = |(frames, seconds): &(u32, u32)| {
        *frames > 0 && ((f64::from(*frames) / f64::from(*seconds) - rate) / rate).abs() <= off
    };
    let found = [whole, drop, half].into_iter().find(near);
    let (frames, seconds) = found.unwrap_or(((rate * 1000.0).round() as u32, 1000));
    Fps::new(frames, seconds)
}
