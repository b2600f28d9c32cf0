//! Comparisons of random pictures of every type against a slow calculation that knows nothing of files.
#![allow(clippy::unwrap_used)]

use std::fs::File;
use std::path::Path;

use exr::prelude::{
    AnyChannel, AnyChannels, Encoding, FlatSamples, Image, IntegerBounds, Layer, LayerAttributes, WritableImage,
};
use truepath_media::pixels;
use truepath_pictures::pairs::{Comparing, Likeness, Side, compare};

/// Numbers that look random and are the same each time.
struct Dice(u64);

impl Dice {
    fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    fn below(&mut self, most: usize) -> usize {
        (self.next() % most as u64) as usize
    }
}

/// Samples of a picture as its file has them, pixel by pixel.
#[derive(Clone, Debug, PartialEq)]
enum Samples {
    Eight(Vec<u8>),
    Sixteen(Vec<u16>),
    ThirtyTwo(Vec<u32>),
    Float(Vec<f32>),
    Double(Vec<f64>),
}

impl Samples {
    /// As numbers of which 1 is white.
    fn values(&self) -> Vec<f64> {
        match self {
            Samples::Eight(all) => all.iter().map(|value| f64::from(*value) / 255.0).collect(),
            Samples::Sixteen(all) => all.iter().map(|value| f64::from(*value) / 65_535.0).collect(),
            Samples::ThirtyTwo(all) => all.iter().map(|value| f64::from(*value) / 4_294_967_295.0).collect(),
            Samples::Float(all) => all.iter().map(|value| f64::from(*value)).collect(),
            Samples::Double(all) => all.clone(),
        }
    }

    fn random(kind: &str, count: usize, dice: &mut Dice) -> Samples {
        let unit = |dice: &mut Dice| (dice.next() % 1_000_000) as f64 / 250_000.0 - 1.0;
        match kind {
            "8" => Samples::Eight((0..count).map(|_| dice.next() as u8).collect()),
            "16" => Samples::Sixteen((0..count).map(|_| dice.next() as u16).collect()),
            "32" => Samples::ThirtyTwo((0..count).map(|_| dice.next() as u32).collect()),
            // What a half can hold, so that it is the same in both.
            "half" => Samples::Float((0..count).map(|_| half::f16::from_f64(unit(dice)).to_f32()).collect()),
            "float" => Samples::Float((0..count).map(|_| unit(dice) as f32).collect()),
            _ => Samples::Double((0..count).map(|_| unit(dice)).collect()),
        }
    }

    /// The same with some samples changed a little or a lot.
    fn changed(&self, dice: &mut Dice) -> Samples {
        let mut other = self.clone();
        let count = self.values().len();
        for _ in 0..1 + dice.below(5) {
            let (at, by) = (dice.below(count), 1 + dice.below(40));
            match &mut other {
                Samples::Eight(all) => all[at] = all[at].wrapping_add(by as u8),
                Samples::Sixteen(all) => all[at] = all[at].wrapping_add(by as u16),
                Samples::ThirtyTwo(all) => all[at] = all[at].wrapping_add(by as u32),
                Samples::Float(all) => all[at] = half::f16::from_f32(all[at] + by as f32 / 16.0).to_f32(),
                Samples::Double(all) => all[at] += by as f64 / 16.0,
            }
        }
        other
    }
}

/// Largest and mean difference, mean of their squares, and the share of pixels beyond a tolerance.
fn slowly(a: &[f64], b: &[f64], channels: usize, tolerance: f64) -> (f64, f64, f64, f64) {
    let (mut largest, mut sum, mut squares, mut beyond) = (0f64, 0.0, 0.0, 0);
    for pixel in 0..a.len() / channels {
        let mut is_beyond = false;
        for channel in 0..channels {
            let far = (a[pixel * channels + channel] - b[pixel * channels + channel]).abs();
            largest = largest.max(far);
            sum += far;
            squares += far * far;
            is_beyond |= far > tolerance;
        }
        beyond += usize::from(is_beyond);
    }
    let count = a.len() as f64;
    (largest, sum / count, squares / count, beyond as f64 / (a.len() / channels) as f64)
}

