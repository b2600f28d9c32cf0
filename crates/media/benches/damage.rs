//! How much damage is found: sound files of every type and compression, written by whatever programs are here, each damaged
//! in seeded ways, looked at by head and end, by every byte, and by an independent reader as a judge.
//!
//! `cargo bench -p truepath-media --bench damage` prints the table; `-- 200` tries so many damages of each file.
#![allow(clippy::unwrap_used, clippy::print_stdout)]

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use rayon::prelude::*;
use truepath_core::verify::Seen;
use truepath_media::{inspect, probe};

/// Pixels of the picture that all files show.
const SIZE: (u32, u32) = (96, 64);
const SEED: u64 = 20_261;

struct Chance(u64);

impl Chance {
    fn below(&mut self, most: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        ((self.0 >> 33) % most.max(1) as u64) as usize
    }
}

/// The ways in which a file is damaged.
const WAYS: [&str; 5] = ["cut", "flipped", "zeroed", "doubled", "dropped"];

fn damaged(whole: &[u8], way: &str, chance: &mut Chance) -> Vec<u8> {
    let mut bytes = whole.to_vec();
    let size = bytes.len();
    let block = (size / 16).clamp(4, 512);
    let at = chance.below(size - block.min(size - 1));
    let block = block.min(size - at);
    match way {
        "cut" => bytes.truncate(at.max(1)),
        "flipped" => bytes[at] ^= 1 << chance.below(8),
        "zeroed" => bytes[at..at + block].fill(0),
        "doubled" => drop(bytes.splice(at..at, whole[at..at + block].iter().copied())),
        _ => drop(bytes.drain(at..at + block)),
    }
    bytes
}

/// Runs a program without a word; whether it is there and content.
fn runs(program: &str, words: &[&str]) -> Option<bool> {
    let status =
        Command::new(program).args(words).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).status();
    status.ok().map(|status| status.success())
}

/// A picture with soft and hard edges, noise and transparent parts, as a PNG.
fn source(folder: &Path) -> PathBuf {
    let (width, height) = SIZE;
    let mut chance = Chance(7);
    let pixel = |at: u32| {
        let (x, y) = (at % width, at / width);
        let noise = chance.below(9) as u32;
        let inside = (x / 12 + y / 9).is_multiple_of(3);
        [(x * 2 + noise) as u8, (y * 3 + noise) as u8, if inside { 200 } else { 40 }, (x + y) as u8 | 64]
    };
    let data: Vec<u8> = (0..width * height).flat_map(pixel).collect();
    let path = folder.join("source.png");
    let mut encoder = png::Encoder::new(std::fs::File::create(&path).unwrap(), width, height);
    encoder.set_color(png::ColorType::Rgba);
    encoder.write_header().unwrap().write_image_data(&data).unwrap();
    path
}

