//! Pixels of every picture type, as they were put in and as other programs write them.

use std::path::{Path, PathBuf};
use std::process::Command;

use exr::prelude::{AnyChannel, AnyChannels, FlatSamples, Image, Layer, LayerAttributes, WritableImage, f16};
use truepath_core::catalogue::Channels;
use truepath_media::pixels::{Pixels, Samples, read};

const SIZE: (u32, u32) = (21, 13);

/// A value of its own for every sample.
fn noise(count: u32) -> Vec<u8> {
    (0..SIZE.0 * SIZE.1 * count).map(|at| (at.wrapping_mul(2_654_435_761) >> 24) as u8).collect()
}

fn png(path: &Path, (kind, depth): (png::ColorType, png::BitDepth), data: &[u8]) {
    let mut encoder = png::Encoder::new(std::fs::File::create(path).unwrap(), SIZE.0, SIZE.1);
    encoder.set_color(kind);
    encoder.set_depth(depth);
    encoder.write_header().unwrap().write_image_data(data).unwrap();
}

/// All samples as numbers between 0 and 1.
fn values(pixels: &Pixels) -> Vec<f32> {
    match &pixels.samples {
        Samples::Eight(samples) => samples.iter().map(|value| f32::from(*value) / 255.0).collect(),
        Samples::Sixteen(samples) => samples.iter().map(|value| f32::from(*value) / 65_535.0).collect(),
        Samples::Float(samples) => samples.clone(),
    }
}

#[test]
fn every_layout_of_png_comes_back_sample_by_sample() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.png");
    let all = [
        (png::ColorType::Grayscale, 1, Channels::Grey),
        (png::ColorType::GrayscaleAlpha, 2, Channels::GreyAlpha),
        (png::ColorType::Rgb, 3, Channels::Rgb),
        (png::ColorType::Rgba, 4, Channels::Rgba),
    ];
    for (kind, count, channels) in all {
        let data = noise(count);
        png(&path, (kind, png::BitDepth::Eight), &data);
        let pixels = read(&path, None).unwrap();
        assert_eq!((pixels.width, pixels.height, pixels.channels, pixels.premultiplied), (21, 13, channels, false));
        assert_eq!(pixels.samples, Samples::Eight(data));
        let data = noise(count * 2);
        png(&path, (kind, png::BitDepth::Sixteen), &data);
        let wide = data.chunks(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]])).collect();
        assert_eq!(read(&path, None).unwrap().samples, Samples::Sixteen(wide));
    }
    let whole = std::fs::read(&path).unwrap();
    for cut in [0, 20, whole.len() / 2, whole.len() - 1] {
        std::fs::write(&path, &whole[..cut]).unwrap();
        assert!(read(&path, None).is_err(), "cut at {cut}");
    }
    assert!(read(&folder.path().join("nothing.png"), None).unwrap_err().to_string().contains("does not exist"));
}

fn plane(name: &str, values: impl Fn(usize) -> f32, count: usize) -> AnyChannel<FlatSamples> {
    AnyChannel::new(name, FlatSamples::F16((0..count).map(|at| f16::from_f32(values(at))).collect()))
}

#[test]
fn layers_of_openexr_are_told_apart_and_laid_into_the_window_that_is_displayed() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.exr");
    let count = 8 * 4;
    let list = [
        plane("A", |_| 0.5, count),
        plane("B", |_| 0.25, count),
        plane("G", |at| at as f32, count),
        plane("R", |_| 2.0, count),
        plane("depth.Z", |at| at as f32 * 10.0, count),
        plane("normal.X", |_| -1.0, count),
        plane("normal.Y", |_| 0.0, count),
        plane("normal.Z", |_| 1.0, count),
    ];
    let write = |attributes: LayerAttributes, window: (i32, i32, usize, usize)| {
        let channels = AnyChannels::sort(list.iter().cloned().collect());
        let layer = Layer::new((8, 4), attributes, exr::prelude::Encoding::FAST_LOSSLESS, channels);
        let mut image = Image::from_layer(layer);
        image.attributes.display_window.position = exr::prelude::Vec2(window.0, window.1);
        image.attributes.display_window.size = exr::prelude::Vec2(window.2, window.3);
        image.write().to_file(&path).unwrap();
    };
    write(LayerAttributes::default(), (0, 0, 8, 4));
    let pixels = read(&path, None).unwrap();
    assert_eq!((pixels.channels, pixels.premultiplied), (Channels::Rgba, true));
    assert_eq!(values(&pixels)[4..8], [2.0, 1.0, 0.25, 0.5]);
    assert_eq!(
        values(&read(&path, Some("beauty")).unwrap())[..4],
        [2.0, 0.0, 0.25, 0.5],
        "what has no layer is the beauty"
    );
    let depth = read(&path, Some("depth")).unwrap();
    assert_eq!((depth.channels, values(&depth)[3]), (Channels::Grey, 30.0));
    assert_eq!(values(&read(&path, Some("normal")).unwrap())[..3], [-1.0, 0.0, 1.0]);
    // Rendered with two columns more at the left and a row less at the bottom.
    write(LayerAttributes::default(), (2, 0, 6, 5));
    let pixels = read(&path, None).unwrap();
    assert_eq!((pixels.width, pixels.height), (6, 5));
    let all = values(&pixels);
    assert_eq!(all[1], 2.0, "the third column is the first that is shown");
    assert_eq!(all[4 * 6 * 4..], [0.0; 24], "what was not rendered is black");
}

