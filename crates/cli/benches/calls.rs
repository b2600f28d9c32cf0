//! Ten thousand calls for one tiny frame each, of the renderer that comes with True Path and of a shell script that copies a picture,
//! beside `xargs -P2` starting the same programs; and the start of a run on a million frames that are all there. Run with
//! `cargo bench --bench calls`; a number after `--` sets how many calls are made.
#![allow(clippy::unwrap_used)]

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

/// Seconds by the clock, and of the processor, of a program and all that it starts.
#[derive(Clone, Copy)]
struct Took {
    clock: f64,
    processor: f64,
}

fn timed(command: &Command) -> Took {
    let began = Instant::now();
    let mut timed = Command::new("/usr/bin/env");
    timed.args(["time", "-f", "%U %S"]).arg(command.get_program()).args(command.get_args());
    timed.current_dir(command.get_current_dir().unwrap()).stdout(Stdio::null());
    let out = timed.output().unwrap();
    let clock = began.elapsed().as_secs_f64();
    let said = String::from_utf8_lossy(&out.stderr).into_owned();
    assert!(out.status.success(), "{said}");
    let seconds =
        said.lines().last().unwrap_or_default().split_whitespace().filter_map(|word| word.parse::<f64>().ok());
    Took { clock, processor: seconds.sum() }
}

/// A shell script that copies a picture to the name that it is given, in place of a renderer.
fn stub(folder: &Path) -> String {
    let at = |name: &str| folder.join(name);
    std::fs::create_dir_all(at("bin")).unwrap();
    std::fs::create_dir_all(at("adapters")).unwrap();
    let mut made = Command::new(PROGRAM);
    made.args([
        "understudy",
        "render",
        "scenes/crossing.gltf",
        "--frames",
        "1",
        "--size",
        "16x9",
        "--channels",
        "rgba",
    ]);
    made.args(["--pass", "beauty=picture.png"]).current_dir(folder);
    assert!(made.output().unwrap().status.success());
    let (program, picture) = (at("bin/draw"), at("picture.png"));
    std::fs::write(&program, format!("#!/bin/sh\ncp '{}' \"$1\"\n", picture.display())).unwrap();
    let mut allowed = std::fs::metadata(&program).unwrap().permissions();
    std::os::unix::fs::PermissionsExt::set_mode(&mut allowed, 0o755);
    std::fs::set_permissions(&program, allowed).unwrap();
    let adapter = "adapter = 1\nname = \"stub\"\nkind = \"renderer\"\nprogram = \"bin/draw\"\narguments = [\"{out}\", \"{scene}\", \"{camera}\", \"{width}x{height}\", \"{fps}\", \"{frame}\"]\n[frames]\nper = \"frame\"\n[out]\nnumber = \"none\"\n";
    std::fs::write(at("adapters/stub.toml"), adapter).unwrap();
    let sheet = std::fs::read_to_string(at("truepath.toml")).unwrap();
    let sheet = sheet.replace("\"understudy\"", "\"stub\"").replace("samples = 1\nthreads = 1\n", "");
    std::fs::write(at("truepath.toml"), sheet.replace("[checks]", "[checks]\npicture-repeated = \"off\"")).unwrap();
    program.display().to_string()
}

/// `truepath run`: log, landing and journal included.
fn ours(frames: usize, is_stub: bool, kept: &mut Vec<tempfile::TempDir>) -> Took {
    let folder = project(frames);
    if is_stub {
        stub(folder.path());
    }
    let mut command = Command::new(PROGRAM);
    command.arg("run").current_dir(folder.path());
    // What one round leaves is not removed under the next: file systems are slow after that.
    kept.push(folder);
    timed(&command)
}

/// The same program for the same frames, two at a time, straight to the final names; with `logs` to a log each.
fn xargs(frames: usize, (is_stub, logs): (bool, bool), kept: &mut Vec<tempfile::TempDir>) -> Took {
    let folder = project(frames);
    let at = |name: &str| folder.path().join(name).display().to_string();
    std::fs::create_dir_all(at("out")).unwrap();
    let call = match is_stub {
        true => format!("{} '{}' scene camera 16x9 24 {{}}", stub(folder.path()), at("out/crossing.{}.png")),
        false => format!(
            "{PROGRAM} understudy render '{}' --camera quay --size 16x9 --samples 1 --threads 1 --fps 24 --pass 'beauty={}' --frames {{}}",
            at("scenes/crossing.gltf"),
            at("out/crossing.#######.png")
        ),
    };
    let words = match logs {
        true => format!("sh -c \"{call} > {} 2>&1\"", at("out/{}.log")),
        false => call,
    };
    let mut command = Command::new("sh");
    command.args(["-c", &format!("seq {frames} | xargs -P2 -I{{}} {words}")]).current_dir(folder.path());
    kept.push(folder);
    timed(&command)
}

/// Our own calls beside those of xargs, turn and turn about, so that neither has the quieter machine.
fn beside(calls: usize, is_stub: bool, logs: bool, kept: &mut Vec<tempfile::TempDir>) {
    let mut pairs: Vec<(Took, Took)> =
        (0..3).map(|_| (ours(calls, is_stub, kept), xargs(calls, (is_stub, logs), kept))).collect();
    let ratio = |(own, other): &(Took, Took)| own.clock / other.clock;
    pairs.sort_by(|a, b| ratio(a).total_cmp(&ratio(b)));
    let each = |seconds: f64| seconds * 1e3 / calls as f64;
    let (own, other) = pairs[1];
    let what = if logs { ", to a log each" } else { "" };
    println!("  truepath run, with log, landing and journal   {:>7.3} ms a call", each(own.clock));
    println!("  xargs -P2, the program alone{what:<17} {:>7.3} ms a call", each(other.clock));
    println!(
        "  {:.3} x (all rounds: {}); of the processor {:.2} ms a call more",
        ratio(&pairs[1]),
        pairs.iter().map(|pair| format!("{:.3}", ratio(pair))).collect::<Vec<_>>().join(", "),
        each(own.processor - other.processor)
    );
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
    let mut kept = Vec::new();
    println!("{calls} calls of one frame each, two at a time (three rounds, the middle one):");
    beside(calls, false, false, &mut kept);
    println!("the same of a shell script that copies a picture:");
    beside(calls, true, false, &mut kept);
    beside(calls, true, true, &mut kept);
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