/// Sound files: what they are and where they lie.
fn sound_files(folder: &Path) -> Vec<(String, PathBuf)> {
    let source = source(folder);
    let source = source.to_str().unwrap();
    let mut found = vec![("png rgba".to_owned(), PathBuf::from(source))];
    let mut make = |what: &str, name: &str, program: &str, words: &[&str]| {
        let path = folder.join(name);
        let words: Vec<&str> =
            words.iter().map(|word| if *word == "OUT" { path.to_str().unwrap() } else { word }).collect();
        if runs(program, &words) == Some(true) && path.exists() {
            found.push((what.to_owned(), path));
        }
    };
    for (what, name, pixels, more) in [
        ("png rgb48", "a.png", "rgb48be", ""),
        ("png grey", "b.png", "gray", ""),
        ("png palette", "c.png", "pal8", ""),
        ("apng", "d.apng", "rgba", "-f apng"),
        ("tiff none", "a.tif", "rgb24", "-compression_algo raw"),
        ("tiff lzw", "b.tif", "rgba", "-compression_algo lzw"),
        ("tiff deflate 16", "c.tif", "rgb48le", "-compression_algo deflate"),
        ("tiff packbits", "d.tif", "gray", "-compression_algo packbits"),
        ("bmp", "a.bmp", "bgr24", ""),
        ("bmp rgba", "b.bmp", "bgra", ""),
        ("bmp palette", "c.bmp", "pal8", ""),
        ("tga none", "a.tga", "bgra", "-rle 0"),
        ("tga rle", "b.tga", "bgr24", "-rle 1"),
        ("dpx 8", "a.dpx", "rgb24", ""),
        ("dpx 10", "b.dpx", "gbrp10be", ""),
        ("dpx 12", "c.dpx", "gbrp12be", ""),
        ("dpx 16", "d.dpx", "rgb48be", ""),
        ("hdr", "a.hdr", "gbrpf32le", ""),
        ("exr float zip", "a.exr", "gbrapf32le", "-compression zip16"),
        ("exr half rle", "b.exr", "gbrpf32le", "-compression rle -format half"),
        ("exr half none", "c.exr", "gbrapf32le", "-compression none -format half"),
        ("webp lossless", "a.webp", "bgra", "-lossless 1"),
        ("webp lossy", "b.webp", "yuva420p", "-lossless 0"),
    ] {
        let mut words = vec!["-v", "error", "-y", "-i", source, "-pix_fmt", pixels];
        words.extend(more.split_whitespace());
        words.push("OUT");
        make(what, name, "ffmpeg", &words);
    }
    let portable = folder.join("source.ppm");
    runs("ffmpeg", &["-v", "error", "-y", "-i", source, "-pix_fmt", "rgb24", portable.to_str().unwrap()]);
    let portable = portable.to_str().unwrap();
    for (what, name, words) in [
        ("jpeg baseline", "a.jpg", "-quality 90"),
        ("jpeg optimised", "b.jpg", "-optimize -quality 75"),
        ("jpeg 4:4:4 restarts", "c.jpg", "-sample 1x1 -restart 2B"),
        ("jpeg progressive", "d.jpg", "-progressive -quality 85"),
        ("jpeg progressive restarts", "e.jpg", "-progressive -restart 1"),
        ("jpeg grey", "f.jpg", "-grayscale"),
        ("jpeg arithmetic", "g.jpg", "-arithmetic"),
    ] {
        let words: Vec<&str> = words.split_whitespace().chain(["-outfile", "OUT", portable]).collect();
        make(what, name, "cjpeg", &words);
    }
    let tiff = folder.join("b.tif");
    let tiff = tiff.to_str().unwrap();
    for (what, name, words) in [
        ("tiff tiled deflate", "e.tif", "-t -w 32 -l 32 -c zip"),
        ("tiff planar lzw", "f.tif", "-p separate -c lzw:2"),
        ("tiff big-endian", "g.tif", "-B -c none"),
        ("tiff zstd", "h.tif", "-c zstd"),
    ] {
        let words: Vec<&str> = words.split_whitespace().chain([tiff, "OUT"]).collect();
        make(what, name, "tiffcp", &words);
    }
    make("tiff two pages", "i.tif", "tiffcp", &["-c", "lzw", tiff, tiff, "OUT"]);
    let exr = folder.join("a.exr");
    make("exr tiled", "t.exr", "exrmaketiled", &["-t", "32", "32", exr.to_str().unwrap(), "OUT"]);
    for compression in ["none", "rle", "zips", "zip", "piz", "pxr24", "b44", "b44a", "dwaa", "dwab"] {
        let name = format!("t-{compression}.exr");
        make(
            &format!("exr tiled {compression}"),
            &name,
            "exrmaketiled",
            &["-z", compression, exr.to_str().unwrap(), "OUT"],
        );
    }
    found.extend(lines_of_exr(folder));
    found
}

/// OpenEXR in scan lines, every compression.
fn lines_of_exr(folder: &Path) -> Vec<(String, PathBuf)> {
    use exr::prelude::{
        Compression, Encoding, Image, Layer, LayerAttributes, SpecificChannels, Vec2, WritableImage, f16,
    };
    let all = [
        ("none", Compression::Uncompressed),
        ("rle", Compression::RLE),
        ("zips", Compression::ZIP1),
        ("zip", Compression::ZIP16),
        ("piz", Compression::PIZ),
        ("pxr24", Compression::PXR24),
        ("b44", Compression::B44),
        ("b44a", Compression::B44A),
        ("dwaa", Compression::DWAA(None)),
        ("dwab", Compression::DWAB(None)),
    ];
    let size = (SIZE.0 as usize, SIZE.1 as usize);
    let one = |(name, compression): (&str, Compression)| {
        let value =
            |x: usize, y: usize, by: usize| f16::from_f32(((x * by + y * 7) % 61) as f32 / 40.0 + x as f32 / 90.0);
        let pixel = |at: Vec2<usize>| {
            (value(at.x(), at.y(), 3), value(at.x(), at.y(), 5), value(at.x(), at.y(), 9), f16::from_f32(1.0))
        };
        let encoding = Encoding { compression, ..Encoding::UNCOMPRESSED };
        let layer = Layer::new(size, LayerAttributes::named("night"), encoding, SpecificChannels::rgba(pixel));
        let path = folder.join(format!("lines-{name}.exr"));
        Image::from_layer(layer).write().non_parallel().to_file(&path).ok()?;
        Some((format!("exr {name}"), path))
    };
    all.into_iter().filter_map(one).collect()
}

