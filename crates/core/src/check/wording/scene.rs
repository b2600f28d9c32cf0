//! Words about scenes.

use crate::diagnostic::Words;
use crate::source::{Place, Spanned};

use super::listed;

pub fn scene_missing(path: &str, near: Option<&str>, at: Option<Place>) -> Words {
    let words = Words::new(format!("the scene {path} does not exist"), "this file does not exist");
    match (near, at) {
        (Some(near), Some(at)) => words.help(format!("there is {near}")).fix(at, near),
        _ => words.help("a relative path starts at the sheet's own folder"),
    }
}

pub fn scene_damaged(path: &str, why: &str) -> Words {
    Words::new(format!("the scene {path} cannot be read"), why.to_owned()).help("export it again")
}

pub fn resource_missing(scene: &str, resource: &str) -> Words {
    Words::new(format!("the scene {scene} needs {resource}, which does not exist"), "needed by this scene")
        .help("copy the file to this path, or correct the path in the scene")
}

pub fn camera_not_in_scene(camera: &str, cameras: &[String], near: Option<&str>, at: Option<Place>) -> Words {
    let has =
        if cameras.is_empty() { "the scene has no cameras".to_owned() } else { format!("it has {}", listed(cameras)) };
    let words = Words::new(format!("the scene has no camera `{camera}`"), has);
    match (near, at) {
        (Some(near), Some(at)) => words.help(format!("write \"{near}\"")).fix(at, near),
        _ => words.help("a name must match in every character, case included"),
    }
}

pub fn scene_unsaved(scene: &str, newer: &str) -> Words {
    Words::new(format!("{newer} is newer than the scene {scene}"), "unsaved changes would not be rendered")
        .help("save the scene, or delete the copy")
}

pub fn resource_path(resource: &str, private: bool) -> Words {
    let words = if private {
        Words::new(format!("the scene needs {resource}, which other machines cannot read"), "needed by this scene")
    } else {
        Words::new(format!("the scene needs {resource} by its absolute path"), "needed by this scene")
    };
    words.help("put the file beside the scene, and use a relative path in the scene")
}

pub fn pass_not_in_scene(pass: &Spanned<String>, passes: &[String]) -> Words {
    let words = Words::new(format!("the scene has no pass `{}`", pass.value), format!("it has {}", listed(passes)));
    match crate::diagnostic::nearest(&pass.value, passes.iter().map(String::as_str)) {
        Some(near) => words.help(format!("write \"{near}\"")).fix(pass.at, near),
        None => words.help("remove it, or add it to the scene"),
    }
}

pub fn variable_not_in_scene(name: &str, known: &[String]) -> Words {
    let label = if known.is_empty() { "it has none".to_owned() } else { format!("it has {}", listed(known)) };
    let words = Words::new(format!("the scene has no variable `{name}`"), label);
    match crate::diagnostic::nearest(name, known.iter().map(String::as_str)) {
        Some(near) => words.help(format!("write vars.{near}")),
        None => words.help("remove it, or add it to the scene"),
    }
}
