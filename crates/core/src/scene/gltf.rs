//! glTF 2.0, `.gltf` and `.glb`: camera names, times of the first and the last key, outside buffers and images.
//!
//! Only the JSON is looked at. The bounds of an animation's times stand in its input accessor (glTF 2.0, 3.11: `min` and
//! `max` are required there), so that no buffer has to be read.

use crate::flaw::Flaw;
use std::collections::BTreeMap;

use serde_json::Value;

use super::Facts;

pub fn read(bytes: &[u8]) -> Result<Facts, Flaw> {
    // Some damaged lengths make the parser panic: that is damage, too.
    let parsed = std::panic::catch_unwind(|| gltf::Gltf::from_slice_without_validation(bytes));
    let file = parsed.map_err(|_| "the lengths in it contradict each other")?.map_err(Flaw::of)?;
    let root = file.document.as_json();
    let mut cameras = Vec::new();
    for node in &root.nodes {
        let Some(index) = &node.camera else { continue };
        let own = root.get(*index).and_then(|camera| camera.name.clone());
        cameras.push(node.name.clone().or(own).unwrap_or_else(|| format!("camera{}", index.value())));
    }
    let bound = |bound: &Option<Value>| bound.as_ref()?.as_array()?.first()?.as_f64().filter(|at| at.is_finite());
    let times = root.animations.iter().flat_map(|animation| &animation.samplers).filter_map(|sampler| {
        let accessor = root.get(sampler.input)?;
        Some((bound(&accessor.min).unwrap_or(0.0), bound(&accessor.max)?))
    });
    // A single key holds a pose, wherever its time is.
    let keys = times.filter(|(first, last)| first < last).reduce(|a, b| (a.0.min(b.0), a.1.max(b.1)));
    let buffers = root.buffers.iter().filter_map(|buffer| buffer.uri.clone());
    let images = root.images.iter().filter_map(|image| image.uri.clone());
    let resources = buffers.chain(images).filter(|uri| !uri.starts_with("data:")).collect();
    Ok(Facts { cameras: Some(cameras), keys, resources, ..Facts::default() })
}

/// The same document with other `uri`s of buffers and images.
pub fn respelt(bytes: &[u8], to: &BTreeMap<String, String>) -> Option<Vec<u8>> {
    let mut document: Value = serde_json::from_slice(bytes).ok()?;
    for group in ["buffers", "images"] {
        for entry in document.get_mut(group).and_then(Value::as_array_mut).into_iter().flatten() {
            if let Some(uri) = entry.get_mut("uri")
                && let Some(new) = uri.as_str().and_then(|old| to.get(old))
            {
                *uri = Value::String(new.clone());
            }
        }
    }
    serde_json::to_vec(&document).ok()
}