/// The samples of a picture of which nobody knows what was kept.
fn read(path: &Path) -> Vec<f64> {
    match pixels::read(path, None).unwrap().samples {
        pixels::Samples::Eight(all) => Samples::Eight(all).values(),
        pixels::Samples::Sixteen(all) => Samples::Sixteen(all).values(),
        pixels::Samples::Float(all) => Samples::Float(all).values(),
    }
}

/// A file type, its channels, its depth, and how it is written.
type Case = (&'static str, usize, &'static str);

const CASES: &[Case] = &[
    ("png", 1, "8"),
    ("png", 2, "8"),
    ("png", 3, "8"),
    ("png", 4, "8"),
    ("png", 1, "16"),
    ("png", 2, "16"),
    ("png", 3, "16"),
    ("png", 4, "16"),
    ("tif", 1, "8"),
    ("tif", 3, "16"),
    ("tif", 4, "8"),
    ("tif", 1, "32"),
    ("tif", 3, "32"),
    ("tif", 3, "float"),
    ("tif", 1, "double"),
    ("exr", 1, "float"),
    ("exr", 4, "half"),
    ("exr", 3, "float"),
    ("exr", 3, "32"),
    ("bmp", 3, "8"),
    ("tga", 4, "8"),
    ("tga", 1, "8"),
    ("webp", 4, "8"),
    ("dpx", 3, "16"),
    // What is lost on the way is not known before: their samples are read.
    ("jpg", 3, "8"),
    ("jpg", 1, "8"),
    ("hdr", 3, "half"),
];

fn write(path: &Path, (kind, channels, depth): Case, (width, height): (u32, u32), samples: &Samples) {
    match (kind, samples) {
        ("png", samples) => {
            let colour =
                [png::ColorType::Grayscale, png::ColorType::GrayscaleAlpha, png::ColorType::Rgb, png::ColorType::Rgba];
            let mut encoder = png::Encoder::new(File::create(path).unwrap(), width, height);
            encoder.set_color(colour[channels - 1]);
            let bytes = match samples {
                Samples::Sixteen(all) => {
                    encoder.set_depth(png::BitDepth::Sixteen);
                    all.iter().flat_map(|value| value.to_be_bytes()).collect()
                }
                Samples::Eight(all) => all.clone(),
                _ => unreachable!("PNG has whole samples"),
            };
            encoder.write_header().unwrap().write_image_data(&bytes).unwrap();
        }
        ("tif", samples) => tif(path, channels, (width, height), samples),
        ("exr", samples) => exr(path, (channels, depth), (width as usize, height as usize), samples),
        ("bmp" | "tga", Samples::Eight(all)) => {
            let colour = [
                image::ExtendedColorType::L8,
                image::ExtendedColorType::La8,
                image::ExtendedColorType::Rgb8,
                image::ExtendedColorType::Rgba8,
            ];
            image::save_buffer(path, all, width, height, colour[channels - 1]).unwrap();
        }
        ("webp", Samples::Eight(all)) => {
            let encoder = image_webp::WebPEncoder::new(File::create(path).unwrap());
            encoder.encode(all, width, height, image_webp::ColorType::Rgba8).unwrap();
        }
        ("jpg", Samples::Eight(all)) => {
            let colour = if channels == 1 { jpeg_encoder::ColorType::Luma } else { jpeg_encoder::ColorType::Rgb };
            let encoder = jpeg_encoder::Encoder::new_file(path, 90).unwrap();
            encoder.encode(all, width as u16, height as u16, colour).unwrap();
        }
        ("hdr", Samples::Float(all)) => {
            let pixels: Vec<_> =
                all.chunks_exact(3).map(|rgb| image::Rgb([rgb[0].abs(), rgb[1].abs(), rgb[2].abs()])).collect();
            let encoder = image::codecs::hdr::HdrEncoder::new(File::create(path).unwrap());
            encoder.encode(&pixels, width as usize, height as usize).unwrap();
        }
        ("dpx", Samples::Sixteen(all)) => dpx(path, (width, height), all),
        other => unreachable!("{other:?}"),
    }
}

