//! The scene: there, readable, saved, with the camera, passes, variables and files asked for.

use std::collections::HashSet;

use crate::diagnostic::{Slug, nearest};
use crate::resolve::{Job, paths};
use crate::scene::Facts;
use crate::sheet::Key;
use crate::source::Spanned;

use super::{Machine, Sink, wording};

pub fn check(sink: &mut Sink<'_, '_>) {
    let mut seen = HashSet::new();
    for job in &sink.input.plan.jobs {
        let Some(scene) = &job.scene else { continue };
        // A scene that many jobs share is looked at once.
        if let Some(machine) = sink.input.machine.filter(|_| seen.insert(scene.value.as_str())) {
            whole(sink, job, scene, machine);
        }
        let Some(facts) = &job.facts else { continue };
        asked(sink, job, facts);
    }
}

/// The scene itself and the files it needs.
fn whole(sink: &mut Sink<'_, '_>, job: &Job, scene: &Spanned<String>, machine: &Machine) {
    let (at, name) = (Some(scene.at), scene.value.as_str());
    if machine.missing.contains(name) {
        let home = &sink.input.plan.home;
        let near = machine.almost.get(name).map(|near| paths::seen_from(near, home.folder_of(scene.at)));
        let words = wording::scene::scene_missing(&paths::seen_from(name, &home.folder), near.as_deref(), at);
        sink.add(Slug::SceneMissing, at, job, words);
    }
    if let Some(why) = machine.damaged.get(name) {
        sink.add(Slug::SceneDamaged, at, job, wording::scene::scene_damaged(name, why));
    }
    for resource in machine.resources.get(name).into_iter().flatten() {
        sink.add(Slug::ResourceMissing, at, job, wording::scene::resource_missing(name, resource));
    }
    let unsaved = job.facts.as_ref().and_then(|facts| facts.unsaved.as_ref());
    if let Some(newer) = unsaved.or(machine.newer.get(name)) {
        sink.add(Slug::SceneUnsaved, at, job, wording::scene::scene_unsaved(name, newer));
    }
    let private = |path: &str| {
        let homes = ["/home/", "/Users/", "/root/"];
        let temporary = machine.temporary.iter().any(|folder| paths::is_below(path, folder));
        let inside = paths::is_below(path, &sink.input.plan.home.folder);
        (temporary || homes.iter().any(|home| path.starts_with(home))) && !inside
    };
    let resources = job.facts.iter().flat_map(|facts| facts.files()).filter(|path| paths::is_absolute(path));
    let resources: Vec<(&String, bool)> = resources.map(|path| (path, private(path))).collect();
    for (resource, private) in resources {
        let check = if private { Slug::ResourceNotShared } else { Slug::ResourceAbsolute };
        sink.add(check, at, job, wording::scene::resource_path(resource, private));
    }
}

/// What a job asks of its scene.
fn asked(sink: &mut Sink<'_, '_>, job: &Job, facts: &Facts) {
    if let (Some(cameras), Some(camera)) = (facts.cameras.as_deref(), job.camera.as_deref())
        && facts.has_camera(camera) == Some(false)
    {
        let near = nearest(camera, cameras.iter().map(String::as_str));
        let at = job.given.place(&Key::Camera);
        sink.add(Slug::CameraNotInScene, at, job, wording::scene::camera_not_in_scene(camera, cameras, near, at));
    }
    let given = job.given.place(&Key::Passes);
    for pass in job.passes.iter().filter(|_| given.is_some()) {
        if let Some(passes) = facts.passes.as_deref().filter(|known| !known.contains(&pass.name.value)) {
            let words = wording::scene::pass_not_in_scene(&pass.name, passes);
            sink.add(Slug::PassNotInScene, Some(pass.name.at), job, words);
        }
    }
    let handed = sink.adapter(job).is_some_and(|adapter| !adapter.variable.is_empty());
    let Some(known) = facts.variables.as_deref().filter(|_| handed) else { return };
    for (key, variable) in &job.given.values {
        let Key::Var(name) = key else { continue };
        let in_path = job.passes.iter().filter_map(|pass| pass.path.as_ref()).any(|path| path.value.has(name));
        if !in_path && !known.contains(name) {
            let words = wording::scene::variable_not_in_scene(name, known);
            sink.add(Slug::VariableNotInScene, variable.at, job, words);
        }
    }
}
