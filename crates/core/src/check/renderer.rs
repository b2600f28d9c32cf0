//! The renderer: promise 3, that nothing a job gives is silently ignored.

use crate::adapter::Adapter;
use crate::resolve::{Job, paths};
use crate::sheet::{Key, Layer};

use super::{Sink, wording};

pub fn check(sink: &mut Sink<'_, '_>) {
    for job in &sink.input.plan.jobs {
        let Some(name) = job.settings.text(&Key::Adapter) else { continue };
        let at = job.settings.place(&Key::Adapter);
        let Some(adapter) = sink.input.adapters.get(name) else {
            let near = crate::diagnostic::nearest(name, sink.input.adapters.keys().map(String::as_str));
            sink.add("name-unknown", at, job, wording::adapter_unknown(name, near, at));
            continue;
        };
        settings(sink, job, adapter);
        if let Some(scene) = &job.scene {
            let extension = paths::file_name(&scene.value)
                .rsplit_once('.')
                .map_or("", |(_, extension)| extension)
                .to_ascii_lowercase();
            if !adapter.scenes.is_empty() && !adapter.scenes.contains(&extension) {
                sink.add("scene-not-accepted", Some(scene.at), job, wording::scene_not_accepted(&extension, adapter));
            }
        }
    }
}

fn settings(sink: &mut Sink<'_, '_>, job: &Job, adapter: &Adapter) {
    for (key, given) in &job.settings.values {
        // A variable that some template uses is used; a built-in value was not asked for by anyone.
        let in_template = matches!(key, Key::Var(name) if job.passes.iter().filter_map(|pass| pass.path.as_ref()).any(|path| path.value.has(name)));
        if given.layer != Layer::BuiltIn && !in_template && !adapter.carries(key) {
            sink.add("setting-not-carried", given.at, job, wording::setting_not_carried(key, adapter));
        }
    }
    for pass in &job.passes {
        let Some(format) = pass.format.as_deref() else { continue };
        let options = [
            ("bits", format.bits.as_ref().map(|bits| bits.at)),
            ("channels", format.channels.as_ref().map(|channels| channels.at)),
            ("compression", format.compression.as_ref().map(|compression| compression.at)),
            ("quality", format.quality.as_ref().map(|quality| quality.at)),
        ];
        for (name, at) in options {
            if at.is_some() && !adapter.uses(name) {
                sink.add("setting-not-carried", at, job, wording::option_not_carried(name, adapter));
            }
        }
    }
}
