use std::io::{BufWriter, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

use exr::prelude::{WritableImage, f16};
use truepath_core::catalogue::{AsWritten, Bits, Channels};
use truepath_core::verify::{LayerSeen, Picture, Seen};

use crate::{inspect, probe, told, unpacked};

/// What stands at a path by all of its bytes.
fn decode(path: &Path) -> std::io::Result<Seen> {
    inspect(path, &|_| true).map(|looked| looked.seen)
}

/// A picture of every type and layout, written by the libraries that other programs write with.
fn samples(folder: &Path) -> Vec<(PathBuf, Picture)> {
    let (width, height) = (21u32, 13u32);
    let picture = |file_type, bits, channels| Picture {
        bits: Some(bits),
        channels: Some(channels),
        ..Picture::plain(file_type, width, height)
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
    for (name, bytes, bits, channels) in by_hand(width, height, &noise) {
        let path = folder.join(format!("by-hand-{}.{name}", made.len()));
        std::fs::write(&path, bytes).expect("temp");
        made.push((path, picture(name, bits, channels)));
    }
    let path = folder.join("lossless.webp");
    let file = std::fs::File::create(&path).expect("temp");
    image_webp::WebPEncoder::new(file)
        .encode(&noise[..(width * height * 3) as usize], width, height, image_webp::ColorType::Rgb8)
        .expect("webp");
    made.push((path, picture("webp", Bits::Eight, Channels::Rgb)));
    made
}

/// Files of types that are little more than their pixels, put together as their specifications say.
fn by_hand(width: u32, height: u32, noise: &[u8]) -> Vec<(&'static str, Vec<u8>, Bits, Channels)> {
    let mut made = Vec::new();
    let (w, h, pixels) = (width as usize, height as usize, (width * height) as usize);
    let row = (w * 3).div_ceil(4) * 4;
    let mut bmp = b"BM".to_vec();
    bmp.extend((54 + (row * h) as u32).to_le_bytes());
    bmp.extend([0, 0, 0, 0, 54, 0, 0, 0, 40, 0, 0, 0]);
    bmp.extend([width.to_le_bytes(), height.to_le_bytes()].concat());
    bmp.extend([1, 0, 24, 0]);
    bmp.resize(54, 0);
    bmp.extend(&noise[..row * h]);
    made.push(("bmp", bmp, Bits::Eight, Channels::Rgb));
    let tga = |kind: u8, depth: u8| {
        let mut head = vec![0, 0, kind];
        head.resize(12, 0);
        head.extend([width as u8, 0, height as u8, 0, depth, 0]);
        head
    };
    made.push(("tga", [tga(2, 32), noise[..pixels * 4].to_vec()].concat(), Bits::Eight, Channels::Rgba));
    // A packet of one pixel repeated, then packets of pixels in a row.
    let mut runs = tga(11, 8);
    runs.extend([0x80 | 99, 7]);
    for chunk in noise[..pixels - 100].chunks(128) {
        runs.push(chunk.len() as u8 - 1);
        runs.extend(chunk);
    }
    made.push(("tga", runs, Bits::Eight, Channels::Grey));
    let mut hdr = format!("#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y {height} +X {width}\n").into_bytes();
    for _ in 0..h {
        hdr.extend([2, 2, 0, width as u8]);
        (0..4).for_each(|_| hdr.extend([[128 + 9, 5].as_slice(), &[width as u8 - 9], &noise[..w - 9]].concat()));
    }
    made.push(("hdr", hdr, Bits::Float, Channels::Rgb));
    let flat = [format!("#?RADIANCE\n\n-Y {height} +X {width}\n").into_bytes(), vec![9; pixels * 4]].concat();
    made.push(("hdr", flat, Bits::Float, Channels::Rgb));
    for (depth, bits, row) in [(10u8, Bits::Ten, w * 4), (16, Bits::Sixteen, (w * 6).div_ceil(4) * 4)] {
        let mut dpx = b"SDPX".to_vec();
        dpx.extend(2048u32.to_be_bytes());
        dpx.resize(772, 0);
        dpx.extend([width.to_be_bytes(), height.to_be_bytes()].concat());
        dpx.resize(800, 0);
        dpx.extend([50, 0, 0, depth, 0, u8::from(depth == 10), 0, 0]);
        dpx.resize(2048, 0);
        dpx.extend(noise.iter().cycle().take(row * h));
        made.push(("dpx", dpx, bits, Channels::Rgb));
    }
    made
}

#[test]
fn every_layout_is_told_and_every_cut_is_seen() {
    let folder = tempfile::tempdir().expect("temp");
    for (path, picture) in samples(folder.path()) {
        for seen in [probe(&path), decode(&path)] {
            let Seen::Whole(seen) = seen.expect("disk") else { panic!("{}", path.display()) };
            assert_eq!(Picture { compression: None, opaque: false, ..seen }, picture, "{}", path.display());
        }
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

/// A file of which nothing can be read from some place on, as a server that has gone away leaves it.
struct Failing {
    file: std::io::Cursor<Vec<u8>>,
    from: u64,
}

impl Read for Failing {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let room = self.from.saturating_sub(self.file.position());
        if room == 0 {
            return Err(std::io::Error::from_raw_os_error(5));
        }
        let most = buffer.len().min(usize::try_from(room).unwrap_or(usize::MAX));
        self.file.read(&mut buffer[..most])
    }
}

impl Seek for Failing {
    fn seek(&mut self, to: SeekFrom) -> std::io::Result<u64> {
        self.file.seek(to)
    }
}

#[test]
fn a_read_that_fails_is_no_damage_wherever_it_fails() {
    let folder = tempfile::tempdir().expect("temp");
    for (path, _) in samples(folder.path()) {
        let bytes = std::fs::read(&path).expect("disk");
        let (length, tga) = (bytes.len() as u64, path.extension().is_some_and(|own| own == "tga"));
        let open = |from| Failing { file: std::io::Cursor::new(bytes.clone()), from };
        let (mut probed, mut unread) = (0, 0);
        for from in 0..length {
            // What the head and the end say may be known before the place that fails; the pixels are not.
            match told(open(from), length, tga) {
                Err(error) => assert_eq!(error.raw_os_error(), Some(5), "{}", path.display()),
                Ok(Err(seen)) => panic!("{} from {from}: {seen:?}", path.display()),
                Ok(Ok(found)) => {
                    probed += 1;
                    unread += u32::from(unpacked(found).is_err());
                }
            }
        }
        assert_eq!(probed, unread, "{}", path.display());
        let whole = told(open(length + 1), length, tga).expect("it can be read").map(unpacked);
        assert!(matches!(whole, Ok(Ok(looked)) if matches!(looked.seen, Seen::Whole(_))), "{}", path.display());
    }
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

#[test]
fn openexr_is_told_as_it_is_written() {
    use exr::prelude::{AnyChannel, AnyChannels, Compression, Encoding, FlatSamples, Image, Layer, LayerAttributes};
    use exr::prelude::{Text, Vec2, WritableImage};
    let folder = tempfile::tempdir().expect("temp");
    let (width, height) = (20usize, 12usize);
    let half = |by: f32| FlatSamples::F16((0..width * height).map(|at| f16::from_f32(at as f32 * by)).collect());
    let float = || FlatSamples::F32((0..width * height).map(|at| at as f32).collect());
    let encoding = |compression| Encoding { compression, ..Encoding::UNCOMPRESSED };
    let layer = |channels: Vec<(&str, FlatSamples)>, compression| {
        let list = channels.into_iter().map(|(name, samples)| AnyChannel::new(name, samples)).collect();
        let attributes = LayerAttributes::named("night");
        Layer::new((width, height), attributes, encoding(compression), AnyChannels::sort(list))
    };
    let colours = || vec![("R", half(0.1)), ("G", half(0.2)), ("B", half(0.3)), ("A", half(0.0))];
    let looked = |image: Image<Layer<AnyChannels<FlatSamples>>>| {
        let path = folder.path().join("a.exr");
        image.write().non_parallel().to_file(&path).expect("exr");
        assert_eq!(probe(&path).expect("disk"), decode(&path).expect("disk"));
        match probe(&path).expect("disk") {
            Seen::Whole(picture) => picture,
            other => panic!("{other:?}"),
        }
    };
    // A depth of 32 bits beside colours of 16: each keeps its own depth.
    let beside = [colours(), vec![("Z", float())]].concat();
    let picture = looked(Image::from_layer(layer(beside, Compression::ZIP16)));
    let z = LayerSeen { name: "Z".to_owned(), bits: Some(Bits::Float), channels: Some(Channels::Grey) };
    assert_eq!((picture.bits, picture.channels), (Some(Bits::Half), Some(Channels::Rgba)));
    assert_eq!((picture.compression, picture.layers), (Some(AsWritten::of("zip")), vec![z]));
    // Layers by the names of channels.
    let named = vec![("depth.Z", float()), ("mask.Y", half(1.0)), ("R", half(1.0)), ("G", half(1.0)), ("B", half(1.0))];
    let picture = looked(Image::from_layer(layer(named, Compression::PIZ)));
    let layers: Vec<(&str, Option<Bits>)> = picture.layers.iter().map(|layer| (&*layer.name, layer.bits)).collect();
    assert_eq!(layers, [("depth", Some(Bits::Float)), ("mask", Some(Bits::Half))]);
    assert_eq!((picture.channels, picture.compression), (Some(Channels::Rgb), Some(AsWritten::of("piz"))));
    // Every compression is told and unpacked.
    for (compression, name) in [
        (Compression::Uncompressed, "none"),
        (Compression::RLE, "rle"),
        (Compression::ZIP1, "zips"),
        (Compression::PXR24, "pxr24"),
        (Compression::B44, "b44"),
        (Compression::B44A, "b44a"),
        (Compression::DWAA(None), "dwaa"),
        (Compression::DWAB(None), "dwab"),
    ] {
        let picture = looked(Image::from_layer(layer(colours(), compression)));
        assert_eq!((picture.compression, picture.bits), (Some(AsWritten::of(name)), Some(Bits::Half)), "{name}");
    }
    // What is shown counts, not which part of it is stored.
    let mut image = Image::from_layer(layer(colours(), Compression::ZIP16));
    image.layer_data.attributes.layer_position = Vec2(-2, 3);
    image.attributes.display_window.size = Vec2(64, 36);
    image.layer_data.attributes.layer_name = Some(Text::new_or_panic("night"));
    let picture = looked(image);
    assert_eq!((picture.width, picture.height), (64, 36));
    assert_eq!(picture.stored.as_deref(), Some("of 64x36 pixels it stores 20x12 from -2,3 on"));
}
