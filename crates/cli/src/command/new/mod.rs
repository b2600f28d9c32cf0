//! `new`: writes a starter sheet, commented, with the folders it names.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use truepath_core::diagnostic::Findings;
use truepath_core::scene;
use truepath_core::sheet::{self, Key, Setting, Sheet};
use truepath_core::source::{FileId, Sources};
use truepath_core::template::slug;
use truepath_core::template::token::PathToken;

use crate::args::NewArgs;
use crate::pipeline;
use crate::pipeline::load::{self, SHEET};
use truepath_exec::failure::Failure;
use truepath_exec::guard::{Deliveries, Kind, Over};

use crate::exit_code::Exit;
use truepath_core::resolve::paths::from_system as text_of;

use crate::lower::Around;
use crate::show;

/// The starter.
const TEXT: &str = include_str!("starter.toml");

/// Writes the sheet with a job for each scene in the folder and its `scenes`. A sheet that is there is never touched.
pub fn run(args: &NewArgs, around: &Around) -> Result<Exit, Failure> {
    let folder = &args.folder;
    for made in [folder.clone(), folder.join("scenes"), folder.join("renders")] {
        std::fs::create_dir_all(&made).map_err(|error| Failure::machine("make the folder", &made, &error))?;
    }
    let path = folder.join(SHEET);
    if path.symlink_metadata().is_ok() {
        let message = format!("{} already exists", path.display());
        return Err(Failure::unreadable(message).help("choose another folder: truepath new DIR"));
    }
    let below = args.from.as_deref().map(studio).transpose()?;
    let adapter = below.as_ref().and_then(|below| below.defaults.text(&Key::Adapter)).unwrap_or("understudy");
    let found = Scenes::of(folder, adapter, around);
    let body = match (&args.from, &below) {
        (Some(studio), Some(below)) => over_studio(folder, (studio, below), &found, around)?,
        _ => body(folder, TEXT, &found.jobs, &StudioWants::default()),
    };
    // A sheet belongs to nobody's plan before it is there.
    Deliveries::default().open(&path, (Kind::Text, Over::Never))?.write(body.as_bytes())?;
    // A sheet of the usual name is found from its folder.
    let is_usual = path.file_name().is_some_and(|name| name == SHEET)
        && dunce::canonicalize(folder).ok() == dunce::canonicalize(&around.folder).ok();
    let named = if is_usual { String::new() } else { format!(" -f {}", load::short(&path, &around.folder)) };
    let next = match found.jobs.as_slice() {
        [] => {
            "Put a scene into the folder scenes, write its name into the sheet, then run: truepath check".to_owned()
                + &named
        }
        [only] => format!("It renders {}. Next: truepath names{named}", only.display()),
        several => {
            let names = several.iter().map(|scene| scene.display().to_string()).collect::<Vec<_>>().join(", ");
            format!("It has a job for each of {} scenes: {names}.\nNext: truepath names{named}", several.len())
        }
    };
    let left: String =
        found.left.iter().map(|(scene, why)| format!("Not included: {}: {why}\n", scene.display())).collect();
    show::print(&format!("Wrote {}.\n{left}{next}\n", load::short(&path, &around.folder)))?;
    Ok(Exit::Well)
}

/// The scenes of a folder.
#[derive(Default)]
struct Scenes {
    /// Those that get a job, relative to the folder.
    jobs: Vec<PathBuf>,
    /// Those that do not, and why.
    left: Vec<(PathBuf, String)>,
}

