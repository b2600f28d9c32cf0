//! `scene`: the facts of a scene, and which of its files are missing.

use std::path::Path;

use serde_json::{Value, json};
use truepath_core::scene::{Facts, RenderProduct};
use truepath_core::sheet::Fps;

use crate::args::SceneArgs;
use crate::pipeline::load;
use truepath_exec::failure::Failure;

use crate::exit_code::Exit;
use crate::lower::{Around, Screen};
use crate::show::{self, paint, state};

/// Prints what is known about each scene. A missing scene or resource makes the answer no.
pub fn run(args: &SceneArgs, around: &Around) -> Result<Exit, Failure> {
    let fps = match &args.fps {
        None => None,
        Some(text) => {
            let (frames, seconds) = text.split_once('/').unwrap_or((text, "1"));
            let fps =
                frames.parse().ok().zip(seconds.parse().ok()).and_then(|(frames, seconds)| Fps::new(frames, seconds));
            Some(fps.ok_or_else(|| {
                Failure::unreadable(format!("--fps {text} is not a whole number or a fraction such as 24000/1001"))
            })?)
        }
    };
    let mut exit = Exit::Well;
    let mut documents = Vec::new();
    for path in &args.scenes {
        let read = load::facts(path)
            .map_err(|error| Failure::unreadable(format!("cannot read {}: {error}", path.display())))?;
        let missing = load::missing(path, &read.facts);
        if !missing.is_empty() || read.damaged.is_some() {
            exit = Exit::No;
        }
        if args.json {
            documents.push(document(path, &read, &missing, fps));
        } else {
            show::print(&text(path, &read, &missing, (fps, around)))?;
        }
    }
    if args.json {
        show::print_exact(&show::json::text(&json!({ "truepath": 1, "scenes": documents })))?;
    }
    Ok(exit)
}

fn frames(facts: &Facts, fps: Option<Fps>) -> Option<String> {
    facts.frames(fps).map(|frames| frames.to_string())
}

fn document(path: &Path, read: &load::ReadScene, missing: &[String], fps: Option<Fps>) -> Value {
    let facts = &read.facts;
    json!({
        "path": std::path::absolute(path).unwrap_or_else(|_| path.to_owned()), "source": read.source, "damaged": read.damaged,
        "cameras": facts.cameras, "frames": frames(facts, fps), "seconds": facts.length(), "fps": facts.fps.map(|fps| fps.to_string()),
        "size": facts.size.map(|size| size.to_string()), "passes": facts.passes, "resources": facts.files().collect::<Vec<_>>(), "missing": missing,
        "variables": facts.variables, "unsaved": facts.unsaved,
        "products": facts.products.iter().map(product).collect::<Vec<_>>(),
    })
}

fn product(product: &RenderProduct) -> Value {
    json!({
        "name": product.name, "file": product.file, "size": product.size.map(|size| size.to_string()),
        "camera": product.camera, "variables": product.variables,
    })
}

fn text(path: &Path, read: &load::ReadScene, missing: &[String], (fps, around): (Option<Fps>, &Around)) -> String {
    let (facts, screen) = (&read.facts, around.out);
    let unknown = || paint(screen, show::QUIET, "unknown");
    let list = |list: &Option<Vec<String>>| match list {
        Some(list) if list.is_empty() => "none".to_owned(),
        Some(list) => list.join(", "),
        None => unknown(),
    };
    let mut out =
        format!("{}  {}\n", paint(screen, show::HEAD, path.display()), paint(screen, show::QUIET, read.source));
    if let Some(why) = &read.damaged {
        out.push_str(&format!("  {} {why}\n", state(screen, show::BAD, "cannot be read:")));
    }
    let length = match (frames(facts, fps), facts.length()) {
        (Some(frames), _) => frames,
        (None, Some(seconds)) => {
            format!("{} seconds; add --fps to see frames", (seconds * 1000.0).round() / 1000.0)
        }
        (None, None) => unknown(),
    };
    let rate = match (facts.fps, fps) {
        (Some(fps), _) => fps.to_string(),
        (None, Some(given)) => format!("{given} (from --fps)"),
        (None, None) => unknown(),
    };
    let rows = [
        ("cameras", list(&facts.cameras)),
        ("frames", length),
        ("fps", rate),
        ("size", facts.size.map_or_else(unknown, |size| size.to_string())),
        ("passes", list(&facts.passes)),
    ];
    for (name, value) in rows {
        out.push_str(&format!("  {name:<9}  {value}\n"));
    }
    if facts.variables.is_some() {
        out.push_str(&format!("  {:<9}  {}\n", "variables", list(&facts.variables)));
    }
    if let Some(unsaved) = &facts.unsaved {
        out.push_str(&format!("  {:<9}  {}\n", "unsaved", state(screen, show::BAD, unsaved)));
    }
    out.push_str(&belongings(facts, missing, screen));
    out.push('\n');
    out
}

/// What a scene makes, and the files that it needs.
fn belongings(facts: &Facts, missing: &[String], screen: Screen) -> String {
    let mut out = String::new();
    for (at, product) in facts.products.iter().enumerate() {
        let parts = [
            product.file.clone(),
            product.size.map(|size| size.to_string()),
            product.camera.clone(),
            (!product.variables.is_empty()).then(|| product.variables.join(", ")),
        ];
        let parts: Vec<String> = parts.into_iter().flatten().collect();
        let head = if at == 0 { "products" } else { "" };
        out.push_str(&format!("  {head:<9}  {}: {}\n", product.name, parts.join("; ")));
    }
    for (at, resource) in facts.files().enumerate() {
        let state = if missing.contains(resource) {
            state(screen, show::BAD, "missing")
        } else {
            state(screen, show::GOOD, "there")
        };
        out.push_str(&format!("  {:<9}  {state}  {resource}\n", if at == 0 { "resources" } else { "" }));
    }
    out
}
