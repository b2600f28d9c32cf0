//! Load, resolve, plan, check: once, for every command.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use truepath_core::adapter::{self, Adapter};
use truepath_core::check::{self, Input, Machine};
use truepath_core::diagnostic::{Findings, Words};
use truepath_core::plan::{self, Adapters, Plan, Selection};
use truepath_core::resolve::{self, Home, Job, Stacked, paths};
use truepath_core::scene::{self, Facts, Unread};
use truepath_core::sheet::{self, Key, Settings, Sheet};
use truepath_core::source::Sources;

use crate::args::Common;
use crate::effect::load;
use crate::exit_code::{Exit, Failure};
use crate::lower::{Surroundings, text};

/// The check whose findings make all others guesswork.
const NOT_TOML: &str = "not-toml";

/// A sheet on its way through the house, with all that is known about it.
pub struct Loaded {
    /// Every text that was read.
    pub sources: Sources,
    /// What is wrong.
    pub findings: Findings,
    /// What follows from the sheet, for the jobs asked for.
    pub plan: Plan,
    /// The adapters of its jobs.
    pub adapters: Adapters,
    /// The sheet's path.
    pub sheet: PathBuf,
    /// Whether the command line sets anything that changes the picture.
    pub retouched: bool,
}

impl Loaded {
    /// The adapter of a job.
    pub fn adapter(&self, job: &Job) -> Option<&Adapter> {
        self.adapters.get(job.settings.text(&Key::Adapter)?)
    }

    /// Whether the sheet could be read as text at all.
    pub fn is_readable(&self) -> bool {
        !self.findings.iter().any(|finding| finding.check == NOT_TOML)
    }

    /// How a call ends that was stopped by what was found, or nothing when nothing stops it.
    pub fn stopped(&self) -> Option<Exit> {
        match (self.is_readable(), self.findings.has_errors()) {
            (false, _) => Some(Exit::Unreadable),
            (true, true) => Some(Exit::No),
            (true, false) => None,
        }
    }
}

/// Loads the sheet that a call means. `offline` asks neither disk nor machine beyond the sheet itself; scenes are read
/// all the same, as far as they are there.
pub fn load(common: &Common, around: &Surroundings, offline: bool) -> Result<Loaded, Failure> {
    let path = load::find_sheet(common.sheet.as_deref(), &around.folder)?;
    let body = load::text(&path)?;
    let mut sources = Sources::default();
    let mut findings = Findings::default();
    let file = sources.add(load::short(&path, &around.folder), body);
    let sheet = sheet::parse::sheet(file, &sources.get(file).text, &mut findings);
    for (check, level) in &sheet.checks {
        if let Some(known) = truepath_core::diagnostic::find(&check.value) {
            findings.set_level(known.slug, *level);
        }
    }
    let (typed, retouched) = typed(common, &mut sources, &mut findings);
    let home = home(&path, around);
    let stacked = resolve::stack(&sheet, &typed, &mut findings);
    let (facts, machine) = read_scenes(&stacked, &home, around);
    let jobs = resolve::resolve(&sheet, stacked, &|scene| facts.get(scene).cloned(), &home, &mut findings);
    let roots = resolve::roots(&sheet, &home);
    let selection =
        Selection { jobs: common.jobs.clone(), cameras: common.camera.clone(), passes: common.pass.clone() };
    let whole = plan::plan(&sheet, jobs.clone(), roots.clone(), &home, &Selection::default());
    let plan = plan::plan(&sheet, jobs, roots, &home, &selection);
    selected(&selection, &plan, &sheet, &mut findings);
    let adapters = adapters(&mut sources, &mut findings);
    let input = Input {
        sheet: &sheet,
        plan: &plan,
        whole: &whole,
        adapters: &adapters,
        machine: (!offline).then_some(&machine),
    };
    check::check(input, &mut findings);
    if findings.iter().any(|finding| finding.check == NOT_TOML) {
        // Where the text itself cannot be read, everything else would be guesswork.
        findings.keep_only(NOT_TOML);
    }
    tracing::info!(jobs = plan.jobs.len(), series = plan.series.len(), "planned");
    Ok(Loaded { sources, findings, plan, adapters, sheet: path, retouched })
}

