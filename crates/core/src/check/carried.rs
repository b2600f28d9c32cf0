//! Promise 3: nothing that a job gives is silently ignored. What decides are the command lines that are built: a setting in a
//! list that fell away has not arrived.

use std::collections::BTreeSet;

use crate::adapter::{Adapter, AdapterKind};
use crate::diagnostic::Slug;
use crate::frames::Frames;
use crate::invoke::arguments;
use crate::invoke::scope::{ArgumentScope, ExportPaths, NOWHERE};
use crate::invoke::spread::Delivered;
use crate::plan::Call;
use crate::resolve::Job;
use crate::sheet::setting::Carrier;
use crate::sheet::{FileOption, Format, Key, Layer, OF_PICTURES};
use crate::source::Spanned;

use super::sheet::is_in_native;
use super::{Sink, wording};

/// One program of a job, and what its command lines bring to it.
struct Way<'w> {
    adapter: &'w Adapter,
    /// Of a renderer by the job's series in their order, of an exporter once; none where nothing can be said yet.
    delivered: Vec<Delivered>,
}

impl<'w> Way<'w> {
    fn to_renderer(sink: &Sink<'_, '_>, number: usize, adapter: &'w Adapter) -> Way<'w> {
        let plan = sink.input.plan;
        let first = plan.jobs[number].frames.as_ref().and_then(Frames::first).unwrap_or(0);
        let of_series = |at: usize| {
            let (id, mark) = (String::new(), String::new());
            let call = Call { id, job: number, series: vec![at], frames: Frames::one(first), mark, still: None };
            arguments::delivered(&ArgumentScope::of_call(plan, &call, adapter, NOWHERE))
        };
        Way { adapter, delivered: plan.series_of(number).map(of_series).collect() }
    }

    fn to_exporter(sink: &Sink<'_, '_>, number: usize, adapter: &'w Adapter) -> Way<'w> {
        let plan = sink.input.plan;
        let made = ExportPaths { staged: "/scene", log: NOWHERE.log };
        let told = |frames: &Frames| {
            Some(arguments::delivered(&ArgumentScope::of_export(plan, number, (adapter, frames), made)?))
        };
        let frames = plan.jobs[number].frames.as_ref().filter(|frames| !frames.is_empty());
        Way { adapter, delivered: frames.and_then(told).into_iter().collect() }
    }

    /// Whether a setting of a job arrives.
    fn brings(&self, job: &Job, key: &Key) -> bool {
        let is_told = |token: &str| self.delivered.iter().any(|own| own.tokens.contains(token));
        match (key, key.row().carrier) {
            (_, Carrier::Own | Carrier::Parts) => true,
            // Sound belongs to the movies.
            (_, Carrier::Movies) => !job.movies.is_empty(),
            _ if self.delivered.is_empty() => self.adapter.carries(key),
            (Key::Var(name), _) => is_in_native(job, name) || is_told(&format!("var.{name}")),
            (Key::Checkpoint, _) => self.adapter.carries(key),
            (_, Carrier::Tokens(tokens)) => tokens.iter().any(|token| is_told(token)),
            _ => is_told(&key.to_string()),
        }
    }
}

pub fn check(sink: &mut Sink<'_, '_>, (number, job): (usize, &Job), (adapter, exporter): (&Adapter, Option<&Adapter>)) {
    let renderer = Way::to_renderer(sink, number, adapter);
    let exporter = exporter.map(|exporter| Way::to_exporter(sink, number, exporter));
    let ways: Vec<&Way<'_>> = std::iter::once(&renderer).chain(&exporter).collect();
    settings(sink, job, &ways);
    without_value(sink, job, &ways);
    passes(sink, (number, job), &renderer);
}

/// Settings that arrive nowhere.
fn settings(sink: &mut Sink<'_, '_>, job: &Job, ways: &[&Way<'_>]) {
    for (key, given) in &job.given.values {
        // A built-in value was not asked for by anyone.
        if given.layer == Layer::BuiltIn || ways.iter().any(|way| way.brings(job, key)) {
            continue;
        }
        // A program that has a place for it, and the renderer where none has.
        let taker = ways.iter().find(|way| way.adapter.carries(key));
        // Variables that have no place anywhere, and native settings that are not declared, have checks of their own.
        let adapter = taker.or(ways.first()).map(|way| way.adapter);
        let Some(adapter) = adapter.filter(|own| taker.is_some() || !is_said_elsewhere(own, key)) else { continue };
        // A value that cannot be right is said elsewhere; then nothing can be said of its way.
        if job.frames.is_none() && taker.is_some() {
            continue;
        }
        let shared = !matches!(given.layer, Layer::Job | Layer::Each | Layer::CommandLine);
        let dropped = taker.is_some() && !matches!(key.row().carrier, Carrier::Movies);
        // Where the shared value is right for others, this job is what has to change.
        let is_right = |other: &Job| {
            let carries = sink.adapter(other).is_some_and(|own| own.carries(key));
            other.name != job.name && other.given.place(key) == given.at && carries
        };
        let elsewhere = shared && sink.input.plan.jobs.iter().any(|other| is_right(other));
        let at = if elsewhere { Some(job.at) } else { given.at };
        let words = wording::renderer::setting_not_carried(key, adapter, (job, shared, dropped));
        sink.add(Slug::SettingNotCarried, at, job, words);
    }
}

fn is_said_elsewhere(adapter: &Adapter, key: &Key) -> bool {
    match key {
        Key::Var(_) => true,
        Key::Native(name) => !adapter.natives.is_empty() && !adapter.natives.contains_key(name),
        _ => false,
    }
}

/// Arguments and lines that are always there, and lack a value.
fn without_value(sink: &mut Sink<'_, '_>, job: &Job, ways: &[&Way<'_>]) {
    // That a job has no scene is said of the job.
    // That a file has no name, or a line of it no value, is said there.
    let is_said = |token: &str| token == "scene" || token.starts_with("write.");
    for Way { adapter, delivered } in ways {
        // An exporter whose list with {out} falls away is never told where to write.
        let is_untold = |own: &&Delivered| adapter.kind == AdapterKind::Exporter && !own.is_asked();
        let dropped = delivered.iter().filter(is_untold).flat_map(|own| &own.dropped);
        let without = delivered.iter().flat_map(|own| &own.without_value).chain(dropped);
        for (at, token) in without.filter(|(_, token)| !is_said(token)).collect::<BTreeSet<_>>() {
            let words = wording::renderer::argument_without_value(token, adapter, job);
            sink.add(Slug::ArgumentWithoutValue, Some(*at), job, words);
        }
        let lines = delivered.iter().flat_map(|own| &own.lines).filter(|(_, token)| !is_said(token));
        for (at, token) in lines.collect::<BTreeSet<_>>() {
            let words = wording::renderer::line_without_value(token, adapter, job);
            sink.add(Slug::ArgumentWithoutValue, Some(*at), job, words);
        }
    }
}

/// Passes that the renderer is never asked for, and their own file options that it is never told.
fn passes(sink: &mut Sink<'_, '_>, (number, job): (usize, &Job), Way { adapter, delivered }: &Way<'_>) {
    for (own, series) in delivered.iter().zip(sink.input.plan.series_of(number)) {
        let series = &sink.input.plan.series[series];
        // Where the list that names a pass falls away, the program is never asked for it.
        if let Some((at, token)) = own.dropped.first().filter(|_| !own.is_asked()) {
            let passes = sink.input.plan.labels(series).join(", ");
            let words = wording::renderer::pass_never_asked(token, adapter, (job, &passes));
            sink.add(Slug::ArgumentWithoutValue, Some(*at), job, words);
        }
        for pass in series.passes.iter().map(|pass| &job.passes[*pass]) {
            if let Some(at) = pass.colour_at.filter(|at| job.given.place(&Key::Colour) != Some(*at))
                && !own.tokens.contains("colour")
            {
                let words = wording::renderer::setting_not_carried(&Key::Colour, adapter, (job, false, false));
                sink.add(Slug::SettingNotCarried, Some(at), job, words);
            }
            let Some(format) = pass.format.as_deref() else { continue };
            for (option, given) in options(format) {
                if !own.tokens.contains(option.name()) && !adapter.does_only(option) {
                    let words = wording::renderer::option_not_carried(option, adapter);
                    sink.add(Slug::SettingNotCarried, Some(given.at), job, words);
                }
            }
        }
    }
}

/// What a format gives that a renderer has to be told besides its type.
pub fn options(format: &Format) -> Vec<(FileOption, Spanned<String>)> {
    let own = OF_PICTURES.into_iter().filter(|option| *option != FileOption::Type);
    own.filter_map(|option| Some((option, option.given(format)?))).collect()
}
