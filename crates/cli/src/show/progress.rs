//! A run as it happens: a calm bar on a terminal, a line per call in a log, JSON Lines for programs.

use std::collections::BTreeMap;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};
use truepath_core::run::event::Event;

use super::{BAD, ODD, QUIET, counted, paint, tell};
use crate::lower::Screen;

/// How a run is shown.
pub enum Progress {
    /// A bar that is drawn over.
    Bar(ProgressBar, Screen),
    /// A plain line per call.
    Lines {
        /// Files landed so far.
        done: i64,
        /// Files to land.
        total: i64,
        /// Files landed by each call that has not ended.
        landed: BTreeMap<String, i64>,
    },
    /// The events themselves, on standard output.
    Json,
}

impl Progress {
    /// A display of `total` files to land.
    pub fn new(total: i64, json: bool, screen: Screen) -> Progress {
        if json {
            return Progress::Json;
        }
        if !screen.terminal {
            return Progress::Lines { done: 0, total, landed: BTreeMap::new() };
        }
        let bar = ProgressBar::with_draw_target(Some(total.unsigned_abs()), ProgressDrawTarget::stderr());
        let template = "{spinner} {bar:48.cyan} {pos} of {len} files  {rate} a second  {eta} left\n  {msg}";
        // The template is fixed text; a mistake in it would show in every run.
        let style = ProgressStyle::with_template(template).unwrap_or_else(|_| ProgressStyle::default_bar());
        let rate = |state: &ProgressState, out: &mut dyn std::fmt::Write| {
            // Writing to a line in memory cannot fail.
            let _ = write!(out, "{:.1}", state.per_sec());
        };
        let style = style.with_key("rate", rate);
        bar.set_style(if screen.unicode { style.progress_chars("━╸─") } else { style.progress_chars("=> ") });
        bar.enable_steady_tick(std::time::Duration::from_millis(120));
        Progress::Bar(bar, screen)
    }

    /// Shows one event.
    pub fn show(&mut self, event: &Event) {
        match self {
            Progress::Json => {
                let line = serde_json::to_string(event).unwrap_or_default();
                // Nobody reading is no reason to stop rendering.
                let _ = super::print(&format!("{line}\n"));
            }
            Progress::Bar(bar, screen) => match event {
                Event::Landed { path, .. } => {
                    bar.inc(1);
                    bar.set_message(paint(*screen, QUIET, file_name(path)));
                }
                event => {
                    if let Some(line) = trouble(event, *screen) {
                        bar.println(line);
                    }
                }
            },
            Progress::Lines { done, total, landed } => match event {
                Event::Landed { invocation, .. } => {
                    *done += 1;
                    *landed.entry(invocation.clone()).or_default() += 1;
                }
                event => {
                    let plain = Screen { colour: false, terminal: false, width: 100, unicode: false };
                    if let Some(line) = trouble(event, plain) {
                        tell(&format!("{line}\n"));
                    }
                    if let Event::Ended { invocation, seconds, .. } = event {
                        let files = counted(landed.remove(invocation).unwrap_or(0), "file");
                        tell(&format!("{invocation}: {files} landed in {seconds:.1} s ({done} of {total})\n"));
                    }
                }
            },
        }
    }

    /// Takes the bar away.
    pub fn end(&self) {
        if let Progress::Bar(bar, _) = self {
            bar.finish_and_clear();
        }
    }
}

/// The line of an event that wants attention.
fn trouble(event: &Event, screen: Screen) -> Option<String> {
    match event {
        Event::Refused { series, frame, why } => {
            Some(format!("{} {series} frame {frame}: {why}", paint(screen, BAD, "not landed")))
        }
        Event::Stray { path, .. } => {
            Some(format!("{} {path} was not planned and stays in the stage folder", paint(screen, ODD, "stray")))
        }
        Event::Ended { invocation, code, lacking, log, why, .. } if !lacking.is_empty() => {
            let how = why.as_ref().map(|why| format!("was ended: {why}")).unwrap_or_else(|| how_ended(*code));
            Some(format!("{} {invocation} {how}; lacking {lacking}; see {log}", paint(screen, BAD, "failed")))
        }
        Event::Ended { invocation, code, log, .. } if *code != Some(0) => {
            let how = how_ended(*code);
            Some(format!("{} {invocation} {how} though all its frames landed; see {log}", paint(screen, ODD, "odd")))
        }
        _ => None,
    }
}

fn how_ended(code: Option<i32>) -> String {
    code.map_or_else(|| "was ended by a signal".to_owned(), |code| format!("ended with {code}"))
}

fn file_name(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}
