//! Matroska (RFC 9559) and WebM: EBML elements (RFC 8794), walked by their heads.

use std::collections::HashMap;

use truepath_core::catalogue::{AsWritten, AudioCodec, codecs};
use truepath_core::verify::{Footage, Fps, SoundTrack};

use super::{MovieBytes, codec, cut, usual_rate};
use crate::Flaw;

/// An element: what it is, where its content begins, and how long that is; `None` where that was left open.
struct Element {
    id: u64,
    start: u64,
    size: Option<u64>,
}

/// Elements that hold others that matter.
mod id {
    pub const SEGMENT: u64 = 0x1853_8067;
    pub const INFO: u64 = 0x1549_a966;
    pub const SCALE: u64 = 0x2a_d7b1;
    pub const TRACKS: u64 = 0x1654_ae6b;
    pub const TRACK: u64 = 0xae;
    pub const NUMBER: u64 = 0xd7;
    pub const KIND: u64 = 0x83;
    pub const CODEC: u64 = 0x86;
    pub const PRIVATE: u64 = 0x63a2;
    pub const EACH: u64 = 0x23_e383;
    pub const PRE_SKIP: u64 = 0x56aa;
    pub const VIDEO: u64 = 0xe0;
    pub const WIDTH: u64 = 0xb0;
    pub const HEIGHT: u64 = 0xba;
    pub const ALPHA: u64 = 0x53c0;
    pub const AUDIO: u64 = 0xe1;
    pub const RATE: u64 = 0xb5;
    pub const CHANNELS: u64 = 0x9f;
    pub const CLUSTER: u64 = 0x1f43_b675;
    pub const TIME: u64 = 0xe7;
    pub const SIMPLE: u64 = 0xa3;
    pub const GROUP: u64 = 0xa0;
    pub const BLOCK: u64 = 0xa1;
    pub const LASTS: u64 = 0x9b;
    pub const DOC: u64 = 0x4282;
    pub const TAGS: u64 = 0x1254_c367;
    pub const TAG: u64 = 0x7373;
    pub const TARGETS: u64 = 0x63c0;
    pub const TARGET: u64 = 0x63c5;
    pub const SIMPLE_TAG: u64 = 0x67c8;
    pub const TAG_NAME: u64 = 0x45a3;
    pub const TAG_TEXT: u64 = 0x4487;
    pub const UID: u64 = 0x73c5;
}

#[derive(Default)]
struct MatroskaTrack {
    number: u64,
    uid: u64,
    kind: u64,
    codec: String,
    private: Vec<u8>,
    /// Nanoseconds of a frame.
    each: u64,
    size: (u32, u32),
    alpha: bool,
    rate: f64,
    channels: u16,
    frames: u64,
    first: Option<(u64, u64)>,
    /// The earliest and the latest time, in ticks.
    times: Option<(i64, i64)>,
    /// What the last frame was said to last, in ticks.
    lasts: Option<u64>,
}

/// The number of bytes and the value of a number of variable length; `keep` leaves its mark in it.
fn variable(bytes: &[u8], keep: bool) -> Option<(usize, u64)> {
    let first = *bytes.first()?;
    let width = first.leading_zeros() as usize + 1;
    let own = bytes.get(..width).filter(|_| width <= 8)?;
    let value = own.iter().fold(0u64, |value, byte| value << 8 | u64::from(*byte));
    Some((width, if keep { value } else { value & !(1 << (7 * width)) }))
}

fn element(source: &mut MovieBytes, at: u64, end: u64) -> Result<Element, Flaw> {
    let head = source.at(at, 12.min(source.length.saturating_sub(at)))?;
    let (first, id) = variable(&head, true).filter(|(width, _)| *width <= 4).ok_or("a part of it is damaged")?;
    let (second, size) = variable(head.get(first..).unwrap_or_default(), false).ok_or_else(cut)?;
    let start = at + (first + second) as u64;
    let open = size == (1u64 << (7 * second)) - 1;
    let size = (!open).then_some(size);
    if size.is_some_and(|size| start.checked_add(size).is_none_or(|last| last > end)) {
        return Err(cut());
    }
    Ok(Element { id, start, size })
}

