//! Places: where outputs may lie and where never.

use crate::plan::Series;
use crate::resolve::paths;
use crate::template::Piece;

use super::{Sink, wording};

pub fn check(sink: &mut Sink<'_, '_>) {
    let scenes: Vec<String> = sink
        .input
        .plan
        .jobs
        .iter()
        .filter_map(|job| {
            let scene = &job.scene.as_ref()?.value;
            let folder = paths::parent(scene);
            let resources = job.facts.iter().flat_map(|facts| &facts.resources).map(|resource| {
                if paths::is_absolute(resource) {
                    resource.clone()
                } else {
                    paths::tidy(&format!("{folder}/{resource}"))
                }
            });
            Some(std::iter::once(scene.clone()).chain(resources).collect::<Vec<_>>())
        })
        .flatten()
        .collect();
    for series in sink.series().filter(|series| !series.pattern.pieces().is_empty()) {
        within(sink, series);
        never(sink, series);
        for input in &scenes {
            let hit = series.pattern.read(input).is_some_and(|number| {
                series.pattern.frame_width().is_none()
                    || series.numbers().is_some_and(|numbers| numbers.contains(number))
            });
            if hit {
                let job = sink.job(series);
                sink.add(
                    "output-is-input",
                    series.path.as_ref().map(|path| path.at),
                    job,
                    wording::output_is_input(input),
                );
            }
        }
    }
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
            "outside-policy",
            series.path.as_ref().map(|path| path.at),
            job,
            wording::outside_policy(place, root, &names),
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
    for never in &sink.input.sheet.policy.never {
        let path = paths::absolute(&never.value, never.at, home);
        if paths::is_below(folder, &path) {
            sink.add("never-folder", at, job, wording::never_folder(folder, &path).also(never.at, "forbidden here"));
        }
    }
    let Some(machine) = sink.input.machine else { return };
    if paths::is_below(folder, &home.folder) {
        return;
    }
    let bare_home = home.user.as_deref().filter(|user| *user == folder);
    let temporary = machine.temporary.iter().map(String::as_str).find(|temporary| paths::is_below(folder, temporary));
    if let Some(never) = bare_home.or(temporary) {
        sink.add("never-folder", at, job, wording::never_folder(folder, never));
    }
}
