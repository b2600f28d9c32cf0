//! The line of text below a picture.

use ab_glyph::{Font, FontRef, PxScale, ScaleFont};

use crate::treat::{Data, Treated};

/// White letters on a dark ground, as displayed.
const GROUND: f32 = 0.08;
const LETTERS: f32 = 0.9;

/// Puts a line below a picture: `height` rows more. What does not fit is left out at its right.
///
/// # Panics
/// When the font that is built in cannot be read.
pub fn burn(frame: &mut Treated, text: &str, height: usize) {
    let font = FontRef::try_from_slice(epaint_default_fonts::HACK_REGULAR).expect("a font that is built in");
    let scale = PxScale::from(height as f32 * 0.8);
    let scaled = font.as_scaled(scale);
    let mut cover = vec![0f32; frame.width * height];
    let base = (height as f32 - scaled.height()) / 2.0 + scaled.ascent();
    let mut x = height as f32 * 0.4;
    for sign in text.chars() {
        let id = font.glyph_id(sign);
        let advance = scaled.h_advance(id);
        if x + advance > frame.width as f32 {
            break;
        }
        if let Some(outline) = font.outline_glyph(id.with_scale_and_position(scale, ab_glyph::point(x, base))) {
            let bounds = outline.px_bounds();
            outline.draw(|dx, dy, share| {
                let (px, py) = (bounds.min.x as i64 + i64::from(dx), bounds.min.y as i64 + i64::from(dy));
                if (0..frame.width as i64).contains(&px) && (0..height as i64).contains(&py) {
                    let at = py as usize * frame.width + px as usize;
                    cover[at] = (cover[at] + share).min(1.0);
                }
            });
        }
        x += advance;
    }
    let values = cover.iter().map(|share| GROUND + (LETTERS - GROUND) * share);
    let count = frame.count;
    match &mut frame.data {
        Data::Eight(data) => data.extend(values.flat_map(|value| {
            let value = (value * 255.0) as u8;
            [value, value, value, 255].into_iter().take(count)
        })),
        Data::Sixteen(data) => data.extend(values.flat_map(|value| {
            let value = (value * 65_535.0) as u16;
            [value, value, value, u16::MAX].into_iter().take(count)
        })),
    }
    frame.height += height;
}
