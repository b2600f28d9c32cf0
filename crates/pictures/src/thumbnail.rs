//! A picture made small, as a screen shows it.
use std::path::Path;
use std::sync::OnceLock;

use truepath_core::catalogue::{Channels, Light};
use truepath_core::flaw::Flaw;
use truepath_core::picture::Content;
use truepath_core::sheet::{Backdrop, Colour, Size};
use truepath_media::pixels::{self, Pixels, Samples};

use crate::conversion::{Conversion, Data, counted, meant, to_light};

/// How pictures are made small.
#[derive(Clone, Copy, Debug)]
pub struct Wish<'w> {
    /// The most pixels across and down.
    pub within: (usize, usize),
    /// By how many stops light is made brighter.
    pub stops: f32,
    /// The layer, of files with several.
    pub layer: Option<&'w str>,
    /// The colour of the pixels (scene-linear or display-encoded), where that is known.
    pub colour: Option<Colour>,
}

/// A small picture.
#[derive(Clone, Debug, PartialEq)]
pub struct Thumbnail {
    /// Width in pixels.
    pub width: usize,
    /// Height in pixels.
    pub height: usize,
    /// What it shows.
    pub shade: Shade,
}

/// What a small picture shows.
#[derive(Clone, Debug, PartialEq)]
pub enum Shade {
    /// Colours as displayed: three samples a pixel.
    Colour(Vec<u8>),
    /// One number a pixel, such as a depth: it is shown between two ends that hold for a whole row of pictures.
    Number(Vec<f32>),
}

/// The size of a picture within another one, in its own aspect.
#[must_use]
pub fn fit((width, height): (usize, usize), within: (usize, usize)) -> (usize, usize) {
    let scale = (within.0 as f64 / width.max(1) as f64).min(within.1 as f64 / height.max(1) as f64);
    let side = |side: usize, most: usize| ((side as f64 * scale).round() as usize).clamp(1, most.max(1));
    (side(width, within.0), side(height, within.1))
}

/// Reads a picture and makes it small.
///
/// # Errors
/// When it is no whole picture, or cannot be read: why.
pub fn read(path: &Path, wish: Wish<'_>) -> Result<Thumbnail, Flaw> {
    Ok(small(pixels::read(path, wish.layer)?, wish))
}

/// As [`read`], with what its pixels come to.
///
/// # Errors
/// As [`read`].
pub fn read_with_content(path: &Path, wish: Wish<'_>) -> Result<(Thumbnail, Content), Flaw> {
    let pixels = pixels::read(path, wish.layer)?;
    let content = pixels.content();
    Ok((small(pixels, wish), content))
}

/// Makes a picture small.
#[must_use]
pub fn small(pixels: Pixels, wish: Wish<'_>) -> Thumbnail {
    let (width, height) = fit((pixels.width as usize, pixels.height as usize), wish.within);
    if let (Samples::Float(samples), 1) = (&pixels.samples, pixels.count()) {
        let numbers = averaged(samples, (pixels.width as usize, pixels.height as usize), (width, height));
        return Thumbnail { width, height, shade: Shade::Number(numbers) };
    }
    let side = |side: usize| u32::try_from(side).unwrap_or(u32::MAX);
    let meant = meant(pixels.light, wish.colour);
    let is_smaller = width <= pixels.width as usize && height <= pixels.height as usize;
    let size = (!is_smaller).then(|| Size { width: side(width), height: side(height) });
    // Display-encoded pictures are shown without exposure.
    let stops = if meant == Colour::Linear { wish.stops } else { 0.0 };
    let conversion =
        Conversion { colour: Colour::Display, over: Backdrop::Checker, alpha: false, deep: false, size, stops };
    let converted = match is_smaller {
        true => conversion.apply(reduced(&pixels, meant, (width, height)), Some(Colour::Linear)),
        false => conversion.apply(pixels, wish.colour),
    };
    let Data::Eight(data) = converted.data else { return nothing((width, height)) };
    Thumbnail { width, height, shade: Shade::Colour(data) }
}

