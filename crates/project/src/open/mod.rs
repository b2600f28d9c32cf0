//! A project opened: read, resolved, planned and checked, once, for whatever is done with it.

mod adapters;
pub mod load;
mod loaded;
mod lookup;
mod needed;
pub mod programs;
mod read;
mod step;
mod survey;
pub mod trust;
mod versions;

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};

use truepath_core::adapter::Adapter;
use truepath_core::check::{self, Input, Machine};
use truepath_core::diagnostic::{Findings, Slug, Words};
use truepath_core::invoke::export::exports;
use truepath_core::pins::{Anew, Pins, Wanted};
use truepath_core::plan::{self, Adapters, Plan, PlanInput, Selection, Series};
use truepath_core::resolve::{self, Home, Job, Stacked};
use truepath_core::scene::Facts;
use truepath_core::sheet::machine::MachineFile;
use truepath_core::sheet::{Key, Settings, Sheet, System};
use truepath_core::source::{FileId, Sources};
use truepath_exec::record::answer::NoProgram;

use truepath_exec::failure::Failure;
use truepath_exec::state::{StateFolder, pins};
use truepath_exec::threads::Cores;

use self::loaded::NOT_TOML;
pub use self::loaded::{Loaded, Queue, Stop};
use self::programs::Places;
pub use self::read::quoted;
use self::trust::Brought;
pub use self::trust::Untrusted;
use crate::listener::{Listener, News, Read};
use crate::request::Request;
use crate::surroundings::Surroundings;

/// Every adapter that a sheet at this path can name.
pub fn adapters(sheet: &Path, around: &Surroundings, sources: &mut Sources, findings: &mut Findings) -> Adapters {
    adapters::adapters(sheet, around.configuration.as_deref(), (around, sources), findings)
}

/// Where an adapter's program is, for a call outside any sheet.
///
/// # Errors
/// Its name, or its path, where no such file exists.
pub fn program_of(adapter: &Adapter, around: &Surroundings) -> Result<PathBuf, NoProgram> {
    let (mut sources, mut findings) = (Sources::default(), Findings::default());
    let machine = read::machine_file(around, &mut sources, &mut findings).unwrap_or_default();
    programs::program(adapter, &around.places(&around.folder, &machine.programs))
}

/// How a call wants its sheets loaded.
#[derive(Clone, Copy, Debug, Default)]
pub struct LoadOptions<'w> {
    /// Only sheets, and adapters beside them, are read: nothing else is asked of the disk or this machine.
    pub offline: bool,
    /// Only names are wanted: neither journals nor the files of the plan are looked at.
    pub names: bool,
    /// What is looked up anew, whatever is pinned.
    pub anew: Anew,
    /// The system that it is all for, where that is another one than this.
    pub system: Option<System>,
    /// Whether programs are about to be started: that trusts those that the sheet's folder brought along.
    pub starts: bool,
    /// Whether roots that are empty, though files landed below them, are begun anew.
    pub begins_anew: bool,
    /// Texts of sheets that are not written to disk yet, by path.
    pub texts: Option<&'w BTreeMap<PathBuf, String>>,
}

/// Opens the sheets that a request means. The listener hears of every megabyte of scenes that is read.
///
/// # Errors
/// When no sheet is found, when one cannot be read at all, or when one that was only found, not named, belongs to somebody
/// else. Everything else that is wrong is a finding.
pub fn open(
    request: &Request,
    around: &Surroundings,
    way: LoadOptions<'_>,
    listener: &dyn Listener,
) -> Result<Queue, Failure> {
    let told = |more: u64| listener.hear(News::Reading(Read::Scenes, more));
    let queue = opened(request, around, way, &told);
    listener.hear(News::ReadingOver);
    queue
}

