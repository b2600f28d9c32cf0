//! Native settings: those that an adapter declares, their values, and what is written into files for its program.

use crate::adapter::Adapter;
use crate::diagnostic::{Slug, nearest};
use crate::frames::Frames;
use crate::invoke::scope::{ArgumentScope, ExportPaths, NOWHERE};
use crate::invoke::written_file::{Unwritable, unwritable};
use crate::plan::Call;
use crate::resolve::Job;
use crate::sheet::Key;
use crate::template::Template;
use crate::template::token::PathToken;

use super::{Sink, wording};

pub fn check(sink: &mut Sink<'_, '_>, (number, job): (usize, &Job), (adapter, exporter): (&Adapter, Option<&Adapter>)) {
    let programs = || std::iter::once(adapter).chain(exporter);
    if job.native.is_empty() && programs().all(|own| own.files.is_empty()) {
        return;
    }
    let plan = sink.input.plan;
    let first = job.frames.as_ref().and_then(Frames::first);
    let (id, mark, series) = (String::new(), String::new(), plan.series_of(number).collect());
    let call = Call { id, job: number, series, frames: Frames::one(first.unwrap_or(0)), mark, still: None };
    let scope = ArgumentScope::of_call(plan, &call, adapter, NOWHERE);
    let values = scope.native_values();
    for (name, written) in &job.native {
        let at = job.given.place(&Key::Native(name.clone()));
        let known = || adapter.natives.keys().map(String::as_str);
        let taken = exporter.is_some_and(|exporter| exporter.hands_over(&Key::Native(name.clone())));
        if !adapter.natives.is_empty() && !adapter.natives.contains_key(name) && !taken {
            let words = wording::renderer::native_unknown(name, adapter, nearest(name, known()));
            sink.add(Slug::NativeUnknown, at, job, words);
        }
        if let Some(why) = not_filled(sink, job, written) {
            sink.add(Slug::NativeValue, at, job, wording::renderer::native_template(name, &why));
            continue;
        }
        // What has no value is said by what is not carried.
        let Some(value) = values.get(name) else { continue };
        for native in programs().filter_map(|own| own.natives.get(name)).filter(|native| !native.takes(value)) {
            sink.add(Slug::NativeValue, at, job, wording::renderer::native_value(name, value, native));
        }
    }
    let Some(frames) = job.frames.as_ref().filter(|frames| !frames.is_empty()) else { return };
    let made = ExportPaths { staged: "/scene", log: NOWHERE.log };
    let export = exporter.and_then(|own| ArgumentScope::of_export(plan, number, (own, frames), made));
    for scope in std::iter::once(&scope).chain(&export) {
        for (at, why) in unwritable(scope) {
            // What has no value is said of the arguments and the lines alike.
            if let Unwritable::Unfit(token) = why {
                let words = wording::renderer::value_not_writable(&token, scope.adapter, job);
                sink.add(Slug::ValueNotWritable, Some(at), job, words);
            }
        }
    }
}

/// Why the template of a native setting can never be filled.
fn not_filled(sink: &Sink<'_, '_>, job: &Job, written: &str) -> Option<String> {
    match Template::parse(written) {
        Err(error) => Some(error.message),
        Ok(template) => {
            let unknown = template.tokens().find(|token| !is_known(sink, job, &token.name))?;
            Some(format!("there is no token {{{}}} here", unknown.name))
        }
    }
}

/// Whether a token may stand in a native setting.
fn is_known(sink: &Sink<'_, '_>, job: &Job, name: &str) -> bool {
    let root = |name: &str| sink.input.plan.roots.iter().any(|root| root.name == name);
    match name.split_once('.') {
        Some(("var", own)) => job.vars.contains_key(own),
        Some(("root", own)) => root(own),
        _ => PathToken::named(name).is_some() || job.vars.contains_key(name) || root(name),
    }
}
