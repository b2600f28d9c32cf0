//! `new`: writes a starter sheet, commented, with the folders it names.

use std::io::Write;
use std::path::{Path, PathBuf};

use truepath_core::diagnostic::Findings;
use truepath_core::scene;
use truepath_core::sheet::{self, Key};
use truepath_core::source::FileId;
use truepath_core::template::slug;

use crate::args::NewArgs;
use crate::pipeline::load::{self, SHEET};
use truepath_exec::disk;
use truepath_exec::failure::Failure;

use crate::exit_code::Exit;
use truepath_core::resolve::paths::from_system as text_of;

use crate::lower::Surroundings;
use crate::show;

/// The starter.
const TEXT: &str = include_str!("starter.toml");

/// Writes the sheet for the first scene found in the folder or its `scenes`. A sheet that is there is never touched.
pub fn run(args: &NewArgs, around: &Surroundings) -> Result<Exit, Failure> {
    let folder = &args.folder;
    for made in [folder.clone(), folder.join("scenes"), folder.join("renders")] {
        std::fs::create_dir_all(&made).map_err(|error| Failure::machine("make the folder", &made, &error))?;
    }
    let path = folder.join(SHEET);
    let found = first_scene(folder);
    let body = match &args.from {
        None => body(folder, TEXT, found.as_deref()),
        Some(studio) => over_studio(folder, studio, found.as_deref(), around)?,
    };
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

/// A starter that is laid over a studio's sheet: only the tables that the studio leaves open are kept.
fn over_studio(folder: &Path, studio: &Path, scene: Option<&Path>, around: &Surroundings) -> Result<String, Failure> {
    let text = load::text(studio)?;
    let mut findings = Findings::default();
    let below = sheet::parse::sheet(FileId(0), &text, &mut findings);
    if findings.has_errors() {
        return Err(Failure::unreadable(format!("{} has mistakes of its own", studio.display()))
            .help(format!("see them with: truepath check -f {}", studio.display())));
    }
    // Of the starter only the tables and keys that the studio leaves open.
    let open = |key: &str| Key::parse(key).is_some_and(|key| below.defaults.get(&key).is_none());
    let lines = |header: &str| {
        let table = TEXT.split_once(&format!("\n{header}\n")).map_or("", |(_, rest)| rest);
        table
            .split("\n[")
            .next()
            .unwrap_or("")
            .lines()
            .filter(|line| !line.starts_with('#'))
            .map(str::to_owned)
            .collect::<Vec<_>>()
    };
    let mut rest = String::new();
    if below.roots.is_empty() {
        rest.push_str("[roots]\nrenders = \"renders\"\n\n");
    }
    let needs = ["adapter", "fps", "size", "path"];
    let root = below.roots.first().map_or("renders", |root| root.name.value.as_str());
    let defaults: Vec<String> = lines("[defaults]")
        .into_iter()
        .filter(|line| line.split_once(" =").is_some_and(|(key, _)| needs.contains(&key) && open(key)))
        .map(|line| {
            line.replace("{renders}", &format!("{{{root}}}")).replace("{version}/", "").replace("_{version}", "")
        })
        .map(|line| if below.defaults.get(&Key::Format).is_some() { line } else { line.replace("{ext}", "exr") })
        .collect();
    if !defaults.is_empty() {
        rest.push_str(&format!("[defaults]\n{}\n\n", defaults.join("\n")));
    }
    let job = TEXT.split_once("[[job]]").map_or("", |(_, rest)| rest.split("\n# What must hold").next().unwrap_or(""));
    let absolute = std::fs::canonicalize(studio).map_err(|error| Failure::machine("find", studio, &error))?;
    let base = std::fs::canonicalize(folder).unwrap_or_else(|_| around.folder.join(folder));
    let named = absolute.strip_prefix(&base).map_or_else(|_| absolute.clone(), Path::to_owned);
    let from = format!("sheet = 1\nfrom = [{}]\n", serde_json::Value::String(text_of(&named)));
    let starter = format!(
        "# Laid over what the studio agreed on; `truepath names --why` shows which value comes from where.\n{from}\n[project]\nname = \"@PROJECT@\"\n\n{rest}[[job]]{job}"
    );
    Ok(body(folder, &starter, scene))
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

fn body(folder: &Path, starter: &str, scene: Option<&Path>) -> String {
    let project = std::fs::canonicalize(folder)
        .ok()
        .and_then(|folder| Some(slug(&folder.file_name()?.to_string_lossy())))
        .filter(|name| !name.is_empty());
    let cameras = scene.and_then(|scene| {
        let bytes = disk::read(&folder.join(scene), load::MOST_LAYER).ok()?;
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
    starter
        .replace("\"@PROJECT@\"", &quoted(project.as_deref().unwrap_or("project")))
        .replace("\"@JOB@\"", &quoted(&job))
        .replace("\"@SCENE@\"", &quoted(&scene))
        .replace("@CAMERA@", &camera)
}