fn tif(path: &Path, channels: usize, (width, height): (u32, u32), samples: &Samples) {
    use tiff::encoder::colortype as kind;
    let mut encoder = tiff::encoder::TiffEncoder::new(File::create(path).unwrap()).unwrap();
    match (channels, samples) {
        (1, Samples::Eight(all)) => encoder.write_image::<kind::Gray8>(width, height, all),
        (4, Samples::Eight(all)) => encoder.write_image::<kind::RGBA8>(width, height, all),
        (3, Samples::Sixteen(all)) => encoder.write_image::<kind::RGB16>(width, height, all),
        (1, Samples::ThirtyTwo(all)) => encoder.write_image::<kind::Gray32>(width, height, all),
        (3, Samples::ThirtyTwo(all)) => encoder.write_image::<kind::RGB32>(width, height, all),
        (3, Samples::Float(all)) => encoder.write_image::<kind::RGB32Float>(width, height, all),
        (1, Samples::Double(all)) => encoder.write_image::<kind::Gray64Float>(width, height, all),
        other => unreachable!("{other:?}"),
    }
    .unwrap();
}

fn exr(path: &Path, (channels, depth): (usize, &str), size: (usize, usize), samples: &Samples) {
    let names: &[&str] = match channels {
        1 => &["Y"],
        3 => &["R", "G", "B"],
        _ => &["R", "G", "B", "A"],
    };
    let plane = |at: usize| match samples {
        Samples::Float(all) if depth == "half" => {
            FlatSamples::F16(all.iter().skip(at).step_by(channels).map(|value| half::f16::from_f32(*value)).collect())
        }
        Samples::Float(all) => FlatSamples::F32(all.iter().skip(at).step_by(channels).copied().collect()),
        Samples::ThirtyTwo(all) => FlatSamples::U32(all.iter().skip(at).step_by(channels).copied().collect()),
        other => unreachable!("{other:?}"),
    };
    let list = names.iter().enumerate().map(|(at, name)| AnyChannel::new(*name, plane(at))).collect();
    // Names are not in the order of samples: the crate sorts them.
    let channels = AnyChannels::sort(list);
    let layer = Layer::new(size, LayerAttributes::default(), Encoding::SMALL_LOSSLESS, channels);
    Image::from_layer(layer).write().to_file(path).unwrap();
}

/// SMPTE ST 268: the heads of 2,048 bytes, then 16 bits a sample.
fn dpx(path: &Path, (width, height): (u32, u32), samples: &[u16]) {
    let mut bytes = vec![0u8; 2048];
    let mut put = |at: usize, value: &[u8]| bytes[at..at + value.len()].copy_from_slice(value);
    put(0, b"SDPX");
    put(4, &2048u32.to_be_bytes());
    put(8, b"V1.0\0");
    let length = 2048 + samples.len() as u32 * 2;
    put(16, &length.to_be_bytes());
    put(770, &1u16.to_be_bytes());
    put(772, &width.to_be_bytes());
    put(776, &height.to_be_bytes());
    put(800, &[50, 0, 0, 16]);
    put(808, &2048u32.to_be_bytes());
    bytes.extend(samples.iter().flat_map(|value| value.to_be_bytes()));
    std::fs::write(path, bytes).unwrap();
}

#[test]
fn random_pictures_of_every_type_differ_as_a_slow_calculation_says() {
    let folder = tempfile::tempdir().unwrap();
    let mut dice = Dice(0x9e37_79b9_7f4a_7c15);
    for case @ (kind, channels, depth) in CASES {
        for round in 0..12 {
            let (width, height) = (1 + dice.below(40) as u32, 1 + dice.below(30) as u32);
            let before = Samples::random(depth, (width * height) as usize * channels, &mut dice);
            let after = if round == 0 { before.clone() } else { before.changed(&mut dice) };
            let path = |name: &str| folder.path().join(format!("{name}.{kind}"));
            write(&path("a"), *case, (width, height), &before);
            write(&path("b"), *case, (width, height), &after);
            let tolerance = if round % 3 == 0 { 0.0 } else { dice.below(1000) as f64 / 5000.0 };
            let likeness = compare(&path("a"), &path("b"), Comparing { tolerance, scaled: false }).unwrap();
            let what = format!("{kind} {channels} {depth} {width}x{height} {tolerance}");
            if before == after {
                assert_eq!(likeness, Likeness::SameBytes, "{what}");
                continue;
            }
            let values = |name: &str, samples: &Samples| match *kind {
                "jpg" | "hdr" => read(&path(name)),
                _ => samples.values(),
            };
            let (a, b) = (values("a", &before), values("b", &after));
            let (largest, mean, squares, beyond) = slowly(&a, &b, *channels, tolerance);
            if largest == 0.0 {
                assert!(likeness.is_within(0.0), "{what}: {likeness:?}");
                continue;
            }
            let Likeness::Differs(found) = &likeness else { panic!("{what}: {likeness:?}") };
            let near = |a: f64, b: f64| (a - b).abs() <= 1e-9 * b.abs().max(1e-9);
            assert!(near(found.largest, largest) && near(found.mean, mean), "{what}: {found:?}, {largest}, {mean}");
            assert!(
                near(found.psnr, 10.0 * (1.0 / squares).log10()) && near(found.beyond, beyond),
                "{what}: {found:?}"
            );
            assert_eq!(likeness.is_within(tolerance), largest <= tolerance, "{what}");
        }
    }
}

