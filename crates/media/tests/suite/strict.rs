//! What is sound is not accused, what is damaged is found, and what is neither planned nor read is named: kind by kind.

use std::path::Path;

use jpeg_encoder::{ColorType, Encoder, SamplingFactor};
use truepath_core::catalogue::{AsWritten, Channels};
use truepath_core::verify::{Picture, Seen};
use truepath_media::{Looked, inspect, probe};

const SIZE: (u16, u16) = (70, 45);

fn noise(count: usize) -> Vec<u8> {
    (0..usize::from(SIZE.0) * usize::from(SIZE.1) * count)
        .map(|at| (at as u32).wrapping_mul(2_654_435_761).to_be_bytes()[0] / 2)
        .collect()
}

fn look(path: &Path) -> Looked {
    inspect(path, &|_| true).unwrap()
}

#[track_caller]
fn whole(looked: Looked) -> Picture {
    match looked.seen {
        Seen::Whole(picture) => picture,
        other => panic!("{other:?}"),
    }
}

#[track_caller]
fn broken(looked: Looked) -> String {
    match looked.seen {
        Seen::Broken(why) => why,
        other => panic!("{other:?}"),
    }
}

struct Folder(tempfile::TempDir);

impl Folder {
    fn new() -> Folder {
        Folder(tempfile::tempdir().unwrap())
    }

    fn write(&self, name: &str, bytes: &[u8]) -> std::path::PathBuf {
        let path = self.0.path().join(name);
        std::fs::write(&path, bytes).unwrap();
        path
    }
}

fn jpegs() -> Vec<(String, Vec<u8>)> {
    let mut all = Vec::new();
    for (what, sampling, progressive, restart, grey) in [
        ("baseline", SamplingFactor::R_4_4_4, false, None, false),
        ("halves", SamplingFactor::R_4_2_0, false, None, false),
        ("restarts", SamplingFactor::R_4_2_2, false, Some(3), false),
        ("progressive", SamplingFactor::R_4_2_0, true, None, false),
        ("progressive with restarts", SamplingFactor::R_4_4_4, true, Some(2), false),
        ("grey", SamplingFactor::R_4_4_4, false, Some(4), true),
    ] {
        for quality in [10, 92] {
            let mut bytes = Vec::new();
            let mut encoder = Encoder::new(&mut bytes, quality);
            encoder.set_sampling_factor(sampling);
            encoder.set_progressive(progressive);
            encoder.set_optimized_huffman_tables(quality == 92);
            if let Some(restart) = restart {
                encoder.set_restart_interval(restart);
            }
            let kind = if grey { ColorType::Luma } else { ColorType::Rgb };
            encoder.encode(&noise(if grey { 1 } else { 3 }), SIZE.0, SIZE.1, kind).unwrap();
            all.push((format!("{what} {quality}"), bytes));
        }
    }
    all
}

#[test]
fn every_jpeg_is_read_to_its_last_block() {
    let folder = Folder::new();
    for (what, bytes) in jpegs() {
        let path = folder.write("a.jpg", &bytes);
        let looked = look(&path);
        assert!(looked.content.samples > 0 && looked.content.digest().is_some(), "{what}");
        let picture = whole(looked);
        assert_eq!((picture.besides, picture.unproven), (Vec::new(), None), "{what}");
        let scan = bytes.windows(2).rposition(|two| two == [0xff, 0xda]).unwrap();
        let end = bytes.len() - 2;
        // The last part of the picture data is not there, though the file ends as it should.
        let mut cut = bytes.clone();
        let data = scan + 2 + usize::from(u16::from_be_bytes([bytes[scan + 2], bytes[scan + 3]]));
        cut.drain(data + (end - data) / 2..end);
        assert!(broken(look(&folder.write("b.jpg", &cut))).contains("too early"), "{what}");
        let mut more = bytes.clone();
        more.splice(end..end, [1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12]);
        assert!(broken(look(&folder.write("c.jpg", &more))).contains("left over"), "{what}");
        let mut behind = bytes.clone();
        behind.extend(b"something");
        let picture = whole(look(&folder.write("d.jpg", &behind)));
        assert_eq!(picture.besides, ["it holds 9 bytes more than the picture"], "{what}");
        // Bytes between two segments.
        let mut between = bytes.clone();
        let table = bytes.windows(2).position(|two| two == [0xff, 0xc4]).unwrap();
        between.splice(table..table, [0, 0, 7]);
        assert!(broken(look(&folder.write("e.jpg", &between))).contains("between"), "{what}");
    }
}

