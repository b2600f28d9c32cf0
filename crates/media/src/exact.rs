//! Every sample of a picture file, exactly as it stands there: for comparing files, and for putting them together.

use std::io::Cursor;
use std::path::Path;

use exr::prelude::SampleType;
use tiff::decoder::DecodingResult;
use truepath_core::catalogue::{Channels, Light};
use truepath_core::verify::Seen;

use crate::pixels::{self, Pixels, Samples};
use crate::{Flaw, exr as own_exr, tiff as own_tiff};

/// A picture as a set of channels.
#[derive(Clone, Debug, PartialEq)]
pub struct Exact {
    /// Width in pixels of what is shown.
    pub width: u32,
    /// Height in pixels of what is shown.
    pub height: u32,
    /// The colour encoding that its file type usually has.
    pub light: Light,
    /// Its channels, by name.
    pub planes: Vec<Plane>,
}

/// One channel.
#[derive(Clone, Debug, PartialEq)]
pub struct Plane {
    /// `R`, `G`, `B`, `A`, `Y` for grey; in files with layers or pages with the name of that and a dot before it.
    pub name: String,
    /// Where its upper left pixel lies in the picture that is shown.
    pub origin: (i64, i64),
    /// Pixels across and down.
    pub size: (usize, usize),
    /// Its samples, row by row from the top.
    pub values: Values,
}

/// Samples of a channel.
#[derive(Clone, Debug, PartialEq)]
pub enum Values {
    /// 0 to 255.
    Eight(Vec<u8>),
    /// 0 to 65,535.
    Sixteen(Vec<u16>),
    /// 0 to 4,294,967,295.
    ThirtyTwo(Vec<u32>),
    /// Any number; 1 is white.
    Float(Vec<f32>),
    /// Any number; 1 is white.
    Double(Vec<f64>),
}

impl Values {
    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        match self {
            Values::Eight(all) => all.len(),
            Values::Sixteen(all) => all.len(),
            Values::ThirtyTwo(all) => all.len(),
            Values::Float(all) => all.len(),
            Values::Double(all) => all.len(),
        }
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Whether all are the same, by their bits.
    #[must_use]
    pub fn is_same(&self, other: &Values) -> bool {
        match (self, other) {
            (Values::Eight(a), Values::Eight(b)) => a == b,
            (Values::Sixteen(a), Values::Sixteen(b)) => a == b,
            (Values::ThirtyTwo(a), Values::ThirtyTwo(b)) => a == b,
            (Values::Float(a), Values::Float(b)) => a.iter().zip(b).all(|(a, b)| a.to_bits() == b.to_bits()),
            (Values::Double(a), Values::Double(b)) => a.iter().zip(b).all(|(a, b)| a.to_bits() == b.to_bits()),
            _ => false,
        }
    }

    /// One of them; 1 is white.
    #[must_use]
    pub fn at(&self, at: usize) -> f64 {
        match self {
            Values::Eight(all) => f64::from(all[at]) / 255.0,
            Values::Sixteen(all) => f64::from(all[at]) / 65_535.0,
            Values::ThirtyTwo(all) => f64::from(all[at]) / 4_294_967_295.0,
            Values::Float(all) => f64::from(all[at]),
            Values::Double(all) => all[at],
        }
    }
}

/// Reads every channel of a picture.
///
/// # Errors
/// When the file cannot be read, is no whole picture, or holds pixels in a way that is not read here: why.
pub fn read(path: &Path) -> Result<Exact, Flaw> {
    let picture = match crate::probe(path).map_err(crate::unread)? {
        Seen::Whole(picture) => picture,
        Seen::Missing => return Err("it does not exist".into()),
        Seen::Broken(why) | Seen::Unreadable(why) => return Err(why.into()),
        Seen::AsLanded | Seen::Movie(_) => return Err("it is not a picture".into()),
    };
    if let Some(why) = &picture.unproven {
        return Err(why.clone().into());
    }
    crate::credible(&picture, std::fs::metadata(path).map_err(crate::unread)?.len())?;
    if let Some(why) = crate::too_many(&picture) {
        return Err(why.into());
    }
    let most = crate::needed(&picture);
    let light = truepath_core::catalogue::by_name(picture.file_type).map_or(Light::Either, |known| known.light);
    let planes = match picture.file_type {
        "exr" => crate::caught(|| exr_planes(&crate::whole(path)?, most))?,
        "tiff" => crate::caught(|| tiff_pages(&crate::whole(path)?, most))?,
        _ => apart("", pixels::read(path, None)?),
    };
    Ok(Exact { width: picture.width, height: picture.height, light, planes })
}

/// Names of the channels of pixels.
fn names(channels: Channels) -> &'static [&'static str] {
    match channels {
        Channels::Grey => &["Y"],
        Channels::GreyAlpha => &["Y", "A"],
        Channels::Rgb => &["R", "G", "B"],
        Channels::Rgba => &["R", "G", "B", "A"],
    }
}