fn opened(
    request: &Request,
    around: &Surroundings,
    way: LoadOptions<'_>,
    told: &dyn Fn(u64),
) -> Result<Queue, Failure> {
    let mut sources = Sources::default();
    let mut findings = Findings::default();
    let (typed, retouched) = read::typed(request, &mut sources, &mut findings);
    let paths = load::find_sheets(&request.sheets, &around.folder)?;
    let (mut drafts, mut untrusted) = (Vec::new(), Vec::new());
    for path in paths {
        // Mistakes in the settings of the request are reported once, with the first sheet.
        let findings = std::mem::take(&mut findings);
        let reading = Reading { request, around, way, typed: &typed, told, findings, untrusted: None };
        let draft = reading.draft(path, &mut sources)?;
        untrusted.extend(draft.untrusted.clone());
        drafts.push(draft);
    }
    let finals: Vec<Vec<Plan>> = drafts.iter().map(|draft| draft.rivals.clone()).collect();
    let mut sheets: Vec<Loaded> = Vec::new();
    for (at, mut draft) in drafts.into_iter().enumerate() {
        // The names of a sheet must not meet those of its own modes, nor those of any sheet before it.
        let earlier = finals[..at].iter().filter_map(|plans| plans.first().cloned());
        draft.rivals.extend(earlier);
        sheets.push(draft.checked(way, retouched));
    }
    if !request.jobs.is_empty() || !request.cameras.is_empty() || !request.passes.is_empty() {
        selected(request, &mut sheets);
    }
    Ok(Queue { sources, sheets, untrusted })
}

/// What a request brings to each of its sheets.
struct Reading<'c> {
    request: &'c Request,
    around: &'c Surroundings,
    way: LoadOptions<'c>,
    typed: &'c Settings,
    told: &'c dyn Fn(u64),
    findings: Findings,
    untrusted: Option<Untrusted>,
}

/// A sheet with all that was read for it.
struct SheetTexts {
    path: PathBuf,
    state: StateFolder,
    home: Home,
    sheet: Sheet,
    below: Range<u16>,
    adapters: Adapters,
    machine_file: MachineFile,
}

/// The same with what its jobs mean.
struct ResolvedSheet {
    texts: SheetTexts,
    stacked: Vec<Stacked>,
    facts: BTreeMap<String, Arc<Facts>>,
    machine: Machine,
    jobs: Vec<Arc<Job>>,
}

/// A planned sheet before it is checked.
struct Draft {
    path: PathBuf,
    state: StateFolder,
    sheet: Sheet,
    below: Range<u16>,
    stacked: Vec<Stacked>,
    plan: Plan,
    /// All enabled jobs without a mode first, then every mode that could write over their names.
    rivals: Vec<Plan>,
    adapters: Arc<Adapters>,
    machine: Machine,
    facts: BTreeMap<String, Arc<Facts>>,
    machine_file: MachineFile,
    pins: Pins,
    unpinned: Wanted,
    findings: Findings,
    own_path: bool,
    whole: bool,
    untrusted: Option<Untrusted>,
}