#[test]
fn numbers_that_are_none_windows_channels_and_ways_to_store_are_told_apart() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    let how = Comparing::default();
    let say = |a: &str, b: &str| compare(&path(a), &path(b), how).unwrap();
    let of = |values: &[f32]| Samples::Float(values.to_vec());
    exr(&path("a.exr"), (1, "float"), (2, 2), &of(&[0.0, f32::NAN, 1.0, f32::INFINITY]));
    exr(&path("b.exr"), (1, "float"), (2, 2), &of(&[-0.0, f32::from_bits(0x7fc0_1234), 1.0, f32::INFINITY]));
    exr(&path("c.exr"), (1, "float"), (2, 2), &of(&[0.0, 0.5, 1.0, f32::INFINITY]));
    assert_eq!(say("a.exr", "b.exr"), Likeness::SamePixels, "no number is as good as the next");
    let Likeness::Differs(found) = say("a.exr", "c.exr") else { panic!() };
    assert_eq!((found.largest, found.at, found.beyond), (f64::INFINITY, (1, 0), 0.25));
    // The same pixels, packed in another way, and as a window that leaves out what is zero.
    let list = |values: &[f32]| {
        AnyChannels::sort([AnyChannel::new("Y", FlatSamples::F32(values.to_vec()))].into_iter().collect())
    };
    let windowed = |name: &str, origin: (i32, i32), size: (usize, usize), values: &[f32]| {
        let layer = Layer::new(
            size,
            LayerAttributes::default().with_position(origin.into()),
            Encoding::UNCOMPRESSED,
            list(values),
        );
        let mut image = Image::from_layer(layer);
        image.attributes.display_window = IntegerBounds::from_dimensions((3usize, 3usize));
        image.write().to_file(path(name)).unwrap();
    };
    windowed("whole.exr", (0, 0), (3, 3), &[0.0, 0.0, 0.0, 0.0, 0.5, 0.25, 0.0, 0.0, 0.0]);
    windowed("part.exr", (1, 1), (2, 1), &[0.5, 0.25]);
    windowed("beyond.exr", (1, 1), (3, 1), &[0.5, 0.25, 0.125]);
    assert_eq!(say("whole.exr", "part.exr"), Likeness::SamePixels);
    let Likeness::Differs(found) = say("whole.exr", "beyond.exr") else {
        panic!("what is stored beside the picture counts")
    };
    assert_eq!((found.largest, found.at), (0.125, (3, 1)));
    let png = |name: &str, channels: usize, size: (u32, u32), value: u8| {
        let samples = Samples::Eight(vec![value; (size.0 * size.1) as usize * channels]);
        write(&path(name), ("png", channels, "8"), size, &samples);
    };
    png("rgb.png", 3, (4, 4), 9);
    png("rgba.png", 4, (4, 4), 9);
    png("small.png", 3, (2, 2), 9);
    assert_eq!(say("rgb.png", "rgba.png"), Likeness::OtherChannels(Vec::new(), vec!["A".to_owned()]));
    assert_eq!(say("rgb.png", "small.png"), Likeness::OtherSize((4, 4), (2, 2)));
    let scaled = Comparing { tolerance: 0.0, scaled: true };
    assert_eq!(compare(&path("rgb.png"), &path("small.png"), scaled).unwrap(), Likeness::SamePixels);
    let bytes = std::fs::read(path("rgb.png")).unwrap();
    std::fs::write(path("cut.png"), &bytes[..bytes.len() / 2]).unwrap();
    assert!(matches!(say("rgb.png", "cut.png"), Likeness::Unread(Side::After, _)));
    assert!(matches!(say("cut.png", "cut.png"), Likeness::SameBytes));
}
