//! The renderer: promise 3, that nothing a job gives is silently ignored; and what the adapter accepts and needs.

use std::collections::{BTreeSet, HashSet};

use crate::adapter::{Adapter, AdapterKind, Arrangement, OF_PASS, Per};
use crate::catalogue;
use crate::diagnostic::nearest;
use crate::frames::Frames;
use crate::invoke::arguments;
use crate::invoke::scope::{ArgumentScope, NOWHERE};
use crate::invoke::spread::Delivered;
use crate::invoke::written::{self, Expected};
use crate::plan::{Call, Series, SeriesKind, called_together, next_to_each_other};
use crate::resolve::{Job, paths};
use crate::sheet::setting::Carrier;
use crate::sheet::{Format, Key, Layer, Layers};

use super::{Sink, native, wording};

/// From so many frames on, a call for each of them is worth a word.
const MANY: i64 = 1000;

pub fn check(sink: &mut Sink<'_, '_>) {
    for (number, job) in sink.input.plan.jobs.iter().enumerate() {
        threads(sink, job);
        let Some(name) = job.adapter.as_deref() else {
            // One place for all of them: what is missing most likely belongs into [defaults].
            let at = sink.input.plan.jobs.iter().find(|job| job.adapter.is_none()).map(|job| job.at);
            sink.add("adapter-not-given", at, job, wording::renderer::adapter_not_given(job));
            continue;
        };
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
        let delivered = delivered(sink, number, adapter);
        settings(sink, (number, job), adapter, &delivered);
        native::check(sink, (number, job), adapter);
        passes(sink, job, adapter);
        writes(sink, (number, job), adapter);
        arrangement(sink, job, adapter);
        here(sink, job, name);
        let frames = job.frames.as_ref().map_or(0, Frames::count);
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

/// What the command lines of a job bring to its program, by its series in their order.
fn delivered(sink: &Sink<'_, '_>, number: usize, adapter: &Adapter) -> Vec<Delivered> {
    let plan = sink.input.plan;
    let job = &plan.jobs[number];
    let first = job.frames.as_ref().and_then(Frames::first).unwrap_or(0);
    let of_series = |at: usize| {
        let (id, mark) = (String::new(), String::new());
        let call = Call { id, job: number, series: vec![at], frames: Frames::one(first), mark, still: None };
        arguments::delivered(&ArgumentScope::of_call(plan, &call, adapter, NOWHERE))
    };
    plan.series_of(number).map(of_series).collect()
}

/// What decides is the command line that is built: a setting in a list that fell away has not arrived.
fn settings(sink: &mut Sink<'_, '_>, (number, job): (usize, &Job), adapter: &Adapter, delivered: &[Delivered]) {
    let exporter = job.export.as_deref().and_then(|name| sink.input.adapters.get(name));
    let arrives = |key: &Key| match key.row().carrier {
        Carrier::Own | Carrier::Parts => true,
        // Sound belongs to the movies.
        Carrier::Movies => !job.movies.is_empty(),
        // Variables have a check of their own.
        Carrier::Variables => true,
        Carrier::Natives => {
            let token = key.to_string();
            let own = matches!(key, Key::Native(name) if adapter.natives.get(name).is_some_and(|own| !own.arguments.is_empty()));
            own || !adapter.native.is_empty() || delivered.iter().any(|own| own.tokens.contains(&token))
        }
        Carrier::Tokens(tokens) if delivered.is_empty() => tokens.iter().any(|token| adapter.uses(token)),
        Carrier::Tokens(tokens) => {
            delivered.iter().any(|own| tokens.iter().any(|token| own.tokens.contains(*token)))
                || (*key == Key::Checkpoint && adapter.carries(key))
        }
    };
    for (key, given) in &job.given.values {
        // A built-in value was not asked for by anyone.
        if given.layer == Layer::BuiltIn || arrives(key) || exporter.is_some_and(|exporter| exporter.carries(key)) {
            continue;
        }
        // One that the adapter does not declare has a check of its own.
        if matches!(key, Key::Native(name) if !adapter.natives.is_empty() && !adapter.natives.contains_key(name)) {
            continue;
        }
        // A value that cannot be right is said elsewhere; then nothing can be said of its way.
        if job.frames.is_none() && adapter.carries(key) {
            continue;
        }
        let shared = !matches!(given.layer, Layer::Job | Layer::Each | Layer::CommandLine);
        let dropped = matches!(key.row().carrier, Carrier::Tokens(_)) && adapter.carries(key);
        // Where the shared value is right for others, this job is what has to change.
        let is_right = |other: &Job| {
            let carries = sink.adapter(other).is_some_and(|own| own.carries(key));
            other.name != job.name && other.given.place(key) == given.at && carries
        };
        let elsewhere = shared && sink.input.plan.jobs.iter().any(|other| is_right(other));
        let at = if elsewhere { Some(job.at) } else { given.at };
        let words = wording::renderer::setting_not_carried(key, adapter, (job, shared, dropped));
        sink.add("setting-not-carried", at, job, words);
    }
    // That a job has no scene is said of the job.
    // That a file has no name, or a line of it no value, is said there.
    let is_said = |token: &str| token == "scene" || token.starts_with("write.");
    let without = delivered.iter().flat_map(|own| &own.without_value).filter(|(_, token)| !is_said(token));
    for (at, token) in without.collect::<BTreeSet<_>>() {
        let words = wording::renderer::argument_without_value(token, adapter, job);
        sink.add("argument-without-value", Some(*at), job, words);
    }
    let lines = delivered.iter().flat_map(|own| &own.lines).filter(|(_, token)| !is_said(token));
    for (at, token) in lines.collect::<BTreeSet<_>>() {
        let words = wording::renderer::line_without_value(token, adapter, job);
        sink.add("argument-without-value", Some(*at), job, words);
    }
    for (own, series) in delivered.iter().zip(sink.input.plan.series_of(number)) {
        let series = &sink.input.plan.series[series];
        // Where the list that names a pass falls away, the program is never asked for it.
        let is_asked = OF_PASS.iter().any(|token| own.tokens.contains(*token));
        if let Some((at, token)) = own.dropped.first().filter(|_| !is_asked) {
            let passes = sink.input.plan.labels(series).join(", ");
            let words = wording::renderer::pass_never_asked(token, adapter, (job, &passes));
            sink.add("argument-without-value", Some(*at), job, words);
        }
        for pass in series.passes.iter().map(|pass| &job.passes[*pass]) {
            if let Some(at) = pass.colour_at.filter(|at| job.given.place(&Key::Colour) != Some(*at))
                && !own.tokens.contains("colour")
            {
                let words = wording::renderer::setting_not_carried(&Key::Colour, adapter, (job, false, false));
                sink.add("setting-not-carried", Some(at), job, words);
            }
            let Some(format) = pass.format.as_deref() else { continue };
            for (name, _, at) in options(format) {
                if !own.tokens.contains(name) && !adapter.does_only(name) {
                    let words = wording::renderer::option_not_carried(name, adapter);
                    sink.add("setting-not-carried", Some(at), job, words);
                }
            }
        }
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
        sink.add("pass-unknown", Some(pass.name.at), job, wording::renderer::pass_unknown(&pass.name, adapter));
    }
}

/// Rules for what the program writes that say nothing here, or that fit a file in two ways.
fn writes(sink: &mut Sink<'_, '_>, (number, job): (usize, &Job), adapter: &Adapter) {
    let plan = sink.input.plan;
    let (Some(first), false) = (job.frames.as_ref().and_then(Frames::first), adapter.writes.is_empty()) else { return };
    let at = adapter.writes[0].at;
    for rule in &adapter.writes {
        if let Some(why) = written::unclear(&rule.value) {
            sink.add("writes-unclear", Some(rule.at), job, wording::renderer::writes_unclear(adapter, why));
        }
    }
    let own: Vec<usize> = plan.series_of(number).collect();
    for series in called_together(plan, job, &own, adapter) {
        let (id, mark) = (String::new(), String::new());
        let call = Call { id, job: number, series, frames: Frames::one(first), mark, still: None };
        let expected = written::expected(&ArgumentScope::of_call(plan, &call, adapter, NOWHERE));
        if expected.iter().any(|own| own.rules() < adapter.writes.len()) {
            let why = "a token in it has no value";
            sink.add("writes-unclear", Some(at), job, wording::renderer::writes_unclear(adapter, why));
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
            sink.add("writes-unclear", Some(at), job, wording::renderer::writes_unclear(adapter, why));
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
pub(super) fn here(sink: &mut Sink<'_, '_>, job: &Job, name: &str) {
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
