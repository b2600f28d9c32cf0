//! The pixels of a picture, as they stand in its file.

use std::io::Cursor;
use std::path::Path;

use image::{DynamicImage, ImageFormat, ImageReader, Limits};
use tiff::decoder::DecodingResult;
use truepath_core::catalogue::{Bits, Channels, Light};
use truepath_core::picture::Content;
use truepath_core::verify::{Picture, Seen};

pub use crate::samples::Samples;
use crate::samples::{samples_of, sum};
use crate::stats::of_pixels;
use crate::{Flaw, exr as own_exr, png as own_png, raw, tiff as own_tiff, webp as own_webp};

/// A picture.
#[derive(Clone, Debug, PartialEq)]
pub struct Pixels {
    /// Width in pixels.
    pub width: u32,
    /// Height in pixels.
    pub height: u32,
    /// Which samples each pixel has.
    pub channels: Channels,
    /// All samples, pixel by pixel, row by row from the top.
    pub samples: Samples,
    /// Whether colours are multiplied by alpha already, as OpenEXR has it.
    pub premultiplied: bool,
    /// The colour encoding that its file type usually has.
    pub light: Light,
}

impl Pixels {
    /// Samples of one pixel.
    #[must_use]
    pub fn count(&self) -> usize {
        samples_of(self.channels)
    }

    /// What they come to.
    #[must_use]
    pub fn content(&self) -> Content {
        let (size, count) = ((self.width as usize, self.height as usize), self.count());
        match &self.samples {
            Samples::Eight(samples) => of_pixels(size, count, samples, sum(samples)),
            Samples::Sixteen(samples) => of_pixels(size, count, samples, sum(samples)),
            Samples::Float(samples) => of_pixels(size, count, samples, sum(samples)),
        }
    }

    /// Whether nothing is missing of its samples.
    fn is_whole(&self) -> bool {
        let there = match &self.samples {
            Samples::Eight(samples) => samples.len(),
            Samples::Sixteen(samples) => samples.len(),
            Samples::Float(samples) => samples.len(),
        };
        there as u64 == u64::from(self.width) * u64::from(self.height) * self.count() as u64
    }
}

/// Reads every pixel of a picture; of a file with layers those of `layer`, else those without a layer or of the first.
///
/// # Errors
/// When the file cannot be read, is no whole picture, or holds pixels in a way that is not read here: why.
pub fn read(path: &Path, layer: Option<&str>) -> Result<Pixels, Flaw> {
    let picture = match crate::probe(path).map_err(crate::unread)? {
        Seen::Whole(picture) => picture,
        Seen::Missing => return Err("it does not exist".into()),
        Seen::Broken(why) | Seen::Unreadable(why) => return Err(why.into()),
        Seen::AsLanded | Seen::Movie(_) => return Err("it is not a picture".into()),
    };
    let length = std::fs::metadata(path).map_err(crate::unread)?.len();
    crate::credible(&picture, length)?;
    if let Some(why) = crate::too_many(&picture) {
        return Err(why.into());
    }
    let most = crate::needed(&picture);
    crate::caught(|| unpacked(path, layer, &picture, most))
}

fn unpacked(path: &Path, layer: Option<&str>, picture: &Picture, most: usize) -> Result<Pixels, Flaw> {
    let held = crate::whole(path)?;
    let bytes = Cursor::new(held.as_slice());
    let light = truepath_core::catalogue::by_name(picture.file_type).map_or(Light::Either, |known| known.light);
    let plain = |channels, samples| Pixels {
        width: picture.width,
        height: picture.height,
        channels,
        samples,
        premultiplied: false,
        light,
    };
    let pixels = match picture.file_type {
        "png" => png(bytes, most, plain),
        "jpeg" => jpeg(bytes, plain),
        "tiff" => tiff(bytes, most, plain),
        "exr" => exr_layer((&held, most), layer, light),
        "webp" => webp(bytes, most, plain),
        "dpx" => {
            let (channels, samples) = crate::dpx::read(bytes, most)?;
            Ok(plain(channels, samples))
        }
        "bmp" => image(bytes, (ImageFormat::Bmp, most), plain),
        "tga" => image(bytes, (ImageFormat::Tga, most), plain),
        "hdr" => image(bytes, (ImageFormat::Hdr, most), plain),
        other => Err(format!("True Path cannot read pixels of {other} files").into()),
    }?;
    if pixels.is_whole() { Ok(pixels) } else { Err("a part of its pixels is missing".into()) }
}

