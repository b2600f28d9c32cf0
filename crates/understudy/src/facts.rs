//! `facts`: what the understudy can say about a scene, as one JSON object.

use std::path::Path;

use serde_json::json;

use crate::{EarlyEnd, load, say};

/// Prints cameras, passes and outside files. glTF knows seconds and no frame rate, so frames, fps and size are null.
pub fn print(path: &Path) -> Result<(), EarlyEnd> {
    let (scene, resources) = load::load(path)?;
    let cameras: Vec<&str> = scene.cameras.iter().map(|camera| camera.name.as_str()).collect();
    let facts = json!({
        "cameras": cameras, "frames": null, "fps": null, "size": null, "seconds": scene.keys.map(|(first, last)| [first, last]),
        "passes": ["beauty", "depth", "mask", "normal"], "variables": ["weather"], "resources": resources, "unsaved": null,
    });
    say(std::io::stdout(), &facts.to_string());
    Ok(())
}
