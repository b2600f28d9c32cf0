//! Pixels as their file has them to pixels as a screen or a movie shows them: light to display, exposure, alpha over a
//! background, size.

use truepath_core::catalogue::{Channels, Light};
use truepath_core::sheet::{Backdrop, Colour, Size};
use truepath_media::pixels::{Pixels, Samples};

/// The side in pixels of a square of the checkerboard.
const SQUARE: usize = 16;
/// The two greys of the checkerboard, as displayed.
const GREYS: [f32; 2] = [0.4, 0.6];

/// What is done with every frame.
#[derive(Clone, Copy, Debug)]
pub struct Conversion {
    /// The colour encoding of the movie: scene-linear or display-encoded.
    pub colour: Colour,
    /// What lies behind transparent pixels.
    pub over: Backdrop,
    /// Whether the movie keeps an alpha.
    pub alpha: bool,
    /// Whether it keeps 16 bits of each sample instead of 8.
    pub deep: bool,
    /// The size it is brought to.
    pub size: Option<Size>,
    /// Exposure in stops for scene-linear pixels; each stop doubles the light. Display-encoded pixels are not changed.
    pub stops: f32,
}

/// A frame as it is shown: red, green, blue and, where it is kept, alpha that colours are not multiplied by.
#[derive(Clone, Debug, PartialEq)]
pub struct Converted {
    /// Width in pixels.
    pub width: usize,
    /// Height in pixels.
    pub height: usize,
    /// Samples of a pixel: 3 or 4.
    pub count: usize,
    /// The samples.
    pub data: Data,
}

/// Samples of a frame.
#[derive(Clone, Debug, PartialEq)]
pub enum Data {
    /// 0 to 255.
    Eight(Vec<u8>),
    /// 0 to 65535.
    Sixteen(Vec<u16>),
}

/// One pixel: red, green, blue, alpha; colours are multiplied by alpha.
type Pixel = [f32; 4];

impl Conversion {
    /// Converts a picture for display. `colour` is its colour encoding, where that is known.
    #[must_use]
    pub fn apply(&self, pixels: Pixels, colour: Option<Colour>) -> Converted {
        let meant = meant(pixels.light, colour);
        let same_size = self.size.is_none_or(|size| (size.width, size.height) == (pixels.width, pixels.height));
        let opaque = !pixels.channels.alpha();
        // Nearly all frames are of 8 bits, opaque and as they are to be shown.
        if let (Samples::Eight(samples), true, true, false, true) =
            (&pixels.samples, meant == self.colour, same_size, self.deep, opaque && !self.alpha)
        {
            let data = match pixels.channels {
                Channels::Rgb => samples.clone(),
                _ => samples.iter().flat_map(|grey| [*grey; 3]).collect(),
            };
            return Converted {
                width: pixels.width as usize,
                height: pixels.height as usize,
                count: 3,
                data: Data::Eight(data),
            };
        }
        let (mut width, mut height) = (pixels.width as usize, pixels.height as usize);
        let mut all = unpacked(&pixels);
        let mut now = meant;
        if now == Colour::Linear && self.stops != 0.0 {
            let by = self.stops.exp2();
            all.iter_mut().for_each(|pixel| (0..3).for_each(|channel| pixel[channel] *= by));
        }
        if let Some(size) = self.size.filter(|_| !same_size) {
            // Pixels are averaged as light: averages of display-encoded values come out too dark.
            convert(&mut all, now, Colour::Linear);
            now = Colour::Linear;
            all = fitted(&all, (width, height), (size.width as usize, size.height as usize));
            (width, height) = (size.width as usize, size.height as usize);
        }
        if !self.alpha {
            self.lay_over(&mut all, width, now);
        }
        convert(&mut all, now, self.colour);
        let count = if self.alpha { 4 } else { 3 };
        Converted { width, height, count, data: packed(&all, count, self.deep) }
    }