fn damaged() -> Flaw {
    "its pixels are damaged: they cannot be decompressed".into()
}

fn png(bytes: Cursor<&[u8]>, most: usize, plain: impl Fn(Channels, Samples) -> Pixels) -> Result<Pixels, Flaw> {
    let mut decoder = png::Decoder::new_with_limits(bytes, png::Limits { bytes: most });
    decoder.set_transformations(png::Transformations::EXPAND);
    let mut reader = decoder.read_info().map_err(own_png::said)?;
    let size = reader.output_buffer_size().filter(|size| *size <= most).ok_or("it is too large")?;
    let mut data = vec![0; size];
    let frame = reader.next_frame(&mut data).map_err(own_png::said)?;
    data.truncate(frame.buffer_size());
    let channels = match frame.color_type {
        png::ColorType::Grayscale | png::ColorType::Indexed => Channels::Grey,
        png::ColorType::GrayscaleAlpha => Channels::GreyAlpha,
        png::ColorType::Rgb => Channels::Rgb,
        png::ColorType::Rgba => Channels::Rgba,
    };
    Ok(plain(
        channels,
        match frame.bit_depth {
            png::BitDepth::Sixteen => {
                Samples::Sixteen(data.chunks_exact(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]])).collect())
            }
            _ => Samples::Eight(data),
        },
    ))
}

fn jpeg(bytes: Cursor<&[u8]>, plain: impl Fn(Channels, Samples) -> Pixels) -> Result<Pixels, Flaw> {
    use zune_jpeg::zune_core::colorspace::ColorSpace;
    use zune_jpeg::zune_core::options::DecoderOptions;
    let options = DecoderOptions::default().set_max_width(65_535).set_max_height(65_535);
    let mut decoder = zune_jpeg::JpegDecoder::new_with_options(bytes, options);
    decoder.decode_headers().map_err(|_| damaged())?;
    let grey = decoder.input_colorspace() == Some(ColorSpace::Luma);
    let wanted = if grey { ColorSpace::Luma } else { ColorSpace::RGB };
    decoder.set_options(options.jpeg_set_out_colorspace(wanted));
    let data = decoder.decode().map_err(|_| damaged())?;
    Ok(plain(if grey { Channels::Grey } else { Channels::Rgb }, Samples::Eight(data)))
}

fn tiff(mut bytes: Cursor<&[u8]>, most: usize, plain: impl Fn(Channels, Samples) -> Pixels) -> Result<Pixels, Flaw> {
    let mut decoder = own_tiff::unpacker(&mut bytes, most)?;
    let channels = tiff_channels(decoder.colortype().map_err(own_tiff::said)?)?;
    // ExtraSamples 1: alpha that colours are multiplied by (TIFF 6.0, section 18).
    let extra: Option<Vec<u16>> =
        decoder.find_tag_unsigned_vec(tiff::tags::Tag::ExtraSamples).map_err(own_tiff::said)?;
    let samples = match decoder.read_image().map_err(own_tiff::said)? {
        DecodingResult::U8(samples) => Samples::Eight(samples),
        DecodingResult::U16(samples) => Samples::Sixteen(samples),
        DecodingResult::U32(samples) => {
            Samples::Sixteen(samples.into_iter().map(|value| (value >> 16) as u16).collect())
        }
        DecodingResult::F16(samples) => Samples::Float(samples.into_iter().map(f32::from).collect()),
        DecodingResult::F32(samples) => Samples::Float(samples),
        DecodingResult::F64(samples) => Samples::Float(samples.into_iter().map(|value| value as f32).collect()),
        _ => return Err("True Path cannot read samples of this depth".into()),
    };
    let premultiplied = extra.is_some_and(|kinds| kinds.first() == Some(&1));
    Ok(Pixels { premultiplied, ..plain(channels, samples) })
}