impl Scenes {
    /// The scenes in `scenes`, or in the folder itself where that has none. `adapter` renders them.
    fn of(folder: &Path, adapter: &str, around: &Around) -> Scenes {
        let (mut sources, mut quiet) = (Sources::default(), Findings::default());
        let known = pipeline::adapters(&folder.join(SHEET), around, &mut sources, &mut quiet);
        let reads = known.get(adapter).map(|adapter| adapter.accepts.scenes.clone()).unwrap_or_default();
        let in_folder = |sub: &str| {
            let entries = std::fs::read_dir(folder.join(sub)).into_iter().flatten().filter_map(Result::ok);
            let names = entries.map(|entry| Path::new(sub).join(entry.file_name()));
            let mut all: Vec<PathBuf> = names
                .filter(|name| {
                    extension(name).is_some_and(|own| reads.contains(&own) || scene::EXTENSIONS.contains(&own.as_str()))
                })
                .collect();
            all.sort();
            all
        };
        let own = in_folder("scenes");
        let all = if own.is_empty() { in_folder("") } else { own };
        let mut found = Scenes::default();
        for name in all {
            let kind = extension(&name).unwrap_or_default();
            let stem = name.file_stem().map(std::ffi::OsStr::to_owned);
            let twin = found.jobs.iter().find(|other| other.file_stem().map(std::ffi::OsStr::to_owned) == stem);
            let why = if !reads.is_empty() && !reads.contains(&kind) {
                Some(format!("{adapter} cannot read .{kind}"))
            } else if let Some(twin) = twin {
                Some(format!("{} has the same name", twin.display()))
            } else {
                load::facts(&folder.join(&name)).map_or_else(|error| Some(error.to_string()), |read| read.damaged)
            };
            match why {
                Some(why) => found.left.push((name, why)),
                None => found.jobs.push(name),
            }
        }
        found
    }
}

fn extension(path: &Path) -> Option<String> {
    Some(path.extension()?.to_string_lossy().to_ascii_lowercase())
}

/// A studio's sheet.
fn studio(path: &Path) -> Result<Sheet, Failure> {
    let text = load::text(path)?;
    let mut findings = Findings::default();
    let below = sheet::parse::sheet(FileId(0), &text, &mut findings);
    if findings.has_errors() {
        return Err(Failure::unreadable(format!("{} has errors", path.display()))
            .help(format!("show them: truepath check -f {}", path.display())));
    }
    Ok(below)
}

/// What a studio's sheet wants of every job.
#[derive(Default)]
struct StudioWants {
    /// Tokens that paths have to carry, and that nothing gives yet.
    tokens: Vec<String>,
    /// Whether names have to fit a spelling.
    is_spelt: bool,
}

impl StudioWants {
    fn of(below: &Sheet) -> StudioWants {
        let path = match below.defaults.value(&Key::Path) {
            Some(Setting::Path(path)) => Some(path.clone()),
            _ => None,
        };
        let in_path = path.iter().flat_map(|path| path.tokens()).map(|token| token.name.clone());
        let by_policy = below.policy.tokens.iter().map(|token| token.value.clone());
        let given = |name: &String| {
            let own = Key::parse(name).is_some_and(|key| below.defaults.get(&key).is_some());
            own || below.defaults.get(&Key::Var(name.clone())).is_some()
                || below.roots.iter().any(|root| root.name.value == *name)
        };
        let is_open = |name: &String| name == "version" || PathToken::named(name).is_none();
        let tokens: BTreeSet<String> = in_path.chain(by_policy).filter(|name| is_open(name) && !given(name)).collect();
        StudioWants { tokens: tokens.into_iter().collect(), is_spelt: below.policy.spelling.is_some() }
    }

    /// The lines of a job that give them.
    fn lines(&self, job: &str) -> String {
        let quoted = |text: &str| serde_json::Value::String(text.to_owned()).to_string();
        let one = |name: &String| match name.as_str() {
            "version" => "version = 1\n".to_owned(),
            name => format!("vars.{name} = {}\n", quoted(&slug(job))),
        };
        self.tokens.iter().map(one).collect()
    }
}

