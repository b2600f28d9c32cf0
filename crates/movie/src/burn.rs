//! The line of text below a picture.

use truepath_pictures::conversion::{Converted, Data};
use truepath_pictures::letters;

/// White letters on a dark ground, as displayed.
const GROUND: f32 = 0.08;
const LETTERS: f32 = 0.9;

/// Puts a line below a picture: `height` rows more. What does not fit is left out at its right.
pub fn burn(frame: &mut Converted, text: &str, height: usize) {
    let line = letters::line(text, (frame.width, height));
    let values = line.cover.iter().map(|share| GROUND + (LETTERS - GROUND) * share);
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
