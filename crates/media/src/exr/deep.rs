//! Deep pixels of OpenEXR: any number of samples a pixel. A chunk has a table of how many samples there are up to each pixel
//! of a line, then the samples, both packed (OpenEXR file layout, "Deep Data").

use exr::meta::header::Header;
use exr::meta::{BlockDescription, MetaData};

use super::unpack::{chunk, unpack};
use crate::{Flaw, cut};

/// Unpacks every chunk of a part, and looks whether it holds as many samples as its table says.
pub fn read(
    bytes: &[u8],
    places: impl Iterator<Item = usize>,
    (meta, part): (&MetaData, usize),
    sum: &mut crc32fast::Hasher,
) -> Result<(), Flaw> {
    let header = &meta.headers[part];
    let tiled = header.blocks != BlockDescription::ScanLines;
    let mut seen = std::collections::HashSet::new();
    for place in places {
        let rest = chunk(bytes, place, meta)?;
        let (at, rest) = rest.split_at_checked(if tiled { 16 } else { 4 }).ok_or_else(cut)?;
        if !seen.insert(at) {
            return Err("a part of the picture is stored twice, and another is missing".into());
        }
        let (sizes, rest) = rest.split_at_checked(24).ok_or_else(cut)?;
        let eight = |at: usize| usize::try_from(u64::from_le_bytes(sizes[at..at + 8].try_into().unwrap_or_default()));
        let (Ok(table), Ok(data), Ok(unpacked)) = (eight(0), eight(8), eight(16)) else { return Err(damaged()) };
        let (table, rest) = rest.split_at_checked(table).ok_or_else(cut)?;
        let data = rest.get(..data).ok_or_else(cut)?;
        let (across, down) = block(header, at)?;
        let counts = unpack(table, header.compression, across * down * 4)?;
        let mut samples = 0usize;
        for line in counts.chunks_exact(across * 4) {
            let mut before = 0;
            for count in line.chunks_exact(4) {
                let count = i32::from_le_bytes([count[0], count[1], count[2], count[3]]);
                // Each number counts those before it too.
                if count < before {
                    return Err(damaged());
                }
                before = count;
            }
            samples = samples.saturating_add(before as usize);
        }
        let wanted = samples.saturating_mul(header.channels.bytes_per_pixel);
        if wanted != unpacked || wanted > bytes.len().saturating_mul(crate::UNPACKED as usize) {
            return Err(damaged());
        }
        sum.update(&counts);
        sum.update(&unpack(data, header.compression, wanted)?);
    }
    Ok(())
}

fn damaged() -> Flaw {
    "its deep pixels are damaged: they cannot be decompressed".into()
}

/// The pixels of the block whose place a chunk begins with.
fn block(header: &Header, at: &[u8]) -> Result<(usize, usize), Flaw> {
    let four = |index: usize| i32::from_le_bytes(at[index * 4..index * 4 + 4].try_into().unwrap_or_default());
    let size = (header.layer_size.x(), header.layer_size.y());
    let part = |whole: usize, block: usize, from: Option<usize>| {
        let start = from.filter(|start| *start < whole).ok_or_else(damaged)?;
        Ok::<usize, Flaw>((whole - start).min(block))
    };
    match header.blocks {
        BlockDescription::ScanLines => {
            let start =
                four(0).checked_sub(header.own_attributes.layer_position.y()).and_then(|y| usize::try_from(y).ok());
            Ok((size.0, part(size.1, header.compression.scan_lines_per_block(), start)?))
        }
        BlockDescription::Tiles(tiles) => {
            if (four(2), four(3)) != (0, 0) {
                return Err("its deep pixels have several resolutions, which True Path cannot read".into());
            }
            let start =
                |index: usize, side: usize| usize::try_from(four(index)).ok().and_then(|tile| tile.checked_mul(side));
            let (across, down) = (tiles.tile_size.x(), tiles.tile_size.y());
            Ok((part(size.0, across, start(0, across))?, part(size.1, down, start(1, down))?))
        }
    }
}
