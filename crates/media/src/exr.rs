//! OpenEXR (file layout, version 2): after the headers stands a table with the place of every chunk. A file that was left
//! half-written has an empty table or chunks beyond its end.

use std::io::{Read, Seek, SeekFrom};

use exr::compression::Compression;
use exr::meta::{BlockDescription, MetaData};
use exr::prelude::{ReadChannels, ReadLayers, SampleType, read};
use truepath_core::catalogue::{Bits, Channels};
use truepath_core::verify::{LayerSeen, Picture};

use crate::{Bytes, Content, Flaw, Type, flaw};

pub struct Exr;

impl Type for Exr {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        let mut counted = Counted { bytes: &mut *bytes, read: 0 };
        let meta = MetaData::read_from_buffered(&mut counted, false).map_err(flaw)?;
        let table = counted.read;
        chunks(bytes, table, length, &meta)?;
        let mut channels: Vec<(String, SampleType)> = Vec::new();
        for header in &meta.headers {
            let part = header.own_attributes.layer_name.as_ref().map(|name| format!("{name}."));
            let several = meta.headers.len() > 1;
            let prefix = part.filter(|_| several).unwrap_or_default();
            let own = header.channels.list.iter();
            channels.extend(own.map(|channel| (format!("{prefix}{}", channel.name), channel.sample_type)));
        }
        let header = meta.headers.first().ok_or("it has no header")?;
        // The data window may be cropped, or reach beyond the picture: what is shown is the display window.
        let shown = header.shared_attributes.display_window.size;
        let (main, layers) = told(&channels);
        let compression = header.compression;
        let alike = meta.headers.iter().all(|other| other.compression == compression);
        Ok(Picture {
            file_type: "exr",
            width: u32::try_from(shown.x()).map_err(flaw)?,
            height: u32::try_from(shown.y()).map_err(flaw)?,
            bits: main.bits,
            channels: main.channels,
            compression: if alike { compression_name(compression) } else { None },
            layers,
        })
    }

    fn decode(&self, bytes: &mut Bytes, most: usize, content: Option<&mut Content>) -> Result<(), Flaw> {
        let meta = MetaData::read_from_buffered(&mut *bytes, false).map_err(flaw)?;
        room(&meta, most, bytes.get_ref().metadata().map_err(flaw)?.len())?;
        // Deep pixels nobody here unpacks; that all their chunks are there was seen before.
        if meta.headers.iter().any(|header| header.deep) {
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
        let image = match reader.from_buffered(bytes) {
            Ok(image) => image,
            // What a decoder does not know is no fault of the file.
            Err(exr::error::Error::NotSupported(_)) => return Ok(()),
            Err(error) => return Err(flaw(error)),
        };
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
    let (file, length) = crate::open(path).map_err(flaw)?;
    room(&MetaData::read_from_buffered(&mut std::io::BufReader::new(file), false).map_err(flaw)?, most, length)
}

/// So many times the room of its picture a file may take whose windows reach beyond it.
const OVERSCAN: usize = 8;

/// Whether the windows of all parts, which may reach beyond the picture, fit into `most` bytes for each of their layers, or are
/// no more than a file of a length can hold.
fn room(meta: &MetaData, most: usize, length: u64) -> Result<(), Flaw> {
    let samples = meta.headers.iter().map(|header| header.layer_size.area().saturating_mul(header.channels.list.len()));
    let channels: usize = meta.headers.iter().map(|header| header.channels.list.len()).sum();
    let needed = samples.fold(0usize, usize::saturating_add).saturating_mul(4);
    let held = usize::try_from(length.saturating_mul(crate::UNPACKED)).unwrap_or(usize::MAX);
    let usual = most.saturating_mul(channels.div_ceil(4));
    if needed > usual.max(held.min(usual.saturating_mul(OVERSCAN))) {
        return Err(format!("the windows of its parts claim {needed} bytes of pixels, more than its picture has"));
    }
    Ok(())
}

/// A compression as the catalogue names it.
fn compression_name(compression: Compression) -> Option<&'static str> {
    Some(match compression {
        Compression::Uncompressed => "none",
        Compression::RLE => "rle",
        Compression::ZIP1 => "zips",
        Compression::ZIP16 => "zip",
        Compression::PIZ => "piz",
        Compression::PXR24 => "pxr24",
        Compression::B44 => "b44",
        Compression::B44A => "b44a",
        Compression::DWAA(_) => "dwaa",
        Compression::DWAB(_) => "dwab",
        _ => return None,
    })
}

/// What is seen first, which is the colours without a layer or the widest layer, and all layers (what stands before the last
/// dot of a channel's name). `Z` beside colours is a layer of its own.
fn told(channels: &[(String, SampleType)]) -> (LayerSeen, Vec<LayerSeen>) {
    let mut grouped: Vec<(&str, Vec<(&str, SampleType)>)> = Vec::new();
    for (name, kind) in channels {
        let (layer, channel) = name.rsplit_once('.').unwrap_or(("", name));
        match grouped.iter_mut().find(|(known, _)| *known == layer) {
            Some((_, list)) => list.push((channel, *kind)),
            None => grouped.push((layer, vec![(channel, *kind)])),
        }
    }
    let mut all: Vec<LayerSeen> = Vec::new();
    for (name, list) in grouped {
        let is = |own: &str, wanted: &[&str]| wanted.iter().any(|wanted| own.eq_ignore_ascii_case(wanted));
        let colours: Vec<_> = list.iter().copied().filter(|(own, _)| is(own, &["R", "G", "B", "A"])).collect();
        let has_colours = colours.len() > 2;
        let depth: Vec<_> = list.iter().copied().filter(|(own, _)| is(own, &["Z"])).collect();
        if has_colours && name.is_empty() && !depth.is_empty() {
            all.push(seen("Z", &depth));
        }
        all.push(seen(name, if has_colours { &colours } else { &list }));
    }
    let widest = || all.iter().max_by_key(|layer| layer.channels).cloned();
    let main = all.iter().find(|layer| layer.name.is_empty()).cloned().or_else(widest);
    let main = main.unwrap_or(LayerSeen { name: String::new(), bits: None, channels: None });
    (main, all.into_iter().filter(|layer| !layer.name.is_empty()).collect())
}

/// One layer with its channels.
fn seen(name: &str, channels: &[(&str, SampleType)]) -> LayerSeen {
    let has = |wanted: &str| channels.iter().any(|(own, _)| own.eq_ignore_ascii_case(wanted));
    let known = match (has("R") && has("G") && has("B"), has("A"), channels.len()) {
        (true, true, _) => Some(Channels::Rgba),
        (true, false, _) => Some(Channels::Rgb),
        (false, true, 2) => Some(Channels::GreyAlpha),
        (false, _, 3) => Some(Channels::Rgb),
        (false, false, 1) => Some(Channels::Grey),
        _ => None,
    };
    let all = |kind: SampleType| channels.iter().all(|(_, other)| *other == kind);
    let bits = [(SampleType::F16, Bits::Half), (SampleType::F32, Bits::Float), (SampleType::U32, Bits::ThirtyTwo)];
    let bits = bits.into_iter().find(|(kind, _)| all(*kind)).map(|(_, bits)| bits);
    LayerSeen { name: name.to_owned(), bits, channels: known }
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
