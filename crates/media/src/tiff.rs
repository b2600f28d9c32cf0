//! TIFF 6.0: pages are directories, which may stand anywhere; whole is a file that holds every strip or tile that its
//! directories name.

use std::io::{Cursor, Read, Seek};

use tiff::decoder::{ChunkType, Decoder, DecodingResult, Limits};
use tiff::tags::{SampleFormat, Tag};
use tiff::{ColorType, TiffError};
use truepath_core::catalogue::{AsWritten, Bits, Channels, Compression};
use truepath_core::picture::Content;
use truepath_core::verify::Picture;

use crate::samples::sum;
use crate::stats::of_pixels;
use crate::{Bytes, Flaw, Type, disk, exif};

pub struct Tiff;

/// A file, or the bytes of one.
pub trait TiffBytes: Read + Seek {}

impl<S: Read + Seek> TiffBytes for S {}

/// A reader of TIFF. That it knows only one kind of source keeps the program small.
pub type Pages<'s> = Decoder<&'s mut dyn TiffBytes>;

/// Reads the head of the first page.
pub fn decoder(source: &mut dyn TiffBytes) -> Result<Pages<'_>, Flaw> {
    Decoder::new(source).map_err(said)
}

/// As [`decoder`], to unpack pixels within `most` bytes of memory.
pub fn unpacker(source: &mut dyn TiffBytes, most: usize) -> Result<Pages<'_>, Flaw> {
    let mut limits = Limits::default();
    (limits.decoding_buffer_size, limits.intermediate_buffer_size) = (most, most);
    Ok(decoder(source)?.with_limits(limits))
}

/// Pages beyond this number are not looked into: a damaged list of them may be endless.
const MOST_PAGES: usize = 10_000;

impl Type for Tiff {
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw> {
        let mut decoder = decoder(bytes)?;
        let mut picture = page(&mut decoder)?;
        let mut pages = 0;
        for at in 0..MOST_PAGES {
            parts(&mut decoder, length)?;
            // Smaller copies of a page and masks are no pages of their own (NewSubfileType, section 8).
            let kind: u32 = decoder.find_tag_unsigned(Tag::NewSubfileType).map_err(said)?.unwrap_or(0);
            pages += usize::from(kind & 5 == 0 || at == 0);
            if !decoder.more_images() {
                break;
            }
            match decoder.next_image() {
                Ok(()) => {}
                // Its tags say colours that nobody here reads; its strips are there or not all the same.
                Err(TiffError::UnsupportedError(_)) => break,
                Err(error) => return Err(said(error)),
            }
        }
        if pages > 1 {
            picture.besides.push(format!("it has {pages} pages"));
        }
        Ok(picture)
    }

    fn decode(&self, bytes: &[u8], picture: &mut Picture, most: usize) -> Result<Content, Flaw> {
        if picture.unproven.is_some() {
            return Ok(Content::default());
        }
        let mut bytes = Cursor::new(bytes);
        let mut decoder = unpacker(&mut bytes, most)?;
        let mut first = None;
        for at in 0..MOST_PAGES {
            let read = every_part(&mut decoder).and_then(|()| decoder.read_image());
            let pixels = match read {
                Ok(pixels) => pixels,
                Err(TiffError::UnsupportedError(_)) => {
                    let of = if at == 0 { String::new() } else { format!(" of page {}", at + 1) };
                    picture.unproven = Some(format!("the pixels{of} are stored in a way that True Path cannot read"));
                    return Ok(first.unwrap_or_default());
                }
                Err(error) => return Err(said(error)),
            };
            if first.is_none() {
                first = Some(shown(&mut decoder, &pixels)?);
            }
            if !decoder.more_images() {
                break;
            }
            match decoder.next_image() {
                Ok(()) => {}
                Err(TiffError::UnsupportedError(_)) => {
                    picture.unproven =
                        Some(format!("the colours of page {} are stored in a way that True Path cannot read", at + 2));
                    break;
                }
                Err(error) => return Err(said(error)),
            }
        }
        Ok(first.unwrap_or_default())
    }
}

/// What the tags of a page say.
fn page(decoder: &mut Pages<'_>) -> Result<Picture, Flaw> {
    let (width, height) = decoder.dimensions().map_err(said)?;
    let kind = match decoder.colortype() {
        Ok(kind) => Some(kind),
        Err(TiffError::UnsupportedError(_)) => None,
        Err(error) => return Err(said(error)),
    };
    let mut number = |tag: Tag| -> Result<Option<u16>, Flaw> {
        let list: Option<Vec<u16>> = decoder.find_tag_unsigned_vec(tag).map_err(said)?;
        Ok(list.and_then(|list| list.first().copied()))
    };
    let (format, compression) = (number(Tag::SampleFormat)?, number(Tag::Compression)?);
    let (samples, turned) = (number(Tag::SamplesPerPixel)?.unwrap_or(1), number(Tag::Orientation)?);
    let depth = number(Tag::BitsPerSample)?.unwrap_or(1);
    let colours = number(Tag::PhotometricInterpretation)?;
    let float = format == Some(SampleFormat::IEEEFP.to_u16());
    let mut besides = Vec::from_iter(turned.and_then(exif::words));
    // PhotometricInterpretation: TIFF 6.0, sections 5, 16, 21 and 23.
    let is_other = match colours {
        Some(3) => Some("its colours are in a palette"),
        Some(5) => Some("its colours are CMYK"),
        Some(6) => Some("its colours are YCbCr"),
        Some(8..=10) => Some("its colours are CIE Lab"),
        _ => None,
    };
    besides.extend(is_other.map(str::to_owned));
    if format == Some(SampleFormat::Int.to_u16()) {
        besides.push("its samples are signed".to_owned());
    }
    if depth < 8 {
        besides.push(format!("it has {depth} {} a sample", if depth == 1 { "bit" } else { "bits" }));
    }
    Ok(Picture {
        bits: match (depth, float) {
            (8, false) => Some(Bits::Eight),
            (16, false) => Some(Bits::Sixteen),
            (32, false) => Some(Bits::ThirtyTwo),
            (16, true) => Some(Bits::Half),
            (32, true) => Some(Bits::Float),
            _ => None,
        },
        channels: match (is_other, samples) {
            (Some(_), _) => None,
            (_, 1) => Some(Channels::Grey),
            (_, 2) => Some(Channels::GreyAlpha),
            (_, 3) => Some(Channels::Rgb),
            (_, 4) => Some(Channels::Rgba),
            _ => None,
        },
        compression: packed(compression),
        besides,
        unproven: kind.is_none().then(|| "its colours are stored in a way that True Path cannot read".to_owned()),
        ..Picture::plain("tiff", width, height)
    })
}

