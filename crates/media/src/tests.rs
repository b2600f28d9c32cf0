use std::io::BufWriter;
use std::path::{Path, PathBuf};

use exr::prelude::{WritableImage, f16};
use truepath_core::catalogue::{Bits, Channels};
use truepath_core::verify::{Picture, Seen};

use crate::{decode, probe};

/// A picture of every type and layout, written by the libraries that other programs write with.
fn samples(folder: &Path) -> Vec<(PathBuf, Picture)> {
    let (width, height) = (21u32, 13u32);
    let picture = |file_type, bits, channels| Picture {
        file_type,
        width,
        height,
        bits: Some(bits),
        channels: Some(channels),
        layers: Vec::new(),
    };
    let noise: Vec<u8> = (0..width * height * 8).map(|n| (n.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    let mut made = Vec::new();
    for (name, bits, depth) in [("8", Bits::Eight, png::BitDepth::Eight), ("16", Bits::Sixteen, png::BitDepth::Sixteen)]
    {
        for (channels, kind, count) in [
            (Channels::Grey, png::ColorType::Grayscale, 1),
            (Channels::GreyAlpha, png::ColorType::GrayscaleAlpha, 2),
            (Channels::Rgba, png::ColorType::Rgba, 4),
        ] {
            let path = folder.join(format!("{name}-{channels}.png"));
            let mut encoder =
                png::Encoder::new(BufWriter::new(std::fs::File::create(&path).expect("temp")), width, height);
            encoder.set_depth(depth);
            encoder.set_color(kind);
            let size = (width * height) as usize * count * if bits == Bits::Eight { 1 } else { 2 };
            encoder.write_header().and_then(|mut writer| writer.write_image_data(&noise[..size])).expect("png");
            made.push((path, picture("png", bits, channels)));
        }
    }
    let path = folder.join("16.tif");
    let mut encoder = tiff::encoder::TiffEncoder::new(std::fs::File::create(&path).expect("temp")).expect("tiff");
    let words: Vec<u16> = noise.iter().map(|byte| u16::from(*byte) << 7).collect();
    encoder
        .write_image::<tiff::encoder::colortype::RGB16>(width, height, &words[..(width * height * 3) as usize])
        .expect("tiff");
    made.push((path, picture("tiff", Bits::Sixteen, Channels::Rgb)));
    let path = folder.join("float.tif");
    let mut encoder = tiff::encoder::TiffEncoder::new(std::fs::File::create(&path).expect("temp")).expect("tiff");
    let floats: Vec<f32> = noise.iter().map(|byte| f32::from(*byte)).collect();
    encoder
        .write_image::<tiff::encoder::colortype::RGBA32Float>(width, height, &floats[..(width * height * 4) as usize])
        .expect("tiff");
    made.push((path, picture("tiff", Bits::Float, Channels::Rgba)));
    let path = folder.join("half.exr");
    let pixel =
        |x: usize, y: usize| (f16::from_f32(x as f32), f16::from_f32(y as f32), f16::from_f32(0.5), f16::from_f32(1.0));
    exr::prelude::Image::from_channels(
        (width as usize, height as usize),
        exr::prelude::SpecificChannels::rgba(|at: exr::prelude::Vec2<usize>| pixel(at.x(), at.y())),
    )
    .write()
    .to_file(&path)
    .expect("exr");
    made.push((path, picture("exr", Bits::Half, Channels::Rgba)));
    made
}

#[test]
fn every_layout_is_told_and_every_cut_is_seen() {
    let folder = tempfile::tempdir().expect("temp");
    for (path, picture) in samples(folder.path()) {
        assert_eq!(probe(&path).expect("disk"), Seen::Whole(picture.clone()), "{}", path.display());
        assert_eq!(decode(&path).expect("disk"), Seen::Whole(picture), "{}", path.display());
        let whole = std::fs::read(&path).expect("disk");
        for length in (0..whole.len()).step_by(1 + whole.len() / 150).chain([whole.len() - 1]) {
            std::fs::write(&path, &whole[..length]).expect("disk");
            for seen in [probe(&path), decode(&path)] {
                assert!(
                    matches!(seen, Ok(Seen::Broken(_))),
                    "{} cut to {length} of {}: {seen:?}",
                    path.display(),
                    whole.len()
                );
            }
        }
    }
    assert_eq!(probe(&folder.path().join("none.png")).expect("disk"), Seen::Missing);
    assert!(matches!(probe(folder.path()), Ok(Seen::Broken(_))));
}

#[test]
fn damaged_bytes_never_panic() {
    let folder = tempfile::tempdir().expect("temp");
    let mut state = 5u64;
    for (path, _) in samples(folder.path()) {
        let whole = std::fs::read(&path).expect("disk");
        for _ in 0..250 {
            let mut bytes = whole.clone();
            for _ in 0..3 {
                state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                // Half of the damage falls on the head, where the sizes stand.
                let reach = if state & (1 << 40) == 0 { bytes.len().min(200) } else { bytes.len() };
                bytes[(state >> 33) as usize % reach] = (state >> 25) as u8;
            }
            std::fs::write(&path, &bytes).expect("disk");
            let _ = probe(&path).expect("disk");
            let _ = decode(&path).expect("disk");
        }
    }
}
