//! Native settings: those that an adapter declares, their values, and what is written into files for its program.

use crate::adapter::Adapter;
use crate::diagnostic::nearest;
use crate::frames::Frames;
use crate::invoke::scope::{ArgumentScope, NOWHERE};
use crate::invoke::written_file::{Unwritable, unwritable};
use crate::plan::Call;
use crate::resolve::Job;
use crate::sheet::Key;
use crate::template::{Template, token};

use super::{Sink, wording};

pub fn check(sink: &mut Sink<'_, '_>, (number, job): (usize, &Job), adapter: &Adapter) {
    for (name, value) in &job.native {
        let at = job.given.place(&Key::Native(name.clone()));
        let known = || adapter.natives.keys().map(String::as_str);
        if !adapter.natives.is_empty() && !adapter.natives.contains_key(name) {
            let words = wording::renderer::native_unknown(name, adapter, nearest(name, known()));
            sink.add("native-unknown", at, job, words);
        }
        let template = match Template::parse(value) {
            Ok(template) => template,
            Err(error) => {
                sink.add("native-value", at, job, wording::renderer::native_template(name, &error.message));
                continue;
            }
        };
        if let Some(unknown) =
            template.tokens().map(|token| token.name.as_str()).find(|name| !is_known(sink, job, name))
        {
            let why = format!("there is no token {{{unknown}}} here");
            sink.add("native-value", at, job, wording::renderer::native_template(name, &why));
            continue;
        }
        let Some(native) = adapter.natives.get(name).filter(|_| template.tokens().next().is_none()) else { continue };
        let fits = native.kind.fits(value) && (native.values.is_empty() || native.values.contains(value));
        if !fits {
            sink.add("native-value", at, job, wording::renderer::native_value(name, value, native));
        }
    }
    if adapter.files.is_empty() {
        return;
    }
    let Some(first) = job.frames.as_ref().and_then(Frames::first) else { return };
    let series = sink.input.plan.series_of(number).collect();
    let (id, mark) = (String::new(), String::new());
    let call = Call { id, job: number, series, frames: Frames::one(first), mark, still: None };
    for (at, why) in unwritable(&ArgumentScope::of_call(sink.input.plan, &call, adapter, NOWHERE)) {
        // What has no value is said of the arguments and the lines alike.
        if let Unwritable::Unfit(token) = why {
            sink.add("value-not-writable", Some(at), job, wording::renderer::value_not_writable(&token, adapter, job));
        }
    }
}

/// Whether a token may stand in a native setting.
fn is_known(sink: &Sink<'_, '_>, job: &Job, name: &str) -> bool {
    let root = |name: &str| sink.input.plan.roots.iter().any(|root| root.name == name);
    match name.split_once('.') {
        Some(("var", own)) => job.vars.contains_key(own),
        Some(("root", own)) => root(own),
        _ => token::PATH.iter().any(|(known, _)| *known == name) || job.vars.contains_key(name) || root(name),
    }
}