    /// What is transparent shows the background.
    fn lay_over(&self, all: &mut [Pixel], width: usize, now: Colour) {
        let meant = |shown: f32| if now == Colour::Linear { to_light(shown) } else { shown };
        let colour = match self.over {
            Backdrop::Colour(rgb) => rgb.map(|value| meant(f32::from(value) / 255.0)),
            Backdrop::Checker => [0.0; 3],
        };
        let greys = GREYS.map(meant);
        for (at, pixel) in all.iter_mut().enumerate() {
            if pixel[3] >= 1.0 {
                continue;
            }
            let through = 1.0 - pixel[3].max(0.0);
            let behind = match self.over {
                Backdrop::Colour(_) => colour,
                Backdrop::Checker => [greys[(at % width / SQUARE + at / width / SQUARE) % 2]; 3],
            };
            (0..3).for_each(|channel| pixel[channel] += through * behind[channel]);
            pixel[3] = 1.0;
        }
    }
}

/// The colour encoding of a file: the one that is given, else the usual one of its type.
#[must_use]
pub fn meant(light: Light, said: Option<Colour>) -> Colour {
    said.unwrap_or(if light == Light::Linear { Colour::Linear } else { Colour::Display })
}

/// All pixels as numbers between 0 and 1, and beyond where a file holds such.
fn unpacked(pixels: &Pixels) -> Vec<Pixel> {
    match &pixels.samples {
        Samples::Float(samples) => unpack(samples, pixels, |value| value),
        Samples::Eight(samples) => unpack(samples, pixels, |value| f32::from(value) / 255.0),
        Samples::Sixteen(samples) => unpack(samples, pixels, |value| f32::from(value) / 65_535.0),
    }
}

fn unpack<T: Copy>(samples: &[T], pixels: &Pixels, value: impl Fn(T) -> f32) -> Vec<Pixel> {
    let one = |own: &[T]| -> Pixel {
        let (colour, alpha) = match own {
            [grey] => ([*grey; 3], None),
            [grey, alpha] => ([*grey; 3], Some(*alpha)),
            [red, green, blue] => ([*red, *green, *blue], None),
            own => ([own[0], own[1], own[2]], Some(own[3])),
        };
        let alpha = alpha.map(&value).filter(|alpha| alpha.is_finite()).map_or(1.0, |alpha| alpha.clamp(0.0, 1.0));
        let by = if pixels.premultiplied { 1.0 } else { alpha };
        let shown = |colour: T| counted(value(colour)) * by;
        [shown(colour[0]), shown(colour[1]), shown(colour[2]), alpha]
    };
    let mut all = vec![[0.0; 4]; samples.len() / pixels.count()];
    for (at, own) in samples.chunks_exact(pixels.count()).enumerate() {
        all[at] = one(own);
    }
    all
}

/// A colour that can be added up: what is no number is black, what is endless is the most that a 16-bit float holds.
#[inline]
pub(crate) fn counted(colour: f32) -> f32 {
    if colour.is_nan() { 0.0 } else { colour.clamp(0.0, 65_504.0) }
}

/// From one meaning to the other; what is transparent is converted without its alpha.
fn convert(all: &mut [Pixel], from: Colour, to: Colour) {
    if from == to {
        return;
    }
    let curve = Curve::new(if to == Colour::Display { to_display } else { to_light });
    for pixel in all {
        let alpha = pixel[3];
        let by = if alpha > 0.0 && alpha < 1.0 { alpha } else { 1.0 };
        (0..3).for_each(|channel| pixel[channel] = curve.at(pixel[channel] / by) * by);
    }
}

/// IEC 61966-2-1: light to what is displayed.
#[must_use]
pub fn to_display(light: f32) -> f32 {
    if light <= 0.003_130_8 { light * 12.92 } else { 1.055 * light.powf(1.0 / 2.4) - 0.055 }
}

/// IEC 61966-2-1: what is displayed to light.
#[must_use]
pub fn to_light(shown: f32) -> f32 {
    if shown <= 0.040_45 { shown / 12.92 } else { ((shown + 0.055) / 1.055).powf(2.4) }
}

/// A curve between 0 and 1 in pieces: one for every 128th of each power of two, straight in between.
struct Curve {
    values: Vec<f32>,
}

