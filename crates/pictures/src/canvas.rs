//! A picture that is drawn: 8 bits of red, green and blue, as displayed.

use crate::letters;

/// Red, green and blue.
pub type Rgb = [u8; 3];

/// A picture that is drawn.
#[derive(Clone, Debug, PartialEq)]
pub struct Canvas {
    /// Width in pixels.
    pub width: usize,
    /// Height in pixels.
    pub height: usize,
    /// Its samples, three a pixel, row by row from the top.
    pub data: Vec<u8>,
}

/// A rectangle on a canvas, in pixels from its upper left corner.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Area {
    /// Pixels from the left.
    pub x: usize,
    /// Pixels from the top.
    pub y: usize,
    /// Its width.
    pub width: usize,
    /// Its height.
    pub height: usize,
}

impl Area {
    /// A rectangle of a size.
    #[must_use]
    pub fn new((x, y): (usize, usize), (width, height): (usize, usize)) -> Area {
        Area { x, y, width, height }
    }

    /// What is left of it when so many pixels are taken from each side.
    #[must_use]
    pub fn inner(self, by: usize) -> Area {
        let less = |side: usize| side.saturating_sub(2 * by);
        Area::new((self.x + by, self.y + by), (less(self.width), less(self.height)))
    }
}

impl Canvas {
    /// A canvas of one colour.
    #[must_use]
    pub fn new(width: usize, height: usize, colour: Rgb) -> Canvas {
        Canvas { width, height, data: colour.repeat(width * height) }
    }

    /// Mixes a colour into a pixel; outside of the canvas nothing happens.
    fn mix(&mut self, (x, y): (usize, usize), colour: Rgb, share: f32) {
        if x >= self.width || y >= self.height {
            return;
        }
        let own = &mut self.data[(y * self.width + x) * 3..][..3];
        for (value, new) in own.iter_mut().zip(colour) {
            *value = (f32::from(*value) + (f32::from(new) - f32::from(*value)) * share + 0.5) as u8;
        }
    }

    /// Fills a rectangle.
    pub fn fill(&mut self, place: Area, colour: Rgb) {
        for y in place.y..(place.y + place.height).min(self.height) {
            let row = (y * self.width + place.x.min(self.width)) * 3;
            let end = (y * self.width + (place.x + place.width).min(self.width)) * 3;
            self.data[row..end].as_chunks_mut::<3>().0.fill(colour);
        }
    }

    /// Draws the sides of a rectangle, so many pixels thick, within it.
    pub fn frame(&mut self, place: Area, thick: usize, colour: Rgb) {
        let Area { x, y, width, height } = place;
        let thick = thick.min(width).min(height);
        self.fill(Area::new((x, y), (width, thick)), colour);
        self.fill(Area::new((x, y + height - thick), (width, thick)), colour);
        self.fill(Area::new((x, y), (thick, height)), colour);
        self.fill(Area::new((x + width - thick, y), (thick, height)), colour);
    }

    /// Draws slanted lines over a rectangle: what is not there.
    pub fn hatch(&mut self, place: Area, apart: usize, colour: Rgb) {
        for dy in 0..place.height {
            for dx in (0..place.width).filter(|dx| (dx + dy).is_multiple_of(apart)) {
                self.mix((place.x + dx, place.y + dy), colour, 1.0);
            }
        }
    }

    /// Draws both diagonals of a rectangle: what is broken.
    pub fn cross(&mut self, place: Area, colour: Rgb) {
        let steps = place.width.max(place.height).max(2) * 2;
        for step in 0..steps {
            let share = step as f64 / (steps - 1) as f64;
            let x = (share * place.width.saturating_sub(1) as f64).round() as usize;
            let y = (share * place.height.saturating_sub(1) as f64).round() as usize;
            for thick in 0..2 {
                self.mix((place.x + x, place.y + y + thick), colour, 1.0);
                self.mix((place.x + place.width - 1 - x, place.y + y + thick), colour, 1.0);
            }
        }
    }

    /// Puts another picture on this one.
    pub fn paste(&mut self, (x, y): (usize, usize), size: (usize, usize), rgb: &[u8]) {
        let width = size.0.min(self.width.saturating_sub(x));
        for row in 0..size.1.min(self.height.saturating_sub(y)) {
            let to = ((y + row) * self.width + x) * 3;
            self.data[to..to + width * 3].copy_from_slice(&rgb[row * size.0 * 3..][..width * 3]);
        }
    }

    /// Writes a line of text into a rectangle, as high as that is; what does not fit is left out at its right. Returns how
    /// wide it is.
    pub fn text(&mut self, place: Area, text: &str, colour: Rgb) -> usize {
        let line = letters::line(text, (place.width, place.height));
        for (at, share) in line.cover.iter().enumerate().filter(|(_, share)| **share > 0.0) {
            self.mix((place.x + at % place.width, place.y + at / place.width), colour, *share);
        }
        line.width
    }

    /// It as a PNG file.
    ///
    /// # Errors
    /// When it has more pixels along a side than such a file can have.
    pub fn png(&self) -> std::io::Result<Vec<u8>> {
        let side = |side: usize| u32::try_from(side).unwrap_or(u32::MAX);
        let mut out = Vec::new();
        let mut encoder = png::Encoder::new(&mut out, side(self.width), side(self.height));
        encoder.set_color(png::ColorType::Rgb);
        encoder.set_source_srgb(png::SrgbRenderingIntent::Perceptual);
        let mut writer = encoder.write_header()?;
        writer.write_image_data(&self.data)?;
        writer.finish()?;
        Ok(out)
    }
}
