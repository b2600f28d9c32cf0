//! Two picture files of the same frame: how alike they are.

use std::collections::BTreeSet;
use std::fs::File;
use std::io::{BufReader, Read};
use std::path::Path;

use truepath_core::catalogue::Light;
use truepath_core::sheet::{Backdrop, Colour, Size};
use truepath_media::exact::{self, Exact, Plane, Values};
use truepath_media::pixels;

use crate::treat::{Data, Treatment, to_display};

/// How two files are compared.
#[derive(Clone, Copy, Debug, Default)]
pub struct Comparing {
    /// The largest difference of a sample that still passes; 1 is white.
    pub tolerance: f64,
    /// Whether the larger of two sizes is brought to the smaller one. Both are compared as displayed then.
    pub scaled: bool,
}

/// How alike two files are.
#[derive(Clone, Debug, PartialEq)]
pub enum Likeness {
    /// Every byte is the same.
    SameBytes,
    /// Every sample is the same; how they are stored is not.
    SamePixels,
    /// Some samples differ.
    Differs(Difference),
    /// They are of other sizes: in pixels, before and after.
    OtherSize((u32, u32), (u32, u32)),
    /// They hold other channels: those that only one of them has, before and after.
    OtherChannels(Vec<String>, Vec<String>),
    /// Their bytes differ, and one of them cannot be unpacked: which, and why.
    Unread(Side, String),
}

/// One of two.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Side {
    /// The first.
    Before,
    /// The second.
    After,
}

/// By how much samples differ; 1 is white.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Difference {
    /// The largest difference of a sample; infinite where a side has no finite number and the other has another one.
    pub largest: f64,
    /// The mean difference of all samples.
    pub mean: f64,
    /// Peak signal-to-noise ratio in decibels, for a peak of 1.
    pub psnr: f64,
    /// The share of pixels with a sample that differs by more than the tolerance, 0 to 1.
    pub beyond: f64,
    /// The channel with the largest difference, and its pixel from the upper left.
    pub channel: String,
    /// Where it is.
    pub at: (i64, i64),
    /// The layers that differ, of files with several.
    pub layers: Vec<String>,
}

impl Likeness {
    /// Whether nothing differs by more than the tolerance.
    #[must_use]
    pub fn is_within(&self, tolerance: f64) -> bool {
        match self {
            Likeness::SameBytes | Likeness::SamePixels => true,
            Likeness::Differs(difference) => difference.largest <= tolerance,
            _ => false,
        }
    }
}

/// Compares two files.
///
/// # Errors
/// When the disk cannot answer.
pub fn compare(before: &Path, after: &Path, how: Comparing) -> std::io::Result<Likeness> {
    if same_bytes(before, after)? {
        return Ok(Likeness::SameBytes);
    }
    Ok(match both(before, after, how.scaled) {
        Ok((a, b)) => of_exact(&a, &b, how.tolerance),
        Err(unread) => unread,
    })
}

/// Both sides, brought to one size where that is asked for.
fn both(before: &Path, after: &Path, scaled: bool) -> Result<(Exact, Exact), Likeness> {
    let read = |path: &Path, side: Side| exact::read(path).map_err(|why| Likeness::Unread(side, why));
    let (a, b) = (read(before, Side::Before)?, read(after, Side::After)?);
    if (a.width, a.height) == (b.width, b.height) || !scaled {
        return Ok(aligned(a, b));
    }
    let size = Size { width: a.width.min(b.width), height: a.height.min(b.height) };
    let read = |path: &Path, side: Side| shown(path, size).map_err(|why| Likeness::Unread(side, why));
    Ok((read(before, Side::Before)?, read(after, Side::After)?))
}

