//! Where each value comes from: the setting, its value, the layer and place that gave it, and what it was laid over.

use std::collections::HashSet;

use truepath_core::resolve::{Stacked, why};
use truepath_core::sheet::{Given, Key};
use truepath_core::source::Sources;

use super::{HEAD, QUIET, paint};
use crate::lower::Screen;
use truepath_project::Loaded;

/// The tables of all jobs that were asked for.
pub fn text(loaded: &Loaded, sources: &Sources, screen: Screen) -> String {
    let planned: HashSet<&str> = loaded.plan.jobs.iter().map(|job| job.name.as_str()).collect();
    let asked = |job: &&Stacked| planned.contains(job.name.as_str());
    loaded.stacked.iter().filter(asked).map(|job| table(job, sources, screen)).collect()
}

fn table(job: &Stacked, sources: &Sources, screen: Screen) -> String {
    let place = |given: &Given| {
        let at = given.at.map(|at| format!(" {}", sources.short(at))).unwrap_or_default();
        format!("{}{at}", given.layer.name())
    };
    let rows: Vec<(String, String, String, String)> = why(job)
        .iter()
        .map(|(key, history)| {
            let winner = history.last().cloned().flatten();
            let below =
                history.iter().rev().skip(1).flatten().map(|given| format!("{} ({})", given.value, place(given)));
            let over: Vec<String> = below.collect();
            let value =
                winner.as_ref().map_or_else(|| "not set, the scene decides".to_owned(), |given| shown(key, given));
            (key.to_string(), value, winner.as_ref().map(place).unwrap_or_default(), over.join(", "))
        })
        .collect();
    let width = |pick: fn(&(String, String, String, String)) -> &String, most: usize| {
        rows.iter().map(|row| super::width(pick(row))).max().unwrap_or(0).min(most)
    };
    let (first, second, third) = (width(|row| &row.0, 24), width(|row| &row.1, 44), width(|row| &row.2, 32));
    let mut out = format!("{}\n", paint(screen, HEAD, &job.name));
    for (key, value, from, over) in &rows {
        let over = if over.is_empty() { String::new() } else { paint(screen, QUIET, format!("  over {over}")) };
        // What is too wide for its column has its place on the next line.
        let gap = if super::width(value) > second {
            format!("\n{}", " ".repeat(first + second + 6))
        } else {
            "  ".to_owned()
        };
        let line = format!(
            "  {}  {}{gap}{}{over}",
            super::pad(key, first),
            super::pad(value, second),
            super::pad(from, third)
        );
        out.push_str(line.trim_end());
        out.push('\n');
    }
    let given: Vec<&Key> = job.settings.values.keys().collect();
    let known = truepath_core::sheet::setting::KEYS.iter().filter(|(_, key)| !given.contains(&key));
    let usual = [Key::Camera, Key::Frames, Key::Fps, Key::Size, Key::Samples, Key::Colour];
    let left: Vec<&str> = known.filter(|(_, key)| usual.contains(key)).map(|(name, _)| *name).collect();
    if !left.is_empty() {
        out.push_str(&paint(screen, QUIET, format!("  not set, the scene decides: {}\n", left.join(", "))));
    }
    out.push('\n');
    out
}

fn shown(key: &Key, given: &Given) -> String {
    match key {
        Key::Scale => format!("{} %", given.value),
        _ => given.value.to_string(),
    }
}
