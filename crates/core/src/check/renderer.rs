//! The renderer: promise 3, that nothing a job gives is silently ignored; and what the adapter accepts and needs.

use std::collections::HashSet;

use crate::adapter::{Adapter, AdapterKind, Arrangement, Per};
use crate::catalogue;
use crate::diagnostic::nearest;
use crate::plan::{Series, SeriesKind};
use crate::resolve::{Job, paths};
use crate::sheet::{Format, Key, Layer, Layers};

use super::{Sink, wording};

/// From so many frames on, a call for each of them is worth a word.
const MANY: i64 = 1000;

pub fn check(sink: &mut Sink<'_, '_>) {
    for job in &sink.input.plan.jobs {
        threads(sink, job);
        let Some(name) = job.adapter.as_deref() else { continue };
        let at = job.given.place(&Key::Adapter);
        let Some(adapter) = sink.input.adapters.get(name) else {
            let near = nearest(name, sink.input.adapters.keys().map(String::as_str));
            sink.add("adapter-missing", at, job, wording::renderer::adapter_missing(name, near, at));
            continue;
        };
        if adapter.kind != AdapterKind::Renderer {
            sink.add("adapter-missing", at, job, wording::renderer::wrong_kind(adapter, "a job needs a renderer"));
            continue;
        }
        exporter(sink, job);
        settings(sink, job, adapter);
        arrangement(sink, job, adapter);
        here(sink, job, name);
        let frames = job.frames.as_ref().map_or(0, crate::frames::Frames::count);
        if adapter.per == Per::Frame && frames >= MANY {
            sink.add("call-per-frame", at, job, wording::renderer::call_per_frame(adapter, frames));
        }
        if let Some(scene) = &job.scene {
            let extension = paths::file_name(&scene.value)
                .rsplit_once('.')
                .map_or("", |(_, extension)| extension)
                .to_ascii_lowercase();
            let exported = job.export.as_deref().is_some();
            if !exported && !adapter.accepts.scenes.is_empty() && !adapter.accepts.scenes.contains(&extension) {
                let words = wording::renderer::scene_not_accepted(&extension, adapter);
                sink.add("scene-not-accepted", Some(scene.at), job, words);
            }
        }
    }
    accepted(sink);
}

/// What runs before the renderer.
fn exporter(sink: &mut Sink<'_, '_>, job: &Job) {
    let Some(name) = job.export.as_deref() else { return };
    let at = job.given.place(&Key::Export);
    match sink.input.adapters.get(name) {
        None => {
            let near = nearest(name, sink.input.adapters.keys().map(String::as_str));
            sink.add("adapter-missing", at, job, wording::renderer::adapter_missing(name, near, at));
        }
        Some(adapter) if adapter.kind != AdapterKind::Exporter => {
            let words = wording::renderer::wrong_kind(adapter, "an export needs an exporter");
            sink.add("adapter-missing", at, job, words);
        }
        Some(_) => here(sink, job, name),
    }
}

fn settings(sink: &mut Sink<'_, '_>, job: &Job, adapter: &Adapter) {
    for (key, given) in &job.given.values {
        // Variables have a check of their own; a built-in value was not asked for by anyone.
        let carried = match key {
            Key::Var(_) => true,
            // Sound belongs to the movies.
            Key::Audio => !job.movies.is_empty(),
            key => adapter.carries(key),
        };
        if given.layer != Layer::BuiltIn && !carried {
            sink.add("setting-not-carried", given.at, job, wording::renderer::setting_not_carried(key, adapter));
        }
    }
    for pass in &job.passes {
        if let Some(at) = pass.colour_at.filter(|at| job.given.place(&Key::Colour) != Some(*at))
            && !adapter.uses("colour")
        {
            sink.add(
                "setting-not-carried",
                Some(at),
                job,
                wording::renderer::setting_not_carried(&Key::Colour, adapter),
            );
        }
        let Some(format) = pass.format.as_deref() else { continue };
        for (name, _, at) in options(format) {
            if !adapter.carries_option(name) {
                sink.add("setting-not-carried", Some(at), job, wording::renderer::option_not_carried(name, adapter));
            }
        }
    }
}