/// The channels of a page, whatever their depth.
pub(crate) fn tiff_channels(kind: tiff::ColorType) -> Result<Channels, Flaw> {
    match kind {
        tiff::ColorType::Gray(_) => Ok(Channels::Grey),
        // What grey with a sample more is called where it comes from.
        tiff::ColorType::GrayA(_) | tiff::ColorType::Multiband { num_samples: 2, .. } => Ok(Channels::GreyAlpha),
        tiff::ColorType::RGB(_) => Ok(Channels::Rgb),
        tiff::ColorType::RGBA(_) => Ok(Channels::Rgba),
        other => Err(format!("True Path cannot read colours stored as {other:?}").into()),
    }
}

fn webp(bytes: Cursor<&[u8]>, most: usize, plain: impl Fn(Channels, Samples) -> Pixels) -> Result<Pixels, Flaw> {
    let mut decoder = image_webp::WebPDecoder::new(bytes).map_err(own_webp::said)?;
    let size = decoder.output_buffer_size().filter(|size| *size <= most).ok_or("it is too large")?;
    let mut data = vec![0; size];
    decoder.read_image(&mut data).map_err(own_webp::said)?;
    Ok(plain(if decoder.has_alpha() { Channels::Rgba } else { Channels::Rgb }, Samples::Eight(data)))
}

/// BMP, TGA and Radiance HDR.
fn image(
    bytes: Cursor<&[u8]>,
    (format, most): (ImageFormat, usize),
    plain: impl Fn(Channels, Samples) -> Pixels,
) -> Result<Pixels, Flaw> {
    let mut reader = ImageReader::with_format(bytes, format);
    let mut limits = Limits::default();
    limits.max_alloc = Some(most as u64);
    reader.limits(limits);
    Ok(match reader.decode().map_err(raw::said)? {
        DynamicImage::ImageLuma8(image) => plain(Channels::Grey, Samples::Eight(image.into_raw())),
        DynamicImage::ImageLumaA8(image) => plain(Channels::GreyAlpha, Samples::Eight(image.into_raw())),
        DynamicImage::ImageRgb8(image) => plain(Channels::Rgb, Samples::Eight(image.into_raw())),
        DynamicImage::ImageRgba8(image) => plain(Channels::Rgba, Samples::Eight(image.into_raw())),
        DynamicImage::ImageRgb32F(image) => plain(Channels::Rgb, Samples::Float(image.into_raw())),
        other => plain(Channels::Rgba, Samples::Sixteen(other.into_rgba16().into_raw())),
    })
}

/// One layer of an OpenEXR file, laid into the window that is displayed; what lies outside of it is left out, and what it
/// does not cover is black.
fn exr_layer((bytes, most): (&[u8], usize), layer: Option<&str>, light: Light) -> Result<Pixels, Flaw> {
    let file = own_exr::Lines::of(bytes, most)?;
    let window = file.meta.headers.first().ok_or("it has no header")?.shared_attributes.display_window;
    let (width, height) = (window.size.x(), window.size.y());
    let found = channels_of(&file.meta);
    let (colours, alpha) = channels_of_layer(&found, layer)?;
    let planes: Vec<&ExrChannel> = colours.iter().copied().chain(alpha).collect();
    let count = planes.len();
    let mut samples = vec![0f32; width * height * count];
    let places: Vec<(usize, usize)> = planes.iter().map(|own| (own.part, own.channel)).collect();
    let mut row = Vec::new();
    file.read(&places, &mut |at, (x, y), line| {
        line.numbers(&mut row);
        let place = file.meta.headers[places[at].0].own_attributes.layer_position;
        let left = i64::from(place.x()) - i64::from(window.position.x()) + x as i64;
        let top = i64::from(place.y()) - i64::from(window.position.y()) + y as i64;
        // What lies outside of the window is left out.
        let skipped = usize::try_from(-left).unwrap_or(0).min(row.len());
        let shown = usize::try_from(width as i64 - left).unwrap_or(0).min(row.len());
        if !(0..height as i64).contains(&top) || skipped >= shown {
            return;
        }
        let to = top as usize * width + (left + skipped as i64) as usize;
        for (sample, value) in samples[to * count + at..].iter_mut().step_by(count).zip(&row[skipped..shown]) {
            *sample = *value;
        }
    })?;
    let channels = match (colours.len(), alpha.is_some()) {
        (1, false) => Channels::Grey,
        (1, true) => Channels::GreyAlpha,
        (_, false) => Channels::Rgb,
        (_, true) => Channels::Rgba,
    };
    let size = |value: usize| u32::try_from(value).map_err(|_| damaged());
    Ok(Pixels {
        width: size(width)?,
        height: size(height)?,
        channels,
        samples: Samples::Float(samples),
        premultiplied: true,
        light,
    })
}