#[test]
fn restart_markers_have_an_order() {
    let folder = Folder::new();
    let (_, bytes) = jpegs().into_iter().find(|(what, _)| what == "restarts 92").unwrap();
    let markers: Vec<usize> =
        (0..bytes.len() - 1).filter(|at| bytes[*at] == 0xff && (0xd0..=0xd7).contains(&bytes[at + 1])).collect();
    assert!(markers.len() > 3);
    let mut swapped = bytes.clone();
    swapped.swap(markers[1] + 1, markers[2] + 1);
    assert_eq!(broken(look(&folder.write("a.jpg", &swapped))), "its restart markers are out of order");
    let mut lost = bytes.clone();
    lost.drain(markers[0]..markers[1]);
    broken(look(&folder.write("b.jpg", &lost)));
}

#[test]
fn the_means_of_blocks_show_what_the_picture_shows() {
    let folder = Folder::new();
    let jpeg = |name: &str, data: Vec<u8>| {
        let mut bytes = Vec::new();
        Encoder::new(&mut bytes, 80).encode(&data, SIZE.0, SIZE.1, ColorType::Rgb).unwrap();
        look(&folder.write(name, &bytes)).content
    };
    let pixels = usize::from(SIZE.0) * usize::from(SIZE.1);
    let black = jpeg("a.jpg", vec![0; pixels * 3]);
    assert_eq!((black.colour, black.black_from_a_side()), (Some((0.0, 0.0)), 1.0));
    let red = jpeg("b.jpg", [200, 20, 30].repeat(pixels));
    assert!(red.one_colour && red.colour.unwrap().0 > 0.0, "{:?}", red.colour);
    let noisy = jpeg("c.jpg", noise(3));
    assert!(!noisy.one_colour && noisy.cells.iter().all(|cell| !cell.flat && !cell.black));
    assert_ne!(noisy.digest(), red.digest());
}

fn png(
    kind: png::ColorType,
    depth: png::BitDepth,
    data: &[u8],
    more: impl Fn(&mut png::Encoder<'_, &mut Vec<u8>>),
) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut encoder = png::Encoder::new(&mut bytes, 16, 8);
    encoder.set_color(kind);
    encoder.set_depth(depth);
    more(&mut encoder);
    let mut writer = encoder.write_header().unwrap();
    writer.write_image_data(data).unwrap();
    writer.finish().unwrap();
    bytes
}

#[test]
fn every_checksum_of_png_counts_and_other_kinds_are_named() {
    let folder = Folder::new();
    let rgb = png(png::ColorType::Rgb, png::BitDepth::Eight, &noise(3)[..16 * 8 * 3], |_| {});
    assert!(whole(look(&folder.write("a.png", &rgb))).besides.is_empty());
    // The pixels' own checksum, with that of its chunk made anew.
    let data = rgb.windows(4).position(|four| four == b"IDAT").unwrap();
    let size = u32::from_be_bytes(rgb[data - 4..data].try_into().unwrap()) as usize;
    let mut other = rgb.clone();
    other[data + 4 + size - 1] ^= 1;
    let sum = crc32fast::hash(&other[data..data + 4 + size]).to_be_bytes();
    other[data + 4 + size..data + 8 + size].copy_from_slice(&sum);
    assert!(broken(look(&folder.write("b.png", &other))).contains("cannot be decompressed"));
    // A note whose checksum is wrong: the picture is there, and the file is damaged.
    let noted = png(png::ColorType::Rgb, png::BitDepth::Eight, &noise(3)[..16 * 8 * 3], |encoder| {
        encoder.add_text_chunk("Title".to_owned(), "night".to_owned()).unwrap();
    });
    let text = noted.windows(5).position(|five| five == b"night").unwrap();
    let mut other = noted.clone();
    other[text] ^= 1;
    assert_eq!(broken(look(&folder.write("c.png", &other))), "the checksum of its chunk tEXt is wrong");
    for (bytes, said) in [
        (
            png(
                png::ColorType::Indexed,
                png::BitDepth::Eight,
                &noise(1)[..16 * 8].iter().map(|at| at % 4).collect::<Vec<_>>(),
                |encoder| encoder.set_palette([1, 2, 3].repeat(4)),
            ),
            "its colours are in a palette",
        ),
        (png(png::ColorType::Grayscale, png::BitDepth::One, &noise(1)[..16], |_| {}), "it has 1 bits a sample"),
        (
            png(png::ColorType::Rgb, png::BitDepth::Eight, &noise(3)[..16 * 8 * 3], |encoder| {
                encoder.set_animated(2, 0).unwrap()
            })
            .clone(),
            "",
        ),
        ([rgb.as_slice(), b"tail"].concat(), "it holds 4 bytes more than the picture"),
    ] {
        let path = folder.write("d.png", &bytes);
        if said.is_empty() {
            // An animation with a frame too few.
            assert!(matches!(look(&path).seen, Seen::Broken(_)));
            assert!(matches!(probe(&path), Ok(Seen::Whole(picture)) if picture.besides == ["it has 2 frames"]));
            continue;
        }
        assert_eq!(whole(look(&path)).besides, [said]);
        assert!(matches!(probe(&path), Ok(Seen::Whole(picture)) if picture.besides == [said]));
    }
}

