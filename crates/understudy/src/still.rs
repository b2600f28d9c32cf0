//! Checkpoints of a long still: the rows that are done, written under way and gone on with.

use std::path::Path;
use std::time::{Duration, Instant};

use glam::{Vec3, Vec4};

use crate::args::RenderCall;
use crate::raster::{self, RasterPixel, View};
use crate::scene::Scene;
use crate::{EarlyEnd, say};

/// First bytes of a checkpoint; frame, width, height and rows follow as 64-bit numbers, then nine floats a pixel, all
/// little endian.
const HEAD: &[u8] = b"understudy still 1\n";
/// Bytes of one pixel.
const PIXEL: usize = 9 * 4;

/// Draws one frame, going on from a checkpoint and writing new ones, as far as the call asks for that.
pub fn draw(scene: &Scene, view: &View, call: &RenderCall, frame: i64) -> Result<Vec<RasterPixel>, EarlyEnd> {
    let Some(path) = &call.checkpoint else { return Ok(raster::draw(scene, view)) };
    let done = match &call.resume {
        Some(resume) => {
            let bytes = std::fs::read(resume).map_err(|error| EarlyEnd::because(resume.display(), error))?;
            let pixels = read(&bytes, view, frame)
                .ok_or_else(|| EarlyEnd::because(resume.display(), "no checkpoint of this"))?;
            say(std::io::stdout(), &format!("resumed frame {frame} at row {}", pixels.len() / view.width));
            pixels
        }
        None => Vec::new(),
    };
    let every = Duration::from_secs_f64(call.checkpoint_every.max(0.0));
    let mut last = Instant::now();
    let mut trouble = None;
    let pixels = raster::draw_from(scene, view, done, &mut |pixels| {
        if last.elapsed() >= every && trouble.is_none() {
            trouble = save(path, pixels, view, frame).err();
            last = Instant::now();
        }
    });
    trouble.map_or(Ok(pixels), Err)
}

fn save(path: &Path, pixels: &[RasterPixel], view: &View, frame: i64) -> Result<(), EarlyEnd> {
    let mut bytes = HEAD.to_vec();
    for number in [frame, view.width as i64, view.height as i64, (pixels.len() / view.width) as i64] {
        bytes.extend(number.to_le_bytes());
    }
    for pixel in pixels {
        let floats = pixel.beauty.to_array().into_iter().chain([pixel.depth]).chain(pixel.normal.to_array());
        floats.chain([pixel.mask]).for_each(|float| bytes.extend(float.to_le_bytes()));
    }
    std::fs::write(path, bytes).map_err(|error| EarlyEnd::because(path.display(), error))?;
    say(std::io::stdout(), &format!("checkpoint {}", path.display()));
    Ok(())
}

fn read(bytes: &[u8], view: &View, frame: i64) -> Option<Vec<RasterPixel>> {
    let rest = bytes.strip_prefix(HEAD)?;
    let (head, rest) = rest.split_at_checked(32)?;
    let mut numbers = head.chunks_exact(8).filter_map(|bytes| bytes.try_into().ok()).map(i64::from_le_bytes);
    let fits = [frame, view.width as i64, view.height as i64].into_iter().all(|own| numbers.next() == Some(own));
    let rows = usize::try_from(numbers.next()?).ok().filter(|rows| fits && *rows <= view.height)?;
    let pixel = |bytes: &[u8]| {
        let mut floats = bytes.chunks_exact(4).filter_map(|bytes| bytes.try_into().ok()).map(f32::from_le_bytes);
        let mut next = || floats.next().unwrap_or_default();
        let beauty = Vec4::new(next(), next(), next(), next());
        let depth = next();
        RasterPixel { beauty, depth, normal: Vec3::new(next(), next(), next()), mask: next() }
    };
    (rest.len() == rows * view.width * PIXEL).then(|| rest.chunks_exact(PIXEL).map(pixel).collect())
}
