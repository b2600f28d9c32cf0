//! One name, one file: the decision from patterns, beside listing all names and looking for twins. Run with `cargo bench`.
//!
//! Listing is done on the largest plan that it can do in a few minutes of time and a few gigabytes of memory; the decision
//! is shown on that one and on one that nobody could list.
#![allow(clippy::unwrap_used)]

use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use truepath_core::check::meeting::{NamedSeries, meetings};
use truepath_core::frames::Frames;
use truepath_core::template::Pattern;

fn series(jobs: usize, passes: usize, frames: i64) -> Vec<NamedSeries> {
    let name = |at: usize| {
        let (job, pass) = (at / passes, at % passes);
        let mut pattern = Pattern::default();
        pattern.push_text(&format!("/work/renders/nf{job:05}/v001/p{pass}/nf{job:05}_c{}_p{pass}_v001.", job % 7));
        pattern.push_frame(4);
        pattern.push_text(".exr");
        NamedSeries { at, pattern: pattern.folded(), frames: Frames::range(1, frames) }
    };
    (0..jobs * passes).map(name).collect()
}

fn timed(once: impl FnOnce()) -> Duration {
    let began = Instant::now();
    once();
    began.elapsed()
}

fn row(name: &str, time: Duration, note: &str) {
    println!("{name:<64} {:>10.1} ms   {note}", time.as_secs_f64() * 1e3);
}

fn peak() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:").map(str::to_owned));
    line.and_then(|line| line.split_whitespace().next()?.parse().ok()).unwrap_or(0) / 1024
}

fn decide(jobs: usize, passes: usize, frames: i64) {
    let mut names = series(jobs, passes, frames);
    let all = names.len();
    let time = timed(|| assert_eq!(meetings(&names, all), []));
    let count = all as i64 * frames;
    row(&format!("decided: {all} series, {count} names, none meets"), time, &format!("peak {} MB", peak()));
    // One of them is given the pattern of another, and a single frame of its own span.
    names[all - 1].pattern = names[all / 2].pattern.clone();
    names[all - 1].frames = Frames::range(frames, frames * 2);
    let time = timed(|| assert_eq!(meetings(&names, all).len(), 1));
    row("decided: the same, with one frame in common", time, "");
}

/// Every name of the plan through a shell pipeline, written by True Path, the fastest writer at hand.
fn piped(sheet: &str, command: &str) -> Option<Duration> {
    let truepath = env!("CARGO_BIN_EXE_truepath");
    let line = format!("'{truepath}' names --all -f '{sheet}' | {command}");
    let mut ended = None;
    let time = timed(|| {
        let child = Command::new("sh")
            .args(["-c", &line])
            .env("LC_ALL", "C")
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .status();
        ended = child.ok().filter(std::process::ExitStatus::success);
    });
    ended.map(|_| time)
}

fn main() {
    println!("do any two series share a name?\n");
    decide(10_000, 8, 1_000_000);
    let folder = tempfile::tempdir().unwrap();
    let (jobs, frames) = (1000, 20_000);
    let job = |at: usize| format!("[[job]]\nname = \"j{at}\"\nscene = \"a\"\nvars.shot = \"nf{at:05}\"\n");
    let sheet = format!(
        "sheet = 1\n[roots]\nrenders = \"renders\"\n[defaults]\nframes = \"1-{frames}\"\nversion = 1\n\
         path = \"{{renders}}/{{shot}}/{{version}}/{{pass}}/{{shot}}_c1_{{pass}}_{{version}}.{{frame:4}}.exr\"\n{}",
        (0..jobs).map(job).collect::<String>()
    );
    std::fs::write(folder.path().join("s.toml"), sheet).unwrap();
    let path = folder.path().join("s.toml").display().to_string();
    println!("\nthe largest that listing can do here: {jobs} series, {} names", jobs as i64 * frames);
    decide(jobs, 1, frames);
    let python = "python3 -c 'import sys\nseen = set()\nfor line in sys.stdin.buffer:\n    if line in seen: print(line)\n    seen.add(line)'";
    for (name, command) in
        [("names --all | sort | uniq -d", "sort | uniq -d"), ("names --all | a set in Python", python)]
    {
        match piped(&path, command) {
            Some(time) => row(name, time, ""),
            None => println!("{name:<64} could not be run here"),
        }
    }
}
