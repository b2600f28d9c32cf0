//! How long looking takes beside what cannot be avoided: `cargo bench -p truepath-media --bench speed`. Each pair is timed in
//! turns, five times; the best of both is compared. A number behind `--` divides the amount of files; `quick`, `png`, `exr` and
//! `jpeg` leave the others out.
#![allow(clippy::unwrap_used, clippy::print_stdout)]

use std::fs::File;
use std::hint::black_box;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Instant;

use rayon::prelude::*;
use truepath_core::verify::Seen;
use truepath_media::{inspect, probe};

const ROUNDS: usize = 5;

/// How long something took, and what the processors did for it: seconds.
#[derive(Clone, Copy)]
struct Took {
    wall: f64,
    cpu: f64,
}

/// Seconds that processors have worked for this process and for the programs it has started: proc(5), fields 14 to 17.
fn worked() -> f64 {
    let text = std::fs::read_to_string("/proc/self/stat").unwrap_or_default();
    let fields = text.rsplit(')').next().unwrap_or_default().split_whitespace().skip(11).take(4);
    // Linux counts hundredths of a second, whatever its clock does.
    fields.filter_map(|ticks| ticks.parse::<f64>().ok()).sum::<f64>() / 100.0
}

/// The best time of each of two things, done in turns.
fn pair(mut ours: impl FnMut(), mut theirs: impl FnMut()) -> (Took, Took) {
    let time = |work: &mut dyn FnMut()| {
        let (since, before) = (Instant::now(), worked());
        work();
        Took { wall: since.elapsed().as_secs_f64(), cpu: worked() - before }
    };
    let least = |a: Took, b: Took| Took { wall: a.wall.min(b.wall), cpu: a.cpu.min(b.cpu) };
    let none = Took { wall: f64::INFINITY, cpu: f64::INFINITY };
    (0..ROUNDS).fold((none, none), |best, _| (least(best.0, time(&mut ours)), least(best.1, time(&mut theirs))))
}

fn told(what: &str, beside: &str, (ours, theirs): (Took, Took)) {
    println!(
        "{what:44} {:>7.3} s, CPU {:>6.2} s   {beside:34} {:>7.3} s, CPU {:>6.2} s   {:>5.2}x, CPU {:>5.2}x",
        ours.wall,
        ours.cpu,
        theirs.wall,
        theirs.cpu,
        ours.wall / theirs.wall,
        ours.cpu / theirs.cpu
    );
}

/// A picture that packs like a rendered one: soft slopes, an edge, and the grain that samples leave.
fn pixels(width: u32, height: u32, frame: u32) -> Vec<u8> {
    let grain = |at: u32| {
        let mut mixed = u64::from(at) ^ u64::from(frame) << 32;
        mixed = (mixed ^ mixed >> 30).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ mixed >> 27).wrapping_mul(0x94d0_49bb_1331_11eb);
        mixed ^ mixed >> 31
    };
    let pixel = |at: u32| {
        let (x, y, grain) = (at % width, at / width, grain(at));
        let edge = if (x + frame * 3) % width < width / 4 { 60 } else { 0 };
        let rough = |shift: u32| (grain >> shift & 3) as u8 + (grain >> (shift + 2) & 3) as u8;
        [(x * 200 / width) as u8 + rough(0), (y * 150 / height) as u8 + edge / 2 + rough(8), edge + rough(16), 255]
    };
    (0..width * height).flat_map(pixel).collect()
}

fn png(path: &Path, (width, height): (u32, u32), data: &[u8]) {
    let mut encoder = png::Encoder::new(std::io::BufWriter::new(File::create(path).unwrap()), width, height);
    encoder.set_color(png::ColorType::Rgba);
    encoder.write_header().unwrap().write_image_data(data).unwrap();
}

fn seen(path: &Path) {
    let looked = inspect(path, &|_| true).unwrap();
    assert!(matches!(looked.seen, Seen::Whole(_)), "{looked:?}");
    black_box(looked.content);
}

/// Open, ask for the length, read the first 8 kB and the last 12 bytes, close.
fn bare(path: &Path) {
    let mut file = File::open(path).unwrap();
    let length = file.metadata().unwrap().len();
    let mut head = [0; 8192];
    let read = file.read(&mut head).unwrap();
    let mut tail = [0; 12];
    file.seek(SeekFrom::Start(length - 12)).unwrap();
    file.read_exact(&mut tail).unwrap();
    black_box((read, tail));
}

/// Every checksum and all packed bytes of a PNG, and nothing else.
fn inflate_png(path: &Path) {
    let bytes = std::fs::read(path).unwrap();
    let (mut at, mut packed) = (8, Vec::new());
    while at + 12 <= bytes.len() {
        let length = u32::from_be_bytes(bytes[at..at + 4].try_into().unwrap()) as usize;
        black_box(crc32fast::hash(&bytes[at + 4..at + 8 + length]));
        if &bytes[at + 4..at + 8] == b"IDAT" {
            packed.extend_from_slice(&bytes[at + 8..at + 8 + length]);
        }
        at += 12 + length;
    }
    inflate(&packed);
}

fn inflate(packed: &[u8]) {
    let mut out = Vec::new();
    flate2::read::ZlibDecoder::new(packed).read_to_end(&mut out).unwrap();
    black_box(out.len());
}