#[test]
fn every_page_of_a_tiff_is_read() {
    use tiff::encoder::{Compression, TiffEncoder, colortype};
    let folder = Folder::new();
    for compression in [Compression::Uncompressed, Compression::Lzw, Compression::Packbits] {
        let mut bytes = std::io::Cursor::new(Vec::new());
        let mut encoder = TiffEncoder::new(&mut bytes).unwrap().with_compression(compression);
        let data = noise(3);
        let (width, height) = (u32::from(SIZE.0), u32::from(SIZE.1));
        encoder.write_image::<colortype::RGB8>(width, height, &data).unwrap();
        let first = bytes.get_ref().len();
        let mut encoder = TiffEncoder::new(std::io::Cursor::new(Vec::new())).unwrap().with_compression(compression);
        encoder.write_image::<colortype::RGB8>(width, height, &data).unwrap();
        encoder.write_image::<colortype::RGB8>(width, height, &data).unwrap();
        drop(encoder);
        let mut both = std::io::Cursor::new(Vec::new());
        let mut encoder = TiffEncoder::new(&mut both).unwrap().with_compression(compression);
        (0..2).for_each(|_| encoder.write_image::<colortype::RGB8>(width, height, &data).unwrap());
        let both = both.into_inner();
        assert!(whole(look(&folder.write("a.tif", bytes.get_ref()))).besides.is_empty());
        assert_eq!(whole(look(&folder.write("b.tif", &both))).besides, ["it has 2 pages"]);
        // The second page lies behind the first: half of it is gone.
        let cut = &both[..first + (both.len() - first) / 2];
        assert!(matches!(probe(&folder.write("c.tif", cut)), Ok(Seen::Broken(_))), "{first} of {}", both.len());
    }
}

#[test]
fn webp_says_how_it_is_packed_and_an_opaque_alpha_is_no_fault() {
    let folder = Folder::new();
    let encode = |data: &[u8], kind| {
        let mut bytes = Vec::new();
        image_webp::WebPEncoder::new(&mut bytes).encode(data, u32::from(SIZE.0), u32::from(SIZE.1), kind).unwrap();
        bytes
    };
    let clear: Vec<u8> = noise(4);
    let opaque: Vec<u8> = clear.chunks(4).flat_map(|own| [own[0], own[1], own[2], 255]).collect();
    let rgba = whole(look(&folder.write("a.webp", &encode(&clear, image_webp::ColorType::Rgba8))));
    assert_eq!(
        (rgba.channels, rgba.compression, rgba.opaque),
        (Some(Channels::Rgba), Some(AsWritten::of("lossless")), false)
    );
    let rgb = encode(&noise(3), image_webp::ColorType::Rgb8);
    let looked = look(&folder.write("b.webp", &rgb));
    assert_eq!(looked.content.alpha, Some((255.0, 255.0)), "an alpha that is left out is the same everywhere");
    let picture = whole(looked);
    assert_eq!(
        (picture.channels, picture.compression, picture.opaque),
        (Some(Channels::Rgb), Some(AsWritten::of("lossless")), true)
    );
    whole(look(&folder.write("c.webp", &encode(&opaque, image_webp::ColorType::Rgba8))));
    let mut behind = rgb.clone();
    behind.extend(b"abc123");
    assert_eq!(whole(look(&folder.write("d.webp", &behind))).besides.len(), 1);
}

