//! What every sheet and job must have, and what nothing uses.

use crate::template::token::PathToken;
use std::collections::{BTreeMap, BTreeSet};

use crate::diagnostic::Slug;
use crate::plan::Plan;
use crate::resolve::Job;
use crate::sheet::{Each, Given, Key, Layer, Setting};
use crate::source::{Place, Spanned};
use crate::template::Template;

use super::{Sink, wording};

pub fn check(sink: &mut Sink<'_, '_>) {
    if sink.input.sheet.jobs.is_empty() {
        sink.findings.add(Slug::KeyMissing, None, None, wording::sheet::no_job());
    }
    for job in &sink.input.plan.jobs {
        for key in [Key::Scene, Key::Path] {
            let elsewhere = key == Key::Path && job.passes.iter().all(|pass| pass.path.is_some());
            if job.given.get(&key).is_none() && !job.given.unread.contains(&key) && !elsewhere {
                sink.add(Slug::KeyMissing, Some(job.at), job, wording::sheet::job_without(&key));
            }
        }
        variables(sink, job);
        twice(sink, job);
    }
    after(sink);
    if sink.input.whole {
        entries(sink);
        modes(sink);
    }
}

/// Programs that are to be started at the end and are not here.
fn after(sink: &mut Sink<'_, '_>) {
    let Some(machine) = sink.input.machine else { return };
    for command in sink.input.sheet.run.after.iter().flatten() {
        let Some(program) = command.value.first().map(ToString::to_string) else { continue };
        if machine.no_after.contains(&program) {
            sink.findings.add(Slug::AfterMissing, Some(command.at), None, wording::sheet::after_missing(&program));
        }
    }
}

/// Movies and passes of one job that nobody can tell apart.
fn twice(sink: &mut Sink<'_, '_>, job: &Job) {
    let movies = job.movies.iter().map(|movie| ("movie", &movie.entry.name.value, movie.entry.name.at));
    let passes = job.passes.iter().map(|pass| ("pass", &pass.label, pass.name.at));
    let mut first: BTreeMap<(&str, &String), Place> = BTreeMap::new();
    for (what, name, at) in movies.chain(passes) {
        match first.get(&(what, name)) {
            Some(other) => {
                let words = wording::sheet::entry_twice(what, name).also(*other, "the first");
                sink.add(Slug::EntryTwice, Some(at), job, words);
            }
            None => drop(first.insert((what, name), at)),
        }
    }
}

/// Variables that reach nothing, and jobs whose difference reaches nothing.
fn variables(sink: &mut Sink<'_, '_>, job: &Job) {
    let adapter = sink.adapter(job);
    let mut paths =
        job.passes.iter().chain(job.movies.iter().map(|movie| &movie.pass)).filter_map(|pass| pass.path.as_ref());
    for (key, given) in &job.given.values {
        let Key::Var(name) = key else { continue };
        hidden(sink, job, (name, given));
        let used = paths.clone().any(|path| path.value.has(name));
        let exporter = job.export.as_deref().and_then(|name| sink.input.adapters.get(name));
        let handed = adapter.into_iter().chain(exporter).any(|own| own.hands_over(key)) || is_in_native(job, name);
        // An adapter that cannot be found may take it.
        let unknown = adapter.is_none() && job.adapter.as_deref().is_some();
        if used || handed || unknown || paths.next().is_none() {
            continue;
        }
        if given.layer == Layer::Each {
            let at = axis(sink, given).or(given.at);
            sink.add(Slug::EachUnused, at, job, wording::sheet::each_unused(name));
        } else {
            sink.add(Slug::VariableUnused, given.at, job, wording::sheet::variable_unused(name, adapter));
        }
    }
}

/// A variable that no path can show, because something else bears its name.
fn hidden(sink: &mut Sink<'_, '_>, job: &Job, (name, given): (&str, &Given)) {
    let root = sink.input.plan.roots.iter().any(|root| root.name == *name);
    if root || PathToken::named(name).is_some() {
        let at = axis(sink, given).filter(|_| given.layer == Layer::Each).or(given.at);
        sink.add(Slug::VariableHidden, at, job, wording::sheet::variable_hidden(name, root));
    }
}

/// Whether a native setting of a job asks for a variable.
pub fn is_in_native(job: &Job, variable: &str) -> bool {
    let own = format!("var.{variable}");
    let asks = |value: &String| Template::parse(value).is_ok_and(|value| value.has(variable) || value.has(&own));
    job.native.values().any(asks)
}

