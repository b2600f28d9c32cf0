//! Every reader of pictures, movies and sounds on damaged bytes: none may panic, take long, or ask for more memory than the
//! picture needs that its head claims. A short run by default; `TRUEPATH_FUZZ=60` gives so many seconds to each type.

use std::path::Path;
use std::sync::Mutex;
use std::time::{Duration, Instant};

use peak_alloc::PeakAlloc;
use truepath_core::verify::Picture;
use truepath_media::{exact, inspect, inspect_any, movie, pixels, probe, sound};

#[global_allocator]
static MEMORY: PeakAlloc = PeakAlloc;
/// The peak is counted over the whole process: one type at a time.
static ALONE: Mutex<()> = Mutex::new(());

/// Files of a kilobyte that claim no more than these pixels may take so much; a decoder keeps a few copies.
const MOST_PIXELS: u64 = 1 << 22;
const MOST_MEMORY: usize = 600 << 20;
const LONGEST: Duration = Duration::from_secs(300);
/// Inputs for each reader, however slow the machine is.
const LEAST: u64 = 30;

struct Chance(u64);

impl Chance {
    fn below(&mut self, most: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        ((self.0 >> 33) % most.max(1) as u64) as usize
    }
}

fn damaged(seed: &[u8], chance: &mut Chance) -> Vec<u8> {
    let mut bytes = seed.to_vec();
    for _ in 0..=chance.below(3) {
        // Heads have the sizes and tables: half of the damage falls on them.
        let reach = if chance.below(2) == 0 { bytes.len().min(160) } else { bytes.len() };
        let at = chance.below(reach);
        let span = chance.below(24).min(bytes.len() - at);
        match chance.below(6) {
            0 => drop(bytes.drain(at..at + span)),
            1 => {
                let copy = bytes[at..at + span].to_vec();
                drop(bytes.splice(at..at, copy));
            }
            2 => bytes.truncate(at.max(8)),
            3 => bytes[at..at + span].fill(0xff),
            _ if at < bytes.len() => bytes[at] ^= 1 << chance.below(8),
            _ => {}
        }
    }
    bytes
}

fn fuzz(extension: &str, seeds: &[Vec<u8>]) {
    let _alone = ALONE.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    let seconds = std::env::var("TRUEPATH_FUZZ").ok().and_then(|text| text.parse().ok()).unwrap_or(0.7);
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join(format!("a.{extension}"));
    let (mut chance, since, mut count) = (Chance(11), Instant::now(), 0u64);
    while count < LEAST || since.elapsed().as_secs_f64() < seconds {
        let input = damaged(&seeds[chance.below(seeds.len())], &mut chance);
        std::fs::write(&path, &input).unwrap();
        look(&path, &input);
        count += 1;
    }
}

fn look(path: &Path, input: &[u8]) {
    let small = |picture: &Picture| u64::from(picture.width) * u64::from(picture.height) <= MOST_PIXELS;
    let began = Instant::now();
    MEMORY.reset_peak_usage();
    let before = MEMORY.current_usage();
    let _ = probe(path).unwrap();
    let _ = inspect(path, &small).unwrap();
    let _ = inspect_any(path).unwrap();
    let _ = movie::probe(path).unwrap();
    let _ = sound(path);
    let _ = pixels::read(path, None);
    let _ = exact::read(path);
    let (took, memory) = (began.elapsed(), MEMORY.peak_usage().saturating_sub(before));
    let kept = || std::fs::write(std::env::temp_dir().join("truepath-fuzz-input"), input);
    if took > LONGEST || memory > MOST_MEMORY {
        kept().unwrap();
        panic!("{}: {memory} bytes, {took:?}", path.display());
    }
}

/// A picture of noise and flat parts.
fn image(width: u32, height: u32) -> Vec<u8> {
    (0..width * height * 3).map(|at| if at % 96 < 48 { (at * 7 % 251) as u8 } else { 9 }).collect()
}

#[test]
fn png_and_webp() {
    let mut png_bytes = Vec::new();
    let mut encoder = png::Encoder::new(&mut png_bytes, 24, 16);
    encoder.set_color(png::ColorType::Rgb);
    encoder.write_header().unwrap().write_image_data(&image(24, 16)).unwrap();
    fuzz("png", &[png_bytes]);
    let mut webp = Vec::new();
    let encoder = image_webp::WebPEncoder::new(&mut webp);
    encoder.encode(&image(24, 16), 24, 16, image_webp::ColorType::Rgb8).unwrap();
    fuzz("webp", &[webp]);
}

