//! One call to the arguments and the environment of its program.

use crate::template::expand_text;

use super::scope::ArgumentScope;
use super::spread::Delivered;
use super::written_file;

/// The arguments of a call.
#[must_use]
pub fn arguments(scope: &ArgumentScope<'_>) -> Vec<String> {
    let Some(first) = scope.outputs.first() else { return Vec::new() };
    let mut arguments = Vec::new();
    for argument in &scope.adapter.arguments {
        let times = if argument.is_of_pass() { scope.outputs.len() } else { 1 };
        for output in &scope.outputs[..times] {
            arguments.extend(scope.filled(output, |filling| filling.spread(std::slice::from_ref(argument))));
        }
    }
    arguments.extend(scope.pairs(first));
    arguments
}

/// What the command line of a call brings to its program, and what of it lacks a value.
#[must_use]
pub fn delivered(scope: &ArgumentScope<'_>) -> Delivered {
    let adapter = scope.adapter;
    let mut delivered = Delivered::default();
    for (at, output) in scope.outputs.iter().enumerate() {
        scope.filled(output, |filling| {
            for argument in adapter.arguments.iter().filter(|argument| at == 0 || argument.is_of_pass()) {
                delivered.follow(std::slice::from_ref(argument), filling);
            }
            for (_, template) in adapter.env.iter().filter(|_| at == 0) {
                delivered.optional(template, filling);
            }
            let once = adapter.folder.iter().chain(adapter.files.values().filter_map(|file| file.file.as_ref()));
            once.filter(|_| at == 0).for_each(|template| delivered.always(template, filling));
            if let Some(item) = adapter.pass_item.as_ref().filter(|_| adapter.uses("passes")) {
                delivered.always(item, filling);
            }
        });
    }
    if let Some(first) = scope.outputs.first() {
        delivered.tokens.extend(scope.pairs_told(first, &delivered.tokens));
    }
    written_file::deliver(scope, &mut delivered);
    delivered
}

/// The environment that a call adds to its surroundings: the adapter's, then the job's own.
#[must_use]
pub fn environment(scope: &ArgumentScope<'_>) -> Vec<(String, String)> {
    let Some(first) = scope.outputs.first() else { return Vec::new() };
    let own = scope.adapter.env.iter().filter_map(|(name, template)| {
        Some((name.clone(), expand_text(&template.value, &|name| scope.lookup(name, first))?))
    });
    let of_job = scope.job.env.iter().map(|(name, value)| (name.clone(), value.clone()));
    let mut all: Vec<(String, String)> = Vec::new();
    for (name, value) in own.chain(of_job) {
        all.retain(|(other, _)| *other != name);
        all.push((name, value));
    }
    all
}