/// The compression with a number.
fn packed(number: Option<u16>) -> Option<AsWritten<Compression>> {
    // TIFF 6.0, Adobe's two numbers for deflate, and numbers that others registered.
    let other = |name: &str| Some(AsWritten::Other(name.to_owned()));
    match number {
        None | Some(1) => Some(Compression::None.into()),
        Some(2..=4) => other("ccitt"),
        Some(5) => Some(Compression::Lzw.into()),
        Some(6 | 7) => other("jpeg"),
        Some(8 | 32_946) => Some(Compression::Deflate.into()),
        Some(32_773) => Some(Compression::PackBits.into()),
        Some(34_925) => other("lzma"),
        Some(50_000 | 34_926) => other("zstd"),
        Some(50_001) => other("webp"),
        Some(_) => None,
    }
}

/// Looks whether every strip or tile of a page lies within the file.
fn parts(decoder: &mut Pages<'_>, length: u64) -> Result<(), Flaw> {
    let mut any = false;
    for (offsets, counts) in [(Tag::StripOffsets, Tag::StripByteCounts), (Tag::TileOffsets, Tag::TileByteCounts)] {
        let offsets: Vec<u64> = decoder.find_tag_unsigned_vec(offsets).map_err(said)?.unwrap_or_default();
        let counts: Vec<u64> = decoder.find_tag_unsigned_vec(counts).map_err(said)?.unwrap_or_default();
        any |= !offsets.is_empty();
        if offsets.len() != counts.len()
            || offsets.iter().zip(&counts).any(|(at, size)| at.saturating_add(*size) > length || *at == 0)
        {
            return Err("the file is cut off: a part of the picture is beyond its end".into());
        }
    }
    if any { Ok(()) } else { Err("its header gives no place for its pixels".into()) }
}

/// Unpacks every strip or tile of a page whose channels lie one after the other: as a whole only the first comes out.
fn every_part(decoder: &mut Pages<'_>) -> Result<(), TiffError> {
    let planar: Option<u16> = decoder.find_tag_unsigned(Tag::PlanarConfiguration)?;
    if planar != Some(2) {
        return Ok(());
    }
    let count =
        if decoder.get_chunk_type() == ChunkType::Strip { decoder.strip_count()? } else { decoder.tile_count()? };
    (0..count).try_for_each(|part| decoder.read_chunk(part).map(drop))
}

/// What the pixels of a page come to.
fn shown(decoder: &mut Pages<'_>, pixels: &DecodingResult) -> Result<Content, Flaw> {
    let (width, height) = decoder.dimensions().map_err(said)?;
    let size = (width as usize, height as usize);
    let channels = match decoder.colortype().map_err(said)? {
        ColorType::Gray(8..) => 1,
        ColorType::GrayA(8..) => 2,
        ColorType::RGB(8..) => 3,
        ColorType::RGBA(8..) => 4,
        _ => return Ok(Content::default()),
    };
    let planar: Option<u16> = decoder.find_tag_unsigned(Tag::PlanarConfiguration).map_err(said)?;
    // Of channels that lie one after the other only the first comes out.
    let channels = if planar == Some(2) { 1 } else { channels };
    Ok(match pixels {
        DecodingResult::U8(values) => of_pixels(size, channels, values, sum(values)),
        DecodingResult::U16(values) => of_pixels(size, channels, values, sum(values)),
        DecodingResult::U32(values) => of_pixels(size, channels, values, sum(values)),
        DecodingResult::F32(values) => of_pixels(size, channels, values, sum(values)),
        DecodingResult::F16(values) => {
            let values: Vec<f32> = values.iter().map(|value| value.to_f32()).collect();
            of_pixels(size, channels, &values, sum(&values))
        }
        _ => Content::default(),
    })
}

/// What the decoder found, in words of our own.
pub fn said(error: TiffError) -> Flaw {
    match error {
        TiffError::IoError(error) => disk(error),
        TiffError::LimitsExceeded | TiffError::IntSizeError => {
            "it asks for more memory than a picture of its size needs".into()
        }
        TiffError::UnsupportedError(_) => "its pixels are stored in a way that True Path cannot read".into(),
        _ => "its tags or its pixels are damaged".into(),
    }
}
