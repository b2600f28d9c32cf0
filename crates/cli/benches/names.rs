//! Ten million names, and a plan of ten thousand jobs, beside what a person would otherwise use. Run with `cargo bench`.
//!
//! Every row is the median of several runs in this process's own run; all writers write to the same sink, `/dev/null`.
#![allow(clippy::unwrap_used)]

#[path = "../../core/tests/suite/support/mod.rs"]
#[expect(dead_code, reason = "the tests of the core use all of it")]
mod support;

use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

const HEAD: &str = "sheet = 1\n[roots]\nrenders = \"renders\"\n[formats.master]\ntype = \"exr\"\n[defaults]\nfps = 24\nsize = \"320x180\"\nformat = \"master\"\n\
    passes = [\"beauty\", \"depth\", \"normal\", \"mask\", \"position\", \"motion\", \"uv\", \"id\"]\nversion = 1\n\
    path = \"{renders}/{shot}/{version}/{pass}/{shot}_{camera}_{pass}_{version}.{frame:4}.{ext}\"\n";

fn sheet(jobs: usize, frames: &str) -> String {
    let job = |at: usize| {
        format!(
            "[[job]]\nname = \"job{at}\"\nscene = \"harbour.gltf\"\ncamera = \"c{}\"\nvars.shot = \"nf{at:05}\"\n",
            at % 7
        )
    };
    format!("{HEAD}frames = \"{frames}\"\n{}", (0..jobs).map(job).collect::<String>())
}

fn median(runs: usize, mut once: impl FnMut()) -> Duration {
    let mut times: Vec<Duration> = (0..runs)
        .map(|_| {
            let began = Instant::now();
            once();
            began.elapsed()
        })
        .collect();
    times.sort();
    times[runs / 2]
}

fn row(name: &str, time: Duration, base: Duration) {
    println!("{name:<58} {:>9.1} ms   {:>7.2} x", time.as_secs_f64() * 1e3, time.as_secs_f64() / base.as_secs_f64());
}

fn run(program: &str, words: &[&str]) {
    let status = Command::new(program).args(words).stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap();
    assert!(status.code().is_some_and(|code| code < 2), "{program}: {status}");
}

/// The loop that a person would write by hand, compiled as that person would: this bench itself may be unoptimised.
fn by_hand(folder: &std::path::Path) -> String {
    let program = folder.join("by-hand").display().to_string();
    let source = concat!(env!("CARGO_MANIFEST_DIR"), "/benches/support/by_hand.rs");
    run("rustc", &["-O", "--edition", "2024", "-o", &program, source]);
    program
}

fn names(folder: &std::path::Path) {
    std::fs::write(folder.join("names.toml"), sheet(125, "1-10000")).unwrap();
    let prefix = folder.display().to_string();
    let sheet = folder.join("names.toml").display().to_string();
    println!("\n10,000,000 names of 1,000 series");
    let by_hand = by_hand(folder);
    let hand = median(5, || run(&by_hand, &[&prefix]));
    row("a loop written by hand in Rust, 64 KiB buffer", hand, hand);
    row(
        "truepath names --all (start, sheet and plan included)",
        median(5, || run(env!("CARGO_BIN_EXE_truepath"), &["names", "--all", "-f", &sheet])),
        hand,
    );
    let python = format!(
        "import sys\nfor s in range(100):\n  for f in range(1, 10001):\n    sys.stdout.write('{{}}/renders/nf{{:05}}/v001/beauty/nf{{:05}}_c1_beauty_v001.{{:04}}.exr\\n'.format({prefix:?}, s, s, f))\n"
    );
    row(
        "Python, str.format (measured on a tenth, times ten)",
        median(3, || run("python3", &["-c", &python])) * 10,
        hand,
    );
    let format = format!("{prefix}/renders/nf00001/v001/beauty/nf00001_c1_beauty_v001.%04.0f.exr");
    row("seq -f", median(3, || run("seq", &["-f", &format, "10000000"])), hand);
}

fn peak() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    status
        .lines()
        .find_map(|line| line.strip_prefix("VmHWM:"))
        .and_then(|rest| rest.split_whitespace().next()?.parse().ok())
        .unwrap_or(0)
}

fn planning() {
    println!("\na plan of 10,000 jobs, 8 passes, 1,000,000 frames each");
    let text = sheet(10_000, "1-1000000");
    let time = median(3, || {
        let (plan, _) = support::planned(&text);
        assert_eq!(plan.series.len(), 80_000);
    });
    row("sheet text to plan", time, time);
    println!("peak memory of this process so far: {} MB", peak() / 1024);
}

fn one_mistake(folder: &std::path::Path) {
    println!("\na sheet of 5,000 jobs with one mistake");
    let text = sheet(5000, "1-96")
        .replace("name = \"job4321\"", "name = \"job4321\"\nsampels = 3")
        .replace(", \"normal\", \"mask\", \"position\", \"motion\", \"uv\", \"id\"", "");
    std::fs::write(folder.join("mistake.toml"), text).unwrap();
    let sheet = folder.join("mistake.toml").display().to_string();
    let time = median(5, || run(env!("CARGO_BIN_EXE_truepath"), &["check", "--offline", "-f", &sheet]));
    row("truepath check --offline", time, time);
}

/// A hundred thousand calls of one frame each, as scripts and as JSON; beside it a loop of a shell that does no more than print
/// such a line, which is what a person would write.
fn building(folder: &std::path::Path) {
    println!("\nthe command lines of 100,000 calls of one frame each");
    let text = "sheet = 1\n[roots]\nrenders = \"renders\"\n[defaults]\nadapter = \"understudy\"\nfps = 24\nsize = \"320x180\"\n\
        path = \"{renders}/{job}/{job}_{pass}.{frame:7}.png\"\n[[job]]\nname = \"crossing\"\nscene = \"harbour.gltf\"\n\
        camera = \"quay\"\nframes = \"1-100000\"\n[run]\nchunk = 1\n";
    std::fs::write(folder.join("build.toml"), text).unwrap();
    let scene = r#"{ "asset": { "version": "2.0" }, "cameras": [{ "name": "quay", "type": "perspective", "perspective": { "yfov": 1, "znear": 1 } }], "nodes": [{ "name": "quay", "camera": 0 }] }"#;
    std::fs::write(folder.join("harbour.gltf"), scene).unwrap();
    let (sheet, out) = (folder.join("build.toml").display().to_string(), folder.join("out").display().to_string());
    let by_hand = format!(
        "i=1; while [ $i -le 100000 ]; do printf 'render scene.gltf --camera quay --frames %d --size 320x180 --pass beauty=renders/crossing/crossing_beauty.%07d.png || exit 1\\n' $i $i; i=$((i+1)); done > '{out}'"
    );
    let base = median(3, || run("sh", &["-c", &by_hand]));
    for target in ["sh", "json", "cmd"] {
        let words = ["build", "--to", target, "-f", &sheet, "-o", &out];
        let time = median(3, || run(env!("CARGO_BIN_EXE_truepath"), &words));
        row(&format!("truepath build --to {target}"), time, base);
    }
    row("a loop in sh that prints one bare line a call", base, base);
}

fn main() {
    let folder = tempfile::tempdir().unwrap();
    building(folder.path());
    planning();
    names(folder.path());
    one_mistake(folder.path());
}
