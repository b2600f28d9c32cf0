//! Settings as what they are: typed, and with what is usual where nothing was said.

use std::collections::BTreeMap;

use crate::sheet::{Checkpoint, Key, Layers, Setting, Settings, Version};

/// The version that a job asks for.
pub fn version_of(given: &Settings) -> Option<Version> {
    match given.value(&Key::Version) {
        Some(Setting::Version(version)) => Some(*version),
        _ => None,
    }
}

/// How often a renderer is to save what it has.
pub fn checkpoint_of(given: &Settings) -> Option<Checkpoint> {
    match given.value(&Key::Checkpoint) {
        Some(Setting::Checkpoint(checkpoint)) => Some(*checkpoint),
        _ => None,
    }
}

/// Whether passes share files.
pub fn layers_of(given: &Settings) -> Layers {
    match given.value(&Key::Layers) {
        Some(Setting::Layers(layers)) => *layers,
        _ => Layers::Apart,
    }
}

/// Texts under keys that have names of their own: variables and the like.
pub fn texts_of(given: &Settings, pick: fn(&Key) -> Option<&String>) -> BTreeMap<String, String> {
    let own = given.values.iter().filter_map(|(key, given)| match (&*given.value, pick(key)) {
        (Setting::Text(value), Some(name)) => Some((name.clone(), value.clone())),
        _ => None,
    });
    own.collect()
}
