//! What differs between two pictures, as a picture.

use truepath_core::flaw::Flaw;
use truepath_media::exact::{Exact, Plane};

use crate::thumbnail::{Shade, Thumbnail, fit, span};

/// How far two channels are from each other at a pixel.
pub type Apart<'a> = &'a dyn Fn(&Plane, &Plane, i64, i64) -> f64;

/// So large a share of what differs is not yet white: single highlights leave the rest to be seen.
const BELOW_WHITE: f64 = 0.95;

/// The difference of two unpacked pictures of the same size, and how many times brighter it is than it was.
///
/// # Errors
/// When they have other sizes.
pub fn picture(a: &Exact, b: &Exact, within: (usize, usize), apart: Apart<'_>) -> Result<(Thumbnail, f64), Flaw> {
    if (a.width, a.height) != (b.width, b.height) {
        return Err("they have different sizes".into());
    }
    let from = (a.width as usize, a.height as usize);
    let (width, height) = fit(from, within);
    let mut patches = vec![[0f64; 3]; width * height];
    for plane in &a.planes {
        let Some(other) = b.planes.iter().find(|other| other.name == plane.name) else { continue };
        let channels: &[usize] = match plane.name.rsplit('.').next() {
            Some("R") => &[0],
            Some("G") => &[1],
            Some("B") => &[2],
            _ => &[0, 1, 2],
        };
        for (at, patch) in patches.iter_mut().enumerate() {
            let ((left, right), (top, bottom)) = (span(at % width, from.0, width), span(at / width, from.1, height));
            let all = (top..bottom).flat_map(|y| (left..right).map(move |x| (x, y)));
            // One pixel that differs is not lost among those that do not.
            let far = all.map(|(x, y)| apart(plane, other, x as i64, y as i64)).fold(0.0, f64::max);
            channels.iter().for_each(|channel| patch[*channel] = patch[*channel].max(far));
        }
    }
    let mut far: Vec<f64> = patches.iter().flatten().copied().filter(|far| *far > 0.0 && far.is_finite()).collect();
    let at = (far.len() as f64 * BELOW_WHITE) as usize;
    let gain = if far.is_empty() { 1.0 } else { 1.0 / *far.select_nth_unstable_by(at, f64::total_cmp).1 };
    let shown = |far: &f64| ((far * gain).min(1.0).sqrt() * 255.0).ceil() as u8;
    let data = patches.iter().flatten().map(shown).collect();
    Ok((Thumbnail { width, height, shade: Shade::Colour(data) }, gain))
}
