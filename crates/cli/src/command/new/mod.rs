//! `new`: writes a starter sheet, commented, with the folders it names.

use std::io::Write;
use std::path::{Path, PathBuf};

use truepath_core::scene;
use truepath_core::template::slug;

use crate::args::New;
use crate::effect::load::SHEET;
use crate::exit_code::{Exit, Failure};
use crate::show;

/// The starter.
const TEXT: &str = include_str!("starter.toml");

/// Writes the sheet for the first scene found in the folder or its `scenes`. A sheet that is there is never touched.
pub fn run(args: &New) -> Result<Exit, Failure> {
    let folder = &args.folder;
    for made in [folder.clone(), folder.join("scenes"), folder.join("renders")] {
        std::fs::create_dir_all(&made).map_err(|error| Failure::machine("make the folder", &made, &error))?;
    }
    let path = folder.join(SHEET);
    let found = first_scene(folder);
    let body = body(folder, found.as_deref());
    match std::fs::File::create_new(&path).and_then(|mut file| file.write_all(body.as_bytes())) {
        Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => {
            return Err(Failure::unreadable(format!("{} is there already", path.display()))
                .help("name another folder: truepath new DIR"));
        }
        Err(error) => return Err(Failure::machine("write", &path, &error)),
        Ok(()) => {}
    }
    let next = match found {
        Some(scene) => format!("It renders {}. Next: truepath names -f {}", scene.display(), path.display()),
        None => "Put a scene into the folder scenes, name it in the sheet, then: truepath check".to_owned(),
    };
    show::print(&format!("{} is written.\n{next}\n", path.display()))?;
    Ok(Exit::Well)
}

/// The first glTF scene, relative to the folder.
fn first_scene(folder: &Path) -> Option<PathBuf> {
    let scenes = |sub: &str| {
        let entries = std::fs::read_dir(folder.join(sub)).into_iter().flatten().filter_map(Result::ok);
        let names = entries.map(|entry| Path::new(sub).join(entry.file_name()));
        names.filter(|name| name.extension().is_some_and(|extension| extension == "gltf" || extension == "glb")).min()
    };
    scenes("scenes").or_else(|| scenes(""))
}

fn body(folder: &Path, scene: Option<&Path>) -> String {
    let project = std::fs::canonicalize(folder)
        .ok()
        .and_then(|folder| Some(slug(&folder.file_name()?.to_string_lossy())))
        .filter(|name| !name.is_empty());
    let cameras = scene.and_then(|scene| {
        let bytes = std::fs::read(folder.join(scene)).ok()?;
        scene::read(&scene.to_string_lossy(), &bytes).ok()?.cameras
    });
    let camera = match cameras.as_deref() {
        Some([first, others @ ..]) => {
            let others = if others.is_empty() {
                String::new()
            } else {
                format!("   # the scene also has {}", others.join(", "))
            };
            format!("camera = {}{others}", serde_json::Value::String(first.clone()))
        }
        _ => "# camera = \"main\"         # left out: the scene's own".to_owned(),
    };
    let job = scene
        .and_then(Path::file_stem)
        .map(|stem| stem.to_string_lossy().into_owned())
        .unwrap_or_else(|| "first".to_owned());
    let scene = scene.map_or_else(|| "scenes/first.gltf".to_owned(), |scene| scene.display().to_string());
    let quoted = |text: &str| serde_json::Value::String(text.to_owned()).to_string();
    TEXT.replace("\"@PROJECT@\"", &quoted(project.as_deref().unwrap_or("project")))
        .replace("\"@JOB@\"", &quoted(&job))
        .replace("\"@SCENE@\"", &quoted(&scene))
        .replace("@CAMERA@", &camera)
}
