//! What is written is read back as it was meant, and no damage to it makes the reader fall or wait.
#![allow(clippy::unwrap_used)]

use std::path::Path;

use truepath_core::catalogue::{AsWritten, Bits, Chroma, Codec, codecs};
use truepath_core::frames::{Frames, Timecode};
use truepath_core::sheet::{Backdrop, Colour, Format, Fps};
use truepath_core::source::{FileId, Place, Spanned};
use truepath_core::template::{Lookup, Pattern, Template, Value, expand};
use truepath_core::verify::{Footage, Seen};
use truepath_movie::sound::Sound;
use truepath_movie::{FrameSource, MovieKind, WantedMovie, write};
use truepath_pictures::conversion::Conversion;

fn pattern(folder: &Path) -> Pattern {
    let template = Template::parse(&format!("{}/f.{{frame:4}}.png", folder.display())).unwrap();
    let value = |name: &str| if name == "frame" { Lookup::Value(Value::Frame) } else { Lookup::Unknown };
    expand(&template, &value).0
}

/// Pictures of 32x18 pixels in a grey of their own.
fn pictures(folder: &Path, count: i64) {
    for frame in 1..=count {
        let file = std::fs::File::create(folder.join(format!("f.{frame:04}.png"))).unwrap();
        let mut encoder = png::Encoder::new(file, 32, 18);
        encoder.set_color(png::ColorType::Rgb);
        let grey = (frame * 5 % 256) as u8;
        encoder.write_header().unwrap().write_image_data(&vec![grey; 32 * 18 * 3]).unwrap();
    }
}

fn movie(folder: &Path, name: &str, fps: Fps, count: i64) -> WantedMovie {
    let numbers = Frames::range(1, count);
    let source = FrameSource { pattern: pattern(folder), span: numbers.clone(), numbers, layer: None, colour: None };
    let over = Backdrop::Colour([0; 3]);
    WantedMovie {
        sources: vec![source],
        out: folder.join(name),
        conversion: Conversion { colour: Colour::Display, over, alpha: false, deep: false, size: None, stops: 0.0 },
        burn: None,
        fps,
        start: Timecode::parse("01:00:00:00", fps.frames.div_ceil(fps.seconds)),
    }
}

fn made(folder: &Path, (name, codec): (&str, &'static Codec), fps: Fps, sound: Option<&Sound>, count: i64) -> Footage {
    let movie = movie(folder, name, fps, count);
    let format = Format::named(Spanned::new(String::new(), Place::new(FileId(0), 0..0)));
    let container = name.rsplit('.').next().unwrap();
    write(&movie, MovieKind { container, codec, format: &format, sound }, &|_| {}).unwrap();
    match truepath_media::movie::probe(&movie.out).unwrap() {
        Seen::Movie(footage) => *footage,
        other => panic!("{name}: {other:?}"),
    }
}

fn kinds() -> Vec<(&'static str, &'static Codec)> {
    let all =
        [("a.mp4", &codecs::H264), ("b.mov", &codecs::H264), ("c.mov", &codecs::MJPEG), ("d.avi", &codecs::MJPEG)];
    all.into_iter().filter(|(_, codec)| truepath_movie::built_in().contains(codec)).collect()
}

#[test]
fn every_rate_length_and_sound_is_read_back() {
    let folder = tempfile::tempdir().unwrap();
    pictures(folder.path(), 101);
    for (at, (frames, seconds)) in [(24, 1), (25, 1), (24_000, 1001), (60, 1), (1, 2)].into_iter().enumerate() {
        let fps = Fps::new(frames, seconds).unwrap();
        for (name, codec) in kinds() {
            // One frame, a part and one more, several parts.
            let count = [1, 49, 101, 48, 2][at];
            let hertz = [8000, 96_000, 44_100, 192_000, 48_000][at];
            let moments = (f64::from(count as i32) / fps.value() * f64::from(hertz)).round() as usize;
            let bits = if at % 2 == 0 { 16 } else { 24 };
            let sound = Sound { rate: hertz, channels: 2, bits, samples: vec![1000; moments * 2] };
            let sound = Some(&sound).filter(|_| !name.ends_with("mp4"));
            let footage = made(folder.path(), (name, codec), fps, sound, count);
            let container = name.rsplit('.').next().unwrap();
            assert_eq!((footage.container, footage.codec), (container, AsWritten::Known(codec)), "{name}");
            assert_eq!((footage.frames, footage.fps), (count as u64, Some(fps)), "{name}");
            assert_eq!((footage.width, footage.height, footage.chroma), (32, 18, Some(Chroma::C420)), "{name}");
            assert_eq!((footage.bits, footage.alpha), (Some(Bits::Eight), Some(false)), "{name}");
            if container != "avi" {
                assert_eq!(footage.timecode.as_deref(), Some("01:00:00:00"), "{name}");
            }
            let heard = footage
                .sound
                .map(|sound| (sound.codec, sound.rate, sound.channels, (sound.seconds * f64::from(hertz)).round()));
            assert_eq!(heard, sound.map(|_| (AsWritten::Known(&codecs::PCM), hertz, 2, moments as f64)), "{name}");
        }
    }
}

#[test]
fn two_times_the_same_bytes() {
    let folder = tempfile::tempdir().unwrap();
    pictures(folder.path(), 120);
    for (name, codec) in kinds() {
        let bytes = || {
            made(folder.path(), (name, codec), Fps::new(24, 1).unwrap(), None, 120);
            std::fs::read(folder.path().join(name)).unwrap()
        };
        assert!(bytes() == bytes(), "{name}");
    }
}

/// Numbers without a pattern that anybody would notice (xorshift).
fn next(state: &mut u64) -> usize {
    *state ^= *state << 13;
    *state ^= *state >> 7;
    *state ^= *state << 17;
    *state as usize
}

/// A file of which nothing can be read from some place on.
struct Failing {
    file: std::io::Cursor<Vec<u8>>,
    from: u64,
}

impl std::io::Read for Failing {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let room = usize::try_from(self.from.saturating_sub(self.file.position())).unwrap();
        if room == 0 {
            return Err(std::io::Error::from_raw_os_error(5));
        }
        let most = buffer.len().min(room);
        self.file.read(&mut buffer[..most])
    }
}

