//! What a frame depends on, beside the bytes of its scene: one text that can be compared, printed and hashed.
//!
//! Not in it: path, frames, threads, device, chunk, and what the adapter reads from a log.

use std::fmt::Write as _;

use crate::adapter::Adapter;
use crate::plan::{Plan, Series};
use crate::sheet::Key;

/// All that changes the pictures of a series, a line each.
#[must_use]
pub fn made_of(plan: &Plan, series: &Series, adapter: Option<&Adapter>) -> String {
    let job = &plan.jobs[series.job];
    let mut text = String::new();
    let handed = adapter.is_some_and(|adapter| !adapter.variable.is_empty());
    let counts = |key: &Key| match key {
        Key::Var(_) => handed,
        Key::Camera | Key::Fps | Key::Region | Key::View | Key::Samples | Key::PixelAspect | Key::Export => true,
        Key::Native(_) | Key::Env(_) => true,
        _ => false,
    };
    for (key, given) in job.settings.values.iter().filter(|(key, _)| counts(key)) {
        let _ = writeln!(text, "{key} {}", given.value);
    }
    if let Some(size) = series.size {
        let _ = writeln!(text, "size {size}");
    }
    for pass in series.passes.iter().map(|pass| &job.passes[*pass]) {
        let colour = pass.colour.map(|colour| colour.to_string()).unwrap_or_default();
        let _ = writeln!(text, "pass {} {colour}", pass.name.value);
    }
    let _ = writeln!(text, "type {}", series.file_type.map_or("", |known| known.name));
    if let Some(format) = series.format.as_deref() {
        let compression = format.compression.as_ref().map_or("", |name| name.value.as_str());
        let quality = format.quality.as_ref().map(|quality| quality.value);
        let _ = writeln!(text, "format {:?} {:?} {compression} {quality:?}", series.bits, series.channels);
    }
    if let Some(adapter) = adapter {
        let templates = adapter.templates().map(|template| template.value.to_string()).collect::<Vec<_>>();
        let _ = writeln!(text, "adapter {} {}", adapter.name, templates.join(" "));
    }
    text
}