/// The attributes of an OpenEXR header of 4 x 2 pixels.
fn header(channels: &[u8], compression: u8, more: &[(&str, &str, Vec<u8>)]) -> Vec<u8> {
    let attribute = |name: &str, kind: &str, value: &[u8]| {
        [name.as_bytes(), b"\0", kind.as_bytes(), b"\0", &(value.len() as u32).to_le_bytes(), value].concat()
    };
    let window = [0i32, 0, 3, 1].iter().flat_map(|side| side.to_le_bytes()).collect::<Vec<u8>>();
    let mut out = Vec::new();
    for own in [
        attribute("channels", "chlist", channels),
        attribute("compression", "compression", &[compression]),
        attribute("dataWindow", "box2i", &window),
        attribute("displayWindow", "box2i", &window),
        attribute("lineOrder", "lineOrder", &[0]),
        attribute("pixelAspectRatio", "float", &1f32.to_le_bytes()),
        attribute("screenWindowCenter", "v2f", &[0; 8]),
        attribute("screenWindowWidth", "float", &1f32.to_le_bytes()),
    ] {
        out.extend(own);
    }
    more.iter().for_each(|(name, kind, value)| out.extend(attribute(name, kind, value)));
    out.push(0);
    out
}

fn channel(name: &str, kind: u32, sampling: u32) -> Vec<u8> {
    let sampling = sampling.to_le_bytes();
    [name.as_bytes(), b"\0", &kind.to_le_bytes(), &[0; 4], &sampling, &sampling].concat()
}

#[test]
fn channels_with_fewer_samples_than_pixels_are_no_fault() {
    let folder = Folder::new();
    // Brightness for every pixel, colour for every fourth: halves, two lines.
    let channels = [channel("BY", 1, 2), channel("RY", 1, 2), channel("Y", 1, 1), b"\0".to_vec()].concat();
    let mut file = [20_000_630u32.to_le_bytes(), 2u32.to_le_bytes()].concat();
    file.extend(header(&channels, 0, &[]));
    let table = file.len();
    file.extend([0; 16]);
    for (line, samples) in [(0i32, 2 + 2 + 4), (1, 4)] {
        let place = (file.len() as u64).to_le_bytes();
        file[table + line as usize * 8..table + line as usize * 8 + 8].copy_from_slice(&place);
        file.extend(line.to_le_bytes());
        file.extend((samples * 2i32).to_le_bytes());
        file.extend(vec![7u8; samples as usize * 2]);
    }
    let picture = whole(look(&folder.write("a.exr", &file)));
    assert_eq!((picture.width, picture.height, picture.unproven), (4, 2, None));
    broken(look(&folder.write("b.exr", &file[..file.len() - 3])));
    // Packed in a way that nobody here unpacks: never good, never broken.
    let at = file.windows(12).position(|own| own == b"compression\0").unwrap() + 12 + 12 + 4;
    file[at] = 6;
    assert!(whole(look(&folder.write("c.exr", &file))).unproven.is_some_and(|why| why.contains("fewer samples")));
}

