//! Everything that is read for a plan: the command line, sheets with those below them, adapters, scenes.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use truepath_core::adapter::Adapter;
use truepath_core::check::Machine;
use truepath_core::diagnostic::{Findings, Slug, Words};
use truepath_core::plan::Adapters;
use truepath_core::resolve::{Home, Stacked, paths};
use truepath_core::scene::{self, Facts};
use truepath_core::sheet::machine::MachineFile;
use truepath_core::sheet::setting::Changes;
use truepath_core::sheet::{self, Key, Settings, Sheet, System};
use truepath_core::source::{Place, Sources};
use truepath_exec::record::answer::NoAnswer;

use truepath_core::resolve::paths::from_system as text;
use truepath_exec::failure::Failure;
use truepath_exec::record::ask;
use truepath_exec::state::StateFolder;

use super::Reading;
use super::load;
use super::loaded::NOT_TOML;
use super::programs::{Places, program};
use crate::request::Request;
use crate::surroundings::Surroundings;

/// What is known of a sheet before its scenes are read.
#[derive(Clone, Copy)]
pub(super) struct KnownSheet<'k> {
    pub home: &'k Home,
    pub state: &'k StateFolder,
    pub adapters: &'k Adapters,
    pub machine: &'k MachineFile,
}

/// A scene that is there, with the adapter of the first job that has it.
struct FoundScene<'s> {
    scene: &'s str,
    adapter: Option<&'s Adapter>,
    read: load::ReadScene,
}

impl Reading<'_> {
    /// A sheet with all sheets that it says are laid below it.
    pub(super) fn sheet(
        &mut self,
        path: &Path,
        sources: &mut Sources,
        home: &mut Home,
        above: &mut Vec<PathBuf>,
    ) -> Result<Sheet, Failure> {
        let written = self.way.texts.and_then(|texts| texts.get(path)).cloned();
        let body = written.map_or_else(|| load::text(path), Ok)?;
        let says_sheet = sheet::looks_like_one(&body);
        tracing::info!(sheet = %path.display(), "reading");
        let file = sources.add(load::short(path, &self.around.folder), body);
        home.folders.resize(usize::from(file.0) + 1, String::new());
        home.folders[usize::from(file.0)] = text(path.parent().unwrap_or(path));
        let mut sheet = sheet::parse::sheet(file, &sources.get(file).text, &mut self.findings);
        if !says_sheet && self.findings.iter().any(|finding| finding.check == NOT_TOML) {
            // Nothing of a file is shown that is no sheet.
            return Err(Failure::unreadable(format!("{} is not a sheet: it is not TOML", path.display()))
                .help("a sheet is a text of TOML whose first line is `sheet = 1`; `truepath new` writes one"));
        }
        above.push(path.to_owned());
        let mut below = Sheet::default();
        for from in std::mem::take(&mut sheet.from) {
            let wanted = paths::absolute(&from.value, from.at, home);
            let found = dunce::canonicalize(&wanted).ok().filter(|found| !above.contains(found));
            let Some(found) = found else {
                let label =
                    if Path::new(&wanted).exists() { "this sheet includes itself" } else { "this file does not exist" };
                let words = Words::new(format!("{wanted} cannot be included"), label);
                self.findings.add(
                    Slug::FromMissing,
                    Some(from.at),
                    None,
                    words.help("a relative path starts at this file's own folder"),
                );
                continue;
            };
            // Nothing of a file that is no sheet is shown: anybody's may be named here.
            if !load::is_sheet(&found) {
                let words = Words::new(format!("{wanted} cannot be included"), "this file is not a sheet");
                let help = "a sheet is a text of TOML with tables such as [roots], [defaults] or [[job]]";
                self.findings.add(Slug::FromMissing, Some(from.at), None, words.help(help));
                continue;
            }
            below = self.sheet(&found, sources, home, above)?.over(below);
        }
        above.pop();
        Ok(sheet.over(below))
    }

    /// Reads each scene once: from its bytes, from the file beside it, else from what its job's renderer tells.
    pub(super) fn read_scenes(
        &mut self,
        stacked: &[Stacked],
        known: &KnownSheet<'_>,
        sources: &mut Sources,
    ) -> (BTreeMap<String, Arc<Facts>>, Machine) {
        let home = known.home;
        let mut facts = BTreeMap::new();
        let mut machine = Machine {
            temporary: self.around.temporary.iter().map(|folder| text(folder)).collect(),
            ..Machine::default()
        };
        if self.way.offline {
            return (facts, machine);
        }
        // Each scene once, with the adapter of the first job that has it.
        let mut scenes: BTreeMap<String, Option<&Adapter>> = BTreeMap::new();
        for job in stacked {
            let Some((scene, at)) = job.settings.text(&Key::Scene).zip(job.settings.place(&Key::Scene)) else {
                continue;
            };
            let adapter = job.settings.text(&Key::Adapter).and_then(|name| known.adapters.get(name));
            scenes.entry(paths::absolute(scene, at, home)).or_insert(adapter);
        }
        for (scene, adapter) in scenes {
            let path = Path::new(&scene);
            match load::facts(path) {
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                    let near = load::almost(path).map(|near| text(&near));
                    machine.almost.extend(near.map(|near| (scene.clone(), near)));
                    machine.missing.insert(scene);
                }
                Err(error) => {
                    machine.damaged.insert(scene, error.to_string());
                }
                Ok(read) => {
                    let found = FoundScene { scene: &scene, adapter, read };
                    let read = self.read_scene(found, known, sources, &mut machine);
                    facts.extend(read.map(|own| (scene.clone(), own)));
                }
            }
        }
        (facts, machine)
    }

    /// What is known of one scene; nothing of a damaged one.
    fn read_scene(
        &mut self,
        found: FoundScene<'_>,
        known: &KnownSheet<'_>,
        sources: &mut Sources,
        machine: &mut Machine,
    ) -> Option<Arc<Facts>> {
        let FoundScene { scene, adapter, read } = found;
        let path = Path::new(scene);
        if let Some((path, text)) = read.beside {
            // Read again as a text of this call, so that its mistakes can be pointed at.
            let file = sources.add(load::short(&path, &self.around.folder), text);
            scene::beside::read(file, &sources.get(file).text, &mut self.findings);
        }
        let unsaved = adapter.map_or(&[][..], |adapter| &adapter.unsaved);
        machine.newer.extend(load::newer(path, unsaved).map(|copy| (scene.to_owned(), text(&copy))));
        let lost = load::missing(path, &read.facts);
        if !lost.is_empty() {
            machine.resources.insert(scene.to_owned(), lost);
        }
        let told = if read.source.starts_with("read") || read.damaged.is_some() {
            None
        } else {
            adapter.and_then(|adapter| self.told(adapter, path, known))
        };
        let known = match told {
            Some(Ok(told)) => read.facts.or(told),
            Some(Err(why)) => {
                tracing::warn!(%scene, %why, "no facts");
                read.facts
            }
            None => read.facts,
        };
        if let Some(why) = read.damaged {
            machine.damaged.insert(scene.to_owned(), why);
            return None;
        }
        Some(Arc::new(known))
    }

    /// What the renderer of a scene's job tells about it; `None` where it cannot be asked.
    fn told(&self, adapter: &Adapter, scene: &Path, known: &KnownSheet<'_>) -> Option<Result<Facts, NoAnswer>> {
        let KnownSheet { home, state, machine, .. } = *known;
        if adapter.facts.is_empty() || adapter.unasked {
            return None;
        }
        let folder = Path::new(&home.folder);
        let program = program(adapter, &places(home, self.around, machine)).map_err(NoAnswer::from);
        Some(program.and_then(|program| ask::ask(adapter, &program, scene, (&state.facts(), folder))))
    }
}

