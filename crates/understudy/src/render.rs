//! `render`: the frames asked for, one after the other, each pass straight to the path it is given.

use std::path::PathBuf;

use crate::args::{FileOptions, PassFile, RenderCall};
use crate::raster::{self, View};
use crate::scene::{Camera, Scene};
use crate::write::{self, PassLayer, PictureHead, RenderPass};
use crate::{EarlyEnd, frames, load, motion, say, still};

/// The passes that go into one file.
struct PassTarget {
    path: String,
    passes: Vec<(String, RenderPass, FileOptions)>,
}

/// Renders everything that `call` asks for.
pub fn render(call: &RenderCall) -> Result<(), EarlyEnd> {
    let (scene, _) = load::load(&call.scene)?;
    let camera = camera(&scene, call.camera.as_deref())?;
    let fps = rate(&call.fps)?;
    let (width, height) = size(&call.size)?;
    let targets = targets(&call.files.0)?;
    let frames = match &call.frames {
        Some(text) => frames::parse(text)?,
        None => {
            let (first, last) = scene.keys.unwrap_or_default();
            (scene.frame(first, fps)..=scene.frame(last, fps)).collect()
        }
    };
    let side = f64::from(call.samples.clamp(1, 64)).sqrt().ceil() as usize;
    let fog = call.variables.iter().any(|pair| pair == "weather=fog");
    for pair in &call.variables {
        say(std::io::stdout(), &format!("set {pair}"));
    }
    let pool = rayon::ThreadPoolBuilder::new()
        .num_threads(call.threads)
        .build()
        .map_err(|e| EarlyEnd::because("threads", e))?;
    for frame in frames {
        let world = motion::world(&scene, scene.time(frame, fps));
        let view = View { camera, world: &world, width, height, side, fog };
        let pixels = pool.install(|| still::draw(&scene, &view, call, frame))?;
        say(std::io::stdout(), &format!("frame {frame}"));
        for target in &targets {
            let path = numbered(&target.path, frame);
            let picture = PictureHead { width, height, far: raster::horizon(camera) };
            let layers: Vec<PassLayer> =
                target.passes.iter().map(|(name, pass, options)| PassLayer { name, pass: *pass, options }).collect();
            write::write(&path, &layers, &pixels, &picture)?;
            say(std::io::stdout(), &format!("wrote {}", path.display()));
        }
    }
    Ok(())
}

fn camera<'a>(scene: &'a Scene, name: Option<&str>) -> Result<&'a Camera, EarlyEnd> {
    let found = match name {
        Some(name) => scene.cameras.iter().find(|camera| camera.name == name),
        None => scene.cameras.first(),
    };
    found.ok_or_else(|| {
        let names: Vec<&str> = scene.cameras.iter().map(|camera| camera.name.as_str()).collect();
        EarlyEnd(format!("no camera '{}' in the scene; it has: {}", name.unwrap_or("*"), names.join(", ")))
    })
}

fn rate(text: &str) -> Result<f64, EarlyEnd> {
    let (over, under) = text.split_once('/').unwrap_or((text, "1"));
    let fps = over.parse::<f64>().ok().zip(under.parse::<f64>().ok()).map(|(over, under)| over / under);
    fps.filter(|fps| fps.is_finite() && *fps > 0.0)
        .ok_or_else(|| EarlyEnd(format!("fps '{text}' is not a positive number")))
}

fn size(text: &str) -> Result<(usize, usize), EarlyEnd> {
    let sides = text.split_once('x').and_then(|(w, h)| Some((w.parse::<usize>().ok()?, h.parse::<usize>().ok()?)));
    sides
        .filter(|(w, h)| (1..=32768).contains(w) && (1..=32768).contains(h))
        .ok_or_else(|| EarlyEnd(format!("size '{text}' is not WIDTHxHEIGHT within 1 to 32768")))
}

fn targets(files: &[PassFile]) -> Result<Vec<PassTarget>, EarlyEnd> {
    let mut targets: Vec<PassTarget> = Vec::new();
    for PassFile { pass: pair, options } in files {
        let (name, path) = pair.split_once('=').ok_or_else(|| EarlyEnd(format!("--pass '{pair}' is not NAME=PATH")))?;
        let pass = match name {
            "depth" => RenderPass::Depth,
            "normal" => RenderPass::Normal,
            "mask" => RenderPass::Mask,
            name if name.starts_with("beauty") => RenderPass::Beauty,
            _ => return Err(EarlyEnd(format!("no pass '{name}'; there are beauty, depth, mask, normal"))),
        };
        match targets.iter_mut().find(|target| target.path == path) {
            Some(target) => target.passes.push((name.to_owned(), pass, options.clone())),
            None => targets
                .push(PassTarget { path: path.to_owned(), passes: vec![(name.to_owned(), pass, options.clone())] }),
        }
    }
    Ok(targets)
}

/// The last run of `#` in `path` becomes the frame, padded to the run's length.
fn numbered(path: &str, frame: i64) -> PathBuf {
    let Some(end) = path.rfind('#').map(|at| at + 1) else { return PathBuf::from(path) };
    let start = path[..end].trim_end_matches('#').len();
    let sign = if frame < 0 { "-" } else { "" };
    PathBuf::from(format!(
        "{}{sign}{:0width$}{}",
        &path[..start],
        frame.unsigned_abs(),
        &path[end..],
        width = end - start
    ))
}