/// Where one side is light and the other is meant for display, both are as displayed.
fn aligned(mut a: Exact, mut b: Exact) -> (Exact, Exact) {
    let is_light = |side: &Exact| side.light == Light::Linear;
    if is_light(&a) != is_light(&b) && a.light != Light::Either && b.light != Light::Either {
        for side in [&mut a, &mut b].into_iter().filter(|side| side.light == Light::Linear) {
            for plane in side.planes.iter_mut().filter(|plane| !plane.name.ends_with('A')) {
                let display = |at| f64::from(to_display((plane.values.at(at) as f32).clamp(0.0, 1.0)));
                plane.values = Values::Double((0..plane.values.len()).map(display).collect());
            }
        }
    }
    (a, b)
}

/// A picture as displayed, in a size.
fn shown(path: &Path, size: Size) -> Result<Exact, String> {
    let treatment = Treatment {
        colour: Colour::Display,
        over: Backdrop::Colour([0; 3]),
        alpha: true,
        deep: true,
        size: Some(size),
        stops: 0.0,
    };
    let treated = treatment.apply(pixels::read(path, None)?, None);
    let Data::Sixteen(data) = treated.data else { return Err("it cannot be brought to another size".to_owned()) };
    let plane = |(at, name): (usize, &str)| Plane {
        name: name.to_owned(),
        origin: (0, 0),
        size: (treated.width, treated.height),
        values: Values::Sixteen(data.iter().skip(at).step_by(4).copied().collect()),
    };
    let planes = ["R", "G", "B", "A"].into_iter().enumerate().map(plane).collect();
    Ok(Exact { width: size.width, height: size.height, light: Light::Display, planes })
}

/// Whether two files have the same bytes.
fn same_bytes(before: &Path, after: &Path) -> std::io::Result<bool> {
    let ((a, length), (b, other)) = (truepath_media::open(before)?, truepath_media::open(after)?);
    if length != other {
        return Ok(false);
    }
    let (mut a, mut b) = (BufReader::with_capacity(1 << 16, a), BufReader::with_capacity(1 << 16, b));
    let (mut one, mut two) = (vec![0; 1 << 16], vec![0; 1 << 16]);
    loop {
        let count = fill(&mut a, &mut one)?;
        if count != fill(&mut b, &mut two)? || one[..count] != two[..count] {
            return Ok(false);
        }
        if count == 0 {
            return Ok(true);
        }
    }
}

fn fill(file: &mut BufReader<File>, buffer: &mut [u8]) -> std::io::Result<usize> {
    let mut count = 0;
    while count < buffer.len() {
        match file.read(&mut buffer[count..])? {
            0 => break,
            read => count += read,
        }
    }
    Ok(count)
}

/// Compares two unpacked pictures.
fn of_exact(a: &Exact, b: &Exact, tolerance: f64) -> Likeness {
    if (a.width, a.height) != (b.width, b.height) {
        return Likeness::OtherSize((a.width, a.height), (b.width, b.height));
    }
    let lacks = |side: &Exact, name: &str| side.planes.iter().all(|plane| plane.name != name);
    let only = |side: &Exact, other: &Exact| -> Vec<String> {
        side.planes.iter().map(|plane| plane.name.clone()).filter(|name| lacks(other, name)).collect()
    };
    let (only_a, only_b) = (only(a, b), only(b, a));
    if !only_a.is_empty() || !only_b.is_empty() {
        return Likeness::OtherChannels(only_a, only_b);
    }
    let mut sums = Sums::default();
    for plane in &a.planes {
        let Some(other) = b.planes.iter().find(|other| other.name == plane.name) else { continue };
        sums.add(plane, other, tolerance);
    }
    sums.end()
}

/// A rectangle around two channels, in pixels from the upper left of the picture: left, top, width, height.
fn around(a: &Plane, b: &Plane) -> (i64, i64, usize, usize) {
    let end = |plane: &Plane| (plane.origin.0 + plane.size.0 as i64, plane.origin.1 + plane.size.1 as i64);
    let (left, top) = (a.origin.0.min(b.origin.0), a.origin.1.min(b.origin.1));
    let (right, bottom) = (end(a).0.max(end(b).0), end(a).1.max(end(b).1));
    (left, top, (right - left) as usize, (bottom - top) as usize)
}

