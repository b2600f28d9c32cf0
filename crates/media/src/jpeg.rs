//! JPEG (ITU-T T.81), as strict as its strictest readers: segments follow each other without a byte between them, restart
//! markers come in their order, every code is one of its table, and picture data end where their last block ends.
//!
//! Nothing but the entropy coding can fail, so that is what is read: block by block, for sequential and progressive pictures.
//! The mean of every block comes out of it, which is a picture of an eighth of the size.

mod bits;
mod scan;
mod tables;

use std::io::{Read, Seek, SeekFrom};

use truepath_core::catalogue::{Bits, Channels};
use truepath_core::picture::{Content, MOST_CELLS};
use truepath_core::verify::Picture;

use self::scan::{Coder, Component, Frame};
use self::tables::Huffman;
use crate::stats::{Shows, StatsPlane, content};
use crate::{Bytes, Flaw, Type, besides_bytes, cut, disk, exif, tail};

pub struct Jpeg;

/// What a start of frame says of its coding, where it is not read here: table B.1.
fn unread(marker: u8) -> Option<&'static str> {
    match marker {
        0xc3 => Some("it is lossless JPEG, which True Path cannot read"),
        0xc5..=0xc7 => Some("it is hierarchical JPEG, which True Path cannot read"),
        0xc9..=0xcb | 0xcd..=0xcf => Some("it is JPEG with arithmetic coding, which True Path cannot read"),
        _ => None,
    }
}

/// Whether a marker is a start of frame: SOF0 to SOF15, without DHT, JPG and DAC, which lie between them (B.1.1.3).
fn is_frame(marker: u8) -> bool {
    (0xc0..=0xcf).contains(&marker) && ![0xc4, 0xc8, 0xcc].contains(&marker)
}

fn picture(marker: u8, frame: [u8; 6]) -> Picture {
    let [bits, h1, h2, w1, w2, components] = frame;
    Picture {
        bits: match bits {
            8 => Some(Bits::Eight),
            12 => Some(Bits::Twelve),
            _ => None,
        },
        channels: match components {
            1 => Some(Channels::Grey),
            3 => Some(Channels::Rgb),
            _ => None,
        },
        besides: if components == 4 { vec!["its colours are CMYK".to_owned()] } else { Vec::new() },
        unproven: unread(marker).map(str::to_owned),
        ..Picture::plain("jpeg", u32::from(u16::from_be_bytes([w1, w2])), u32::from(u16::from_be_bytes([h1, h2])))
    }
}

impl Type for Jpeg {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        bytes.seek(SeekFrom::Start(2)).map_err(disk)?;
        let mut turned = None;
        let marker = loop {
            let mut marker = [0; 4];
            bytes.read_exact(&mut marker).map_err(|_| Flaw::from("the file is cut off before its frame header"))?;
            let [0xff, kind, high, low] = marker else { return Err("a marker is damaged".into()) };
            let size = i64::from(u16::from_be_bytes([high, low]));
            if is_frame(kind) {
                break kind;
            }
            match kind {
                0xda => return Err("picture data comes before the frame header".into()),
                // EXIF, which may say that the picture is stored turned.
                0xe1 if size > 8 => {
                    let mut body = vec![0; (size - 2) as usize];
                    bytes.read_exact(&mut body).map_err(|_| cut())?;
                    turned = turned.or(body.strip_prefix(b"Exif\0\0").and_then(exif::turned));
                }
                _ => bytes.seek_relative((size - 2).max(0)).map_err(disk)?,
            }
        };
        let mut frame = [0; 6];
        bytes.read_exact(&mut frame).map_err(|_| cut())?;
        let mut picture = picture(marker, frame);
        picture.besides.extend(turned);
        if picture.width == 0 || picture.height == 0 {
            return Err("its header gives a picture without pixels".into());
        }
        if tail::<2>(bytes, length)? != [0xff, 0xd9] {
            // A movie's frame or a camera's may be followed by something; a renderer's is not.
            let end = last_end(bytes)?;
            picture.besides.push(besides_bytes(length - end.ok_or("the file is cut off: it does not end with EOI")?));
        }
        Ok(picture)
    }

    fn decode(&self, bytes: &[u8], picture: &mut Picture, _: usize) -> Result<Content, Flaw> {
        if picture.unproven.is_some() {
            return Ok(Content::default());
        }
        let mut reader = JpegReader { bytes, at: 2, ..JpegReader::default() };
        reader.all()?;
        let rest = bytes.len() - reader.at;
        if rest > 0 && !picture.besides.iter().any(|word| word == &besides_bytes(rest as u64)) {
            picture.besides.push(besides_bytes(rest as u64));
        }
        Ok(reader.content())
    }
}