/// Pixels taken apart into their channels.
fn apart(prefix: &str, pixels: Pixels) -> Vec<Plane> {
    let size = (pixels.width as usize, pixels.height as usize);
    let names = names(pixels.channels);
    let values = match pixels.samples {
        Samples::Eight(samples) => spread(&samples, names.len()).into_iter().map(Values::Eight).collect(),
        Samples::Sixteen(samples) => spread(&samples, names.len()).into_iter().map(Values::Sixteen).collect(),
        Samples::Float(samples) => spread(&samples, names.len()).into_iter().map(Values::Float).collect(),
    };
    planes(prefix, names, size, values)
}

fn planes(prefix: &str, names: &[&str], size: (usize, usize), values: Vec<Values>) -> Vec<Plane> {
    let plane =
        |(name, values): (&&str, Values)| Plane { name: format!("{prefix}{name}"), origin: (0, 0), size, values };
    names.iter().zip(values).map(plane).collect()
}

fn spread<T: Copy>(samples: &[T], count: usize) -> Vec<Vec<T>> {
    (0..count).map(|at| samples.iter().skip(at).step_by(count).copied().collect()).collect()
}

/// Every channel of every part.
fn exr_planes(bytes: &[u8], most: usize) -> Result<Vec<Plane>, Flaw> {
    let file = own_exr::Lines::of(bytes, most)?;
    let several = file.meta.headers.len() > 1;
    let (mut all, mut places) = (Vec::new(), Vec::new());
    for (part, header) in file.meta.headers.iter().enumerate() {
        let prefix = header.own_attributes.layer_name.as_ref().filter(|_| several).map(|name| format!("{name}."));
        let (place, shown) = (header.own_attributes.layer_position, header.shared_attributes.display_window.position);
        let origin = (i64::from(place.x()) - i64::from(shown.x()), i64::from(place.y()) - i64::from(shown.y()));
        let size = (header.layer_size.x(), header.layer_size.y());
        for (at, channel) in header.channels.list.iter().enumerate() {
            let values = match channel.sample_type {
                SampleType::U32 => Values::ThirtyTwo(vec![0; size.0 * size.1]),
                SampleType::F16 | SampleType::F32 => Values::Float(vec![0.0; size.0 * size.1]),
            };
            let name = format!("{}{}", prefix.as_deref().unwrap_or_default(), channel.name);
            all.push(Plane { name, origin, size, values });
            places.push((part, at));
        }
    }
    let mut row = Vec::new();
    file.read(&places, &mut |at, (x, y), line| {
        let plane = &mut all[at];
        let start = y * plane.size.0 + x;
        match &mut plane.values {
            Values::ThirtyTwo(values) => values[start..].iter_mut().zip(line.whole()).for_each(|(old, new)| *old = new),
            Values::Float(values) => {
                line.numbers(&mut row);
                values[start..start + row.len()].copy_from_slice(&row);
            }
            _ => {}
        }
    })?;
    Ok(all)
}

/// Every page; those after the first with their number before their channels.
fn tiff_pages(bytes: &[u8], most: usize) -> Result<Vec<Plane>, Flaw> {
    let mut bytes = Cursor::new(bytes);
    let mut decoder = own_tiff::unpacker(&mut bytes, most)?;
    let (mut all, mut page) = (Vec::new(), 1);
    loop {
        let channels = pixels::tiff_channels(decoder.colortype().map_err(own_tiff::said)?)?;
        let (width, height) = decoder.dimensions().map_err(own_tiff::said)?;
        let (size, names) = ((width as usize, height as usize), names(channels));
        let of = |values: Vec<Values>| {
            let prefix = if page == 1 { String::new() } else { format!("{page}.") };
            planes(&prefix, names, size, values)
        };
        let count = names.len();
        let values: Vec<Values> = match decoder.read_image().map_err(own_tiff::said)? {
            DecodingResult::U8(all) => spread(&all, count).into_iter().map(Values::Eight).collect(),
            DecodingResult::U16(all) => spread(&all, count).into_iter().map(Values::Sixteen).collect(),
            DecodingResult::U32(all) => spread(&all, count).into_iter().map(Values::ThirtyTwo).collect(),
            DecodingResult::F16(all) => {
                let all: Vec<f32> = all.into_iter().map(f32::from).collect();
                spread(&all, count).into_iter().map(Values::Float).collect()
            }
            DecodingResult::F32(all) => spread(&all, count).into_iter().map(Values::Float).collect(),
            DecodingResult::F64(all) => spread(&all, count).into_iter().map(Values::Double).collect(),
            _ => return Err("True Path cannot read samples of this depth".into()),
        };
        if values.iter().any(|values| values.len() != size.0 * size.1) {
            return Err("a part of its pixels is missing".into());
        }
        all.extend(of(values));
        if !decoder.more_images() {
            return Ok(all);
        }
        decoder.next_image().map_err(own_tiff::said)?;
        page += 1;
    }
}