impl Curve {
    fn new(curve: fn(f32) -> f32) -> Curve {
        let last = 1f32.to_bits() >> 16;
        Curve { values: (0..=last + 1).map(|high| curve(f32::from_bits(high << 16))).collect() }
    }

    fn at(&self, value: f32) -> f32 {
        if value >= 1.0 {
            return 1.0;
        }
        let bits = value.max(0.0).to_bits();
        let (high, low) = ((bits >> 16) as usize, (bits & 0xffff) as f32 / 65_536.0);
        self.values[high] + (self.values[high + 1] - self.values[high]) * low
    }
}

/// Brought to another size by the share that each old pixel has in a new one; another aspect leaves black at two sides.
fn fitted(all: &[Pixel], from: (usize, usize), to: (usize, usize)) -> Vec<Pixel> {
    let scale = (to.0 as f64 / from.0 as f64).min(to.1 as f64 / from.1 as f64);
    let inner = |old: usize, most: usize| ((old as f64 * scale).round() as usize).clamp(1, most);
    let size = (inner(from.0, to.0), inner(from.1, to.1));
    let across = shares(from.0, size.0);
    let down = shares(from.1, size.1);
    let mut narrow = vec![[0f32; 4]; size.0 * from.1];
    for y in 0..from.1 {
        for (x, parts) in across.iter().enumerate() {
            narrow[y * size.0 + x] = sum(parts.iter().map(|(at, share)| (&all[y * from.0 + at], *share)));
        }
    }
    let (left, top) = ((to.0 - size.0) / 2, (to.1 - size.1) / 2);
    let mut out = vec![[0.0, 0.0, 0.0, 1.0]; to.0 * to.1];
    for (y, parts) in down.iter().enumerate() {
        for x in 0..size.0 {
            out[(y + top) * to.0 + x + left] = sum(parts.iter().map(|(at, share)| (&narrow[at * size.0 + x], *share)));
        }
    }
    out
}

fn sum<'p>(parts: impl Iterator<Item = (&'p Pixel, f32)>) -> Pixel {
    parts.fold([0.0; 4], |mut sum, (pixel, share)| {
        (0..4).for_each(|channel| sum[channel] += pixel[channel] * share);
        sum
    })
}

/// Of which old places each new one is made, and how much of each: those that it covers, and when it is smaller than one, the
/// two that it lies between.
fn shares(from: usize, to: usize) -> Vec<Vec<(usize, f32)>> {
    let step = from as f64 / to as f64;
    let of = |at: usize| {
        let (start, end) = (at as f64 * step, (at + 1) as f64 * step);
        if step < 1.0 {
            let middle = ((start + end) / 2.0 - 0.5).clamp(0.0, (from - 1) as f64);
            let (low, part) = (middle.floor() as usize, (middle - middle.floor()) as f32);
            return vec![(low, 1.0 - part), ((low + 1).min(from - 1), part)];
        }
        let last = (end.ceil() as usize).min(from);
        let covered = |old: usize| (end.min((old + 1) as f64) - start.max(old as f64)).max(0.0) / step;
        (start.floor() as usize..last).map(|old| (old, covered(old) as f32)).collect()
    };
    (0..to).map(of).collect()
}

fn packed(all: &[Pixel], count: usize, deep: bool) -> Data {
    match deep {
        true => Data::Sixteen(pack(all, count, |value| (value * 65_535.0 + 0.5) as u16)),
        false => Data::Eight(pack(all, count, |value| (value * 255.0 + 0.5) as u8)),
    }
}