/// The options of a format that reach a renderer: name, value, place.
fn options(format: &Format) -> Vec<(&'static str, String, crate::source::Place)> {
    let mut all = Vec::new();
    all.extend(format.bits.as_ref().map(|bits| ("bits", bits.value.to_string(), bits.at)));
    all.extend(format.channels.as_ref().map(|channels| ("channels", channels.value.to_string(), channels.at)));
    all.extend(format.compression.as_ref().map(|name| ("compression", name.value.clone(), name.at)));
    all.extend(format.quality.as_ref().map(|quality| ("quality", quality.value.to_string(), quality.at)));
    all
}

/// Passes in calls and files as the program can do it.
fn arrangement(sink: &mut Sink<'_, '_>, job: &Job, adapter: &Adapter) {
    if job.passes.len() < 2 {
        return;
    }
    let together = job.layers == Layers::Together;
    let fits = match (&adapter.can, together) {
        (None, _) => false,
        (Some(_), true) => adapter.can(Arrangement::File),
        (Some(_), false) => adapter.can(Arrangement::Pass) || adapter.can(Arrangement::Call),
    };
    if !fits {
        let at = job.given.place(if together { &Key::Layers } else { &Key::Passes }).or(Some(job.at));
        sink.add("passes-not-arranged", at, job, wording::renderer::passes_not_arranged(adapter, together));
    }
}

/// File types and options that the program writes, for each format or path once.
fn accepted(sink: &mut Sink<'_, '_>) {
    let mut said = HashSet::new();
    for series in sink.input.plan.series.iter().filter(|series| series.kind != SeriesKind::Movie) {
        let job = sink.job(series);
        let Some(adapter) = sink.adapter(job) else { continue };
        for (what, value, at) in asked(series) {
            let list = match what {
                "type" => &adapter.accepts.types,
                "bits" => &adapter.accepts.bits,
                "channels" => &adapter.accepts.channels,
                "compression" => &adapter.accepts.compressions,
                _ => continue,
            };
            // What the type itself cannot hold is said by the type.
            let known = series.file_type.is_none_or(|known| holds(known, what, &value));
            if !list.is_empty() && !list.contains(&value) && known && said.insert((what, at, &adapter.name)) {
                let words = wording::renderer::type_not_accepted((what, &value), adapter, list);
                sink.add("type-not-accepted", Some(at), job, words);
            }
        }
    }
}

fn asked(series: &Series) -> Vec<(&'static str, String, crate::source::Place)> {
    let format = series.format.as_deref();
    let mut all = format.map(options).unwrap_or_default();
    let kind = format.and_then(|format| format.kind.as_ref()).map(|kind| kind.at);
    if let (Some(known), Some(at)) = (series.file_type, kind.or(series.path.as_ref().map(|path| path.at))) {
        all.push(("type", known.name.to_owned(), at));
    }
    all
}

fn holds(known: &catalogue::FileType, what: &str, value: &str) -> bool {
    match what {
        "bits" => known.bits.iter().any(|bits| bits.to_string() == value),
        "channels" => known.channels.iter().any(|channels| channels.to_string() == value),
        "compression" => known.compressions.contains(&value),
        _ => true,
    }
}

fn threads(sink: &mut Sink<'_, '_>, job: &Job) {
    let (Some(threads), Some(cores)) = (job.threads, sink.input.machine.and_then(|machine| machine.cores)) else {
        return;
    };
    if u64::try_from(threads).is_ok_and(|threads| threads > cores) {
        let words = wording::renderer::threads_beyond(threads, cores);
        sink.add("threads-beyond-cores", job.given.place(&Key::Threads), job, words);
    }
}

/// What this machine has of all that the adapter needs.
fn here(sink: &mut Sink<'_, '_>, job: &Job, name: &str) {
    let Some(machine) = sink.input.machine else { return };
    let at = job.given.place(&Key::Adapter);
    if let Some(program) = machine.programs.get(name) {
        sink.add("program-missing", at, job, wording::renderer::program_missing(program, name));
    }
    if let Some(program) = machine.not_executable.get(name) {
        sink.add("program-not-executable", at, job, wording::renderer::program_not_executable(program, name));
    }
    for need in machine.needs.get(name).into_iter().flatten() {
        sink.add("need-missing", at, job, wording::renderer::need_missing(name, need));
    }
    if let Some((length, most)) = machine.long_commands.get(&job.name) {
        sink.add("command-too-long", at, job, wording::renderer::command_too_long(*length, *most));
    }
}