fn unsigned(bytes: &[u8]) -> u64 {
    bytes.iter().take(8).fold(0, |value, byte| value << 8 | u64::from(*byte))
}

fn float(bytes: &[u8]) -> f64 {
    match bytes.len() {
        4 => f64::from(f32::from_bits(unsigned(bytes) as u32)),
        8 => f64::from_bits(unsigned(bytes)),
        _ => 0.0,
    }
}

/// The elements in some bytes.
fn children(bytes: &[u8]) -> impl Iterator<Item = (u64, &[u8])> {
    let mut rest = bytes;
    std::iter::from_fn(move || {
        let (first, id) = variable(rest, true)?;
        let (second, size) = variable(rest.get(first..)?, false)?;
        let content = rest.get(first + second..)?;
        let size = usize::try_from(size).ok()?.min(content.len());
        rest = &content[size..];
        Some((id, &content[..size]))
    })
}

pub fn read(source: &mut MovieBytes) -> Result<Footage, Flaw> {
    let length = source.length;
    let head = element(source, 0, length)?;
    let about = source.at(head.start, head.size.ok_or("a part of it is damaged")?)?;
    let doc = children(&about).find(|(id, _)| *id == id::DOC).map(|(_, text)| text.to_vec());
    let segment = element(source, head.start + about.len() as u64, length)?;
    if segment.id != id::SEGMENT {
        return Err("a part of it is damaged".into());
    }
    // A finished file says how long it is.
    let size = segment.size.ok_or("it was not finished: it does not say where it ends")?;
    let end = segment.start + size;
    let mut scale = 1_000_000;
    let mut tracks: Vec<MatroskaTrack> = Vec::new();
    let mut tags = HashMap::new();
    let mut at = segment.start;
    while at < end {
        let own = element(source, at, end)?;
        let size = own.size.ok_or("it was not finished: a part of it does not say where it ends")?;
        match own.id {
            id::INFO => scale = time_scale(&source.at(own.start, size)?).unwrap_or(scale).max(1),
            id::TRACKS => {
                let bytes = source.at(own.start, size)?;
                tracks = children(&bytes).filter(|(id, _)| *id == id::TRACK).map(|(_, track)| entry(track)).collect();
            }
            id::TAGS => read_tags(&source.at(own.start, size)?, &mut tags),
            id::CLUSTER => cluster(source, &own, &mut tracks)?,
            _ => {}
        }
        at = own.start + size;
    }
    let pictures = tracks.iter().find(|track| track.kind == 1).ok_or("it has no pictures")?;
    let (_, _) = pictures.first.ok_or("it has no pictures")?;
    let first = pictures.first.map(|(place, size)| source.first(place, size)).unwrap_or_default();
    let tick = scale as f64 / 1e9;
    let fps = rate(pictures, tick);
    let coded = coded(pictures, &first);
    let sound = tracks.iter().find(|track| track.kind == 2).map(|track| SoundTrack {
        codec: sound_codec(&track.codec),
        rate: track.rate as u32,
        channels: track.channels,
        seconds: tags.get(&track.uid).copied().unwrap_or_else(|| seconds(track, scale)),
    });
    let mut footage = Footage {
        container: if doc.as_deref() == Some(b"webm") { "webm" } else { "mkv" },
        width: pictures.size.0,
        height: pictures.size.1,
        fps,
        frames: pictures.frames,
        sound,
        ..Footage::default()
    };
    coded.put_into(&mut footage);
    if pictures.alpha {
        footage.alpha = Some(true);
    }
    Ok(footage)
}

/// Nanoseconds of a tick.
fn time_scale(info: &[u8]) -> Option<u64> {
    children(info).find(|(id, _)| *id == id::SCALE).map(|(_, value)| unsigned(value))
}

