//! OpenEXR (file layout, version 2): after the headers stands a table with the place of every chunk. A file that was left
//! half-written has an empty table or chunks beyond its end.

mod deep;
mod headers;
mod unpack;

use std::collections::HashSet;
use std::io::Cursor;

use exr::block::UncompressedBlock;
use exr::block::chunk::Chunk;
use exr::compression::Compression;
use exr::error::Error;
use exr::meta::attribute::LineOrder;
use exr::meta::header::Header;
use exr::meta::{BlockDescription, MetaData};
use exr::prelude::{SampleType, f16};
use half::slice::{HalfBitsSliceExt, HalfFloatSliceExt};
use truepath_core::catalogue::{self, AsWritten, Bits, Channels};
use truepath_core::picture::Content;
use truepath_core::verify::{LayerSeen, Picture};

use headers::{chunks, headers, headers_of, room};

use crate::stats::{Channel, Shows, StatsPlane, content};
use crate::{Bytes, Flaw, Type, cut, disk};

pub struct Exr;

impl Type for Exr {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        let (meta, table) = headers_of(bytes)?;
        let end = chunks(bytes, table, length, &meta)?;
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
        let side = |pixels: usize| u32::try_from(pixels).map_err(|_| Flaw::from("its header is damaged"));
        let (main, layers) = told(&channels);
        let compression = header.compression;
        let alike = meta.headers.iter().all(|other| other.compression == compression);
        let mut besides = Vec::new();
        if let Some(rest) = end.map(|end| length - end).filter(|rest| *rest > 0) {
            besides.push(crate::besides_bytes(rest));
        }
        Ok(Picture {
            bits: main.bits,
            channels: main.channels,
            compression: if alike { compression_name(compression) } else { None },
            layers,
            stored: meta.headers.iter().find_map(stored),
            besides,
            unproven: meta.headers.iter().find_map(unread),
            ..Picture::plain("exr", side(shown.x())?, side(shown.y())?)
        })
    }

    fn decode(&self, bytes: &[u8], picture: &mut Picture, most: usize) -> Result<Content, Flaw> {
        if picture.unproven.is_some() {
            return Ok(Content::default());
        }
        let (meta, mut table) = headers(bytes).map_err(said)?;
        room(&meta, most, bytes.len() as u64)?;
        let main = main_layer(&meta);
        let (mut channels, mut sum) = (Vec::new(), crc32fast::Hasher::new());
        for (part, header) in meta.headers.iter().enumerate() {
            let places = bytes.get(table..table + header.chunk_count * 8).ok_or_else(cut)?;
            table += places.len();
            let places = places.chunks_exact(8).map(|place| {
                usize::try_from(u64::from_le_bytes(place.try_into().unwrap_or_default())).unwrap_or(usize::MAX)
            });
            if header.deep {
                deep::read(bytes, places, (&meta, part), &mut sum)?;
                continue;
            }
            if unpack::is_thinned(header) {
                unpack::thinned(bytes, places, (&meta, part), &mut sum)?;
                continue;
            }
            let mut rows = ChannelRows::of(header);
            let mut seen = HashSet::new();
            for place in places {
                let mut chunk = Cursor::new(bytes.get(place..).ok_or_else(cut)?);
                let chunk = Chunk::read(&mut chunk, &meta).map_err(said)?;
                if chunk.layer_index != part {
                    return Err("an offset in its table belongs to another part".into());
                }
                let block = UncompressedBlock::decompress_chunk(chunk, &meta, true).map_err(said)?;
                if !seen.insert((
                    block.index.level.0,
                    block.index.level.1,
                    block.index.pixel_position.0,
                    block.index.pixel_position.1,
                )) {
                    return Err("a part of the picture is stored twice, and another is missing".into());
                }
                rows.take(&block, header, &mut sum);
            }
            let own = rows.end(header);
            channels.extend(own.into_iter().zip(&header.channels.list).map(|(channel, about)| {
                (channel, shows(&full_name(&meta, part, &about.name.to_string()), main.as_deref()))
            }));
        }
        Ok(content(&channels, u64::from(sum.finalize())))
    }
}

/// Where the pixels that a part stores lie, if they are not just those that are shown.
fn stored(header: &Header) -> Option<String> {
    let (shown, own) = (header.shared_attributes.display_window, header.data_window());
    let place = |window: exr::prelude::IntegerBounds| {
        (window.position.x(), window.position.y(), window.size.x(), window.size.y())
    };
    let (x, y, width, height) = place(own);
    let (left, top, across, down) = place(shown);
    (place(own) != place(shown)).then(|| {
        let (x, y) = (i64::from(x) - i64::from(left), i64::from(y) - i64::from(top));
        format!("of {across}x{down} pixels it stores {width}x{height} from {x},{y} on")
    })
}

