//! Ten thousand calls of a renderer for one tiny frame each, beside `xargs -P2 -n1` starting the same program; and the
//! start of a run on a million frames that are all there. Run with `cargo bench --bench calls`; a number after `--` sets
//! how many calls are made.
#![allow(clippy::unwrap_used)]

use std::fmt::Write as _;
use std::io::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use truepath_understudy::harbour;

const PROGRAM: &str = env!("CARGO_BIN_EXE_truepath");

fn sheet(frames: usize) -> String {
    format!(
        "sheet = 1\n[roots]\nrenders = \"renders\"\n[defaults]\nadapter = \"understudy\"\nfps = 24\nsize = \"16x9\"\nsamples = 1\n\
         threads = 1\npath = \"{{renders}}/{{job}}/{{job}}.{{frame:7}}.png\"\n[[job]]\nname = \"crossing\"\n\
         scene = \"scenes/crossing.gltf\"\ncamera = \"quay\"\nframes = \"1-{frames}\"\n[checks]\n\
         frames-outside-scene = \"off\"\nscene-span-not-covered = \"off\"\n[run]\nchunk = 1\nworkers = 2\n"
    )
}

fn project(frames: usize) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    std::fs::create_dir(folder.path().join("scenes")).unwrap();
    for (name, bytes) in harbour::scenes() {
        std::fs::write(folder.path().join("scenes").join(name), bytes).unwrap();
    }
    std::fs::write(folder.path().join("truepath.toml"), sheet(frames)).unwrap();
    folder
}

fn timed(mut command: Command) -> Duration {
    let began = Instant::now();
    assert!(command.stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap().success());
    began.elapsed()
}

/// `truepath run`: log, landing and journal included.
fn ours(frames: usize, kept: &mut Vec<tempfile::TempDir>) -> Duration {
    let folder = project(frames);
    let mut command = Command::new(PROGRAM);
    command.arg("run").current_dir(folder.path());
    // What one round leaves is not removed under the next: file systems are slow after that.
    kept.push(folder);
    timed(command)
}

/// The same program for the same frames, two at a time, straight to the final names and to a log each.
fn xargs(frames: usize, kept: &mut Vec<tempfile::TempDir>) -> Duration {
    let folder = project(frames);
    let at = |name: &str| folder.path().join(name).display().to_string();
    std::fs::create_dir_all(at("out")).unwrap();
    let mut list = String::new();
    (1..=frames).for_each(|frame| writeln!(list, "{frame}").unwrap());
    std::fs::write(at("list"), list).unwrap();
    let mut command = Command::new("xargs");
    command.args(["-P2", "-n1", PROGRAM, "understudy", "render", &at("scenes/crossing.gltf"), "--camera", "quay"]);
    command.args(["--size", "16x9", "--samples", "1", "--threads", "1", "--fps", "24"]);
    command.args(["--pass", &format!("beauty={}", at("out/crossing.#######.png")), "--frames"]);
    command.stdin(std::fs::File::open(at("list")).unwrap());
    kept.push(folder);
    timed(command)
}

/// A folder of landed frames with its journal, as a run leaves it.
fn million(frames: usize) -> tempfile::TempDir {
    let folder = project(frames);
    let first = Command::new(PROGRAM).args(["run", "--frames", "1"]).current_dir(folder.path()).output().unwrap();
    assert!(first.status.success());
    let journal = folder.path().join(".truepath/truepath/journal");
    let journal = std::fs::read_dir(journal).unwrap().next().unwrap().unwrap().path();
    let landed = std::fs::read_to_string(&journal).unwrap();
    let landed = landed.lines().find(|line| line.contains("\"landed\"")).unwrap().to_owned();
    let mut out = std::io::BufWriter::new(std::fs::File::options().append(true).open(&journal).unwrap());
    let name = |frame: usize| folder.path().join(format!("renders/crossing/crossing.{frame:07}.png"));
    let bytes = std::fs::read(name(1)).unwrap();
    for frame in 2..=frames {
        std::fs::write(name(frame), &bytes).unwrap();
        writeln!(out, "{}", landed.replace("\"frame\":1,", &format!("\"frame\":{frame},"))).unwrap();
    }
    out.flush().unwrap();
    folder
}

/// Seconds and the most memory of one call, in MB.
fn measured(folder: &Path, words: &[&str]) -> (Duration, f64) {
    let began = Instant::now();
    let out = Command::new("/usr/bin/env")
        .args(["time", "-f", "%M", PROGRAM])
        .args(words)
        .current_dir(folder)
        .output()
        .unwrap();
    let took = began.elapsed();
    let said = String::from_utf8_lossy(&out.stderr).into_owned();
    assert!(out.status.success(), "{said}");
    let memory = said.lines().last().and_then(|line| line.trim().parse::<f64>().ok()).unwrap_or(f64::NAN);
    (took, memory / 1024.0)
}

fn main() {
    let asked = std::env::args().skip(1).find_map(|word| word.parse().ok());
    let calls = asked.unwrap_or(10_000usize);
    // Turn and turn about, so that neither has the quieter machine.
    let mut kept = Vec::new();
    let mut pairs: Vec<(Duration, Duration)> =
        (0..3).map(|_| (ours(calls, &mut kept), xargs(calls, &mut kept))).collect();
    pairs.sort_by(|a, b| (a.0.as_secs_f64() / a.1.as_secs_f64()).total_cmp(&(b.0.as_secs_f64() / b.1.as_secs_f64())));
    let each = |time: Duration| time.as_secs_f64() * 1e3 / calls as f64;
    println!("{calls} calls of one frame each, two at a time (three rounds, the middle one):");
    let (own, other) = pairs[1];
    println!("  truepath run, with log, landing and journal   {:>7.3} ms a call", each(own));
    println!("  xargs -P2 -n1, the program alone              {:>7.3} ms a call", each(other));
    println!("  {:.3} x (all rounds: {})", own.as_secs_f64() / other.as_secs_f64(), {
        let all = pairs.iter().map(|(own, other)| format!("{:.3}", own.as_secs_f64() / other.as_secs_f64()));
        all.collect::<Vec<_>>().join(", ")
    });
    let frames = if asked.is_some() { 100_000 } else { 1_000_000 };
    let folder = million(frames);
    println!("{frames} frames that are all there (three times, the middle one):");
    for words in [&["run"][..], &["status"], &["check"]] {
        let mut times: Vec<(Duration, f64)> = (0..3).map(|_| measured(folder.path(), words)).collect();
        times.sort_by_key(|(took, _)| *took);
        let (took, memory) = times[1];
        println!("  truepath {:<7} {:>7.2} s   {memory:>6.0} MB", words.join(" "), took.as_secs_f64());
    }
}
