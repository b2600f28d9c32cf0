//! Bytes of OpenEXR unpacked by hand: deep pixels, and channels that have fewer samples than the picture has pixels.

use std::collections::HashSet;
use std::io::Read;

use exr::compression::Compression;
use exr::meta::MetaData;
use exr::meta::header::Header;
use exr::prelude::SampleType;

use crate::{Flaw, cut};

fn damaged() -> Flaw {
    "its pixels are damaged: they cannot be decompressed".into()
}

/// A chunk from a place on, behind the number of its part, which only files of several parts have.
pub fn chunk<'b>(bytes: &'b [u8], place: usize, meta: &MetaData) -> Result<&'b [u8], Flaw> {
    let part = if meta.headers.len() > 1 { 4 } else { 0 };
    bytes.get(place..).and_then(|rest| rest.get(part..)).ok_or_else(cut)
}

/// Whether a channel has fewer samples than pixels.
pub fn is_thinned(header: &Header) -> bool {
    header.channels.list.iter().any(|channel| channel.sampling != exr::prelude::Vec2(1, 1))
}

/// Unpacks every chunk of scan lines of a part with thinned channels, and looks whether it holds what its lines must have.
pub fn thinned(
    bytes: &[u8],
    places: impl Iterator<Item = usize>,
    (meta, part): (&MetaData, usize),
    sum: &mut crc32fast::Hasher,
) -> Result<(), Flaw> {
    let header = &meta.headers[part];
    let mut seen = HashSet::new();
    for place in places {
        let rest = chunk(bytes, place, meta)?;
        let (head, rest) = rest.split_at_checked(8).ok_or_else(cut)?;
        let four = |at: usize| i32::from_le_bytes(head[at..at + 4].try_into().unwrap_or_default());
        let size = usize::try_from(four(4)).map_err(|_| damaged())?;
        let packed = rest.get(..size).ok_or_else(cut)?;
        if !seen.insert(four(0)) {
            return Err("a part of the picture is stored twice, and another is missing".into());
        }
        sum.update(&unpack(packed, header.compression, length(header, four(0))?)?);
    }
    Ok(())
}

/// Bytes of the lines that begin at `y`: a channel has a sample where its sampling divides both coordinates.
fn length(header: &Header, y: i32) -> Result<usize, Flaw> {
    let corner = header.own_attributes.layer_position;
    let start = usize::try_from(i64::from(y) - i64::from(corner.y())).map_err(|_| damaged())?;
    let lines = header.layer_size.y().checked_sub(start).filter(|lines| *lines > 0).ok_or_else(damaged)?;
    let lines = lines.min(header.compression.scan_lines_per_block());
    let of = |from: i32, count: usize, by: usize| {
        (0..count as i64).filter(|at| (i64::from(from) + at).rem_euclid(by.max(1) as i64) == 0).count()
    };
    let channels = header.channels.list.iter().map(|channel| {
        let sample = if channel.sample_type == SampleType::F16 { 2 } else { 4 };
        of(corner.x(), header.layer_size.x(), channel.sampling.x()) * of(y, lines, channel.sampling.y()) * sample
    });
    Ok(channels.sum())
}

/// Unpacks some bytes; those that packing would not make smaller stand there as they are.
pub fn unpack(packed: &[u8], compression: Compression, length: usize) -> Result<Vec<u8>, Flaw> {
    if packed.len() == length {
        return Ok(packed.to_vec());
    }
    let mut bytes = Vec::new();
    match compression {
        Compression::ZIP1 | Compression::ZIP16 => {
            let reader = flate2::read::ZlibDecoder::new(packed);
            reader.take(length as u64 + 1).read_to_end(&mut bytes).map_err(|_| damaged())?;
        }
        Compression::RLE => {
            let mut rest = packed;
            while let Some((head, after)) = rest.split_first() {
                let count = i8::from_le_bytes([*head]);
                if count < 0 {
                    let (own, after) = after.split_at_checked(usize::from(count.unsigned_abs())).ok_or_else(damaged)?;
                    bytes.extend_from_slice(own);
                    rest = after;
                } else {
                    let (value, after) = after.split_first().ok_or_else(damaged)?;
                    bytes.resize(bytes.len() + count as usize + 1, *value);
                    rest = after;
                }
                if bytes.len() > length {
                    return Err(damaged());
                }
            }
        }
        _ => return Err(damaged()),
    }
    if bytes.len() != length {
        return Err(damaged());
    }
    // Each byte is a difference to the one before it; the first half of them are those at even places.
    for at in 1..bytes.len() {
        bytes[at] = bytes[at - 1].wrapping_add(bytes[at]).wrapping_sub(128);
    }
    let (even, odd) = bytes.split_at(length.div_ceil(2));
    Ok((0..length).map(|at| if at % 2 == 0 { even[at / 2] } else { odd[at / 2] }).collect())
}
