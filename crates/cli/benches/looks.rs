//! A contact sheet of a thousand OpenEXR frames of 1280x720 beside `ffmpeg` and `montage` making the same of the same files; a
//! comparison of a thousand pairs beside `ffmpeg` decoding both sides. With the most memory of each. Run with
//! `cargo bench --bench looks`; a number after `--` sets how many frames there are.
#![allow(clippy::unwrap_used)]

mod support;

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use support::{PROGRAM, timed};

/// Frames that differ; there are more names than that.
const FRAMES: usize = 48;

fn is_there(program: &str) -> bool {
    Command::new(program).arg("-version").stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok()
}

fn told(what: &str, (took, memory): (Duration, u64), count: usize) {
    let speed = count as f64 / took.as_secs_f64();
    println!("  {what:24} {:6.1} s  {speed:5.0} a second  {:6.0} MB", took.as_secs_f64(), memory as f64 / 1e6);
}

fn ours(words: &[&str], folder: &Path) -> (Duration, u64) {
    let mut command = Command::new(PROGRAM);
    command.args(words).current_dir(folder);
    timed(command)
}

fn main() {
    let count: usize = std::env::args().skip(1).find_map(|word| word.parse().ok()).unwrap_or(1000);
    let folder = tempfile::tempdir().unwrap();
    for (name, samples) in [("a", "1"), ("b", "2")] {
        let inner = folder.path().join(name);
        std::fs::create_dir(&inner).unwrap();
        support::pictures(
            &inner,
            "x.####.exr",
            FRAMES,
            &["--bits", "half", "--channels", "rgba", "--samples", samples],
        );
        let name = |frame: usize| inner.join(format!("x.{frame:04}.exr"));
        for frame in FRAMES + 1..=count {
            std::fs::hard_link(name((frame - 1) % FRAMES + 1), name(frame)).unwrap();
        }
    }
    let cores = std::thread::available_parallelism().unwrap();
    println!("contact sheet of {count} OpenEXR frames of 1280x720, half, {cores} cores");
    for _ in 0..2 {
        let words = ["contact", "a/x.{frame:4}.exr", "-o", "ours.png", "--columns", "14", "--replace"];
        told("truepath contact", ours(&words, folder.path()), count);
        if is_there("ffmpeg") {
            let mut command = Command::new("ffmpeg");
            let tiles = format!("scale=82:46:flags=area,tile=14x{}", count.div_ceil(14));
            command.args(["-v", "error", "-y", "-apply_trc", "iec61966_2_1", "-i", "a/x.%04d.exr"]);
            command
                .args(["-vf", &tiles, "-frames:v", "1", "-pix_fmt", "rgb24", "theirs.png"])
                .current_dir(folder.path());
            told("ffmpeg, tile", timed(command), count);
        }
    }
    if is_there("montage") {
        // It holds all pictures at once: a hundred are enough to know its speed.
        let count = count.min(100);
        let files = (1..=count).map(|frame| format!("a/x.{frame:04}.exr"));
        let mut command = Command::new("montage");
        command.args(files).args(["-resize", "82x46", "-tile", "14x", "-geometry", "+8+18", "montage.png"]);
        command.current_dir(folder.path());
        told("montage", timed(command), count);
    }
    println!("comparison of {count} pairs of them that differ");
    for _ in 0..2 {
        told("truepath compare", ours(&["compare", "a", "b", "--tolerance", "1000"], folder.path()), count);
        if is_there("ffmpeg") {
            let mut command = Command::new("ffmpeg");
            command.args([
                "-v",
                "error",
                "-i",
                "a/x.%04d.exr",
                "-i",
                "b/x.%04d.exr",
                "-lavfi",
                "psnr",
                "-f",
                "null",
                "-",
            ]);
            command.current_dir(folder.path());
            told("ffmpeg, psnr", timed(command), count);
        }
    }
}