/// A smaller picture in light: each of its pixels is the mean of those that it covers.
fn reduced(pixels: &Pixels, meant: Colour, to: (usize, usize)) -> Pixels {
    /// The linear value of each 16-bit display-encoded sample.
    static LIGHT: OnceLock<Vec<f32>> = OnceLock::new();
    let table = || LIGHT.get_or_init(|| (0..=u16::MAX).map(|value| to_light(f32::from(value) / 65_535.0)).collect());
    let samples = match (&pixels.samples, meant) {
        (Samples::Eight(samples), Colour::Linear) => patches(samples, pixels, to, |value| f32::from(value) / 255.0),
        (Samples::Sixteen(samples), Colour::Linear) => {
            patches(samples, pixels, to, |value| f32::from(value) / 65_535.0)
        }
        (Samples::Float(samples), Colour::Linear) => patches(samples, pixels, to, counted),
        (Samples::Eight(samples), Colour::Display) => {
            let light: Vec<f32> = table().iter().step_by(257).copied().collect();
            patches(samples, pixels, to, |value| light[usize::from(value)])
        }
        (Samples::Sixteen(samples), Colour::Display) => {
            let light = table().as_slice();
            patches(samples, pixels, to, move |value| light[usize::from(value)])
        }
        (Samples::Float(samples), Colour::Display) => patches(samples, pixels, to, |value| counted(to_light(value))),
    };
    let side = |side: usize| u32::try_from(side).unwrap_or(u32::MAX);
    Pixels {
        width: side(to.0),
        height: side(to.1),
        channels: Channels::Rgba,
        samples: Samples::Float(samples),
        premultiplied: true,
        light: Light::Linear,
    }
}

/// Red, green, blue and alpha of each patch, multiplied by alpha. `light` gives the light of a sample of colour.
fn patches<T: SmallSample>(samples: &[T], pixels: &Pixels, to: (usize, usize), light: impl Fn(T) -> f32) -> Vec<f32> {
    let from = (pixels.width as usize, pixels.height as usize);
    let count = pixels.count();
    let columns: Vec<(usize, usize)> = (0..to.0).map(|x| span(x, from.0, to.0)).collect();
    let mut out = Vec::with_capacity(to.0 * to.1 * 4);
    for y in 0..to.1 {
        let (top, bottom) = span(y, from.1, to.1);
        let mut sums = vec![[0f32; 4]; to.0];
        for row in samples.chunks_exact(from.0 * count).take(bottom).skip(top) {
            for (at, (left, right)) in columns.iter().enumerate() {
                let mut sum = sums[at];
                for pixel in row[left * count..right * count].chunks_exact(count) {
                    let (colour, alpha) = match *pixel {
                        [grey] => ([light(grey); 3], 1.0),
                        [grey, alpha] => ([light(grey); 3], alpha.share()),
                        [red, green, blue] => ([light(red), light(green), light(blue)], 1.0),
                        [red, green, blue, alpha, ..] => ([light(red), light(green), light(blue)], alpha.share()),
                        [] => continue,
                    };
                    let by = if pixels.premultiplied { 1.0 } else { alpha };
                    sum[0] += colour[0] * by;
                    sum[1] += colour[1] * by;
                    sum[2] += colour[2] * by;
                    sum[3] += alpha;
                }
                sums[at] = sum;
            }
        }
        for (sum, (left, right)) in sums.iter().zip(&columns) {
            let count = ((right - left) * (bottom - top)) as f32;
            out.extend_from_slice(&[sum[0] / count, sum[1] / count, sum[2] / count, sum[3] / count]);
        }
    }
    out
}

/// A sample as its file has it.
trait SmallSample: Copy {
    /// As a share of all, 0 to 1: what an alpha is.
    fn share(self) -> f32;
}

impl SmallSample for u8 {
    fn share(self) -> f32 {
        f32::from(self) / 255.0
    }
}

impl SmallSample for u16 {
    fn share(self) -> f32 {
        f32::from(self) / 65_535.0
    }
}

impl SmallSample for f32 {
    fn share(self) -> f32 {
        if self.is_finite() { self.clamp(0.0, 1.0) } else { 1.0 }
    }
}

fn nothing((width, height): (usize, usize)) -> Thumbnail {
    Thumbnail { width, height, shade: Shade::Colour(vec![0; width * height * 3]) }
}

/// The old pixels along a side that one new pixel covers: the first one, and the one behind the last.
pub(crate) fn span(at: usize, from: usize, to: usize) -> (usize, usize) {
    let start = at * from / to;
    (start, ((at + 1) * from / to).clamp(start + 1, from.max(start + 1)))
}