/// Seconds from the first to the end of the last frame of a track, whose times are in so many nanoseconds.
fn seconds(track: &MatroskaTrack, scale: u64) -> f64 {
    let (early, late) = track.times.unwrap_or_default();
    let span = (late - early) as f64;
    // The last frame lasts as long as it says, or as the others do.
    let last = match (track.lasts, track.each) {
        (Some(lasts), _) => lasts as f64,
        (None, each) if each > 0 => each as f64 / scale as f64,
        _ => span / (track.frames.max(2) - 1) as f64,
    };
    (span + last) * (scale as f64 / 1e9)
}

/// Frames per second, as they are told or as the times of the frames have it; `tick` is how exact these are, in seconds.
fn rate(pictures: &MatroskaTrack, tick: f64) -> Option<Fps> {
    if pictures.each > 0 {
        usual_rate(1e9 / pictures.each as f64, 1e-5)
    } else {
        let (early, late) = pictures.times.unwrap_or_default();
        let span = (late - early) as f64 * tick;
        usual_rate((pictures.frames - 1) as f64 / span, 2.0 * tick / span.max(tick))
    }
}

/// Codec names: Matroska codec mappings.
fn coded(track: &MatroskaTrack, first: &[u8]) -> codec::Coded {
    match track.codec.as_str() {
        "V_MPEG4/ISO/AVC" => codec::h264(&track.private),
        "V_MPEGH/ISO/HEVC" => codec::hevc(&track.private),
        "V_AV1" => codec::av1(&track.private),
        "V_VP9" => codec::vp9_frame(first),
        "V_FFV1" => codec::of(b"FFV1", &track.private, first),
        "V_MJPEG" => codec::jpeg(first),
        // The mark that MOV gives it; the frame stands without its own size and mark.
        "V_PRORES" => {
            let framed = [&[0, 0, 0, 0], b"icpf".as_slice(), first].concat();
            codec::of(track.private.get(..4).unwrap_or(b"apcn"), &[], &framed)
        }
        // A BITMAPINFOHEADER of 40 bytes, its mark at 16, a record behind it.
        "V_MS/VFW/FOURCC" => {
            codec::of(track.private.get(16..20).unwrap_or_default(), track.private.get(40..).unwrap_or_default(), first)
        }
        other => codec::Coded { codec: AsWritten::Other(other.to_owned()), ..codec::Coded::default() },
    }
}

fn sound_codec(name: &str) -> AsWritten<&'static AudioCodec> {
    let known: &'static AudioCodec = match name {
        name if name.starts_with("A_AAC") => &codecs::AAC,
        "A_OPUS" => &codecs::OPUS,
        "A_FLAC" => &codecs::FLAC,
        name if name.starts_with("A_PCM") => &codecs::PCM,
        other => return AsWritten::Other(other.to_owned()),
    };
    AsWritten::Known(known)
}

fn entry(bytes: &[u8]) -> MatroskaTrack {
    let mut track = MatroskaTrack { rate: 8000.0, channels: 1, ..MatroskaTrack::default() };
    for (id, value) in children(bytes) {
        match id {
            id::NUMBER => track.number = unsigned(value),
            id::UID => track.uid = unsigned(value),
            id::KIND => track.kind = unsigned(value),
            id::CODEC => track.codec = String::from_utf8_lossy(value).trim_end_matches('\0').to_owned(),
            id::PRIVATE => track.private = value.to_vec(),
            id::EACH => track.each = unsigned(value),
            id::PRE_SKIP => {}
            id::VIDEO => {
                for (id, value) in children(value) {
                    match id {
                        id::WIDTH => track.size.0 = u32::try_from(unsigned(value)).unwrap_or(0),
                        id::HEIGHT => track.size.1 = u32::try_from(unsigned(value)).unwrap_or(0),
                        id::ALPHA => track.alpha = unsigned(value) == 1,
                        _ => {}
                    }
                }
            }
            id::AUDIO => {
                for (id, value) in children(value) {
                    match id {
                        id::RATE => track.rate = float(value),
                        id::CHANNELS => track.channels = u16::try_from(unsigned(value)).unwrap_or(0),
                        _ => {}
                    }
                }
            }
            _ => {}
        }
    }
    track
}

