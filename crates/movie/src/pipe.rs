//! Frames for encoders that are programs of their own: pixels on their standard input, or numbered pictures in a folder.

use std::io::Write;
use std::path::Path;

use crate::encode::{CodedFrame, Encoder};
use truepath_pictures::conversion::{Converted, Data};

/// Pixels as they are, the low byte of 16 bits first.
pub struct RawPixels;

impl Encoder for RawPixels {
    fn frame(&mut self, frame: &Converted) -> Result<CodedFrame, String> {
        let bytes = match &frame.data {
            Data::Eight(data) => data.clone(),
            Data::Sixteen(data) => data.iter().flat_map(|value| value.to_le_bytes()).collect(),
        };
        Ok(CodedFrame { bytes, key: true })
    }
}

/// A PNG picture.
pub struct PngPicture;

impl Encoder for PngPicture {
    fn frame(&mut self, frame: &Converted) -> Result<CodedFrame, String> {
        let mut bytes = Vec::new();
        let side = |side: usize| u32::try_from(side).unwrap_or(u32::MAX);
        let mut encoder = png::Encoder::new(&mut bytes, side(frame.width), side(frame.height));
        encoder.set_color(if frame.count == 4 { png::ColorType::Rgba } else { png::ColorType::Rgb });
        encoder.set_compression(png::Compression::Fast);
        let (depth, data) = match &frame.data {
            Data::Eight(data) => (png::BitDepth::Eight, data.clone()),
            Data::Sixteen(data) => {
                (png::BitDepth::Sixteen, data.iter().flat_map(|value| value.to_be_bytes()).collect())
            }
        };
        encoder.set_depth(depth);
        let written = encoder.write_header().and_then(|mut writer| writer.write_image_data(&data));
        written.map_err(|error| error.to_string())?;
        Ok(CodedFrame { bytes, key: true })
    }
}

/// Why a program was not given all frames.
#[derive(Debug)]
pub enum Unfed {
    /// A frame cannot be read: why.
    Frames(String),
    /// It took no more.
    Closed(std::io::Error),
}

impl std::fmt::Display for Unfed {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Unfed::Frames(why) => f.write_str(why),
            Unfed::Closed(error) => write!(f, "the encoder took no more frames: {error}"),
        }
    }
}

/// Hands every frame to a program's standard input.
///
/// # Errors
/// When a frame cannot be read, or the program takes no more.
pub fn feed(movie: &crate::WantedMovie, input: &mut dyn Write, told: &dyn Fn(usize)) -> Result<(), Unfed> {
    let mut closed = None;
    let mut hand_on = |coded: &[CodedFrame], _: &[u8]| {
        let all = coded.iter().try_for_each(|frame| input.write_all(&frame.bytes));
        all.map_err(|error| {
            closed = Some(error);
            String::new()
        })
    };
    let fed = crate::make(movie, 1, &|| Ok(Box::new(RawPixels)), &mut hand_on, told);
    match (fed, closed) {
        (Ok(()), _) => input.flush().map_err(Unfed::Closed),
        (Err(_), Some(error)) => Err(Unfed::Closed(error)),
        (Err(why), None) => Err(Unfed::Frames(why)),
    }
}

/// Writes every frame as a picture: `name` gives its path by its place, from 1.
///
/// # Errors
/// When a frame cannot be read or written.
pub fn pictures(
    movie: &crate::WantedMovie,
    name: &dyn Fn(usize) -> String,
    told: &dyn Fn(usize),
) -> Result<(), String> {
    let mut count = 0;
    let mut hand_on = |coded: &[CodedFrame], _: &[u8]| {
        for frame in coded {
            count += 1;
            let path = name(count);
            std::fs::write(Path::new(&path), &frame.bytes).map_err(|error| format!("cannot write {path}: {error}"))?;
        }
        Ok(())
    };
    crate::make(movie, 1, &|| Ok(Box::new(PngPicture)), &mut hand_on, told)
}