/// Where the last end-of-image marker ends.
fn last_end(bytes: &mut Bytes) -> Result<Option<u64>, Flaw> {
    bytes.seek(SeekFrom::Start(0)).map_err(disk)?;
    let (mut before, mut at, mut found) = (0, 0u64, None);
    let mut block = vec![0; 1 << 16];
    loop {
        let count = bytes.read(&mut block).map_err(disk)?;
        if count == 0 {
            return Ok(found);
        }
        for byte in &block[..count] {
            at += 1;
            if (before, *byte) == (0xff, 0xd9) {
                found = Some(at);
            }
            before = *byte;
        }
    }
}

/// A file on its way from segment to segment.
#[derive(Default)]
struct JpegReader<'b> {
    bytes: &'b [u8],
    at: usize,
    frame: Option<Frame>,
    /// Tables for first coefficients, then for the others.
    huffman: [[Option<Huffman>; 4]; 2],
    /// The first step of every quantisation table.
    steps: [Option<u16>; 4],
    interval: usize,
    sum: crc32fast::Hasher,
}

impl<'b> JpegReader<'b> {
    /// Reads everything up to the end of the image.
    fn all(&mut self) -> Result<(), Flaw> {
        loop {
            if self.byte()? != 0xff {
                return Err("bytes lie between two of its segments that belong to none".into());
            }
            let mut marker = self.byte()?;
            // Any number of fill bytes may come before a marker, B.1.1.2.
            while marker == 0xff {
                marker = self.byte()?;
            }
            match marker {
                0xd9 => return self.ended(),
                0x01 => {}
                0xd0..=0xd7 => return Err("a restart marker lies outside of its picture data".into()),
                0xd8 => return Err("a second picture begins before the first has ended".into()),
                0x00 | 0x02..=0xbf => return Err("a marker is damaged".into()),
                _ => {
                    let body = self.segment()?;
                    self.take(marker, body)?;
                }
            }
        }
    }

    fn byte(&mut self) -> Result<u8, Flaw> {
        let byte = *self.bytes.get(self.at).ok_or_else(cut)?;
        self.at += 1;
        Ok(byte)
    }