/// Why the pixels of a part cannot be looked into here.
fn unread(header: &Header) -> Option<String> {
    if header.deep && !matches!(header.compression, Compression::Uncompressed | Compression::RLE | Compression::ZIP1) {
        return Some("its deep pixels have a compression that True Path cannot read".to_owned());
    }
    let plain = matches!(
        header.compression,
        Compression::Uncompressed | Compression::RLE | Compression::ZIP1 | Compression::ZIP16
    );
    if !header.deep && unpack::is_thinned(header) && !(plain && header.blocks == BlockDescription::ScanLines) {
        return Some(
            "some of its channels have fewer samples than it has pixels, which True Path cannot read".to_owned(),
        );
    }
    None
}

/// The name of a channel with that of its part, where there are several.
fn full_name(meta: &MetaData, part: usize, channel: &str) -> String {
    let own = meta.headers[part].own_attributes.layer_name.as_ref();
    match own.filter(|_| meta.headers.len() > 1) {
        Some(part) => format!("{part}.{channel}"),
        None => channel.to_owned(),
    }
}

/// A name taken apart: its layer and its channel.
fn split(name: &str) -> (&str, &str) {
    name.rsplit_once('.').unwrap_or(("", name))
}

/// The layer whose colours are the picture: the one without a name, else the first with red, green and blue, else the first.
fn main_layer(meta: &MetaData) -> Option<String> {
    let mut names = Vec::new();
    for (part, header) in meta.headers.iter().enumerate() {
        names.extend(header.channels.list.iter().map(|channel| full_name(meta, part, &channel.name.to_string())));
    }
    let has_red = |name: &&String| split(name).1.eq_ignore_ascii_case("R");
    let layer = |name: &String| split(name).0.to_owned();
    let unnamed = names.iter().find(|name| split(name).0.is_empty()).map(layer);
    unnamed.or_else(|| names.iter().find(has_red).map(layer)).or_else(|| names.first().map(layer))
}

/// What a channel shows.
fn shows(name: &str, main: Option<&str>) -> Shows {
    let (layer, channel) = split(name);
    match channel {
        _ if Some(layer) != main => Shows::Data,
        "A" | "a" => Shows::Alpha,
        "Z" | "z" if layer.is_empty() => Shows::Data,
        _ => Shows::Colour,
    }
}

/// The rows of all channels of a part as they come.
struct ChannelRows {
    planes: Vec<StatsPlane<f32>>,
    /// Samples of parts whose rows do not come one after the other, by channel.
    gathered: Option<Vec<Vec<f32>>>,
    width: usize,
    row: Vec<f32>,
}

impl ChannelRows {
    fn of(header: &Header) -> ChannelRows {
        let (width, height) = (header.layer_size.x(), header.layer_size.y());
        let count = header.channels.list.len();
        let in_order = header.blocks == BlockDescription::ScanLines && header.line_order == LineOrder::Increasing;
        ChannelRows {
            planes: (0..count).map(|_| StatsPlane::new(width, height, 1)).collect(),
            gathered: (!in_order).then(|| vec![vec![0.0; width * height]; count]),
            width,
            row: Vec::new(),
        }
    }

    /// Takes in the lines of a block; smaller copies of the picture are only unpacked.
    fn take(&mut self, block: &UncompressedBlock, header: &Header, sum: &mut crc32fast::Hasher) {
        sum.update(&block.data);
        if (block.index.level.0, block.index.level.1) != (0, 0) {
            return;
        }
        for line in block.lines(&header.channels) {
            let at = line.location;
            samples(line.value, header.channels.list[at.channel].sample_type, &mut self.row);
            match &mut self.gathered {
                Some(gathered) => {
                    let start = at.position.y() * self.width + at.position.x();
                    gathered[at.channel][start..start + self.row.len()].copy_from_slice(&self.row);
                }
                None => self.planes[at.channel].row(&self.row),
            }
        }
    }

    fn end(mut self, header: &Header) -> Vec<Channel> {
        for (plane, samples) in self.planes.iter_mut().zip(self.gathered.iter().flatten()) {
            samples.chunks_exact(header.layer_size.x().max(1)).for_each(|row| plane.row(row));
        }
        self.planes.into_iter().flat_map(StatsPlane::end).collect()
    }
}

/// A file whose lines are read one after the other.
pub(crate) struct Lines<'b> {
    /// Its heads.
    pub meta: MetaData,
    bytes: &'b [u8],
    /// Where the table of each part begins.
    tables: Vec<usize>,
}

/// Hears of a line: which of the wanted channels it is of, where its first sample lies in the window of its part, and its
/// samples.
pub(crate) type OnLine<'l> = &'l mut dyn FnMut(usize, (usize, usize), PackedRow<'_>);

/// The samples of a line as they are packed.
#[derive(Clone, Copy)]
pub(crate) struct PackedRow<'r> {
    bytes: &'r [u8],
    kind: SampleType,
}

