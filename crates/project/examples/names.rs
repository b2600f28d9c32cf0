//! The smallest program over a project: it opens a sheet, prints what is wrong, and the name of every file that is planned.
//!
//! `cargo run --package truepath-project --example names -- path/to/truepath.toml`

use std::process::ExitCode;

use truepath_project::{LoadOptions, Request, Surroundings, open};

fn main() -> ExitCode {
    let around = Surroundings::at(std::env::current_dir().unwrap_or_default());
    let request = Request { sheets: std::env::args_os().skip(1).map(Into::into).collect(), ..Request::default() };
    // Only sheets and adapters are read; nothing is asked of the disk or of programs.
    let way = LoadOptions { offline: true, ..LoadOptions::default() };
    let queue = match open(&request, &around, way, &|_| {}) {
        Ok(queue) => queue,
        Err(failure) => {
            eprintln!("{failure}");
            return ExitCode::FAILURE;
        }
    };
    for finding in queue.findings() {
        eprintln!("{}: {}", finding.check, finding.message);
    }
    for sheet in &queue.sheets {
        for series in sheet.plan.series.iter().chain(&sheet.plan.movies).filter(|series| series.is_known()) {
            series.files().for_each(|(_, path)| println!("{path}"));
        }
    }
    if queue.stopped().is_some() { ExitCode::FAILURE } else { ExitCode::SUCCESS }
}
