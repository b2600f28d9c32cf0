//! A movie of 1280x720 from PNG frames with the encoder in the box, beside `ffmpeg` doing the same with its fastest setting;
//! and how much memory a movie of a hundred frames takes beside one of ten thousand. Run with `cargo bench --bench movies`; a
//! number after `--` sets how many frames the long one has.
#![allow(clippy::unwrap_used)]

mod support;

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use support::{PROGRAM, timed};

/// Frames that differ; longer movies show them again.
const FRAMES: usize = 96;

/// Renders the frames, and gives each so many names more that there are `count`.
fn pictures(folder: &Path, count: usize) {
    let options = ["--channels", "rgb", "--samples", "4"];
    support::pictures(folder, "f.######.png", FRAMES, &options);
    let name = |frame: usize| folder.join(format!("f.{frame:06}.png"));
    for frame in FRAMES + 1..=count {
        std::fs::hard_link(name((frame - 1) % FRAMES + 1), name(frame)).unwrap();
    }
}

fn ours(folder: &Path, frames: usize) -> (Duration, u64) {
    let (pattern, out) = (format!("{}/f.{{frame:6}}.png", folder.display()), folder.join("ours.mp4"));
    let mut command = Command::new(PROGRAM);
    command.args([
        "movie",
        &pattern,
        "--fps",
        "24",
        "--quality",
        "60",
        "--replace",
        "--frames",
        &format!("1-{frames}"),
    ]);
    command.arg("-o").arg(out);
    timed(command)
}

fn ffmpeg(folder: &Path, frames: usize) -> (Duration, u64) {
    let (pattern, out) = (format!("{}/f.%06d.png", folder.display()), folder.join("theirs.mp4"));
    let mut command = Command::new("ffmpeg");
    command.args(["-v", "error", "-y", "-framerate", "24", "-i", &pattern, "-frames:v", &frames.to_string()]);
    command.args(["-c:v", "libx264", "-preset", "ultrafast", "-crf", "20", "-pix_fmt", "yuv420p"]).arg(out);
    timed(command)
}

fn main() {
    let long = std::env::args().skip(1).find_map(|word| word.parse().ok()).unwrap_or(10_000);
    let folder = tempfile::tempdir().unwrap();
    pictures(folder.path(), long.max(960));
    let speed = |frames: usize, took: Duration| frames as f64 / took.as_secs_f64();
    let here =
        Command::new("ffmpeg").arg("-version").stdout(Stdio::null()).status().is_ok_and(|status| status.success());
    println!("1280x720 PNG to H.264 in MP4, 960 frames, {} cores", std::thread::available_parallelism().unwrap());
    for _ in 0..3 {
        let own = ours(folder.path(), 960).0;
        let other = here.then(|| ffmpeg(folder.path(), 960).0);
        let beside = other.map(|took| format!(", ffmpeg {:.0} a second", speed(960, took))).unwrap_or_default();
        println!("  {:.0} frames a second{beside}", speed(960, own));
    }
    for frames in [100, long] {
        let (took, memory) = ours(folder.path(), frames);
        println!("  {frames} frames: {:.0} MB at most, {:.1} s", memory as f64 / 1e6, took.as_secs_f64());
    }
}
