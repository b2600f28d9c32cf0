//! What differs between two pictures, as a picture.

use truepath_media::exact::{Exact, Plane};

use crate::thumbnail::{Shade, Thumbnail, fit};

/// How far two channels are from each other at a pixel.
pub type Apart<'a> = &'a dyn Fn(&Plane, &Plane, i64, i64) -> f64;

/// The difference of two unpacked pictures of the same size, and how many times brighter it is than it was.
///
/// # Errors
/// When they have other sizes.
pub fn picture(a: &Exact, b: &Exact, within: (usize, usize), apart: Apart<'_>) -> Result<(Thumbnail, f64), String> {
    if (a.width, a.height) != (b.width, b.height) {
        return Err("they are of other sizes".to_owned());
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
        for y in 0..from.1 {
            for x in 0..from.0 {
                let far = apart(plane, other, x as i64, y as i64);
                if far > 0.0 {
                    let patch = &mut patches[y * height / from.1 * width + x * width / from.0];
                    channels.iter().for_each(|channel| patch[*channel] = patch[*channel].max(far));
                }
            }
        }
    }
    let largest = patches.iter().flatten().filter(|far| far.is_finite()).fold(0.0, |most: f64, far| most.max(*far));
    let gain = if largest > 0.0 { 1.0 / largest } else { 1.0 };
    let shown = |far: &f64| ((far * gain).min(1.0) * 255.0).ceil() as u8;
    let data = patches.iter().flatten().map(shown).collect();
    Ok((Thumbnail { width, height, shade: Shade::Colour(data) }, gain))
}
