//! What this machine says to a plan before anything runs: roots, programs, sounds, files that are there.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use truepath_core::adapter::Adapter;
use truepath_core::check::Machine;
use truepath_core::frames::Frames;
use truepath_core::invoke::arguments::arguments;
use truepath_core::invoke::film;
use truepath_core::invoke::scope::{ArgumentScope, CallPaths};
use truepath_core::plan::{Adapters, Call, Plan, Series};
use truepath_core::resolve::paths::from_system;
use truepath_core::run::history::Depth;
use truepath_core::scene::Facts;
use truepath_core::sheet::Key;

use truepath_exec::disk;
use truepath_exec::failure::Failure;
use truepath_exec::record;
use truepath_exec::state::{StateFolder, journal};

use super::load;
use super::programs::{self, Places, program};
use crate::surroundings::{Surroundings, system};

/// Bytes of values from which on a command line may become too long.
const LONG: usize = 1000;

/// What is asked about.
pub struct Survey<'s> {
    /// The plan.
    pub plan: &'s Plan,
    /// The adapters of its jobs.
    pub adapters: &'s Adapters,
    /// Programs that the machine file knows.
    pub programs: &'s BTreeMap<String, String>,
    /// What is known about scenes.
    pub facts: &'s BTreeMap<String, Arc<Facts>>,
    /// Hears of every megabyte of scenes that is read.
    pub told: &'s dyn Fn(u64),
}

