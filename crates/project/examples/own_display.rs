//! A whole program over a project: it opens a sheet, prints what is wrong and the name of every file that is planned, and
//! renders them with a display of its own. The program `truepath` has to be on the search path: it guards renderers.
//!
//! `cargo run --package truepath-project --example own_display -- path/to/truepath.toml`

use std::path::PathBuf;
use std::process::ExitCode;

use truepath_core::run::event::Event;
use truepath_exec::failure::Failure;
use truepath_project::{LoadOptions, News, Request, Run, RunOptions, Surroundings, TakenSheets, open};

fn main() -> ExitCode {
    match shown() {
        Ok(true) => ExitCode::SUCCESS,
        Ok(false) => ExitCode::FAILURE,
        Err(failure) => {
            eprintln!("{failure}");
            ExitCode::FAILURE
        }
    }
}

/// Whether everything is there at the end.
fn shown() -> Result<bool, Failure> {
    let search_path: Vec<PathBuf> = std::env::split_paths(&std::env::var_os("PATH").unwrap_or_default()).collect();
    let program = search_path.iter().map(|folder| folder.join("truepath")).find(|path| path.is_file());
    let around = Surroundings {
        program: program.unwrap_or_else(|| "truepath".into()),
        search_path,
        ..Surroundings::at(std::env::current_dir().unwrap_or_default())
    };
    let request = Request { sheets: std::env::args_os().skip(1).map(Into::into).collect(), ..Request::default() };
    let queue = open(&request, &around, LoadOptions::default(), &())?;
    for finding in queue.findings() {
        eprintln!("{}: {}", finding.check, finding.message);
    }
    for (_, series) in queue.sheets.iter().flat_map(|sheet| sheet.plan.outputs()).filter(|(_, own)| own.is_known()) {
        series.files().for_each(|(_, path)| println!("{path}"));
    }
    let display = |news: News<'_>| match news {
        News::Rendering(rendering) => eprintln!("{} files to make", rendering.files),
        News::Events(events) => events.iter().for_each(|event| match event {
            Event::Landed(landed) => eprintln!("{} frame {}", landed.series, landed.frame),
            Event::Failed { frames, why, .. } => eprintln!("{} failed: {why}", frames.worded()),
            _ => {}
        }),
        News::Note(note) => eprintln!("{note}"),
        _ => {}
    };
    let TakenSheets::Held(mut run) = Run::take(&request, &RunOptions::default(), &around, &display)? else {
        return Ok(false);
    };
    let mut complete = true;
    for at in 0..run.queue.sheets.len() {
        complete &= run.render(at, &around, &display)?.is_complete();
    }
    Ok(complete)
}
