//! Two picture files of the same frame: how alike they are.
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::{BufReader, Read};
use std::path::Path;

use truepath_core::catalogue::Light;
use truepath_core::flaw::Flaw;
use truepath_core::sheet::{Backdrop, Colour, Size};
use truepath_media::exact::{self, Exact, Plane, Values};
use truepath_media::pixels;

use crate::conversion::{Conversion, Data, to_display};

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
    Differs(SampleDifference),
    /// They are of other sizes: in pixels, before and after.
    OtherSize((u32, u32), (u32, u32)),
    /// They hold other channels: those that only one of them has, before and after.
    OtherChannels(Vec<String>, Vec<String>),
    /// Their bytes differ, and one of them cannot be decoded: which, and why.
    Unread(Side, Flaw),
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
pub struct SampleDifference {
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

/// Where one side is scene-linear and the other display-encoded, both are compared display-encoded.
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
fn shown(path: &Path, size: Size) -> Result<Exact, Flaw> {
    let conversion = Conversion {
        colour: Colour::Display,
        over: Backdrop::Colour([0; 3]),
        alpha: true,
        deep: true,
        size: Some(size),
        stops: 0.0,
    };
    let converted = conversion.apply(pixels::read(path, None)?, None);
    let Data::Sixteen(data) = converted.data else { return Err("it cannot be scaled".into()) };
    let plane = |(at, name): (usize, &str)| Plane {
        name: name.to_owned(),
        origin: (0, 0),
        size: (converted.width, converted.height),
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

/// The pixel of the picture that a sample of a channel is of.
fn pixel(plane: &Plane, at: usize) -> (i64, i64) {
    (plane.origin.0 + (at % plane.size.0) as i64, plane.origin.1 + (at / plane.size.0) as i64)
}

/// Where a channel stores a pixel of the picture, if it does.
fn place(plane: &Plane, x: i64, y: i64) -> Option<usize> {
    let (x, y) = (x - plane.origin.0, y - plane.origin.1);
    let is_in = x >= 0 && y >= 0 && x < plane.size.0 as i64 && y < plane.size.1 as i64;
    is_in.then(|| y as usize * plane.size.0 + x as usize)
}

/// The sample of a channel at a pixel of the picture; outside of what it stores it is zero.
fn sample(plane: &Plane, x: i64, y: i64) -> f64 {
    place(plane, x, y).map_or(0.0, |at| plane.values.at(at))
}

/// How far two samples are from each other.
fn far(a: f64, b: f64) -> f64 {
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
    /// Whether each pixel has a sample beyond the tolerance, for each window that channels have.
    beyond: BTreeMap<Window, Vec<bool>>,
}

/// Where the pixels of a channel lie, and how many there are.
type Window = ((i64, i64), (usize, usize));

impl Sums {
    fn add(&mut self, a: &Plane, b: &Plane, tolerance: f64) {
        let is_same_window = (a.origin, a.size) == (b.origin, b.size);
        self.samples += (a.size.0 * a.size.1) as u64;
        self.beyond.entry((a.origin, a.size)).or_insert_with(|| vec![false; a.size.0 * a.size.1]);
        // Values are mostly the same, and then told so fast.
        if is_same_window && a.values.is_same(&b.values) {
            return;
        }
        let differs = match (&a.values, &b.values) {
            // What is mostly met, without asking for each sample what it is.
            (Values::Eight(one), Values::Eight(two)) if is_same_window => {
                self.over(a, tolerance, |at| far(f64::from(one[at]) / 255.0, f64::from(two[at]) / 255.0))
            }
            (Values::Float(one), Values::Float(two)) if is_same_window => {
                self.over(a, tolerance, |at| far(f64::from(one[at]), f64::from(two[at])))
            }
            _ if is_same_window => self.over(a, tolerance, |at| far(a.values.at(at), b.values.at(at))),
            _ => {
                // What only the other one stores has zero beside it.
                self.samples += (b.size.0 * b.size.1) as u64;
                let first = self.over(a, tolerance, |at| {
                    let (x, y) = pixel(a, at);
                    far(a.values.at(at), sample(b, x, y))
                });
                let second = self.over(b, tolerance, |at| {
                    let (x, y) = pixel(b, at);
                    if place(a, x, y).is_some() { 0.0 } else { far(0.0, b.values.at(at)) }
                });
                first || second
            }
        };
        if differs {
            self.differs = true;
            self.layers.extend(a.name.rsplit_once('.').map(|(layer, _)| layer.to_owned()));
        }
    }

    /// Adds up how far the samples of a channel are from those beside them. Whether any is.
    fn over(&mut self, own: &Plane, tolerance: f64, far: impl Fn(usize) -> f64) -> bool {
        let mut beyond = self.beyond.remove(&(own.origin, own.size)).unwrap_or_default();
        let mut differs = false;
        beyond.resize(own.values.len(), false);
        for (at, beyond) in beyond.iter_mut().enumerate() {
            let far = far(at);
            if far == 0.0 {
                continue;
            }
            differs = true;
            if far > self.largest {
                self.largest = far;
                self.at = pixel(own, at);
                self.channel.clone_from(&own.name);
            }
            self.sum += far;
            self.squares += far * far;
            *beyond |= far > tolerance;
        }
        self.beyond.insert((own.origin, own.size), beyond);
        differs
    }

    fn end(self) -> Likeness {
        if !self.differs {
            return Likeness::SamePixels;
        }
        let samples = self.samples as f64;
        let pixels: usize = self.beyond.values().map(Vec::len).sum();
        let beyond: usize = self.beyond.values().flatten().filter(|beyond| **beyond).count();
        Likeness::Differs(SampleDifference {
            largest: self.largest,
            mean: self.sum / samples,
            psnr: 10.0 * (samples / self.squares).log10(),
            beyond: beyond as f64 / pixels.max(1) as f64,
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
) -> Result<(crate::thumbnail::Thumbnail, f64), Flaw> {
    let (a, b) = both(before, after, how.scaled).map_err(|_| "one of them cannot be decoded")?;
    crate::difference::picture(&a, &b, within, &|a, b, x, y| far(sample(a, x, y), sample(b, x, y)))
}
