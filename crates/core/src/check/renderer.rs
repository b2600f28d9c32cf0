//! The renderer and its exporter: what their adapters accept and need.

use std::collections::HashSet;

use crate::adapter::{Adapter, AdapterKind, Arrangement, Per, is_accepted};
use crate::diagnostic::{Slug, nearest};
use crate::frames::Frames;
use crate::invoke::scope::{ArgumentScope, NOWHERE};
use crate::invoke::written::{self, Expected};
use crate::plan::{Call, Series, SeriesKind, called_together, next_to_each_other};
use crate::resolve::{Job, paths};
use crate::sheet::{FileOption, Key, Layers};
use crate::source::Spanned;

use super::{Sink, carried, native, wording};

/// From so many frames on, a call for each of them is worth a word.
const MANY: i64 = 1000;

pub fn check(sink: &mut Sink<'_, '_>) {
    for (number, job) in sink.input.plan.jobs.iter().enumerate() {
        threads(sink, job);
        let Some(name) = job.adapter.as_deref() else {
            // One place for all of them: what is missing most likely belongs into [defaults].
            let at = sink.input.plan.jobs.iter().find(|job| job.adapter.is_none()).map(|job| job.at);
            sink.add(Slug::AdapterNotGiven, at, job, wording::renderer::adapter_not_given(job));
            continue;
        };
        let at = job.given.place(&Key::Adapter);
        let Some(adapter) = sink.input.adapters.get(name) else {
            let near = nearest(name, sink.input.adapters.keys().map(String::as_str));
            sink.add(Slug::AdapterMissing, at, job, wording::renderer::adapter_missing(name, near, at));
            continue;
        };
        if adapter.kind != AdapterKind::Renderer {
            sink.add(
                Slug::AdapterMissing,
                at,
                job,
                wording::renderer::wrong_kind(adapter, "a job must name a renderer"),
            );
            continue;
        }
        exporter(sink, job);
        let exporter = job.export.as_deref().and_then(|name| sink.input.adapters.get(name));
        let exporter = exporter.filter(|exporter| exporter.kind == AdapterKind::Exporter);
        carried::check(sink, (number, job), (adapter, exporter));
        native::check(sink, (number, job), (adapter, exporter));
        passes(sink, job, adapter);
        writes(sink, (number, job), adapter);
        arrangement(sink, job, adapter);
        here(sink, job, name);
        if let Some(version) = sink.input.machine.and_then(|machine| machine.unfit.get(name)) {
            sink.add(Slug::VariantNotFound, at, job, wording::renderer::variant_not_found(adapter, version));
        }
        let frames = job.frames.as_ref().map_or(0, Frames::count);
        if adapter.per == Per::Frame && frames >= MANY {
            sink.add(Slug::CallPerFrame, at, job, wording::renderer::call_per_frame(adapter, frames));
        }
        if let Some(scene) = &job.scene {
            let extension = paths::file_name(&scene.value)
                .rsplit_once('.')
                .map_or("", |(_, extension)| extension)
                .to_ascii_lowercase();
            // The scene itself goes to the exporter, where there is one.
            let reader = exporter.unwrap_or(adapter);
            // One that is not there is said to be missing, whatever it is called.
            let is_missing = sink.input.machine.is_some_and(|machine| machine.missing.contains(&scene.value));
            if !is_missing && !is_accepted(&reader.accepts.scenes, &extension) {
                let words = wording::renderer::scene_not_accepted(&extension, reader);
                sink.add(Slug::SceneNotAccepted, Some(scene.at), job, words);
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
            sink.add(Slug::AdapterMissing, at, job, wording::renderer::adapter_missing(name, near, at));
        }
        Some(adapter) if adapter.kind != AdapterKind::Exporter => {
            let words = wording::renderer::wrong_kind(adapter, "`export` must name an exporter");
            sink.add(Slug::AdapterMissing, at, job, words);
        }
        Some(_) => here(sink, job, name),
    }
}

/// Passes that the program does not know.
fn passes(sink: &mut Sink<'_, '_>, job: &Job, adapter: &Adapter) {
    if adapter.known_passes.is_empty() || job.given.place(&Key::Passes).is_none() {
        return;
    }
    // What the scene itself does not give is said of the scene.
    let in_scene = job.facts.as_ref().and_then(|facts| facts.passes.as_ref());
    let known =
        |name: &String| adapter.known_passes.contains(name) || in_scene.is_some_and(|list| !list.contains(name));
    for pass in job.passes.iter().filter(|pass| !known(&pass.name.value)) {
        sink.add(Slug::PassUnknown, Some(pass.name.at), job, wording::renderer::pass_unknown(&pass.name, adapter));
    }
}

/// Rules for what the program writes that say nothing here, or that fit a file in two ways.
fn writes(sink: &mut Sink<'_, '_>, (number, job): (usize, &Job), adapter: &Adapter) {
    let plan = sink.input.plan;
    let (Some(first), false) = (job.frames.as_ref().and_then(Frames::first), adapter.writes.is_empty()) else { return };
    let at = adapter.writes[0].at;
    for rule in &adapter.writes {
        if let Some(why) = written::unclear(&rule.value) {
            sink.add(Slug::WritesUnclear, Some(rule.at), job, wording::renderer::writes_unclear(adapter, why));
        }
    }
    let own: Vec<usize> = plan.series_of(number).collect();
    for series in called_together(plan, job, &own, adapter) {
        let (id, mark) = (String::new(), String::new());
        let call = Call { id, job: number, series, frames: Frames::one(first), mark, still: None };
        let expected = written::expected(&ArgumentScope::of_call(plan, &call, adapter, NOWHERE));
        if expected.iter().any(|own| own.rules() < adapter.writes.len()) {
            let why = "a token in it has no value";
            sink.add(Slug::WritesUnclear, Some(at), job, wording::renderer::writes_unclear(adapter, why));
        }
        if !next_to_each_other(plan, &call.series) {
            continue;
        }
        let fits_another = |(a, own): (usize, &Expected)| {
            let sample = own.sample(first);
            let fits = |other: &Expected| sample.as_ref().is_some_and(|sample| other.frame(sample).is_some());
            expected.iter().enumerate().any(|(b, other)| b != a && fits(other))
        };
        if expected.iter().enumerate().any(fits_another) {
            let why = "the files of two passes fit it";
            sink.add(Slug::WritesUnclear, Some(at), job, wording::renderer::writes_unclear(adapter, why));
        }
    }
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
        sink.add(Slug::PassesNotArranged, at, job, wording::renderer::passes_not_arranged(adapter, together));
    }
}