impl std::io::Seek for Failing {
    fn seek(&mut self, to: std::io::SeekFrom) -> std::io::Result<u64> {
        self.file.seek(to)
    }
}

#[test]
fn a_read_that_fails_is_no_damage_wherever_it_fails() {
    let folder = tempfile::tempdir().unwrap();
    pictures(folder.path(), 12);
    let sound = Sound { rate: 8000, channels: 1, bits: 16, samples: vec![7; 4000] };
    let mut movies: Vec<Vec<u8>> = Vec::new();
    for (name, codec) in kinds() {
        let sound = Some(&sound).filter(|_| !name.ends_with("mp4"));
        made(folder.path(), (name, codec), Fps::new(24, 1).unwrap(), sound, 12);
        movies.push(std::fs::read(folder.path().join(name)).unwrap());
    }
    // Matroska is written by others.
    let out = folder.path().join("other.mkv");
    let made = std::process::Command::new("ffmpeg")
        .args(["-v", "error", "-f", "lavfi", "-i", "testsrc=size=64x36:rate=24:duration=0.5", "-c:v", "ffv1"])
        .arg(&out)
        .status();
    match made {
        Ok(status) if status.success() => movies.push(std::fs::read(&out).unwrap()),
        _ => eprintln!("SKIPPED: no Matroska file, since ffmpeg is not on this machine"),
    }
    for bytes in movies {
        let length = bytes.len() as u64;
        let seen = |from| {
            let file = Failing { file: std::io::Cursor::new(bytes.clone()), from };
            truepath_media::movie::probe_from(file, length)
        };
        let whole = seen(length + 1).unwrap();
        assert!(matches!(whole, Seen::Movie(_)), "{whole:?}");
        let step = (bytes.len() / 400).max(1);
        let places = (0..bytes.len().min(600)).chain((0..bytes.len()).step_by(step));
        for from in places {
            match seen(from as u64) {
                Err(error) => assert_eq!(error.raw_os_error(), Some(5)),
                Ok(seen) => assert_eq!(seen, whole, "from {from} of {length}"),
            }
        }
    }
}

#[test]
fn no_damage_makes_the_reader_fall_or_wait() {
    let folder = tempfile::tempdir().unwrap();
    pictures(folder.path(), 60);
    let rounds = if std::env::var("TRUEPATH_TORTURE").is_ok_and(|size| size == "full") { 5000 } else { 300 };
    let sound = Sound { rate: 8000, channels: 1, bits: 16, samples: vec![7; 20_000] };
    let mut state = 0x9e37_79b9_7f4a_7c15;
    for (name, codec) in kinds() {
        let sound = Some(&sound).filter(|_| !name.ends_with("mp4"));
        made(folder.path(), (name, codec), Fps::new(24, 1).unwrap(), sound, 60);
        let whole = std::fs::read(folder.path().join(name)).unwrap();
        let hurt = folder.path().join(format!("hurt.{name}"));
        // Heads and tables are where damage tells; they lie at the ends.
        let near = |state: &mut u64| match next(state) % 3 {
            0 => next(state) % whole.len(),
            1 => next(state) % whole.len().min(3000),
            _ => whole.len() - 1 - next(state) % whole.len().min(3000),
        };
        for _ in 0..rounds {
            let mut bytes = whole.clone();
            for _ in 0..1 + next(&mut state) % 4 {
                let at = near(&mut state);
                bytes[at] = match next(&mut state) % 3 {
                    0 => 0xff,
                    1 => 0,
                    _ => next(&mut state) as u8,
                };
            }
            if next(&mut state).is_multiple_of(4) {
                bytes.truncate(near(&mut state));
            }
            std::fs::write(&hurt, bytes).unwrap();
            truepath_media::movie::probe(&hurt).unwrap();
        }
    }
}
