//! What benches of whole programs share: pictures of the harbour, and a program with its time and its memory.

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use truepath_understudy::harbour;

/// The program.
pub const PROGRAM: &str = env!("CARGO_BIN_EXE_truepath");

/// Renders frames of the harbour in 1280x720; in `name`, `#` stand for the digits of the frame.
pub fn pictures(folder: &Path, name: &str, frames: usize, options: &[&str]) {
    for (name, bytes) in harbour::scenes() {
        std::fs::write(folder.join(name), bytes).unwrap();
    }
    let frames = format!("1-{frames}");
    let pass = format!("beauty={}/{name}", folder.display());
    let words =
        ["understudy", "render", "crossing.gltf", "--camera", "quay", "--frames", &frames, "--size", "1280x720"];
    let mut command = Command::new(PROGRAM);
    command.args(words).args(options).args(["--pass", &pass]).current_dir(folder);
    assert!(command.stdout(Stdio::null()).status().unwrap().success());
}

/// How long a program takes, and the most memory it had, in bytes.
pub fn timed(mut command: Command) -> (Duration, u64) {
    let began = Instant::now();
    let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let status = format!("/proc/{}/status", child.id());
    let mut most = 0;
    while child.try_wait().unwrap().is_none() {
        let text = std::fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:")?.trim().strip_suffix("kB"));
        most = most.max(line.and_then(|kilobytes| kilobytes.trim().parse::<u64>().ok()).unwrap_or(0) * 1024);
        std::thread::sleep(Duration::from_millis(5));
    }
    assert!(child.wait().unwrap().success());
    (began.elapsed(), most)
}
