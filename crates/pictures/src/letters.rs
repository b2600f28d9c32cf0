//! Text on pictures, in the font that is built in.

use ab_glyph::{Font, FontRef, PxScale, ScaleFont};

/// What a line of text covers.
#[derive(Clone, Debug, PartialEq)]
pub struct Line {
    /// Columns that were drawn on.
    pub width: usize,
    /// How much of each pixel is covered, 0 to 1, row by row from the top.
    pub cover: Vec<f32>,
}

/// Draws a line of text that is `height` pixels high and at most `width` wide; what does not fit is left out at its right.
/// The first letter stands a little from the left side.
///
/// # Panics
/// When the font that is built in cannot be read.
#[must_use]
pub fn line(text: &str, (width, height): (usize, usize)) -> Line {
    let font = FontRef::try_from_slice(epaint_default_fonts::HACK_REGULAR).expect("a font that is built in");
    let scale = PxScale::from(height as f32 * 0.8);
    let scaled = font.as_scaled(scale);
    let mut cover = vec![0f32; width * height];
    let base = (height as f32 - scaled.height()) / 2.0 + scaled.ascent();
    let mut x = height as f32 * 0.4;
    for sign in text.chars() {
        let id = font.glyph_id(sign);
        let advance = scaled.h_advance(id);
        if x + advance > width as f32 {
            break;
        }
        if let Some(outline) = font.outline_glyph(id.with_scale_and_position(scale, ab_glyph::point(x, base))) {
            let bounds = outline.px_bounds();
            outline.draw(|dx, dy, share| {
                let (px, py) = (bounds.min.x as i64 + i64::from(dx), bounds.min.y as i64 + i64::from(dy));
                if (0..width as i64).contains(&px) && (0..height as i64).contains(&py) {
                    let at = py as usize * width + px as usize;
                    cover[at] = (cover[at] + share).min(1.0);
                }
            });
        }
        x += advance;
    }
    Line { width: (x.ceil() as usize).min(width), cover }
}

/// How many letters fit into so many pixels; all letters of the font are equally wide.
///
/// # Panics
/// As [`line()`].
#[must_use]
pub fn fitting((width, height): (usize, usize)) -> usize {
    let font = FontRef::try_from_slice(epaint_default_fonts::HACK_REGULAR).expect("a font that is built in");
    let scaled = font.as_scaled(PxScale::from(height as f32 * 0.8));
    ((width as f32 - height as f32 * 0.4) / scaled.h_advance(font.glyph_id('0'))).max(0.0) as usize
}

/// A text of at most so many letters: its end is what tells names apart.
#[must_use]
pub fn shortened(text: &str, most: usize) -> String {
    let count = text.chars().count();
    if count <= most {
        return text.to_owned();
    }
    let kept: String = text.chars().skip(count - most.saturating_sub(2)).collect();
    format!("..{kept}").chars().take(most).collect()
}