/// File types and options that the program writes, for each format or path once.
fn accepted(sink: &mut Sink<'_, '_>) {
    let mut said = HashSet::new();
    for series in sink.input.plan.series.iter().filter(|series| series.kind != SeriesKind::Movie) {
        let job = sink.job(series);
        let Some(adapter) = sink.adapter(job) else { continue };
        for (option, Spanned { value, at }) in asked(series) {
            // What the type itself cannot hold is said by the type.
            let fits = series.file_type.is_none_or(|known| option.fits(known, &value));
            if !adapter.accepts.takes(option, &value) && fits && said.insert((option, at, &adapter.name)) {
                let words = wording::renderer::type_not_accepted((option, &value), adapter);
                sink.add(Slug::TypeNotAccepted, Some(at), job, words);
            }
        }
    }
}

fn asked(series: &Series) -> Vec<(FileOption, Spanned<String>)> {
    let format = series.format.as_deref();
    let mut all = format.map(carried::options).unwrap_or_default();
    let kind = format.and_then(|format| format.kind.as_ref()).map(|kind| kind.at);
    if let (Some(known), Some(at)) = (series.file_type, kind.or(series.path.as_ref().map(|path| path.at))) {
        all.push((FileOption::Type, Spanned::new(known.name.to_owned(), at)));
    }
    all
}

fn threads(sink: &mut Sink<'_, '_>, job: &Job) {
    let (Some(threads), Some(cores)) = (job.threads, sink.input.machine.and_then(|machine| machine.cores)) else {
        return;
    };
    if u64::try_from(threads).is_ok_and(|threads| threads > cores) {
        let words = wording::renderer::threads_beyond(threads, cores);
        sink.add(Slug::ThreadsBeyondCores, job.given.place(&Key::Threads), job, words);
    }
}

/// What this machine has of all that the adapter needs.
pub(super) fn here(sink: &mut Sink<'_, '_>, job: &Job, name: &str) {
    let Some(machine) = sink.input.machine else { return };
    let at = job.given.place(&Key::Adapter);
    if let Some(program) = machine.programs.get(name) {
        sink.add(Slug::ProgramMissing, at, job, wording::renderer::program_missing(program, name));
    }
    if let Some(program) = machine.not_executable.get(name) {
        sink.add(Slug::ProgramNotExecutable, at, job, wording::renderer::program_not_executable(program, name));
    }
    for need in machine.needs.get(name).into_iter().flatten() {
        sink.add(Slug::NeedMissing, at, job, wording::renderer::need_missing(name, need));
    }
    if let Some((length, most)) = machine.long_commands.get(&job.name) {
        sink.add(Slug::CommandTooLong, at, job, wording::renderer::command_too_long(*length, *most));
    }
}
