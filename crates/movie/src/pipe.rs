//! Frames for encoders that are programs of their own: pixels on their standard input, or numbered pictures in a folder.

use std::io::Write;
use std::path::Path;

use crate::MovieError;
use crate::encode::{CodedFrame, Encoder};
use truepath_pictures::conversion::{Converted, Data};

/// Pixels as they are, the low byte of 16 bits first.
pub struct RawPixels;

impl Encoder for RawPixels {
    fn frame(&mut self, frame: &Converted) -> Result<CodedFrame, MovieError> {
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
    fn frame(&mut self, frame: &Converted) -> Result<CodedFrame, MovieError> {
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
        written.map_err(MovieError::encoder("the PNG encoder failed"))?;
        Ok(CodedFrame { bytes, key: true })
    }
}

/// Hands every frame to a program's standard input.
///
/// # Errors
/// When a frame cannot be read, or the program takes no more.
pub fn feed(movie: &crate::WantedMovie, input: &mut dyn Write, told: &dyn Fn(usize)) -> Result<(), MovieError> {
    let mut hand_on = |coded: &[CodedFrame], _: &[u8]| {
        coded.iter().try_for_each(|frame| input.write_all(&frame.bytes)).map_err(MovieError::Closed)
    };
    crate::make(movie, 1, &|| Ok(Box::new(RawPixels)), &mut hand_on, told)?;
    input.flush().map_err(MovieError::Closed)
}

/// Writes every frame as a picture: `name` gives its path by its place, from 1.
///
/// # Errors
/// When a frame cannot be read or written.
pub fn pictures(
    movie: &crate::WantedMovie,
    name: &dyn Fn(usize) -> String,
    told: &dyn Fn(usize),
) -> Result<(), MovieError> {
    let mut count = 0;
    let mut hand_on = |coded: &[CodedFrame], _: &[u8]| {
        for frame in coded {
            count += 1;
            let path = name(count);
            std::fs::write(Path::new(&path), &frame.bytes).map_err(MovieError::write(&path))?;
        }
        Ok(())
    };
    crate::make(movie, 1, &|| Ok(Box::new(PngPicture)), &mut hand_on, told)
}