/// The frames of a cluster, by the heads of their blocks.
fn cluster(source: &mut MovieBytes, cluster: &Element, tracks: &mut [MatroskaTrack]) -> Result<(), Flaw> {
    let end = cluster.start + cluster.size.unwrap_or(0);
    let (mut at, mut base) = (cluster.start, 0);
    while at < end {
        let own = element(source, at, end)?;
        let size = own.size.ok_or_else(cut)?;
        match own.id {
            id::TIME => base = i64::try_from(unsigned(&source.at(own.start, size.min(8))?)).unwrap_or(0),
            id::SIMPLE => block(source, (own.start, size), base, tracks)?,
            id::GROUP => {
                let (mut at, end) = (own.start, own.start + size);
                let (mut number, mut lasts) = (None, None);
                while at < end {
                    let inner = element(source, at, end)?;
                    let size = inner.size.ok_or_else(cut)?;
                    match inner.id {
                        id::BLOCK => {
                            block(source, (inner.start, size), base, tracks)?;
                            number = variable(&source.at(inner.start, size.min(8))?, false).map(|(_, number)| number);
                        }
                        id::LASTS => lasts = Some(unsigned(&source.at(inner.start, size.min(8))?)),
                        _ => {}
                    }
                    at = inner.start + size;
                }
                tracks.iter_mut().filter(|track| Some(track.number) == number).for_each(|track| track.lasts = lasts);
            }
            _ => {}
        }
        at = own.start + size;
    }
    Ok(())
}

/// RFC 9559, 10: the track, the time against the cluster's, flags.
fn block(
    source: &mut MovieBytes,
    (start, size): (u64, u64),
    base: i64,
    tracks: &mut [MatroskaTrack],
) -> Result<(), Flaw> {
    let head = source.at(start, size.min(12))?;
    let (width, number) = variable(&head, false).ok_or("a part of it is damaged")?;
    let Some(track) = tracks.iter_mut().find(|track| track.number == number) else { return Ok(()) };
    let time = base.saturating_add(i64::from(super::number::be16(&head, width) as i16));
    let (early, late) = track.times.unwrap_or((time, time));
    track.times = Some((early.min(time), late.max(time)));
    track.frames += 1;
    track.lasts = None;
    let skip = width as u64 + 3;
    track.first = track.first.or((size > skip).then(|| (start + skip, size - skip)));
    Ok(())
}

/// How long tracks are, where tags say so: hours, minutes, seconds.
fn read_tags(bytes: &[u8], tags: &mut HashMap<u64, f64>) {
    for (_, tag) in children(bytes).filter(|(id, _)| *id == id::TAG) {
        let targets = children(tag).filter(|(id, _)| *id == id::TARGETS).flat_map(|(_, targets)| children(targets));
        let target = targets.filter(|(id, _)| *id == id::TARGET).map(|(_, value)| unsigned(value)).last();
        for (_, simple) in children(tag).filter(|(id, _)| *id == id::SIMPLE_TAG) {
            let value = |wanted: u64| children(simple).find(|(id, _)| *id == wanted).map(|(_, value)| value);
            if value(id::TAG_NAME) != Some(b"DURATION") {
                continue;
            }
            let text = value(id::TAG_TEXT).map(|text| String::from_utf8_lossy(text).trim_end_matches('\0').to_owned());
            let parts = text.as_deref().unwrap_or("").split(':').map(str::parse::<f64>).collect::<Result<Vec<_>, _>>();
            if let (Some(target), Ok(parts)) = (target, parts) {
                tags.insert(target, parts.iter().fold(0.0, |sum, part| sum * 60.0 + part));
            }
        }
    }
}