/// Reads what the command line sets, each setting a text of its own so that findings can point at it.
fn typed(common: &Common, sources: &mut Sources, findings: &mut Findings) -> (Settings, bool) {
    let frames = common.frames.as_ref().map(|frames| ("--frames".to_owned(), format!("frames = {}", quoted(frames))));
    let scale = common.scale.as_ref().map(|scale| ("--scale".to_owned(), format!("scale = {scale}")));
    let sets = common.set.iter().map(|pair| {
        let (key, value) = pair.split_once('=').unwrap_or((pair, ""));
        let plain = format!("{key} = {value}");
        let body = if sheet::parse::is_toml(&plain) { plain } else { format!("{key} = {}", quoted(value)) };
        (format!("--set {key}"), body)
    });
    let mut typed = Settings::default();
    for (name, body) in frames.into_iter().chain(scale).chain(sets) {
        let file = sources.add(name, body);
        let settings = sheet::parse::command_line(file, &sources.get(file).text, findings);
        typed = settings.over(&typed);
    }
    let harmless =
        |key: &Key| matches!(key, Key::Frames | Key::Threads | Key::Device | Key::Path | Key::Adapter | Key::Enabled);
    let retouched = typed.values.keys().any(|key| !harmless(key)) && !typed.values.contains_key(&Key::Path);
    (typed, retouched)
}

/// A TOML string of any text.
fn quoted(text: &str) -> String {
    serde_json::Value::String(text.to_owned()).to_string()
}

fn home(path: &std::path::Path, around: &Surroundings) -> Home {
    let folder = text(path.parent().unwrap_or(path));
    Home {
        sheet: paths::stem(&text(path)).to_owned(),
        user: around.home.as_deref().map(text),
        system: around.system,
        mark: blake3::hash(folder.as_bytes()).to_hex()[..8].to_owned(),
        folder,
    }
}

/// Reads each scene once.
fn read_scenes(stacked: &[Stacked], home: &Home, around: &Surroundings) -> (BTreeMap<String, Arc<Facts>>, Machine) {
    let mut facts = BTreeMap::new();
    let mut machine =
        Machine { temporary: around.temporary.iter().map(|folder| text(folder)).collect(), ..Machine::default() };
    let scenes: std::collections::BTreeSet<String> = stacked
        .iter()
        .filter_map(|job| job.settings.text(&Key::Scene))
        .map(|scene| paths::absolute(scene, home))
        .collect();
    for scene in scenes {
        let bytes = match std::fs::read(&scene) {
            Ok(bytes) => bytes,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                machine.missing.insert(scene);
                continue;
            }
            Err(error) => {
                machine.damaged.insert(scene, error.to_string());
                continue;
            }
        };
        match scene::read(paths::file_name(&scene), &bytes) {
            Ok(found) => {
                let folder = std::path::Path::new(paths::parent(&scene));
                let lost: Vec<String> = found
                    .resources
                    .iter()
                    .filter(|name| !folder.join(load::percent_decoded(name)).exists())
                    .cloned()
                    .collect();
                if !lost.is_empty() {
                    machine.resources.insert(scene.clone(), lost);
                }
                facts.insert(scene, Arc::new(found));
            }
            Err(Unread::Damaged(why)) => {
                machine.damaged.insert(scene, why);
            }
            Err(Unread::OtherFormat) => {}
        }
    }
    (facts, machine)
}

/// A name that selects nothing is a mistake of the call, never an empty success.
fn selected(selection: &Selection, plan: &Plan, sheet: &Sheet, findings: &mut Findings) {
    let asked = selection.jobs.iter().filter(|name| {
        let only = Selection { jobs: vec![(*name).clone()], ..Selection::default() };
        !plan.jobs.iter().any(|job| only.takes(job))
    });
    for name in asked {
        let known = sheet.jobs.iter().filter_map(|job| job.name.as_ref()).map(|name| name.value.as_str());
        let near = truepath_core::diagnostic::nearest(name, known);
        let words = Words::new(format!("no job is called `{name}`"), "");
        let words = words.help(near.map_or("`truepath names` lists them".to_owned(), |near| format!("write {near}")));
        findings.add("name-unknown", None, None, words);
    }
    if plan.series.is_empty() && !plan.jobs.is_empty() && !selection.passes.is_empty() {
        findings.add(
            "name-unknown",
            None,
            None,
            Words::new(format!("no job has a pass `{}`", selection.passes.join("`, `")), ""),
        );
    }
    if plan.jobs.is_empty() && selection.jobs.is_empty() && !selection.cameras.is_empty() {
        findings.add(
            "name-unknown",
            None,
            None,
            Words::new(format!("no job has the camera `{}`", selection.cameras.join("`, `")), ""),
        );
    }
}

fn adapters(sources: &mut Sources, findings: &mut Findings) -> Adapters {
    let built_in = adapter::BUILT_IN.iter().map(|(name, text)| {
        let file = sources.add(format!("the adapter {name}"), *text);
        ((*name).to_owned(), adapter::adapter(file, text, findings))
    });
    built_in.collect()
}