/// A channel of a layer.
struct ExrChannel {
    layer: String,
    /// Index of its part of the file.
    part: usize,
    /// Index into the channels of that.
    channel: usize,
    /// Its name in the layer.
    name: String,
}

fn channels_of(meta: &exr::meta::MetaData) -> Vec<ExrChannel> {
    // A channel's name is that of its part and, before the last dot, of its layer.
    let mut found: Vec<ExrChannel> = Vec::new();
    for (part, header) in meta.headers.iter().enumerate() {
        let of_part = header.own_attributes.layer_name.as_ref().map(ToString::to_string);
        for (at, channel) in header.channels.list.iter().enumerate() {
            let name = channel.name.to_string();
            let (own, short) = name
                .rsplit_once('.')
                .map_or((String::new(), name.clone()), |(own, short)| (own.to_owned(), short.to_owned()));
            let several = meta.headers.len() > 1;
            let own = if own.is_empty() && several { of_part.clone().unwrap_or_default() } else { own };
            found.push(ExrChannel { layer: own, part, channel: at, name: short });
        }
    }
    found
}

/// The channels that are shown of a layer, its colours and its alpha; without a name those without a layer, or of the first.
fn channels_of_layer<'f>(
    found: &'f [ExrChannel],
    layer: Option<&str>,
) -> Result<(Vec<&'f ExrChannel>, Option<&'f ExrChannel>), Flaw> {
    let wanted = match layer.filter(|name| !name.is_empty()) {
        Some(name) if found.iter().any(|own| own.layer == name) => name.to_owned(),
        Some(name) if found.iter().all(|own| !own.layer.is_empty()) => {
            return Err(format!("it has no layer `{name}`").into());
        }
        Some(_) => String::new(),
        None if found.iter().any(|own| own.layer.is_empty()) => String::new(),
        None => found.first().map(|own| own.layer.clone()).unwrap_or_default(),
    };
    let of_layer: Vec<&ExrChannel> = found.iter().filter(|own| own.layer == wanted).collect();
    let named = |name: &str| of_layer.iter().find(|own| own.name.eq_ignore_ascii_case(name)).copied();
    let alpha = named("A");
    let colours = match (named("R"), named("G"), named("B")) {
        (Some(red), Some(green), Some(blue)) => vec![red, green, blue],
        // Normals and positions, and a single channel of any name.
        _ => {
            match (named("X"), named("Y"), named("Z"), of_layer.iter().find(|own| !own.name.eq_ignore_ascii_case("A")))
            {
                (Some(x), Some(y), Some(z), _) => vec![x, y, z],
                (.., Some(first)) => vec![*first],
                (.., None) => return Err("it has no colours".into()),
            }
        }
    };
    Ok((colours, alpha))
}

/// The depth of a picture's samples; it decides how many bits are kept.
#[must_use]
pub fn depth(samples: &Samples) -> Bits {
    match samples {
        Samples::Eight(_) => Bits::Eight,
        Samples::Sixteen(_) => Bits::Sixteen,
        Samples::Float(_) => Bits::Float,
    }
}