    /// What stands in a segment whose marker was read.
    fn segment(&mut self) -> Result<&'b [u8], Flaw> {
        let length = usize::from(u16::from_be_bytes([self.byte()?, self.byte()?]));
        let end = self.at + length.checked_sub(2).ok_or("the length of a segment is damaged")?;
        let body = self.bytes.get(self.at..end).ok_or_else(cut)?;
        self.at = end;
        Ok(body)
    }

    fn take(&mut self, marker: u8, body: &[u8]) -> Result<(), Flaw> {
        match marker {
            0xc4 => self.define_huffman(body),
            0xdb => self.define_steps(body),
            0xdd => {
                let [high, low] = *body else { return Err("the restart interval is damaged".into()) };
                self.interval = usize::from(u16::from_be_bytes([high, low]));
                Ok(())
            }
            0xda => self.scan(body),
            _ if is_frame(marker) => {
                if self.frame.is_some() {
                    return Err("it has two frame headers".into());
                }
                self.frame = Some(Frame::read(marker == 0xc2, body)?);
                Ok(())
            }
            _ => Ok(()),
        }
    }

    fn define_huffman(&mut self, mut body: &[u8]) -> Result<(), Flaw> {
        self.sum.update(body);
        while let Some((head, rest)) = body.split_first() {
            let (class, id) = (usize::from(head >> 4), usize::from(head & 15));
            let (table, rest) = Huffman::read(rest).ok_or("a Huffman table is damaged")?;
            *self.huffman.get_mut(class).and_then(|own| own.get_mut(id)).ok_or("a Huffman table is damaged")? =
                Some(table);
            body = rest;
        }
        Ok(())
    }

    fn define_steps(&mut self, mut body: &[u8]) -> Result<(), Flaw> {
        self.sum.update(body);
        let damaged = || Flaw::from("a quantisation table is damaged");
        while let Some((head, rest)) = body.split_first() {
            let (wide, id) = (head >> 4, usize::from(head & 15));
            let size = if wide == 0 { 64 } else { 128 };
            if wide > 1 || id > 3 || rest.len() < size {
                return Err(damaged());
            }
            let steps: Vec<u16> = match wide {
                0 => rest[..64].iter().map(|step| u16::from(*step)).collect(),
                _ => rest[..128].chunks_exact(2).map(|two| u16::from_be_bytes([two[0], two[1]])).collect(),
            };
            if steps.contains(&0) {
                return Err(damaged());
            }
            self.steps[id] = Some(steps[0]);
            body = &rest[size..];
        }
        Ok(())
    }

    fn scan(&mut self, body: &[u8]) -> Result<(), Flaw> {
        let frame = self.frame.as_mut().ok_or("picture data comes before the frame header")?;
        let scan = frame.scan(body, &self.steps)?;
        let start = self.at;
        let coder = Coder { bytes: self.bytes, at: start, huffman: &self.huffman, interval: self.interval };
        self.at = coder.read(frame, &scan)?;
        self.sum.update(&self.bytes[start..self.at]);
        Ok(())
    }

    /// The end of the image was read: whether all of it had come.
    fn ended(&self) -> Result<(), Flaw> {
        match &self.frame {
            None => Err("the file is cut off before its frame header".into()),
            Some(frame) if !frame.is_whole() => Err("the file is cut off: a scan of the picture is missing".into()),
            Some(_) => Ok(()),
        }
    }

    /// What the means of its blocks come to.
    fn content(self) -> Content {
        let sum = u64::from(self.sum.clone().finalize());
        let Some(frame) = &self.frame else { return Content::default() };
        let white = if frame.precision == 12 { 16.0 } else { 1.0 };
        let colours = &frame.components[..if frame.components.len() == 3 { 3 } else { 1 }];
        let (across, down) = colours[0].own;
        let side = |blocks: usize| blocks.div_ceil(MOST_CELLS).max(2);
        let mut plane = StatsPlane::<u8>::with_cells(across, down, colours.len(), (side(across), side(down)));
        let mut row = Vec::with_capacity(across * colours.len());
        // The mean of a block of a component at a place of the picture, and whether the block has a pattern.
        let value = |component: &Component, x: usize, y: usize| {
            let step = f32::from(self.steps[component.steps].unwrap_or(1)) / white;
            let (first, others) = component.block(x * component.own.0 / across, y * component.own.1 / down);
            // What is nearer to zero than a step of the table can tell is zero.
            let value = first as f32 * step / 8.0;
            (if (value + 128.0).abs() <= step / 16.0 + 0.5 { -128.0 } else { value }, others)
        };
        for y in 0..down {
            row.clear();
            for x in 0..across {
                let (light, pattern) = value(&colours[0], x, y);
                let light = light + 128.0;
                // A block with a pattern has more than one colour.
                let told = |level: f32| {
                    let level = (level + 0.5).clamp(0.0, 255.0) as u8;
                    if pattern { (level | 1) ^ (x as u8 & 1) } else { level }
                };
                match colours {
                    // ITU-T T.871, 7: from brightness and two differences to red, green and blue.
                    [_, blue, red] => {
                        let (blue, red) = (value(blue, x, y).0, value(red, x, y).0);
                        row.extend(
                            [light + 1.402 * red, light - 0.344_14 * blue - 0.714_14 * red, light + 1.772 * blue]
                                .map(told),
                        );
                    }
                    _ => row.push(told(light)),
                }
            }
            plane.row(&row);
        }
        let channels: Vec<_> = plane.end().into_iter().map(|channel| (channel, Shows::Colour)).collect();
        content(&channels, sum)
    }
}
