//! PNG (W3C Portable Network Graphics, third edition): the head is IHDR, the end an empty IEND chunk; every chunk has a
//! checksum, and so have the pixels before they are packed.

use std::io::{Cursor, Read, Seek, SeekFrom};

use truepath_core::catalogue::{Bits, Channels};
use truepath_core::picture::Content;
use truepath_core::verify::Picture;

use crate::stats::of_pixels;
use crate::{Bytes, Flaw, Type, besides_bytes, cut, disk, exif, tail};

pub struct Png;

/// An empty chunk named IEND and its CRC, 11.2.5.
const END: [u8; 12] = *b"\0\0\0\0IEND\xae\x42\x60\x82";

/// So much memory a head may take: a colour profile and other notes. Damaged ones must not ask for all there is.
const HEAD: usize = 64 << 20;

/// Signature, and the chunk IHDR with its CRC.
const FIRST: usize = 8 + 4 + 4 + 13 + 4;

/// What the chunk IHDR says, 11.2.1.
fn header(head: &[u8; FIRST]) -> Result<Picture, Flaw> {
    let four = |at: usize| u32::from_be_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]);
    if &head[8..16] != b"\0\0\0\x0dIHDR" || crc32fast::hash(&head[12..29]) != four(29) {
        return Err("its header is damaged".into());
    }
    let (width, height, depth, kind) = (four(16), four(20), head[24], head[25]);
    let is_known = match kind {
        0 => [1, 2, 4, 8, 16].contains(&depth),
        2 | 4 | 6 => [8, 16].contains(&depth),
        3 => [1, 2, 4, 8].contains(&depth),
        _ => false,
    };
    if !is_known
        || width == 0
        || height == 0
        || width.max(height) > 0x7fff_ffff
        || head[26..28] != [0, 0]
        || head[28] > 1
    {
        return Err("its header is damaged".into());
    }
    let mut besides = Vec::new();
    if kind == 3 {
        besides.push("its colours are in a palette".to_owned());
    } else if depth < 8 {
        besides.push(format!("it has {depth} bits a sample"));
    }
    Ok(Picture {
        bits: match depth {
            8 => Some(Bits::Eight),
            16 => Some(Bits::Sixteen),
            _ => None,
        },
        channels: match kind {
            0 => Some(Channels::Grey),
            2 => Some(Channels::Rgb),
            4 => Some(Channels::GreyAlpha),
            6 => Some(Channels::Rgba),
            _ => None,
        },
        besides,
        ..Picture::plain("png", width, height)
    })
}

/// Words for a file of several frames.
fn frames(count: u32) -> Option<String> {
    (count != 1).then(|| format!("it has {count} frames"))
}

