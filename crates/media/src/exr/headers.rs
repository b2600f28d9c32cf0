//! The headers of an OpenEXR file and its tables of chunks.

use std::io::{BufRead, Cursor, Read, Seek, SeekFrom};

use exr::meta::{BlockDescription, MetaData};

use super::said;
use crate::{Bytes, Flaw, cut, disk};

/// All headers, and where they end.
pub fn headers(bytes: &[u8]) -> exr::error::Result<(MetaData, usize)> {
    let mut reader = Cursor::new(bytes);
    let meta = MetaData::read_from_buffered(&mut reader, false)?;
    Ok((meta, reader.position() as usize))
}

/// So many bytes of headers are read where the buffer does not hold them all.
const MOST_HEADERS: [u64; 2] = [1 << 20, 64 << 20];

/// As [`headers`], from the start of a file.
pub fn headers_of(bytes: &mut Bytes) -> Result<(MetaData, u64), Flaw> {
    let mut read = headers(bytes.fill_buf().map_err(disk)?);
    for most in MOST_HEADERS {
        if read.is_err() {
            let mut held = Vec::new();
            bytes.by_ref().take(most).read_to_end(&mut held).map_err(disk)?;
            bytes.seek(SeekFrom::Start(0)).map_err(disk)?;
            read = headers(&held);
        }
    }
    let (meta, end) = read.map_err(said)?;
    Ok((meta, end as u64))
}

/// So many times the room of its picture a file may take whose windows reach beyond it.
const OVERSCAN: usize = 8;

/// Whether the windows of all parts, which may reach beyond the picture, fit into `most` bytes for each of their layers, or are
/// no more than a file of a length can hold.
pub fn room(meta: &MetaData, most: usize, length: u64) -> Result<(), Flaw> {
    let samples = meta.headers.iter().map(|header| header.layer_size.area().saturating_mul(header.channels.list.len()));
    let channels: usize = meta.headers.iter().map(|header| header.channels.list.len()).sum();
    let needed = samples.fold(0usize, usize::saturating_add).saturating_mul(4);
    let held = usize::try_from(length.saturating_mul(crate::UNPACKED)).unwrap_or(usize::MAX);
    let usual = most.saturating_mul(channels.div_ceil(4));
    if needed > usual.max(held.min(usual.saturating_mul(OVERSCAN))) {
        return Err(
            format!("the windows of its parts claim {needed} bytes of pixels, more than its picture has").into()
        );
    }
    Ok(())
}

/// Looks whether every chunk of the table at `table` lies within the file; where the last of them ends, where that can be told.
/// The file stands at its start.
pub fn chunks(bytes: &mut Bytes, table: u64, length: u64, meta: &MetaData) -> Result<Option<u64>, Flaw> {
    bytes.seek_relative(table.cast_signed()).map_err(disk)?;
    let (mut last, mut at) = (None, table);
    for header in &meta.headers {
        // A head that asks for more places than the file has bytes is damaged.
        if header.chunk_count as u64 > length / 8 {
            return Err(cut());
        }
        for _ in 0..header.chunk_count {
            let mut place = [0; 8];
            bytes.read_exact(&mut place).map_err(|_| cut())?;
            at += 8;
            let place = u64::from_le_bytes(place);
            if place < table || place >= length {
                return Err(cut());
            }
            last = last.max(Some((place, header.deep, header.blocks != BlockDescription::ScanLines)));
        }
    }
    let Some((place, deep, tiled)) = last else { return Ok(None) };
    // A chunk: the part's number where there are several, the tile's four or the scan line's one number, the size, the data;
    // of deep ones the sizes of table and data, packed and unpacked.
    let head = (if meta.headers.len() > 1 { 4 } else { 0 }) + if tiled { 16 } else { 4 };
    bytes.seek_relative((place + head).cast_signed() - at.cast_signed()).map_err(disk)?;
    let mut size = [0; 16];
    bytes.read_exact(&mut size[..if deep { 16 } else { 4 }]).map_err(|_| cut())?;
    let eight = |at: usize| u64::from_le_bytes(size[at..at + 8].try_into().unwrap_or_default());
    let data = if deep { eight(0).saturating_add(eight(8)).saturating_add(24) } else { eight(0) + 4 };
    let end = (place + head).saturating_add(data);
    if end <= length { Ok(Some(end)) } else { Err(cut()) }
}