/// Reads the settings of a request, each as a text of its own so that findings can point at it.
pub(super) fn typed(request: &Request, sources: &mut Sources, findings: &mut Findings) -> (Settings, bool) {
    // Text needs no quotes.
    let body = |key: &str, value: &str| {
        let plain = format!("{key} = {value}");
        if sheet::parse::is_toml(&plain) { plain } else { format!("{key} = {}", quoted(value)) }
    };
    let setting = |(name, pair): &(String, String)| {
        let (key, value) = pair.split_once('=').unwrap_or((pair, ""));
        (name.clone(), body(key, value))
    };
    let mut typed = Settings::default();
    for (name, body) in request.settings.iter().map(setting) {
        let file = sources.add(name, body);
        let settings = sheet::parse::command_line(file, &sources.get(file).text, findings);
        typed = settings.over(&typed);
    }
    let changes = |key: &Key| matches!(key.row().changes, Changes::Picture | Changes::Movie);
    let retouched = typed.values.keys().any(changes) && !typed.values.contains_key(&Key::Path);
    (typed, retouched)
}

/// A TOML string of any text.
pub fn quoted(text: &str) -> String {
    serde_json::Value::String(text.to_owned()).to_string()
}

/// Puts the scenes that fit a pattern in its place, in the order of their names; a pattern that nothing fits is a finding.
pub(super) fn fill_scenes(sheet: &mut Sheet, home: &Home, findings: &mut Findings) {
    let find = |pattern: &str, at: Place| load::scenes(Path::new(home.folder_of(at)), pattern);
    for entry in &mut sheet.jobs {
        for (pattern, at) in entry.fill_scenes(&find) {
            let words = Words::new(format!("no scene matches `{pattern}`"), "no file matches this");
            let help = "a relative pattern starts at the folder of this file; * matches any text within one name";
            findings.add(Slug::SceneMissing, Some(at), None, words.help(help));
        }
    }
}

/// Where the programs of a sheet's adapters are sought.
pub(super) fn places<'p>(home: &'p Home, around: &'p Surroundings, machine: &'p MachineFile) -> Places<'p> {
    Places { system: home.system, ..around.places(Path::new(&home.folder), &machine.programs) }
}

/// Where a sheet is at home. Offline, the system is always the same one, so that a sheet has the same answer everywhere.
pub(super) fn home(path: &Path, state: &StateFolder, around: &Surroundings, offline: bool) -> Home {
    let folder = text(path.parent().unwrap_or(path));
    Home {
        sheet: paths::stem(&text(path)).to_owned(),
        user: around.home.as_deref().map(text),
        system: if offline { System::Linux } else { around.system },
        mark: state.mark().to_owned(),
        folder,
        folders: Vec::new(),
    }
}

/// `config.toml` in the user's configuration folder; nothing where there is none.
pub(super) fn machine_file(
    around: &Surroundings,
    sources: &mut Sources,
    findings: &mut Findings,
) -> Result<MachineFile, Failure> {
    let Some(path) =
        around.configuration.as_ref().map(|folder| folder.join("config.toml")).filter(|path| path.is_file())
    else {
        return Ok(MachineFile::default());
    };
    let body = load::text(&path)?;
    let file = sources.add(load::short(&path, &around.folder), body);
    Ok(sheet::machine::machine(file, &sources.get(file).text, findings))
}