/// The key under `each` that a value stands under, so that all its values are one finding.
fn axis(sink: &Sink<'_, '_>, given: &Given) -> Option<Place> {
    let eaches = sink.input.sheet.jobs.iter().filter_map(|job| match &job.each {
        Some(Each::Table(axes)) => Some(axes),
        _ => None,
    });
    let own = |values: &[Given]| values.iter().any(|value| value.at == given.at);
    eaches.flatten().find(|(_, values)| own(values)).map(|(key, _)| key.at)
}

/// Entries of this very sheet that nothing uses. Those of sheets laid below may wait for other sheets.
fn entries(sink: &mut Sink<'_, '_>) {
    let sheet = sink.input.sheet;
    let own = |at: Place| at.file == sheet.file;
    let plans = || sink.input.rivals.iter().chain([sink.input.plan]);
    let likes = sheet.jobs.iter().filter_map(|job| job.like.as_ref());
    let likes = likes.chain(sheet.bases.iter().filter_map(|base| base.like.as_ref()));
    let bases: BTreeSet<&str> = likes.map(|name| name.value.as_str()).collect();
    let mut formats: BTreeSet<&str> =
        sheet.movies.iter().filter_map(|movie| movie.format.as_ref()).map(|f| f.value.as_str()).collect();
    let mut passes: BTreeSet<&str> = BTreeSet::new();
    for job in plans().flat_map(|plan: &Plan| &plan.jobs) {
        formats.extend(job.passes.iter().filter_map(|pass| pass.format.as_ref()).map(|f| f.name.value.as_str()));
        passes.extend(job.passes.iter().map(|pass| pass.name.value.as_str()));
    }
    // What jobs that are not enabled and layers that are laid over use is used, too.
    let layers = sheet.jobs.iter().map(|job| &job.settings).chain(sheet.modes.iter().map(|mode| &mode.settings));
    for settings in layers.chain(sheet.bases.iter().map(|base| &base.settings)).chain([&sheet.defaults]) {
        formats.extend(settings.text(&Key::Format));
        if let Some(Setting::Passes(list)) = settings.get(&Key::Passes).map(|given| &*given.value) {
            passes.extend(list.iter().map(|pass| pass.name.value.as_str()));
            formats.extend(list.iter().filter_map(|pass| pass.format.as_ref()).map(|format| format.value.as_str()));
        }
    }
    for job in &sheet.jobs {
        let rows: Vec<&Given> = match &job.each {
            None => Vec::new(),
            Some(Each::Table(axes)) => axes.iter().flat_map(|(_, values)| values).collect(),
            Some(Each::Rows(rows)) => rows.iter().flat_map(|row| row.values.values()).collect(),
        };
        formats.extend(rows.iter().filter_map(|given| match &*given.value {
            Setting::Text(text) => Some(text.as_str()),
            _ => None,
        }));
    }
    let unused = |names: Vec<(&'static str, &Spanned<String>)>, used: &BTreeSet<&str>| {
        let left = names.into_iter().filter(|(_, name)| own(name.at) && !used.contains(name.value.as_str()));
        left.map(|(what, name)| (what, name.clone())).collect::<Vec<_>>()
    };
    let mut found = unused(sheet.bases.iter().map(|base| ("base", &base.name)).collect(), &bases);
    found.extend(unused(sheet.formats.iter().map(|format| ("format", &format.name)).collect(), &formats));
    found.extend(unused(sheet.passes.iter().map(|pass| ("pass", &pass.name)).collect(), &passes));
    // A name that is misspelt where it is used is said there.
    let misspelt = sink.findings.iter().any(|finding| finding.check == Slug::NameUnknown);
    for (what, name) in found.into_iter().filter(|_| !misspelt) {
        sink.findings.add(Slug::EntryUnused, Some(name.at), None, wording::sheet::entry_unused(what, &name.value));
    }
}

/// Modes of this very sheet under which every job stays as it is.
fn modes(sink: &mut Sink<'_, '_>) {
    let (sheet, plan) = (sink.input.sheet, sink.input.plan);
    if plan.mode.is_some() || plan.jobs.is_empty() {
        return;
    }
    for mode in sheet.modes.iter().filter(|mode| mode.name.at.file == sheet.file) {
        let changes = |job: &Job| {
            let given = mode.settings.values.iter();
            let mut given = given.filter(|(key, _)| **key != Key::Frames);
            let frames = mode.settings.get(&Key::Frames).is_some();
            let differs = given.any(|(key, new)| job.given.get(key).is_none_or(|old| old.value != new.value));
            frames || differs || mode.settings.leave.keys().any(|key| job.given.get(key).is_some())
        };
        if mode.settings.unread.is_empty() && !plan.jobs.iter().any(|job| changes(job)) {
            let words = wording::sheet::mode_changes_nothing(&mode.name.value);
            sink.findings.add(Slug::ModeChangesNothing, Some(mode.name.at), None, words);
        }
    }
}