impl PackedRow<'_> {
    /// As numbers.
    pub fn numbers(self, row: &mut Vec<f32>) {
        samples(self.bytes, self.kind, row);
    }

    /// As whole numbers; nothing where they are none.
    pub fn whole(self) -> impl Iterator<Item = u32> {
        let bytes = if self.kind == SampleType::U32 { self.bytes } else { &[] };
        bytes.as_chunks::<4>().0.iter().map(|four| u32::from_ne_bytes(*four))
    }
}

impl Lines<'_> {
    /// Reads the headers. The pixels have to fit into `most` bytes for each layer.
    pub fn of(bytes: &[u8], most: usize) -> Result<Lines<'_>, Flaw> {
        let (meta, mut next) = headers(bytes).map_err(said)?;
        room(&meta, most, bytes.len() as u64)?;
        let mut tables = Vec::new();
        for header in &meta.headers {
            tables.push(next);
            next = next.saturating_add(header.chunk_count.saturating_mul(8));
        }
        Ok(Lines { meta, bytes, tables })
    }

    /// Unpacks the lines of some channels, each told by its part and its place in that, in the largest size that there is.
    pub fn read(&self, wanted: &[(usize, usize)], hear: OnLine<'_>) -> Result<(), Flaw> {
        for (part, header) in self.meta.headers.iter().enumerate() {
            let own: Vec<Option<usize>> = (0..header.channels.list.len())
                .map(|channel| wanted.iter().position(|place| *place == (part, channel)))
                .collect();
            if own.iter().all(Option::is_none) {
                continue;
            }
            if header.deep || unpack::is_thinned(header) {
                return Err("its pixels are stored in a way that True Path cannot read".into());
            }
            let table = self.bytes.get(self.tables[part]..).and_then(|rest| rest.get(..header.chunk_count * 8));
            for place in table.ok_or_else(cut)?.chunks_exact(8) {
                let place = usize::try_from(u64::from_le_bytes(place.try_into().unwrap_or_default()));
                let chunk = place.ok().and_then(|place| self.bytes.get(place..)).ok_or_else(cut)?;
                let chunk = Chunk::read(&mut Cursor::new(chunk), &self.meta).map_err(said)?;
                if chunk.layer_index != part {
                    return Err("an offset in its table belongs to another part".into());
                }
                let block = UncompressedBlock::decompress_chunk(chunk, &self.meta, true).map_err(said)?;
                if (block.index.level.0, block.index.level.1) != (0, 0) {
                    continue;
                }
                for line in block.lines(&header.channels) {
                    let at = line.location;
                    if let Some(own) = own[at.channel] {
                        let kind = header.channels.list[at.channel].sample_type;
                        hear(own, (at.position.x(), at.position.y()), PackedRow { bytes: line.value, kind });
                    }
                }
            }
        }
        Ok(())
    }
}

/// A line's samples as numbers.
fn samples(bytes: &[u8], kind: SampleType, row: &mut Vec<f32>) {
    let (twos, fours) = (bytes.as_chunks::<2>().0, bytes.as_chunks::<4>().0);
    row.resize(if kind == SampleType::F16 { twos.len() } else { fours.len() }, 0.0);
    match kind {
        SampleType::F16 => {
            let mut halves = vec![0u16; twos.len()];
            bytemuck::cast_slice_mut(&mut halves).copy_from_slice(twos.as_flattened());
            halves.reinterpret_cast::<f16>().convert_to_f32_slice(row);
        }
        SampleType::F32 => bytemuck::cast_slice_mut(row).copy_from_slice(fours.as_flattened()),
        SampleType::U32 => {
            let numbers = fours.iter().map(|four| u32::from_ne_bytes(*four) as f32);
            row.iter_mut().zip(numbers).for_each(|(sample, number)| *sample = number);
        }
    }
}

/// What the decoder found, in words of our own.
pub fn said(error: Error) -> Flaw {
    match error {
        Error::Io(error) => disk(error),
        Error::NotSupported(_) => "its pixels are stored in a way that True Path cannot read".into(),
        Error::Invalid(_) | Error::Aborted => "its head or its pixels are damaged".into(),
    }
}

/// A compression as the catalogue names it.
fn compression_name(compression: Compression) -> Option<AsWritten<catalogue::Compression>> {
    Some(AsWritten::Known(match compression {
        Compression::Uncompressed => catalogue::Compression::None,
        Compression::RLE => catalogue::Compression::Rle,
        Compression::ZIP1 => catalogue::Compression::Zips,
        Compression::ZIP16 => catalogue::Compression::Zip,
        Compression::PIZ => catalogue::Compression::Piz,
        Compression::PXR24 => catalogue::Compression::Pxr24,
        Compression::B44 => catalogue::Compression::B44,
        Compression::B44A => catalogue::Compression::B44a,
        Compression::DWAA(_) => catalogue::Compression::Dwaa,
        Compression::DWAB(_) => catalogue::Compression::Dwab,
        _ => return None,
    }))
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