impl Survey<'_> {
    /// Looks at everything that checks want to know. What cannot be looked up stays unknown.
    pub fn look(&self, state: &StateFolder, around: &Surroundings, machine: &mut Machine) -> Result<(), Failure> {
        let plan = self.plan;
        let series = || plan.series.iter().chain(&plan.movies);
        let roots: BTreeSet<usize> = series().filter_map(|series| series.root).collect();
        let roots = roots.into_iter().filter_map(|root| plan.roots[root].path.clone());
        let here = plan.home.system == system();
        machine.elsewhere = !here;
        machine.roots = roots.filter(|_| here).map(|path| (path.clone(), disk::ground(Path::new(&path)))).collect();
        machine.state = disk::not_writable(state.folder());
        machine.cores = std::thread::available_parallelism().ok().map(|cores| cores.get() as u64);
        let sounds = plan.jobs.iter().flat_map(|job| &job.movies).filter_map(|movie| movie.audio.as_ref());
        let sounds: BTreeSet<&String> = sounds.map(|audio| &audio.value).collect();
        machine.sounds =
            sounds.into_iter().map(|path| (path.clone(), truepath_media::sound(Path::new(path)))).collect();
        if here {
            self.needs(around, state, machine);
            let programs = plan.run.after.iter().filter_map(|command| command.first());
            let programs = programs.filter(|name| name.tokens().next().is_none()).map(ToString::to_string);
            machine.no_after = programs
                .filter(|name| !programs::is_here(name, Path::new(&plan.home.folder), &around.search_path))
                .collect();
        }
        self.commands(machine);
        let folders = plan.series.iter().filter_map(|series| series.pattern.folder());
        let folders: BTreeSet<String> = folders.filter_map(|folder| folder.fixed()).collect();
        let listed = |folder: String| {
            let there = Path::new(&folder).is_dir();
            disk::files(Path::new(&folder)).ok().filter(|_| there).map(|files| (folder, files))
        };
        // The disk is asked for names while journals are read.
        let read = || journal::read(state, Depth::Landings);
        let (listed, history) = rayon::join(|| folders.into_iter().filter_map(listed).collect(), read);
        (machine.folders, machine.history) = (listed, history?);
        machine.blocked = if here { self.blocked(machine) } else { BTreeMap::new() };
        if !machine.history.sessions.is_empty() {
            let programs = self.programs(around);
            let asking = record::Asking {
                plan,
                adapters: self.adapters,
                programs: &programs,
                facts: self.facts,
                state,
                resource: &load::resource,
                told: self.told,
            };
            machine.made_of = asking.now();
            machine.made_of.extend(record::movie::all(plan, self.adapters, state, &machine.history));
        }
        Ok(())
    }

    /// What stands in the way of outputs: something else at their names or their folders', and links that lead out of every
    /// root.
    fn blocked(&self, machine: &Machine) -> BTreeMap<usize, (String, String)> {
        let roots = self.plan.roots.iter().filter_map(|root| root.path.as_ref());
        let roots: Vec<PathBuf> = roots.filter_map(|root| dunce::canonicalize(root).ok()).collect();
        let mut known: HashMap<String, Option<(String, String)>> = HashMap::new();
        let one = |(at, series): (usize, &Series)| {
            let folder = series.pattern.folder()?.fixed()?;
            let folder = folder.trim_end_matches('/');
            let way = known.entry(folder.to_owned()).or_insert_with(|| in_the_way(Path::new(folder), &roots));
            if let Some(blocked) = way {
                return Some((at, blocked.clone()));
            }
            let own = match series.pattern.fixed() {
                Some(path) => Some(path),
                None => {
                    let first = series.among(machine.folders.get(folder)?.others()).into_iter().min();
                    first.map(|frame| series.name(frame))
                }
            }?;
            Some((at, (own.clone(), disk::no_file(Path::new(&own))?.to_owned() + " is where a file is planned")))
        };
        self.plan.outputs().filter_map(one).collect()
    }

    /// Full paths of the programs that are here, by the names of their adapters.
    fn programs(&self, around: &Surroundings) -> BTreeMap<String, String> {
        let places = self.places(around);
        let found =
            |(name, adapter): (&String, &Adapter)| Some((name.clone(), from_system(&program(adapter, &places).ok()?)));
        self.adapters.iter().filter_map(found).collect()
    }

    fn places<'p>(&'p self, around: &'p Surroundings) -> Places<'p> {
        let home = &self.plan.home;
        Places { system: home.system, ..around.places(Path::new(&home.folder), self.programs) }
    }

    /// Calls that cannot be started even for a single frame. Only jobs with long values are looked at.
    fn commands(&self, machine: &mut Machine) {
        let plan = self.plan;
        let long = |job: &truepath_core::resolve::Job| {
            job.given.values.values().map(|given| given.value.to_string().len()).sum::<usize>() > LONG
        };
        for (at, job) in plan.jobs.iter().enumerate().filter(|(_, job)| long(job)) {
            let adapter = job.adapter.as_deref().and_then(|name| self.adapters.get(name));
            let (Some(adapter), Some(frame)) = (adapter, job.frames.as_ref().and_then(Frames::first)) else { continue };
            let (series, frames) = (plan.series_of(at).collect(), Frames::one(frame));
            let call = Call { id: String::new(), job: at, series, frames, mark: String::new(), still: None };
            let stage = |series: &Series| truepath_core::invoke::stage::stage_folder(plan, &call, series);
            let paths_of_call = CallPaths { stage: &stage, log: "", product: None, still: None };
            let words = arguments(&ArgumentScope::of_call(plan, &call, adapter, paths_of_call));
            let longest = words.iter().map(String::len).max().unwrap_or(0);
            let all: usize = words.iter().map(|word| word.len() + 1).sum();
            // MAX_ARG_STRLEN for one word, and what is left of ARG_MAX beside an environment of usual size.
            for (length, most) in [(longest, 128 * 1024 - 1), (all, 1536 * 1024)] {
                if length > most {
                    machine.long_commands.insert(job.name.clone(), (length, most));
                }
            }
        }
    }

    /// Programs and what they need.
    fn needs(&self, around: &Surroundings, state: &StateFolder, machine: &mut Machine) {
        let plan = self.plan;
        let named = |key: Key| plan.jobs.iter().filter_map(move |job| job.given.text(&key)).collect::<BTreeSet<_>>();
        let mut names: BTreeSet<&str> = named(Key::Adapter).union(&named(Key::Export)).copied().collect();
        let encoders = plan.movies.iter().filter_map(|movie| {
            film::encoder(movie, movie.film.as_deref()?, self.adapters).map(|adapter| adapter.name.as_str())
        });
        names.extend(encoders);
        let folder = Path::new(&plan.home.folder);
        for name in names {
            let Some(adapter) = self.adapters.get(name) else { continue };
            match program(adapter, &self.places(around)) {
                Err(program) => drop(machine.programs.insert(name.to_owned(), program.0)),
                Ok(program) if !is_foreign(&program) && !disk::is_executable(&program) => {
                    machine.not_executable.insert(name.to_owned(), from_system(&program));
                }
                Ok(program) if !adapter.encoders.is_empty() && !adapter.unasked => {
                    if let Some(words) = record::encoders(adapter, &program, state) {
                        machine.encoders.insert(name.to_owned(), words);
                    }
                }
                Ok(_) => {}
            }
            let env = adapter.needs.env.iter().filter(|name| !around.variables.contains(name.as_str()));
            let mut missing: Vec<String> = env.map(|name| format!("the environment variable {name}")).collect();
            for file in &adapter.needs.files {
                let path = folder.join(file.replacen('~', &plan.home.user.clone().unwrap_or_default(), 1));
                if !path.exists() {
                    missing.push(format!("the file {file}"));
                }
            }
            if !missing.is_empty() {
                machine.needs.insert(name.to_owned(), missing);
            }
        }
    }
}

/// What keeps a folder from being one, or leads it out of all roots: where, and what. A root that is no folder is a finding
/// of its own.
fn in_the_way(folder: &Path, roots: &[PathBuf]) -> Option<(String, String)> {
    let there = folder.ancestors().find(|path| path.symlink_metadata().is_ok())?;
    let real = dunce::canonicalize(there).ok();
    if real.as_ref().is_some_and(|real| !real.is_dir() && roots.contains(real)) {
        return None;
    }
    let said = |path: &Path, what: String| Some((from_system(path), what));
    match there.metadata() {
        Ok(about) if about.is_dir() => {}
        Ok(_) => return said(there, "a file is where a folder is needed".to_owned()),
        Err(error) => return said(there, format!("a link to a file that does not exist ({error})")),
    }
    let real = real?;
    let is_inside = roots.iter().any(|root| real.starts_with(root) || root.starts_with(&real));
    (!is_inside && !roots.is_empty())
        .then(|| (from_system(there), format!("a link that leads out of every root, to {}", real.display())))
}

/// Whether a program is one that only Windows starts: a script for it can be built anywhere.
fn is_foreign(program: &Path) -> bool {
    program
        .extension()
        .is_some_and(|extension| ["bat", "cmd", "exe"].iter().any(|own| extension.eq_ignore_ascii_case(own)))
}