/// The packed bytes of every chunk of a scan-line OpenEXR file of one part.
fn inflate_exr(path: &Path) {
    let bytes = std::fs::read(path).unwrap();
    let mut reader = std::io::Cursor::new(&bytes);
    let meta = exr::meta::MetaData::read_from_buffered(&mut reader, false).unwrap();
    let table = reader.position() as usize;
    for chunk in 0..meta.headers[0].chunk_count {
        let place = u64::from_le_bytes(bytes[table + chunk * 8..table + chunk * 8 + 8].try_into().unwrap()) as usize;
        let size = i32::from_le_bytes(bytes[place + 4..place + 8].try_into().unwrap()) as usize;
        inflate(&bytes[place + 8..place + 8 + size]);
    }
}

fn exrs(folder: &Path, count: u32) -> Vec<PathBuf> {
    use exr::prelude::{
        Compression, Encoding, Image, Layer, LayerAttributes, SpecificChannels, Vec2, WritableImage, f16,
    };
    let one = |frame: u32| {
        let data = pixels(1280, 720, frame);
        let value = |at: Vec2<usize>, channel: usize| {
            f16::from_f32(f32::from(data[(at.y() * 1280 + at.x()) * 4 + channel]) / 255.0)
        };
        let pixel = |at: Vec2<usize>| (value(at, 0), value(at, 1), value(at, 2), value(at, 3));
        let encoding = Encoding { compression: Compression::ZIP16, ..Encoding::SMALL_LOSSLESS };
        let layer = Layer::new((1280, 720), LayerAttributes::named("night"), encoding, SpecificChannels::rgba(pixel));
        let path = folder.join(format!("{frame}.exr"));
        Image::from_layer(layer).write().non_parallel().to_file(&path).unwrap();
        path
    };
    (0..count).into_par_iter().map(one).collect()
}

fn main() {
    let by: u32 = std::env::args().filter_map(|word| word.parse().ok()).next().unwrap_or(1);
    let only: Vec<String> =
        std::env::args().skip(1).filter(|word| ["quick", "png", "exr", "jpeg"].contains(&word.as_str())).collect();
    let is_asked = |name: &str| only.is_empty() || only.iter().any(|own| own == name);
    let folder = tempfile::tempdir().unwrap();
    if is_asked("quick") {
        quick(folder.path(), by);
    }
    if is_asked("png") {
        pngs(folder.path(), by);
    }
    if is_asked("exr") {
        let frames = exrs(folder.path(), 300 / by);
        let times =
            pair(|| frames.iter().for_each(|path| seen(path)), || frames.iter().for_each(|path| inflate_exr(path)));
        told(&format!("deep look at {} EXR ZIP half 1280x720", frames.len()), "read and inflate every chunk", times);
    }
    if is_asked("jpeg") {
        jpegs(folder.path(), by);
    }
}

fn quick(base: &Path, by: u32) {
    let small: Vec<PathBuf> = (0..20_000 / by).map(|frame| base.join(format!("small{frame}.png"))).collect();
    let bytes = {
        png(&base.join("one.png"), (640, 360), &pixels(640, 360, 1));
        std::fs::read(base.join("one.png")).unwrap()
    };
    small.par_iter().for_each(|path| std::fs::write(path, &bytes).unwrap());
    let times = pair(
        || small.par_iter().for_each(|path| assert!(matches!(probe(path), Ok(Seen::Whole(_))))),
        || small.par_iter().for_each(|path| bare(path)),
    );
    told(&format!("quick look at {} PNG, all threads", small.len()), "open, fstat, read head and tail", times);
    small.par_iter().for_each(|path| std::fs::remove_file(path).unwrap());
}

fn pngs(base: &Path, by: u32) {
    let large: Vec<PathBuf> = (0..1000 / by).map(|frame| base.join(format!("large{frame}.png"))).collect();
    large.par_iter().enumerate().for_each(|(at, path)| png(path, (640, 360), &pixels(640, 360, at as u32)));
    let deep = format!("deep look at {} PNG 640x360 RGBA, one thread", large.len());
    let times = pair(|| large.iter().for_each(|path| seen(path)), || large.iter().for_each(|path| inflate_png(path)));
    told(&deep, "read, CRC and inflate", times);
    let check = || {
        let status =
            Command::new("pngcheck").arg("-q").args(&large).stdout(Stdio::null()).stderr(Stdio::null()).status();
        assert!(status.unwrap().success());
    };
    if Command::new("pngcheck").output().is_ok() {
        told(&deep, "pngcheck -q", pair(|| large.iter().for_each(|path| seen(path)), check));
    }
}

fn jpegs(base: &Path, by: u32) {
    let jpegs: Vec<PathBuf> = (0..1000 / by).map(|frame| base.join(format!("{frame}.jpg"))).collect();
    jpegs.par_iter().enumerate().for_each(|(at, path)| {
        let data: Vec<u8> = pixels(640, 360, at as u32).chunks(4).flat_map(|own| [own[0], own[1], own[2]]).collect();
        let encoder = jpeg_encoder::Encoder::new_file(path, 90).unwrap();
        encoder.encode(&data, 640, 360, jpeg_encoder::ColorType::Rgb).unwrap();
    });
    let decode = |path: &PathBuf| {
        let bytes = std::io::Cursor::new(std::fs::read(path).unwrap());
        black_box(zune_jpeg::JpegDecoder::new(bytes).decode().unwrap().len());
    };
    let times = pair(|| jpegs.iter().for_each(|path| seen(path)), || jpegs.iter().for_each(decode));
    told(&format!("deep look at {} JPEG 640x360", jpegs.len()), "a decoder alone", times);
}