/// A starter that is laid over a studio's sheet: only the tables that the studio leaves open are kept.
fn over_studio(
    folder: &Path,
    (studio, below): (&Path, &Sheet),
    found: &Scenes,
    around: &Around,
) -> Result<String, Failure> {
    let wanted = StudioWants::of(below);
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
    // The first root in which outputs may lie.
    let within = below.policy.within.as_ref().and_then(|within| within.first()).map(|root| root.value.as_str());
    let root = within.or(below.roots.first().map(|root| root.name.value.as_str())).unwrap_or("renders");
    // A path of ours carries what the studio's policy asks for.
    let has_version = wanted.tokens.iter().any(|token| token == "version");
    let others: String =
        wanted.tokens.iter().filter(|token| *token != "version").map(|token| format!("{{{token}}}/")).collect();
    let defaults: Vec<String> = lines("[defaults]")
        .into_iter()
        .filter(|line| line.split_once(" =").is_some_and(|(key, _)| needs.contains(&key) && open(key)))
        .map(|line| {
            let line = line.replace("{renders}/", &format!("{{{root}}}/{others}"));
            if has_version { line } else { line.replace("{version}/", "").replace("_{version}", "") }
        })
        .map(|line| if below.defaults.get(&Key::Format).is_some() { line } else { line.replace("{ext}", "exr") })
        .collect();
    if !defaults.is_empty() {
        rest.push_str(&format!("[defaults]\n{}\n\n", defaults.join("\n")));
    }
    let job =
        TEXT.split_once("[[job]]").map_or("", |(_, rest)| rest.split("\n# Rules for every path").next().unwrap_or(""));
    let absolute = std::fs::canonicalize(studio).map_err(|error| Failure::machine("find", studio, &error))?;
    let base = std::fs::canonicalize(folder).unwrap_or_else(|_| around.folder.join(folder));
    let named = absolute.strip_prefix(&base).map_or_else(|_| absolute.clone(), Path::to_owned);
    let from = format!("sheet = 1\nfrom = [{}]\n", serde_json::Value::String(text_of(&named)));
    let starter = format!(
        "# This sheet builds on the studio's sheet; `truepath names --why` shows where each value comes from.\n{from}\n[project]\nname = \"@PROJECT@\"\n\n{rest}[[job]]{job}"
    );
    Ok(body(folder, &starter, &found.jobs, &wanted))
}

/// A starter with a job for each scene, or with one for a scene that is still to come.
fn body(folder: &Path, starter: &str, scenes: &[PathBuf], wanted: &StudioWants) -> String {
    let project = std::fs::canonicalize(folder)
        .ok()
        .and_then(|folder| Some(slug(&folder.file_name()?.to_string_lossy())))
        .filter(|name| !name.is_empty());
    let quoted = |text: &str| serde_json::Value::String(text.to_owned()).to_string();
    let starter = starter.replace("\"@PROJECT@\"", &quoted(project.as_deref().unwrap_or("project")));
    let Some((head, rest)) = starter.split_once("[[job]]\n") else { return starter };
    // What follows the camera is the same for every job, and is said once.
    let (own, after) = rest.split_once("@CAMERA@\n").unwrap_or((rest, ""));
    let entry = |scene: Option<&Path>| {
        let name = scene.and_then(Path::file_stem).map(|stem| stem.to_string_lossy().into_owned());
        let name =
            name.map(|name| if wanted.is_spelt { slug(&name) } else { name }).unwrap_or_else(|| "first".to_owned());
        let path = scene.map_or_else(|| "scenes/first.gltf".to_owned(), text_of);
        let own = own.replace("\"@JOB@\"", &quoted(&name)).replace("\"@SCENE@\"", &quoted(&path));
        format!("[[job]]\n{own}{}\n{}", camera(folder, scene), wanted.lines(&name))
    };
    match scenes.split_first() {
        None => format!("{head}{}{after}", entry(None)),
        Some((first, others)) => {
            let others: String = others.iter().map(|scene| format!("\n{}", entry(Some(scene)))).collect();
            let (hints, tail) = after.split_once("\n\n").unwrap_or((after, ""));
            let hints = if others.is_empty() || hints.is_empty() {
                hints.to_owned()
            } else {
                format!("{hints}\n{}", others.trim_end())
            };
            format!("{head}{}{hints}{}{tail}", entry(Some(first)), if tail.is_empty() { "" } else { "\n\n" })
        }
    }
}

/// The line of a job that names its camera.
fn camera(folder: &Path, scene: Option<&Path>) -> String {
    let cameras = scene.and_then(|scene| load::facts(&folder.join(scene)).ok()?.facts.cameras);
    match cameras.as_deref() {
        Some([first, others @ ..]) => {
            let others = if others.is_empty() {
                String::new()
            } else {
                format!("   # the scene also has {}", others.join(", "))
            };
            format!("camera = {}{others}", serde_json::Value::String(first.clone()))
        }
        _ => "# camera = \"main\"         # left out: the scene's own".to_owned(),
    }
}
