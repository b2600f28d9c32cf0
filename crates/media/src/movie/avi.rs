//! AVI (AVI RIFF File Reference; OpenDML AVI File Format Extensions 1.02 for files beyond 1 GB).

use truepath_core::catalogue::{AsWritten, codecs};
use truepath_core::verify::{Footage, Fps, SoundTrack};

use super::number::{le16, le32};
use super::{MovieBytes, codec, cut};
use crate::Flaw;

#[derive(Default)]
struct Stream {
    kind: [u8; 4],
    scale: u32,
    rate: u32,
    length: u32,
    format: Vec<u8>,
    frames: u64,
    bytes: u64,
    first: Option<(u64, u64)>,
}

pub fn read(source: &mut MovieBytes) -> Result<Footage, Flaw> {
    let mut streams: Vec<Stream> = Vec::new();
    let (mut at, mut claimed) = (0, 0);
    while at + 12 <= source.length {
        let head = source.at(at, 12)?;
        if &head[..4] != b"RIFF" {
            break;
        }
        let size = u64::from(le32(&head, 4));
        let end = at + 8 + size;
        if end > source.length {
            return Err(cut());
        }
        claimed += riff(source, (at + 12, end), &mut streams)?;
        at = end + size % 2;
    }
    let pictures = streams.iter().find(|stream| &stream.kind == b"vids").ok_or("it has no pictures")?;
    if pictures.frames == 0 {
        return Err("it has no pictures".into());
    }
    if claimed > 0 && pictures.frames < u64::from(pictures.length) {
        return Err(cut());
    }
    let first = pictures.first.map(|(place, size)| source.first(place, size)).unwrap_or_default();
    let format = &pictures.format;
    let coded = codec::of(format.get(16..20).unwrap_or_default(), format.get(40..).unwrap_or_default(), &first);
    let sound = streams.iter().find(|stream| &stream.kind == b"auds").map(|stream| {
        let per_second = le32(&stream.format, 8);
        SoundTrack {
            codec: match le16(&stream.format, 0) {
                1 | 3 | 0xfffe => AsWritten::Known(&codecs::PCM),
                0xff | 0x1610 | 0x706d => AsWritten::Known(&codecs::AAC),
                other => AsWritten::Other(format!("wave format {other:#x}")),
            },
            rate: le32(&stream.format, 4),
            channels: le16(&stream.format, 2),
            seconds: match stream.scale {
                0 => stream.bytes as f64 / f64::from(per_second.max(1)),
                scale => f64::from(stream.length) * f64::from(scale) / f64::from(stream.rate.max(1)),
            },
        }
    });
    let mut footage = Footage {
        container: "avi",
        width: le32(format, 4),
        height: (le32(format, 8) as i32).unsigned_abs(),
        fps: Fps::new(pictures.rate, pictures.scale),
        frames: pictures.frames,
        sound,
        ..Footage::default()
    };
    coded.put_into(&mut footage);
    Ok(footage)
}

/// One RIFF list of a file; 1 where it holds the heads.
fn riff(source: &mut MovieBytes, (mut at, end): (u64, u64), streams: &mut Vec<Stream>) -> Result<u64, Flaw> {
    let mut heads = 0;
    while at + 8 <= end {
        let head = source.at(at, 12.min(end - at))?;
        let size = u64::from(le32(&head, 4));
        let inside = (at + 8, at + 8 + size);
        if inside.1 > end {
            return Err(cut());
        }
        match (&head[..4], head.get(8..12)) {
            (b"LIST", Some(b"hdrl")) => {
                let bytes = source.at(at + 12, size.saturating_sub(4))?;
                *streams =
                    chunks(&bytes).filter(|(mark, _)| *mark == b"LIST").filter_map(|(_, list)| stream(list)).collect();
                heads = 1;
            }
            (b"LIST", Some(b"movi")) => frames(source, (at + 12, inside.1), streams)?,
            _ => {}
        }
        at = inside.1 + size % 2;
    }
    Ok(heads)
}

fn chunks(bytes: &[u8]) -> impl Iterator<Item = (&[u8], &[u8])> {
    let mut rest = bytes;
    std::iter::from_fn(move || {
        let (mark, size) = (rest.get(..4)?, le32(rest, 4) as usize);
        let content = rest.get(8..)?;
        let own = content.get(..size.min(content.len()))?;
        rest = content.get((size + size % 2).min(content.len())..)?;
        Some((mark, own))
    })
}

fn stream(list: &[u8]) -> Option<Stream> {
    let inside = list.strip_prefix(b"strl")?;
    let mut stream = Stream::default();
    for (mark, content) in chunks(inside) {
        match mark {
            b"strh" => {
                stream.kind.copy_from_slice(content.get(..4)?);
                (stream.scale, stream.rate, stream.length) = (le32(content, 20), le32(content, 24), le32(content, 32));
            }
            b"strf" => stream.format = content.to_vec(),
            _ => {}
        }
    }
    Some(stream)
}

/// Every chunk of pictures or sound: two digits of its stream, then what it is.
fn frames(source: &mut MovieBytes, (mut at, end): (u64, u64), streams: &mut [Stream]) -> Result<(), Flaw> {
    while at + 8 <= end {
        let head = source.at(at, 8)?;
        let size = u64::from(le32(&head, 4));
        if &head[..4] == b"LIST" {
            // A list of chunks that belong together.
            at += 12;
            continue;
        }
        if at + 8 + size > end {
            return Err(cut());
        }
        let number = std::str::from_utf8(&head[..2]).ok().and_then(|text| text.parse::<usize>().ok());
        if let Some(stream) = number.and_then(|number| streams.get_mut(number)).filter(|_| head[2..4] != *b"ix") {
            stream.frames += 1;
            stream.bytes += size;
            stream.first = stream.first.or((size > 0).then_some((at + 8, size)));
        }
        at += 8 + size + size % 2;
    }
    Ok(())
}