/// Whether an independent reader finds a file sound; `None` where there is none of its type here.
fn judged(path: &Path, out: &Path) -> Option<bool> {
    let (path, out) = (path.to_str()?, out.to_str()?);
    match Path::new(path).extension()?.to_str()? {
        "png" | "apng" => runs("pngcheck", &["-q", path]),
        "jpg" => runs("djpeg", &["-strict", "-outfile", out, path]),
        "tif" => runs("tiffcp", &["-c", "none", path, out]),
        "webp" => runs("dwebp", &["-quiet", path, "-o", out]),
        "exr" => runs("exrmaketiled", &[path, out]),
        _ => runs("ffmpeg", &["-v", "error", "-xerror", "-i", path, "-f", "null", "-"]),
    }
}

/// What became of some damages.
#[derive(Default)]
struct Row {
    tried: u32,
    quick: u32,
    deep: u32,
    judge: Option<u32>,
    /// Found by the judge and by nobody here.
    missed: u32,
}

fn main() {
    let rounds: usize = std::env::args().filter_map(|word| word.parse().ok()).next().unwrap_or(40);
    let folder = tempfile::tempdir().unwrap();
    let files = sound_files(folder.path());
    let is_good = |seen: &Seen| matches!(seen, Seen::Whole(_));
    let is_unproven = |seen: &Seen| matches!(seen, Seen::Whole(picture) if picture.unproven.is_some());
    let mut accused = Vec::new();
    for (what, path) in &files {
        let (quick, deep) = (probe(path).unwrap(), inspect(path, &|_| true).unwrap().seen);
        if !is_good(&quick) || !is_good(&deep) {
            accused.push(format!("{what}: {quick:?} {deep:?}"));
        }
        if is_unproven(&deep) {
            println!("{what}: cannot be looked into");
        }
    }
    let tasks: Vec<(usize, &str)> = (0..files.len()).flat_map(|at| WAYS.iter().map(move |way| (at, *way))).collect();
    let tried = |(at, way): &(usize, &'static str)| {
        let (what, path) = &files[*at];
        let whole = std::fs::read(path).unwrap();
        let mut chance = Chance(SEED + *at as u64 * 101 + way.len() as u64);
        let extension = path.extension().unwrap().to_str().unwrap();
        let own = folder.path().join(format!("{at}-{way}.{extension}"));
        let out = folder.path().join(format!("{at}-{way}-out.{extension}"));
        let mut row = Row::default();
        for _ in 0..rounds {
            let bytes = damaged(&whole, way, &mut chance);
            if bytes == whole {
                continue;
            }
            std::fs::write(&own, bytes).unwrap();
            let quick = !is_good(&probe(&own).unwrap());
            let seen = inspect(&own, &|_| true).unwrap().seen;
            // Bytes behind the end and the like are findings of their own.
            let told =
                matches!(&seen, Seen::Whole(picture) if !picture.besides.is_empty() && !probe_says(path, picture));
            let deep = !is_good(&seen) || told;
            let judge = judged(&own, &out).map(|sound| !sound);
            row.tried += 1;
            row.quick += u32::from(quick);
            row.deep += u32::from(deep);
            if let Some(judge) = judge {
                *row.judge.get_or_insert(0) += u32::from(judge);
                row.missed += u32::from(judge && !deep);
            }
        }
        (what.clone(), *way, row)
    };
    let rows: Vec<(String, &str, Row)> = tasks.par_iter().map(tried).collect();
    println!("{:28} {:8} {:>6} {:>6} {:>6} {:>6} {:>7}", "file", "damage", "tried", "quick", "deep", "judge", "missed");
    let mut all: BTreeMap<&str, Row> = BTreeMap::new();
    for (what, way, row) in &rows {
        let judge = row.judge.map_or("-".to_owned(), |judge| judge.to_string());
        println!("{what:28} {way:8} {:>6} {:>6} {:>6} {judge:>6} {:>7}", row.tried, row.quick, row.deep, row.missed);
        let sum = all.entry(way).or_default();
        (sum.tried, sum.quick, sum.deep) = (sum.tried + row.tried, sum.quick + row.quick, sum.deep + row.deep);
        (sum.judge, sum.missed) = (Some(sum.judge.unwrap_or(0) + row.judge.unwrap_or(0)), sum.missed + row.missed);
    }
    println!();
    for (way, row) in all {
        let judge = row.judge.unwrap_or(0);
        println!("{:28} {way:8} {:>6} {:>6} {:>6} {judge:>6} {:>7}", "all", row.tried, row.quick, row.deep, row.missed);
    }
    println!("\n{} sound files, {} of them accused", files.len(), accused.len());
    accused.iter().for_each(|line| println!("  {line}"));
    assert!(accused.is_empty());
}

/// Whether the sound file says the same beside its picture.
fn probe_says(path: &Path, picture: &truepath_core::verify::Picture) -> bool {
    matches!(inspect(path, &|_| true), Ok(looked) if matches!(&looked.seen, Seen::Whole(own) if own.besides == picture.besides))
}