impl Type for Png {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        let mut head = [0; FIRST];
        bytes.read_exact(&mut head).map_err(|_| cut())?;
        let mut picture = header(&head)?;
        // How many frames there are stands before the pixels, most often right behind the head.
        let mut next = [0; 16];
        if bytes.read_exact(&mut next).is_ok() && &next[..8] == b"\0\0\0\x08acTL" {
            picture.besides.extend(frames(u32::from_be_bytes([next[8], next[9], next[10], next[11]])));
        }
        if tail(bytes, length)? == END {
            return Ok(picture);
        }
        // Either a part is not there, or something follows the end.
        let mut at = 8;
        loop {
            let mut chunk = [0; 8];
            bytes.seek(SeekFrom::Start(at)).map_err(disk)?;
            let read = bytes.read_exact(&mut chunk);
            read.map_err(|_| Flaw::from("the file is cut off: it does not end with IEND"))?;
            at += 12 + u64::from(u32::from_be_bytes([chunk[0], chunk[1], chunk[2], chunk[3]]));
            if &chunk[4..] == b"IEND" && at <= length {
                picture.besides.push(besides_bytes(length - at));
                return Ok(picture);
            }
        }
    }

    fn decode(&self, bytes: &[u8], picture: &mut Picture, most: usize) -> Result<Content, Flaw> {
        let (end, notes) = chunks(bytes)?;
        // What a head says that lay behind other chunks is added here.
        for note in notes {
            if !picture.besides.contains(&note) {
                picture.besides.push(note);
            }
        }
        let rest = besides_bytes((bytes.len() - end) as u64);
        if end < bytes.len() && !picture.besides.contains(&rest) {
            picture.besides.push(rest);
        }
        let mut options = png::DecodeOptions::default();
        // The checksums of chunks were looked at already.
        options.set_ignore_adler32(false);
        options.set_ignore_crc(true);
        options.set_ignore_text_chunk(true);
        options.set_ignore_iccp_chunk(true);
        let mut decoder = png::Decoder::new_with_options(Cursor::new(&bytes[..end]), options);
        decoder.set_limits(png::Limits { bytes: most.saturating_add(HEAD) });
        decoder.set_transformations(png::Transformations::EXPAND);
        let mut reader = decoder.read_info().map_err(said)?;
        let size = reader.output_buffer_size().filter(|size| *size <= most);
        let mut data = vec![0; size.ok_or("the picture is too large to decode")?];
        let count = reader.info().animation_control().map_or(1, |control| control.num_frames.max(1));
        let info = reader.next_frame(&mut data).map_err(said)?;
        let content = shown(&data[..info.buffer_size()], (info.width, info.height), info.color_type, info.bit_depth);
        for _ in 1..count {
            reader.next_frame(&mut data).map_err(said)?;
        }
        reader.finish().map_err(said)?;
        Ok(content)
    }
}

/// What unpacked pixels come to.
fn shown(data: &[u8], (width, height): (u32, u32), kind: png::ColorType, depth: png::BitDepth) -> Content {
    let (size, sum) = ((width as usize, height as usize), u64::from(crc32fast::hash(data)));
    if depth == png::BitDepth::Sixteen {
        let words: Vec<u16> = data.chunks_exact(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]])).collect();
        of_pixels(size, kind.samples(), &words, sum)
    } else {
        of_pixels(size, kind.samples(), data, sum)
    }
}

/// Walks all chunks: where the last one ends, and what some of them say that no plan asks for.
fn chunks(bytes: &[u8]) -> Result<(usize, Vec<String>), Flaw> {
    let (mut at, mut notes, mut data) = (8, Vec::new(), 0);
    loop {
        let head = bytes.get(at..at + 8).ok_or_else(cut)?;
        let length = u32::from_be_bytes([head[0], head[1], head[2], head[3]]) as usize;
        let kind = &head[4..8];
        let end = at.saturating_add(12).saturating_add(length);
        let body = bytes.get(at + 8..end - 4).ok_or_else(cut)?;
        let sum = bytes.get(end - 4..end).ok_or_else(cut)?;
        if !kind.iter().all(u8::is_ascii_alphabetic) {
            return Err("the name of a chunk is damaged".into());
        }
        if crc32fast::hash(&bytes[at + 4..end - 4]).to_be_bytes() != *sum {
            return Err(format!("the checksum of its chunk {} is wrong", String::from_utf8_lossy(kind)).into());
        }
        match kind {
            b"IHDR" if at > 8 => return Err("it has two headers".into()),
            b"acTL" if body.len() == 8 => {
                notes.extend(frames(u32::from_be_bytes([body[0], body[1], body[2], body[3]])))
            }
            b"eXIf" => notes.extend(exif::turned(body)),
            // All of them follow each other, 5.6.
            b"IDAT" if data > 0 && data != at => return Err("its pixel data is split by other chunks".into()),
            b"IDAT" => data = end,
            b"IEND" => return Ok((end, notes)),
            _ => {}
        }
        at = end;
    }
}

/// What the decoder found, in words of our own.
pub fn said(error: png::DecodingError) -> Flaw {
    match error {
        png::DecodingError::IoError(error) => disk(error),
        png::DecodingError::LimitsExceeded => "it asks for more memory than a picture of its size needs".into(),
        _ => "its pixels are damaged: they cannot be decompressed".into(),
    }
}