/// Whether a program is here; required ones must be.
fn has(program: &str) -> bool {
    let here = Command::new(program).arg("-version").output().is_ok();
    let required = std::env::var("TRUEPATH_REQUIRE").unwrap_or_default();
    assert!(here || !required.split(',').any(|name| name == program), "{program} is not here");
    if !here {
        eprintln!("SKIPPED: {program} is not here");
    }
    here
}

#[test]
fn what_another_program_writes_is_read_as_it_reads_it() {
    if !has("ffmpeg") {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let source = folder.path().join("source.png");
    // Large patches, so that types that lose something lose little.
    let patch = |at: u32| [(at % 21 / 7 * 100) as u8, (at / 21 / 5 * 90) as u8, 60];
    let data: Vec<u8> = (0..SIZE.0 * SIZE.1).flat_map(patch).collect();
    png(&source, (png::ColorType::Rgb, png::BitDepth::Eight), &data);
    let run = |words: &[&str], out: &PathBuf| {
        let output =
            Command::new("ffmpeg").args(["-v", "error", "-y", "-i"]).arg(&source).args(words).arg(out).output();
        let output = output.unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    };
    // Name, how it is asked for, and how far a sample may be off, in parts of 255.
    for (name, words, most) in [
        ("a.bmp", vec!["-pix_fmt", "bgr24"], 0.0),
        ("b.bmp", vec!["-pix_fmt", "bgra"], 0.0),
        ("c.tga", vec!["-pix_fmt", "bgr24", "-rle", "1"], 0.0),
        ("d.tga", vec!["-pix_fmt", "bgra", "-rle", "0"], 0.0),
        ("e.tga", vec!["-pix_fmt", "gray"], 90.0),
        ("f.tif", vec!["-pix_fmt", "rgb24", "-compression_algo", "lzw"], 0.0),
        ("g.tif", vec!["-pix_fmt", "rgba64le", "-compression_algo", "deflate"], 1.0),
        ("h.tif", vec!["-pix_fmt", "rgb48le", "-compression_algo", "packbits"], 1.0),
        ("i.dpx", vec!["-pix_fmt", "gbrp10be"], 1.0),
        ("j.dpx", vec!["-pix_fmt", "rgb48be"], 1.0),
        ("k.dpx", vec!["-pix_fmt", "rgb24"], 0.0),
        ("l.dpx", vec!["-pix_fmt", "gbrp12be"], 1.0),
        ("m.jpg", vec!["-pix_fmt", "yuvj444p", "-q:v", "2"], 8.0),
        ("n.webp", vec!["-lossless", "1", "-pix_fmt", "bgra"], 0.0),
        ("o.png", vec!["-pix_fmt", "pal8"], 64.0),
        ("p.png", vec!["-pix_fmt", "rgb48be"], 1.0),
    ] {
        let path = folder.path().join(name);
        run(&words, &path);
        let pixels = read(&path, None).unwrap_or_else(|why| panic!("{name}: {why}"));
        assert_eq!((pixels.width, pixels.height), SIZE, "{name}");
        let (count, all) = (pixels.count(), values(&pixels));
        for at in 0..(SIZE.0 * SIZE.1) as usize {
            let own = &all[at * count..][..count];
            for channel in 0..3 {
                let is = own[if count < 3 { 0 } else { channel }] * 255.0;
                let planned = f32::from(data[at * 3 + channel]);
                assert!((is - planned).abs() <= most + 0.01 || count < 3, "{name}: {is} at {at}, should be {planned}");
            }
            assert!(count != 4 || own[3] == 1.0, "{name}: opaque");
        }
    }
}
