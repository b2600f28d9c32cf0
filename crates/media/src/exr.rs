//! OpenEXR (file layout, version 2): after the headers stands a table with the place of every chunk. A file that was left
//! half-written has an empty table or chunks beyond its end.

use std::io::{Read, Seek, SeekFrom};

use exr::compression::Compression;
use exr::meta::{BlockDescription, MetaData};
use exr::prelude::{ReadChannels, ReadLayers, SampleType, read};
use truepath_core::catalogue::{Bits, Channels};
use truepath_core::verify::Picture;

use crate::{Bytes, Content, Flaw, Type, flaw};

pub struct Exr;

impl Type for Exr {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        let mut counted = Counted { bytes: &mut *bytes, read: 0 };
        let meta = MetaData::read_from_buffered(&mut counted, false).map_err(flaw)?;
        let table = counted.read;
        chunks(bytes, table, length, &meta)?;
        let mut names: Vec<String> = Vec::new();
        for header in &meta.headers {
            let part = header.own_attributes.layer_name.as_ref().map(|name| format!("{name}."));
            let several = meta.headers.len() > 1;
            let prefix = part.filter(|_| several).unwrap_or_default();
            names.extend(header.channels.list.iter().map(|channel| format!("{prefix}{}", channel.name)));
        }
        let header = meta.headers.first().ok_or("it has no header")?;
        let kinds: Vec<SampleType> =
            meta.headers.iter().flat_map(|header| header.channels.list.iter().map(|c| c.sample_type)).collect();
        let all = |kind: SampleType| kinds.iter().all(|other| *other == kind);
        let (layers, channels) = channels(&names);
        Ok(Picture {
            file_type: "exr",
            width: u32::try_from(header.layer_size.x()).map_err(flaw)?,
            height: u32::try_from(header.layer_size.y()).map_err(flaw)?,
            bits: [(SampleType::F16, Bits::Half), (SampleType::F32, Bits::Float), (SampleType::U32, Bits::ThirtyTwo)]
                .into_iter()
                .find(|(kind, _)| all(*kind))
                .map(|(_, bits)| bits),
            channels,
            layers,
        })
    }

    fn decode(&self, bytes: &mut Bytes, most: usize, content: Option<&mut Content>) -> Result<(), Flaw> {
        let meta = MetaData::read_from_buffered(&mut *bytes, false).map_err(flaw)?;
        room(&meta, most)?;
        // These nobody here can decode; that all chunks are there was seen before.
        if meta.headers.iter().any(|header| matches!(header.compression, Compression::DWAA(_) | Compression::DWAB(_))) {
            return Ok(());
        }
        crate::rewind(bytes)?;
        let reader = read()
            .no_deep_data()
            .largest_resolution_level()
            .all_channels()
            .all_layers()
            .all_attributes()
            .non_parallel();
        let image = reader.from_buffered(bytes).map_err(flaw)?;
        let Some(content) = content else { return Ok(()) };
        for channel in image.layer_data.iter().flat_map(|layer| &layer.channel_data.list) {
            let name = channel.name.to_string();
            let alpha = name.rsplit('.').next().is_some_and(|name| name.eq_ignore_ascii_case("A"));
            channel.sample_data.values_as_f32().for_each(|value| content.add(value, alpha));
        }
        Ok(())
    }
}

/// Whether a file's pixels fit into `most` bytes for each of its layers.
pub(crate) fn fits(path: &std::path::Path, most: usize) -> Result<(), Flaw> {
    let mut bytes = std::io::BufReader::new(std::fs::File::open(path).map_err(flaw)?);
    room(&MetaData::read_from_buffered(&mut bytes, false).map_err(flaw)?, most)
}

/// Whether the windows of all parts, which need not be as large as the first, fit into `most` bytes for each of their layers.
fn room(meta: &MetaData, most: usize) -> Result<(), Flaw> {
    let samples = meta.headers.iter().map(|header| header.layer_size.area().saturating_mul(header.channels.list.len()));
    let channels: usize = meta.headers.iter().map(|header| header.channels.list.len()).sum();
    let needed = samples.fold(0usize, usize::saturating_add).saturating_mul(4);
    if needed > most.saturating_mul(channels.div_ceil(4)) {
        return Err(format!("the windows of its parts claim {needed} bytes of pixels, more than its picture has"));
    }
    Ok(())
}

/// The layers (what stands before the last dot of a channel's name) and the widest of them.
fn channels(names: &[String]) -> (Vec<String>, Option<Channels>) {
    let mut layers: Vec<(&str, Vec<&str>)> = Vec::new();
    for name in names {
        let (layer, channel) = name.rsplit_once('.').unwrap_or(("", name));
        match layers.iter_mut().find(|(known, _)| *known == layer) {
            Some((_, list)) => list.push(channel),
            None => layers.push((layer, vec![channel])),
        }
    }
    let kind = |list: &Vec<&str>| {
        let has = |name: &str| list.iter().any(|channel| channel.eq_ignore_ascii_case(name));
        match (has("R") && has("G") && has("B"), has("A"), list.len()) {
            (true, true, _) => Some(Channels::Rgba),
            (true, false, _) => Some(Channels::Rgb),
            (false, true, 2) => Some(Channels::GreyAlpha),
            (false, _, 3) => Some(Channels::Rgb),
            (false, false, 1) => Some(Channels::Grey),
            _ => None,
        }
    };
    let widest = layers.iter().filter_map(|(_, list)| kind(list)).max();
    (layers.iter().map(|(layer, _)| *layer).filter(|layer| !layer.is_empty()).map(str::to_owned).collect(), widest)
}

/// Looks whether every chunk of the table at `table` lies within the file, and the last one to its end.
fn chunks(bytes: &mut Bytes, table: u64, length: u64, meta: &MetaData) -> Result<(), Flaw> {
    let cut = || "the file is cut off: a part of the picture is not there".to_owned();
    bytes.seek(SeekFrom::Start(table)).map_err(flaw)?;
    let mut last = None;
    for header in &meta.headers {
        // A head that asks for more places than the file has bytes is damaged.
        if header.chunk_count as u64 > length / 8 {
            return Err(cut());
        }
        for _ in 0..header.chunk_count {
            let mut place = [0; 8];
            bytes.read_exact(&mut place).map_err(|_| cut())?;
            let place = u64::from_le_bytes(place);
            if place < table || place >= length {
                return Err(cut());
            }
            last = last.max(Some((place, !header.deep, header.blocks != BlockDescription::ScanLines)));
        }
    }
    let Some((place, true, tiled)) = last else { return Ok(()) };
    // A chunk: the part's number where there are several, the tile's four or the scan line's one number, the size, the data.
    let head = (if meta.headers.len() > 1 { 4 } else { 0 }) + if tiled { 16 } else { 4 };
    bytes.seek(SeekFrom::Start(place + head)).map_err(flaw)?;
    let mut size = [0; 4];
    bytes.read_exact(&mut size).map_err(|_| cut())?;
    let end = place + head + 4 + u64::from(u32::from_le_bytes(size));
    if end <= length { Ok(()) } else { Err(cut()) }
}

/// Counts what is read through it.
struct Counted<'b> {
    bytes: &'b mut Bytes,
    read: u64,
}

impl Read for Counted<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let count = self.bytes.read(buffer)?;
        self.read += count as u64;
        Ok(count)
    }
}
