//! `render`: the frames asked for, one after the other, each pass straight to the path it is given.

use std::path::PathBuf;

use crate::args::{Call, Misbehaviour};
use crate::raster::{self, View};
use crate::scene::{Camera, Scene};
use crate::write::{self, Layer, Options, Pass};
use crate::{Stop, frames, load, motion, say, still};

/// The passes that go into one file.
struct Target {
    path: String,
    passes: Vec<(String, Pass)>,
}

/// Renders everything that `call` asks for.
pub fn render(call: &Call) -> Result<(), Stop> {
    let (scene, _) = load::load(&call.scene)?;
    let camera = camera(&scene, call.camera.as_deref())?;
    let fps = rate(&call.fps)?;
    let (width, height) = size(&call.size)?;
    let targets = targets(&call.passes)?;
    let frames = match &call.frames {
        Some(text) => frames::parse(text)?,
        None => (1..=((f64::from(scene.seconds) * fps).round() as i64).max(1)).collect(),
    };
    let side = f64::from(call.samples.clamp(1, 64)).sqrt().ceil() as usize;
    let fog = call.variables.iter().any(|pair| pair == "weather=fog");
    for pair in &call.variables {
        say(std::io::stdout(), &format!("set {pair}"));
    }
    let pool =
        rayon::ThreadPoolBuilder::new().num_threads(call.threads).build().map_err(|e| Stop::because("threads", e))?;
    let odd = call.misbehave;
    let fault_at = call.at.or(frames.get(1).or(frames.first()).copied());
    if odd == Some(Misbehaviour::NoSeat) {
        say(std::io::stdout(), "waiting for a seat");
        return Err(Stop("no seat is free".to_owned()));
    }
    let mut again = Vec::new();
    let beyond = frames.last().map(|last| last + 1).filter(|_| odd == Some(Misbehaviour::Stray));
    for frame in frames.into_iter().chain(beyond) {
        let here = Some(frame) == fault_at;
        match odd {
            Some(Misbehaviour::ExitZero) => return Ok(()),
            Some(Misbehaviour::Hang) if here => loop {
                std::thread::sleep(std::time::Duration::from_secs(60));
            },
            Some(Misbehaviour::Skip) if here => continue,
            _ => {}
        }
        let (width, height) = if odd == Some(Misbehaviour::Size) && here {
            ((width / 2).max(1), (height / 2).max(1))
        } else {
            (width, height)
        };
        let seconds = ((frame as f64 - 1.0) / fps).clamp(0.0, f64::from(scene.seconds)) as f32;
        let world = motion::world(&scene, seconds);
        let view = View { camera, world: &world, width, height, side, fog };
        let pixels = pool.install(|| still::draw(&scene, &view, call, frame))?;
        say(std::io::stdout(), &format!("frame {frame}"));
        for target in &targets {
            let path = place(&target.path, (frame, &target.passes[0].0), odd);
            if let Some(folder) = path.parent().filter(|_| odd == Some(Misbehaviour::FolderPerPass)) {
                std::fs::create_dir_all(folder).map_err(|error| Stop::because(folder.display(), error))?;
            }
            let options = Options { call, width, height, far: raster::horizon(camera) };
            let layers: Vec<Layer> = target.passes.iter().map(|(name, pass)| Layer { name, pass: *pass }).collect();
            write::write(&path, &layers, &pixels, &options)?;
            if here && matches!(odd, Some(Misbehaviour::Cut | Misbehaviour::Crash)) {
                let whole = std::fs::read(&path).map_err(|error| Stop::because("cut", error))?;
                std::fs::write(&path, &whole[..whole.len() / 2]).map_err(|error| Stop::because("cut", error))?;
                if odd == Some(Misbehaviour::Crash) {
                    std::process::abort();
                }
            }
            if here && odd == Some(Misbehaviour::Again) {
                let bytes = std::fs::read(&path).map_err(|error| Stop::because("again", error))?;
                again.push((path.clone(), bytes));
            }
            say(std::io::stdout(), &format!("wrote {}", path.display()));
        }
    }
    if !again.is_empty() {
        // As a renderer would that comes back to a frame later.
        std::thread::sleep(std::time::Duration::from_millis(300));
    }
    for (path, bytes) in again {
        std::fs::write(&path, bytes).map_err(|error| Stop::because("again", error))?;
        say(std::io::stdout(), &format!("wrote {}", path.display()));
    }
    if odd == Some(Misbehaviour::ExitOne) {
        return Err(Stop("everything was written, and yet".to_owned()));
    }
    Ok(())
}

/// Where a frame of a pass goes: as asked, or as a renderer with a will of its own does it.
fn place(path: &str, (frame, pass): (i64, &str), odd: Option<Misbehaviour>) -> PathBuf {
    let (folder, file) = path.rsplit_once('/').unwrap_or((".", path));
    let (stem, extension) = file.rsplit_once('.').unwrap_or((file, ""));
    match odd {
        Some(Misbehaviour::OwnNames) => PathBuf::from(format!("{folder}/{pass}-{frame}.{extension}")),
        Some(Misbehaviour::NumbersAppended) => PathBuf::from(format!("{folder}/{stem}{frame:04}.{extension}")),
        Some(Misbehaviour::FolderPerPass) => {
            PathBuf::from(format!("{folder}/{}/{stem}_{frame:05}.{extension}", pass.to_uppercase()))
        }
        _ => numbered(path, frame),
    }
}

fn camera<'a>(scene: &'a Scene, name: Option<&str>) -> Result<&'a Camera, Stop> {
    let found = match name {
        Some(name) => scene.cameras.iter().find(|camera| camera.name == name),
        None => scene.cameras.first(),
    };
    found.ok_or_else(|| {
        let names: Vec<&str> = scene.cameras.iter().map(|camera| camera.name.as_str()).collect();
        Stop(format!("no camera '{}' in the scene; it has: {}", name.unwrap_or("*"), names.join(", ")))
    })
}

fn rate(text: &str) -> Result<f64, Stop> {
    let (over, under) = text.split_once('/').unwrap_or((text, "1"));
    let fps = over.parse::<f64>().ok().zip(under.parse::<f64>().ok()).map(|(over, under)| over / under);
    fps.filter(|fps| fps.is_finite() && *fps > 0.0)
        .ok_or_else(|| Stop(format!("fps '{text}' is not a positive number")))
}

fn size(text: &str) -> Result<(usize, usize), Stop> {
    let sides = text.split_once('x').and_then(|(w, h)| Some((w.parse::<usize>().ok()?, h.parse::<usize>().ok()?)));
    sides
        .filter(|(w, h)| (1..=32768).contains(w) && (1..=32768).contains(h))
        .ok_or_else(|| Stop(format!("size '{text}' is not WIDTHxHEIGHT within 1 to 32768")))
}

fn targets(pairs: &[String]) -> Result<Vec<Target>, Stop> {
    let mut targets: Vec<Target> = Vec::new();
    for pair in pairs {
        let (name, path) = pair.split_once('=').ok_or_else(|| Stop(format!("--pass '{pair}' is not NAME=PATH")))?;
        let pass = match name {
            "depth" => Pass::Depth,
            "normal" => Pass::Normal,
            "mask" => Pass::Mask,
            name if name.starts_with("beauty") => Pass::Beauty,
            _ => return Err(Stop(format!("no pass '{name}'; there are beauty, depth, mask, normal"))),
        };
        match targets.iter_mut().find(|target| target.path == path) {
            Some(target) => target.passes.push((name.to_owned(), pass)),
            None => targets.push(Target { path: path.to_owned(), passes: vec![(name.to_owned(), pass)] }),
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