#[test]
fn a_header_of_openexr_may_be_longer_than_what_is_read_at_once() {
    let folder = Folder::new();
    let channels = [channel("Y", 1, 1), b"\0".to_vec()].concat();
    for length in [0, 7_900, 8_192, 20_000, (1 << 20) - 300, 1 << 20, 3 << 20] {
        let comment = ("comments", "string", vec![b'x'; length]);
        let mut file = [20_000_630u32.to_le_bytes(), 2u32.to_le_bytes()].concat();
        file.extend(header(&channels, 0, &[comment]));
        let table = file.len();
        file.extend([0; 16]);
        for line in 0..2i32 {
            let place = (file.len() as u64).to_le_bytes();
            file[table + line as usize * 8..][..8].copy_from_slice(&place);
            file.extend([line, 8].into_iter().flat_map(i32::to_le_bytes));
            file.extend([7; 8]);
        }
        let path = folder.write("a.exr", &file);
        let picture = whole(look(&path));
        assert_eq!((picture.width, picture.height, picture.besides.len()), (4, 2, 0), "{length}");
        assert!(matches!(probe(&path).unwrap(), Seen::Whole(_)), "{length}");
        for end in [table / 2, table - 1, table + 15, file.len() - 9, file.len() - 1] {
            let cut = folder.write("b.exr", &file[..end]);
            assert!(matches!(probe(&cut).unwrap(), Seen::Broken(_)), "{length}, cut at {end}");
        }
    }
}

/// A deep OpenEXR picture by hand: 4 x 2 pixels, one channel, some samples a pixel.
fn deep(counts: [[i32; 4]; 2], compressed: bool) -> Vec<u8> {
    let channels = [channel("Z", 2, 1), b"\0".to_vec()].concat();
    // Version 2, with the bit of deep data.
    let mut file = [20_000_630u32.to_le_bytes(), (2u32 | 0x800).to_le_bytes()].concat();
    file.extend(header(
        &channels,
        if compressed { 2 } else { 0 },
        &[
            ("name", "string", b"deep".to_vec()),
            ("type", "string", b"deepscanline".to_vec()),
            ("version", "int", 1i32.to_le_bytes().to_vec()),
            ("chunkCount", "int", 2i32.to_le_bytes().to_vec()),
            ("maxSamplesPerPixel", "int", 60i32.to_le_bytes().to_vec()),
        ],
    ));
    let table = file.len();
    file.extend([0; 16]);
    let packed = |bytes: Vec<u8>| {
        if !compressed {
            return bytes;
        }
        let mut halves: Vec<u8> = bytes.iter().step_by(2).chain(bytes.iter().skip(1).step_by(2)).copied().collect();
        for at in (1..halves.len()).rev() {
            halves[at] = halves[at].wrapping_sub(halves[at - 1]).wrapping_add(128);
        }
        use std::io::Write;
        let mut encoder = flate2::write::ZlibEncoder::new(Vec::new(), flate2::Compression::best());
        encoder.write_all(&halves).unwrap();
        let small = encoder.finish().unwrap();
        if small.len() < bytes.len() { small } else { bytes }
    };
    for (line, counts) in counts.iter().enumerate() {
        let place = (file.len() as u64).to_le_bytes();
        file[table + line * 8..table + line * 8 + 8].copy_from_slice(&place);
        let mut sum = 0;
        let before: Vec<u8> = counts
            .iter()
            .flat_map(|count| {
                sum += count;
                i32::to_le_bytes(sum)
            })
            .collect();
        let samples: Vec<u8> = (0..sum).flat_map(|at| (at as f32).to_le_bytes()).collect();
        let unpacked = samples.len() as u64;
        let (before, samples) = (packed(before), packed(samples));
        file.extend((line as i32).to_le_bytes());
        file.extend((before.len() as u64).to_le_bytes());
        file.extend((samples.len() as u64).to_le_bytes());
        file.extend(unpacked.to_le_bytes());
        file.extend(before);
        file.extend(samples);
    }
    file
}

#[test]
fn deep_pixels_are_unpacked_and_counted() {
    let folder = Folder::new();
    for compressed in [false, true] {
        let bytes = deep([[40, 0, 3, 60], [0, 50, 50, 1]], compressed);
        let path = folder.write("a.exr", &bytes);
        assert!(matches!(probe(&path), Ok(Seen::Whole(_))), "{:?}", probe(&path));
        assert_eq!(whole(look(&path)).unproven, None, "compressed: {compressed}");
        for cut in [bytes.len() - 1, bytes.len() - 40] {
            broken(look(&folder.write("b.exr", &bytes[..cut])));
        }
        let mut other = bytes.clone();
        let at = bytes.len() - if compressed { 30 } else { 4 * 101 + 12 };
        other[at] ^= 0x55;
        if compressed {
            broken(look(&folder.write("c.exr", &other)));
        }
    }
}