impl Reading<'_> {
    /// Puts the variants of adapters in place that fit the programs here. Versions that fit none are returned, by adapter.
    fn fit(
        &self,
        adapters: &mut Adapters,
        stacked: &[Stacked],
        places: &Places<'_>,
        state: &StateFolder,
    ) -> BTreeMap<String, String> {
        if self.way.offline {
            return BTreeMap::new();
        }
        let named = |key: Key| stacked.iter().filter_map(move |job| Some(job.settings.text(&key)?.to_owned()));
        let used: BTreeSet<String> = named(Key::Adapter).chain(named(Key::Export)).collect();
        let used: Vec<String> = used.into_iter().collect();
        adapters::fit(adapters, &used, places, state)
    }

    /// Reads, resolves and plans a sheet: each step has what the one before it found.
    fn draft(mut self, path: PathBuf, sources: &mut Sources) -> Result<Draft, Failure> {
        let read = self.texts(path, sources)?;
        let resolved = self.resolved(read, sources);
        self.planned(resolved)
    }

    /// Reads the sheet with the sheets below it, its adapters, and the machine file.
    fn texts(&mut self, path: PathBuf, sources: &mut Sources) -> Result<SheetTexts, Failure> {
        let brought = Brought::of(path.parent().unwrap_or(&path), Some(&path), self.around);
        if self.request.sheets.is_empty() {
            // A sheet that nobody named, found above this folder, may be a stranger's.
            brought.refuse_strangers()?;
        }
        let state = StateFolder::of(&path)?;
        let mut home = read::home(&path, &state, self.around, self.way.offline);
        home.system = self.way.system.unwrap_or(home.system);
        let mut sheet = self.sheet(&path, sources, &mut home, &mut Vec::new())?;
        let below = sheet.file.0 + 1..sources.count();
        read::fill_scenes(&mut sheet, &home, &mut self.findings);
        let configuration = self.around.configuration.as_deref().filter(|_| !self.way.offline);
        let mut adapters = adapters::adapters(&path, configuration, (self.around, sources), &mut self.findings);
        if self.way.starts {
            brought.started()?;
        } else if !self.way.offline {
            self.untrusted = brought.quieten(&mut adapters, sources, self.around);
        }
        let machine_file = match configuration {
            Some(_) => read::machine_file(self.around, sources, &mut self.findings)?,
            None => MachineFile::default(),
        };
        Ok(SheetTexts { path, state, home, sheet, below, adapters, machine_file })
    }

    /// Finds out what each job means: its layers, its scene, the variant of its adapter.
    fn resolved(&mut self, mut texts: SheetTexts, sources: &mut Sources) -> ResolvedSheet {
        let stacked = resolve::stack(&texts.sheet, &self.request.modes, self.typed, &mut self.findings);
        let places = read::places(&texts.home, self.around, &texts.machine_file);
        let unfit = self.fit(&mut texts.adapters, &stacked, &places, &texts.state);
        let SheetTexts { home, state, adapters, machine_file: machine, .. } = &texts;
        let known = read::KnownSheet { home, state, adapters, machine };
        let (facts, mut machine) = self.read_scenes(&stacked, &known, sources);
        machine.unfit = unfit;
        let known = |scene: &str| facts.get(scene).cloned();
        let jobs = resolve::resolve(&texts.sheet, &stacked, &known, home, &mut self.findings);
        // Settings of a request apply to the jobs that it names.
        let selection = self.selection();
        let typed: BTreeSet<FileId> = self.typed.values.values().filter_map(|given| Some(given.at?.file)).collect();
        let is_asked = |name: &str| jobs.iter().any(|job| job.name == name && selection.takes(job));
        self.findings.forget_jobs(|at| typed.contains(&at.file), is_asked);
        ResolvedSheet { texts, stacked, facts, machine, jobs }
    }

    /// What is asked for.
    fn selection(&self) -> Selection {
        let Request { jobs, cameras, passes, .. } = self.request;
        Selection { jobs: jobs.clone(), cameras: cameras.clone(), passes: passes.clone() }
    }

    /// Lets the names follow from all that, with what may stand beside them, and asks disk and machine.
    fn planned(self, resolved: ResolvedSheet) -> Result<Draft, Failure> {
        let ResolvedSheet { texts, stacked, facts, mut machine, jobs } = resolved;
        let SheetTexts { path, state, home, sheet, below, adapters, machine_file } = texts;
        let (selection, modes) = (self.selection(), &self.request.modes);
        let known = |scene: &str| facts.get(scene).cloned();
        let roots = resolve::roots(&sheet, &home, &machine_file, self.way.offline);
        let mode = plan::pin_mode(&sheet, modes);
        let mut stored = pins::read(&state)?;
        if self.way.anew != Anew::default() {
            let asked = jobs.iter().filter(|job| selection.takes(job));
            stored.forget(self.way.anew, mode.as_deref(), &asked.map(|job| (job.job.clone(), job.version)).collect());
        }
        let ground = PlanInput { sheet: &sheet, roots: &roots, home: &home, modes, pins: &stored, looking: false };
        let enabled = jobs.iter().filter(|job| Selection::default().takes(job));
        let unpinned = plan::wanted(enabled).beyond(&stored, mode.as_deref());
        let mut pins = Pins { now: lookup::now(self.around), ..stored.clone() };
        if unpinned.jobs.values().any(|wanted| wanted.version.is_some()) {
            let ground = PlanInput { looking: true, pins: &pins, ..ground };
            let looking = plan::plan(ground, &jobs, &Selection::default());
            let others = plan::others(ground, &known, (&jobs, modes), self.typed);
            pins.open = lookup::versions(&unpinned, &looking, &others);
        }
        let ground = PlanInput { pins: &pins, ..ground };
        let plan = plan::plan(ground, &jobs, &selection);
        // Where all jobs are asked for and there are no modes, the plan has no rival but itself.
        let alone = sheet.modes.is_empty() && selection.is_everything() && self.request.sheets.len() < 2;
        let rivals = if alone { Vec::new() } else { plan::rivals(ground, &known, (&jobs, modes), self.typed) };
        let adapters = Arc::new(adapters);
        if !self.way.offline && !self.way.names {
            let programs = &machine_file.programs;
            let survey = survey::Survey { plan: &plan, adapters: &adapters, programs, facts: &facts, told: self.told };
            survey.look(&state, self.around, &mut machine)?;
        }
        Ok(Draft {
            whole: selection.is_everything(),
            own_path: has_own_path(&sheet, modes),
            findings: self.findings,
            untrusted: self.untrusted,
            pins: pins.clone(),
            path,
            state,
            stacked,
            plan,
            rivals,
            adapters,
            machine,
            facts,
            machine_file,
            unpinned,
            sheet,
            below,
        })
    }
}