/// Numbers of a smaller picture: the mean of those that can be counted with, of each patch.
fn averaged(samples: &[f32], from: (usize, usize), to: (usize, usize)) -> Vec<f32> {
    let patch = |x: usize, y: usize| {
        let ((left, right), (top, bottom)) = (span(x, from.0, to.0), span(y, from.1, to.1));
        let (mut sum, mut count, mut last) = (0.0, 0, f32::NAN);
        for row in top..bottom {
            for value in &samples[row * from.0 + left..row * from.0 + right] {
                last = *value;
                if value.is_finite() {
                    sum += f64::from(*value);
                    count += 1;
                }
            }
        }
        if count > 0 { (sum / f64::from(count)) as f32 } else { last }
    };
    (0..to.1).flat_map(|y| (0..to.0).map(move |x| (x, y))).map(|(x, y)| patch(x, y)).collect()
}

/// So large a share of all numbers lies below the lower end and above the upper one: single values cannot make all others
/// look alike.
const BEYOND: f64 = 0.01;

/// The ends between which the numbers of some pictures are shown; `None` where there are none, or all are alike.
#[must_use]
pub fn ends<'t>(thumbnails: impl Iterator<Item = &'t Thumbnail>) -> Option<(f32, f32)> {
    let mut all: Vec<f32> = Vec::new();
    for thumbnail in thumbnails {
        if let Shade::Number(numbers) = &thumbnail.shade {
            all.extend(numbers.iter().filter(|value| value.is_finite()).step_by(7));
        }
    }
    if all.is_empty() {
        return None;
    }
    let at = (all.len() as f64 * BEYOND) as usize;
    let last = all.len() - 1 - at;
    let low = *all.select_nth_unstable_by(at, f32::total_cmp).1;
    let high = *all.select_nth_unstable_by(last.max(at), f32::total_cmp).1;
    (high > low).then_some((low, high))
}

impl Thumbnail {
    /// Its pixels as displayed: three samples each. Numbers are shown between two ends, from black to white; without ends
    /// they are taken for light.
    #[must_use]
    pub fn rgb(&self, ends: Option<(f32, f32)>) -> Vec<u8> {
        let (low, high) = ends.unwrap_or((0.0, 1.0));
        match &self.shade {
            Shade::Colour(data) => data.clone(),
            Shade::Number(numbers) => {
                let shown = |value: &f32| {
                    let share = if value.is_nan() { 0.0 } else { ((value - low) / (high - low)).clamp(0.0, 1.0) };
                    [(share * 255.0 + 0.5) as u8; 3]
                };
                numbers.iter().flat_map(shown).collect()
            }
        }
    }

    /// Its pixels as a JPEG file (ITU-T T.81) of a quality from 1 to 100.
    ///
    /// # Errors
    /// When it has more than 65,535 pixels along a side.
    pub fn jpeg(&self, ends: Option<(f32, f32)>, quality: u8) -> Result<Vec<u8>, Flaw> {
        let side = |side: usize| u16::try_from(side).map_err(|_| Flaw::from("a picture of this size is no JPEG"));
        let mut out = Vec::new();
        let encoder = jpeg_encoder::Encoder::new(&mut out, quality);
        let image = RgbBytes { bytes: &self.rgb(ends), width: side(self.width)?, height: side(self.height)? };
        encoder.encode_image(image).map(|()| out).map_err(Flaw::of)
    }
}

/// Three bytes a pixel. That the encoder knows only these keeps it small.
struct RgbBytes<'p> {
    bytes: &'p [u8],
    width: u16,
    height: u16,
}

impl jpeg_encoder::ImageBuffer for RgbBytes<'_> {
    fn get_jpeg_color_type(&self) -> jpeg_encoder::JpegColorType {
        jpeg_encoder::JpegColorType::Ycbcr
    }

    fn width(&self) -> u16 {
        self.width
    }

    fn height(&self) -> u16 {
        self.height
    }

    fn fill_buffers(&self, y: u16, buffers: &mut [Vec<u8>; 4]) {
        let row = usize::from(self.width) * 3;
        for pixel in self.bytes[row * usize::from(y)..][..row].as_chunks::<3>().0 {
            let (luma, blue, red) = jpeg_encoder::rgb_to_ycbcr(pixel[0], pixel[1], pixel[2]);
            buffers[0].push(luma);
            buffers[1].push(blue);
            buffers[2].push(red);
        }
    }
}