/// The samples of all pixels; colours that are kept with an alpha are not multiplied by it.
fn pack<T: Copy + Default>(all: &[Pixel], count: usize, value: impl Fn(f32) -> T) -> Vec<T> {
    let mut out = vec![T::default(); all.len() * count];
    for (at, own) in out.chunks_exact_mut(count).enumerate() {
        let [red, green, blue, alpha] = all[at];
        let by = if count == 4 && alpha > 0.0 { alpha } else { 1.0 };
        let straight = [red / by, green / by, blue / by, alpha];
        for (channel, sample) in own.iter_mut().enumerate() {
            *sample = value(straight[channel].clamp(0.0, 1.0));
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::{Conversion, Curve, Data, fitted, to_display, to_light};
    use truepath_core::catalogue::{Channels, Light};
    use truepath_core::sheet::{Backdrop, Colour, Size};
    use truepath_media::pixels::{Pixels, Samples};

    const PLAIN: Conversion = Conversion {
        colour: Colour::Display,
        over: Backdrop::Colour([0; 3]),
        alpha: false,
        deep: false,
        size: None,
        stops: 0.0,
    };

    #[test]
    fn the_curve_in_pieces_is_the_curve() {
        for curve in [to_display, to_light] {
            let pieces = Curve::new(curve);
            for at in 0..=100_000 {
                let value = at as f32 / 100_000.0;
                assert!((pieces.at(value) - curve(value)).abs() < 0.000_1, "{value}");
            }
        }
    }

    #[test]
    fn light_is_treated_once_and_what_is_treated_is_left_alone() {
        let picture = |samples: Samples, light| Pixels {
            width: 1,
            height: 1,
            channels: Channels::Grey,
            samples,
            premultiplied: false,
            light,
        };
        let shown = |pixels, colour| match PLAIN.apply(pixels, colour).data {
            Data::Eight(samples) => samples[0],
            Data::Sixteen(_) => unreachable!("8 bits were asked for"),
        };
        // 18 % grey is 118 of 255 in sRGB.
        assert_eq!(shown(picture(Samples::Float(vec![0.18]), Light::Linear), None), 118);
        assert_eq!(shown(picture(Samples::Float(vec![0.18]), Light::Linear), Some(Colour::Display)), 46);
        assert_eq!(shown(picture(Samples::Eight(vec![118]), Light::Display), None), 118);
        assert_eq!(shown(picture(Samples::Eight(vec![46]), Light::Display), Some(Colour::Linear)), 118);
        assert_eq!(shown(picture(Samples::Float(vec![f32::NAN]), Light::Linear), None), 0);
        assert_eq!(shown(picture(Samples::Float(vec![1e30]), Light::Linear), None), 255);
    }

    #[test]
    fn transparent_pixels_show_the_background_or_keep_their_alpha() {
        let half = Pixels {
            width: 1,
            height: 1,
            channels: Channels::Rgba,
            samples: Samples::Eight(vec![255, 0, 0, 128]),
            premultiplied: false,
            light: Light::Display,
        };
        let over = Conversion { over: Backdrop::Colour([0, 0, 255]), ..PLAIN };
        assert_eq!(over.apply(half.clone(), None).data, Data::Eight(vec![128, 0, 127]));
        let kept = Conversion { alpha: true, ..PLAIN };
        assert_eq!(kept.apply(half, None).data, Data::Eight(vec![255, 0, 0, 128]));
    }

    #[test]
    fn another_size_keeps_light_and_another_aspect_leaves_black() {
        let board: Vec<[f32; 4]> = (0..64).map(|at| [((at + at / 8) % 2) as f32, 0.5, 0.0, 1.0]).collect();
        let small = fitted(&board, (8, 8), (4, 4));
        assert!(small.iter().all(|pixel| (pixel[0] - 0.5).abs() < 1e-6 && (pixel[1] - 0.5).abs() < 1e-6));
        let wide = fitted(&board, (8, 8), (16, 8));
        assert!(wide.iter().enumerate().all(|(at, pixel)| (4..12).contains(&(at % 16)) || pixel[1] == 0.0));
        let size = Some(Size { width: 2, height: 2 });
        let grey = Pixels {
            width: 4,
            height: 4,
            channels: Channels::Grey,
            samples: Samples::Eight(vec![77; 16]),
            premultiplied: false,
            light: Light::Display,
        };
        assert_eq!(Conversion { size, ..PLAIN }.apply(grey, None).data, Data::Eight(vec![77; 12]));
    }
}