#[test]
fn tiff() {
    let mut seeds = Vec::new();
    for compression in [
        tiff::encoder::Compression::Uncompressed,
        tiff::encoder::Compression::Lzw,
        tiff::encoder::Compression::Deflate(tiff::encoder::DeflateLevel::Fast),
        tiff::encoder::Compression::Packbits,
    ] {
        let mut bytes = std::io::Cursor::new(Vec::new());
        let encoder = tiff::encoder::TiffEncoder::new(&mut bytes).unwrap();
        let mut encoder = encoder.with_compression(compression);
        encoder.write_image::<tiff::encoder::colortype::RGB8>(24, 16, &image(24, 16)).unwrap();
        seeds.push(bytes.into_inner());
    }
    fuzz("tif", &seeds);
}

#[test]
fn exr() {
    use exr::prelude::{Encoding, Image, SpecificChannels, Vec2, WritableImage};
    let mut seeds = Vec::new();
    for encoding in
        [Encoding::UNCOMPRESSED, Encoding::FAST_LOSSLESS, Encoding::SMALL_LOSSLESS, Encoding::SMALL_FAST_LOSSLESS]
    {
        let pixel = |at: Vec2<usize>| (at.x() as f32, at.y() as f32, 0.5f32, 1.0f32);
        let channels = SpecificChannels::rgba(pixel);
        let layer =
            exr::prelude::Layer::new((24, 16), exr::prelude::LayerAttributes::named("night"), encoding, channels);
        let mut bytes = std::io::Cursor::new(Vec::new());
        Image::from_layer(layer).write().to_buffered(&mut bytes).unwrap();
        seeds.push(bytes.into_inner());
    }
    fuzz("exr", &seeds);
}

#[test]
fn jpeg_and_what_is_little_more_than_its_pixels() {
    let mut seeds = Vec::new();
    for (progressive, restart) in [(false, None), (false, Some(2)), (true, None), (true, Some(1))] {
        let mut bytes = Vec::new();
        let mut encoder = jpeg_encoder::Encoder::new(&mut bytes, 60);
        encoder.set_progressive(progressive);
        restart.into_iter().for_each(|units| encoder.set_restart_interval(units));
        encoder.encode(&image(24, 16), 24, 16, jpeg_encoder::ColorType::Rgb).unwrap();
        seeds.push(bytes);
    }
    fuzz("jpg", &seeds);
    for (extension, format) in
        [("bmp", image::ImageFormat::Bmp), ("tga", image::ImageFormat::Tga), ("hdr", image::ImageFormat::Hdr)]
    {
        let mut bytes = std::io::Cursor::new(Vec::new());
        let picture = image::DynamicImage::ImageRgb8(image::RgbImage::from_raw(24, 16, image(24, 16)).unwrap());
        let picture = if extension == "hdr" { image::DynamicImage::ImageRgb32F(picture.to_rgb32f()) } else { picture };
        picture.write_to(&mut bytes, format).unwrap();
        fuzz(extension, &[bytes.into_inner()]);
    }
    let mut dpx = b"SDPX\0\0\x08\0".to_vec();
    dpx.resize(2048 + 24 * 16 * 4, 7);
    dpx[772..780].copy_from_slice(&[0, 0, 0, 24, 0, 0, 0, 16]);
    dpx[800..808].copy_from_slice(&[50, 0, 0, 10, 0, 1, 0, 0]);
    fuzz("dpx", &[dpx]);
}

#[test]
fn movies_and_sounds() {
    let seed = |kind: &[u8], body: &[u8]| [&((body.len() + 8) as u32).to_be_bytes()[..], kind, body].concat();
    let mp4 = [
        seed(b"ftyp", b"isom\0\0\0\0isom"),
        seed(
            b"moov",
            &[
                seed(b"mvhd", &[0; 100]),
                seed(
                    b"trak",
                    &seed(b"mdia", &[seed(b"mdhd", &[1; 24]), seed(b"hdlr", b"\0\0\0\0\0\0\0\0vide\0\0\0\0")].concat()),
                ),
            ]
            .concat(),
        ),
        seed(b"mdat", &[0; 64]),
    ]
    .concat();
    let matroska = b"\x1a\x45\xdf\xa3\x84\x42\x86\x81\x01\x18\x53\x80\x67\x90\x15\x49\xa9\x66\x84\x2a\xd7\xb1\x81\x16\x54\xae\x6b\x84\xae\x82\xd7\x81\x01".to_vec();
    let avi = b"RIFF\x40\0\0\0AVI LIST\x34\0\0\0hdrlavih\x28\0\0\0\x01\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\x04\0\0\0\0\0\0\0\x01\0\0\0\0\0\0\0\x20\0\0\0\x20\0\0\0".to_vec();
    let wave =
        b"RIFF\x2c\0\0\0WAVEfmt \x10\0\0\0\x01\0\x01\0\x40\x1f\0\0\x40\x1f\0\0\x01\0\x08\0data\x08\0\0\0abcdefgh"
            .to_vec();
    for (extension, bytes) in [("mp4", mp4), ("mkv", matroska), ("avi", avi), ("wav", wave)] {
        fuzz(extension, &[bytes]);
    }
}