/// The sample of a channel at a pixel of the picture; outside of what it stores it is zero.
fn sample(plane: &Plane, x: i64, y: i64) -> f64 {
    let (x, y) = (x - plane.origin.0, y - plane.origin.1);
    if x < 0 || y < 0 || x >= plane.size.0 as i64 || y >= plane.size.1 as i64 {
        return 0.0;
    }
    plane.values.at(y as usize * plane.size.0 + x as usize)
}

/// How far two samples are from each other.
fn apart(a: f64, b: f64) -> f64 {
    if a == b || (a.is_nan() && b.is_nan()) {
        0.0
    } else if a.is_finite() && b.is_finite() {
        (a - b).abs()
    } else {
        f64::INFINITY
    }
}

/// What the differences of all channels come to.
#[derive(Default)]
struct Sums {
    differs: bool,
    largest: f64,
    sum: f64,
    squares: f64,
    samples: u64,
    channel: String,
    at: (i64, i64),
    layers: BTreeSet<String>,
    /// Whether each pixel has a sample beyond the tolerance, and the rectangle that they lie in.
    beyond: Vec<bool>,
    rectangle: (i64, i64, usize, usize),
}

impl Sums {
    fn add(&mut self, a: &Plane, b: &Plane, tolerance: f64) {
        let rectangle = around(a, b);
        let (left, top, width, height) = rectangle;
        self.samples += (width * height) as u64;
        // Values are mostly the same, and then told so fast.
        if a.origin == b.origin && a.size == b.size && a.values.is_same(&b.values) {
            return;
        }
        if self.rectangle != rectangle {
            // Channels of other windows: counted by themselves, with those that are beyond in any of them.
            self.beyond.resize(self.beyond.len().max(width * height), false);
            self.rectangle = rectangle;
        }
        let mut differs = false;
        for row in 0..height {
            for column in 0..width {
                let (x, y) = (left + column as i64, top + row as i64);
                let apart = apart(sample(a, x, y), sample(b, x, y));
                if apart == 0.0 {
                    continue;
                }
                if apart > self.largest {
                    self.largest = apart;
                    self.at = (x, y);
                    self.channel.clone_from(&a.name);
                }
                differs = true;
                self.sum += apart;
                self.squares += apart * apart;
                if apart > tolerance {
                    self.beyond[row * width + column] = true;
                }
            }
        }
        if differs {
            self.differs = true;
            self.layers.extend(a.name.rsplit_once('.').map(|(layer, _)| layer.to_owned()));
        }
    }

    fn end(self) -> Likeness {
        if !self.differs {
            return Likeness::SamePixels;
        }
        let samples = self.samples as f64;
        Likeness::Differs(Difference {
            largest: self.largest,
            mean: self.sum / samples,
            psnr: 10.0 * (samples / self.squares).log10(),
            beyond: self.beyond.iter().filter(|beyond| **beyond).count() as f64 / self.beyond.len() as f64,
            channel: self.channel,
            at: self.at,
            layers: self.layers.into_iter().collect(),
        })
    }
}

/// What differs between two files, as a picture within a size: each channel's difference, the largest one of each patch, as
/// many times brighter as makes the largest one white. Returns that number with it.
///
/// # Errors
/// When there is nothing to be compared pixel by pixel: why.
pub fn picture(
    before: &Path,
    after: &Path,
    how: Comparing,
    within: (usize, usize),
) -> Result<(crate::thumbnail::Thumbnail, f64), String> {
    let (a, b) = both(before, after, how.scaled).map_err(|_| "one of them cannot be unpacked".to_owned())?;
    crate::difference::picture(&a, &b, within, &|a, b, x, y| apart(sample(a, x, y), sample(b, x, y)))
}