/// Whether one of these modes gives its files names of their own, or means the final ones.
fn has_own_path(sheet: &Sheet, modes: &[String]) -> bool {
    let on = modes.iter().filter_map(|name| sheet.modes.iter().find(|mode| mode.name.value == *name));
    on.into_iter().any(|mode| mode.is_final || mode.settings.get(&Key::Path).is_some())
}

impl Draft {
    fn checked(mut self, way: LoadOptions, retouched: bool) -> Loaded {
        self.machine.roots.values_mut().for_each(|root| root.empty &= !way.begins_anew);
        let input = Input {
            sheet: &self.sheet,
            plan: &self.plan,
            rivals: &self.rivals,
            adapters: &self.adapters,
            machine: (!way.offline && !way.names).then_some(&self.machine),
            whole: self.whole,
            threads: &Cores,
        };
        check::check(input, &mut self.findings);
        if self.findings.iter().any(|finding| finding.check == NOT_TOML) {
            // Where the text itself cannot be read, everything else would be guesswork.
            self.findings.keep_only(NOT_TOML);
        }
        // Where a mode gives all files names of its own, no final name is touched.
        let finals = self.rivals.iter().find(|plan| plan.mode.is_none() && plan.home.sheet == self.plan.home.sheet);
        let finals: BTreeSet<String> =
            finals.iter().flat_map(|plan| &plan.series).map(|series| series.pattern.spelt()).collect();
        let is_own = |series: &Series| !finals.contains(&series.pattern.spelt());
        let apart = self.plan.mode.is_some() && !finals.is_empty() && self.plan.series.iter().all(is_own);
        tracing::info!(sheet = %self.path.display(), jobs = self.plan.jobs.len(), series = self.plan.series.len(), "planned");
        Loaded {
            exports: exports(&self.plan, &self.adapters),
            here: OnceLock::new(),
            findings: self.findings,
            plan: self.plan,
            rivals: self.rivals,
            stacked: self.stacked,
            written: self.sheet,
            below: self.below,
            adapters: self.adapters,
            sheet: self.path,
            state: self.state,
            machine: self.machine_file,
            ground: self.machine,
            facts: self.facts,
            pins: self.pins,
            unpinned: self.unpinned,
            retouched: retouched && !self.own_path && !apart,
        }
    }
}

/// A name that selects nothing in any sheet is a mistake of the call, never an empty success.
fn selected(request: &Request, sheets: &mut [Loaded]) {
    let mut said = Vec::new();
    for name in &request.jobs {
        let only = Selection { jobs: vec![name.clone()], ..Selection::default() };
        let taken = |sheet: &Loaded| sheet.stacked.iter().any(|job| only.names(&job.name, &job.job));
        if !sheets.iter().any(taken) {
            let known: Vec<&str> = sheets.iter().flat_map(|sheet| &sheet.stacked).map(|job| job.job.as_str()).collect();
            let near = truepath_core::diagnostic::nearest(name, known);
            let help = near.map_or("`truepath names` lists them".to_owned(), |near| format!("write {near}"));
            said.push(Words::new(format!("there is no job `{name}`"), "").help(help));
        }
    }
    if said.is_empty() && sheets.iter().all(|sheet| sheet.plan.series.is_empty() && sheet.plan.movies.is_empty()) {
        for (what, names) in [("pass", &request.passes), ("camera", &request.cameras)] {
            if let Some(name) = names.first() {
                let jobs = || sheets.iter().flat_map(|sheet| &sheet.rivals).flat_map(|plan| &plan.jobs);
                let known: BTreeSet<&str> = match what {
                    "pass" => jobs().flat_map(|job| &job.passes).map(|pass| pass.label.as_str()).collect(),
                    _ => jobs().filter_map(|job| job.camera.as_deref()).collect(),
                };
                let near = truepath_core::diagnostic::nearest(name, known.iter().copied());
                let all = known.into_iter().collect::<Vec<_>>().join(", ");
                let help = near.map_or(format!("there are {all}"), |near| format!("write {near}"));
                said.push(Words::new(format!("no job has the {what} `{}`", names.join("`, `")), "").help(help));
            }
        }
    }
    if let Some(first) = sheets.first_mut().filter(|sheet| sheet.is_readable()) {
        said.into_iter().for_each(|words| first.findings.add(Slug::NameUnknown, None, None, words));
    }
}
