//! The scene: there, readable, with the camera asked for and the files it needs.

use std::collections::HashSet;

use crate::diagnostic::nearest;
use crate::sheet::Key;

use super::{Sink, wording};

pub fn check(sink: &mut Sink<'_, '_>) {
    let mut seen = HashSet::new();
    for job in &sink.input.plan.jobs {
        let Some(scene) = &job.scene else { continue };
        // A scene that many jobs share is looked at once.
        if let Some(machine) = sink.input.machine.filter(|_| seen.insert(scene.value.as_str())) {
            if machine.missing.contains(&scene.value) {
                sink.add("scene-missing", Some(scene.at), job, wording::scene_missing(&scene.value));
            }
            if let Some(why) = machine.damaged.get(&scene.value) {
                sink.add("scene-damaged", Some(scene.at), job, wording::scene_damaged(&scene.value, why));
            }
            for resource in machine.resources.get(&scene.value).into_iter().flatten() {
                sink.add("resource-missing", Some(scene.at), job, wording::resource_missing(&scene.value, resource));
            }
        }
        let cameras = job.facts.as_ref().and_then(|facts| facts.cameras.as_deref());
        let (Some(cameras), Some(camera)) = (cameras, job.settings.text(&Key::Camera)) else { continue };
        if !cameras.iter().any(|known| known == camera) {
            let near = nearest(camera, cameras.iter().map(String::as_str));
            let at = job.settings.place(&Key::Camera);
            sink.add("camera-not-in-scene", at, job, wording::camera_not_in_scene(camera, cameras, near, at));
        }
    }
}
