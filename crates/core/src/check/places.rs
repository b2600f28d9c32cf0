//! Places: where outputs may lie and where never.

use std::collections::{BTreeSet, HashMap, HashSet};

use crate::diagnostic::{Slug, nearest};
use crate::plan::{Plan, Series};
use crate::resolve::paths;
use crate::source::Spanned;
use crate::template::Piece;

use super::{Sink, wording};

pub fn check(sink: &mut Sink<'_, '_>) {
    let is_known = within_known(sink);
    let inputs = Inputs::of(sink.input.plan);
    for series in sink.series().filter(|series| !series.pattern.pieces().is_empty()) {
        if is_known {
            within(sink, series);
        }
        never(sink, series);
        if let Some(input) = inputs.hit(series) {
            let job = sink.job(series);
            sink.add(
                Slug::OutputIsInput,
                series.path.as_ref().map(|path| path.at),
                job,
                wording::places::output_is_input(&input),
            );
        }
    }
}

/// Scenes and their resources by folder, each once.
struct Inputs {
    by_folder: HashMap<String, BTreeSet<String>>,
}

impl Inputs {
    fn of(plan: &Plan) -> Inputs {
        let mut by_folder: HashMap<String, BTreeSet<String>> = HashMap::new();
        let mut seen = HashSet::new();
        for job in &plan.jobs {
            let Some(scene) = job.scene.as_ref().map(|scene| scene.value.as_str()).filter(|scene| seen.insert(*scene))
            else {
                continue;
            };
            let folder = paths::parent(scene);
            let resources = job.facts.iter().flat_map(|facts| facts.files()).map(|resource| {
                if paths::is_absolute(resource) {
                    resource.clone()
                } else {
                    paths::tidy(&format!("{folder}/{resource}"))
                }
            });
            for input in resources.chain([scene.to_owned()]) {
                by_folder.entry(paths::parent(&input).to_owned()).or_default().insert(input);
            }
        }
        Inputs { by_folder }
    }

    /// An input that is also a name of a series.
    fn hit(&self, series: &Series) -> Option<String> {
        let (folder, _) = series.pattern.split_folder();
        let names = |input: &&String| {
            series
                .pattern
                .read(input)
                .is_some_and(|number| series.pattern.frame_width().is_none() || series.frame_of(number).is_some())
        };
        // Only where the folder itself holds a frame, every folder may be meant.
        let found = match folder.fixed() {
            Some(folder) => self.by_folder.get(folder.trim_end_matches('/'))?.iter().find(names),
            None => self.by_folder.values().flatten().find(names),
        };
        found.cloned()
    }
}

/// Whether every root that the policy names is one.
fn within_known(sink: &mut Sink<'_, '_>) -> bool {
    let roots = &sink.input.plan.roots;
    let unknown = |name: &&Spanned<String>| !roots.iter().any(|root| root.name == name.value);
    let lost: Vec<&Spanned<String>> = sink.input.sheet.policy.within.iter().flatten().filter(unknown).collect();
    for name in &lost {
        let near = nearest(&name.value, roots.iter().map(|root| root.name.as_str()));
        sink.findings.add(Slug::NameUnknown, Some(name.at), None, wording::places::no_root(name, near));
    }
    lost.is_empty()
}

fn within(sink: &mut Sink<'_, '_>, series: &Series) {
    let roots = &sink.input.plan.roots;
    let allowed = sink.input.sheet.policy.within.as_deref();
    let root = series.root.map(|root| roots[root].name.as_str());
    let fits = match (root, allowed) {
        (Some(root), Some(allowed)) => allowed.iter().any(|name| name.value == root),
        (root, None) => root.is_some(),
        (None, Some(_)) => false,
    };
    if !fits {
        let names: Vec<&str> = match allowed {
            Some(allowed) => allowed.iter().map(|name| name.value.as_str()).collect(),
            None => roots.iter().map(|root| root.name.as_str()).collect(),
        };
        let job = sink.job(series);
        let place = fixed_folder(series);
        sink.add(
            Slug::OutsidePolicy,
            series.path.as_ref().map(|path| path.at),
            job,
            wording::places::outside_policy(place, root, &names),
        );
    }
}

/// The folder that all names of a series share.
fn fixed_folder(series: &Series) -> &str {
    match series.pattern.pieces().first() {
        Some(Piece::Text(text)) => paths::parent(text),
        _ => "",
    }
}

fn never(sink: &mut Sink<'_, '_>, series: &Series) {
    let home = &sink.input.plan.home;
    let folder = fixed_folder(series);
    let at = series.path.as_ref().map(|path| path.at);
    let job = sink.job(series);
    if format!("{}/", series.pattern.with_frame(|_| "0".to_owned())).contains("/.truepath/") {
        sink.add(
            Slug::NeverFolder,
            at,
            job,
            wording::places::never_folder(folder, "a folder .truepath, which is True Path's own"),
        );
        return;
    }
    for never in &sink.input.sheet.policy.never {
        let path = paths::absolute(&never.value, never.at, home);
        if paths::is_below(folder, &path) {
            sink.add(
                Slug::NeverFolder,
                at,
                job,
                wording::places::never_folder(folder, &path).also(never.at, "excluded here"),
            );
        }
    }
    let Some(machine) = sink.input.machine else { return };
    if paths::is_below(folder, &home.folder) {
        return;
    }
    let bare_home = home.user.as_deref().filter(|user| *user == folder);
    let temporary = machine.temporary.iter().map(String::as_str).find(|temporary| paths::is_below(folder, temporary));
    if let Some(never) = bare_home.or(temporary) {
        sink.add(Slug::NeverFolder, at, job, wording::places::never_folder(folder, never));
    }
}
