//! What this machine says to a plan before anything runs: roots, programs, sounds, files that are there.

use std::collections::{BTreeMap, BTreeSet};
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::sync::Arc;

use rustix::fs::{Access, access, statvfs};
use truepath_core::check::{Ground, Machine};
use truepath_core::frames::Frames;
use truepath_core::invoke::arguments::{Bench, arguments};
use truepath_core::invoke::target;
use truepath_core::plan::{Adapters, Invocation, Plan, Series};
use truepath_core::run::history::Depth;
use truepath_core::scene::Facts;
use truepath_core::sheet::Key;

use super::{facts, journal, lock, made, observe};
use crate::lower::{self, Surroundings};

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
    pub fn look(&self, (sheet, around): (&Path, &Surroundings), machine: &mut Machine) {
        let plan = self.plan;
        let series = || plan.series.iter().chain(&plan.movies);
        let roots: BTreeSet<usize> = series().filter_map(|series| series.root).collect();
        let roots = roots.into_iter().filter_map(|root| plan.roots[root].path.clone());
        machine.roots = roots.map(|path| (path.clone(), ground(Path::new(&path)))).collect();
        machine.state = state(&lock::state_folder(sheet));
        machine.cores = std::thread::available_parallelism().ok().map(|cores| cores.get() as u64);
        let sounds = plan.jobs.iter().flat_map(|job| &job.movies).filter_map(|movie| movie.audio.as_ref());
        let sounds: BTreeSet<&String> = sounds.map(|audio| &audio.value).collect();
        machine.sounds =
            sounds.into_iter().map(|path| (path.clone(), truepath_media::sound(Path::new(path)))).collect();
        self.needs(around, machine);
        self.commands(machine);
        let folders = plan.series.iter().filter_map(|series| series.pattern.folder());
        let folders: BTreeSet<String> =
            folders.filter(|folder| folder.frame_width().is_none()).map(|folder| folder.name(0)).collect();
        let listed = |folder: String| {
            let there = Path::new(&folder).is_dir();
            observe::files(Path::new(&folder)).ok().filter(|_| there).map(|files| (folder, files))
        };
        let state = lock::state_folder(sheet);
        // The disk is asked for names while journals are read.
        (machine.folders, machine.history) =
            rayon::join(|| folders.into_iter().filter_map(listed).collect(), || journal::read(&state, Depth::Landings));
        if !machine.history.sessions.is_empty() {
            machine.made_of = self.made(sheet, around).now();
        }
    }

    /// What is asked about the making of frames.
    fn made<'m>(&'m self, sheet: &'m Path, around: &'m Surroundings) -> made::Asking<'m> {
        made::Asking {
            plan: self.plan,
            adapters: self.adapters,
            programs: self.programs,
            facts: self.facts,
            sheet,
            around,
            told: self.told,
        }
    }

    /// Calls that cannot be started even for a single frame. Only jobs with long values are looked at.
    fn commands(&self, machine: &mut Machine) {
        let plan = self.plan;
        let long = |job: &truepath_core::resolve::Job| {
            job.settings.values.values().map(|given| given.value.to_string().len()).sum::<usize>() > LONG
        };
        for (at, job) in plan.jobs.iter().enumerate().filter(|(_, job)| long(job)) {
            let adapter = job.settings.text(&Key::Adapter).and_then(|name| self.adapters.get(name));
            let (Some(adapter), Some(frame)) = (adapter, job.frames.as_ref().and_then(Frames::first)) else { continue };
            let (series, frames) = (plan.series_of(at).collect(), Frames::one(frame));
            let call = Invocation {
                id: String::new(),
                job: at,
                series,
                frames: frames.clone(),
                mark: String::new(),
                still: None,
            };
            let stage = |series: &Series| target::stage_folder(plan, &call, series);
            let bench = Bench { stage: &stage, log: "", product: None, still: None };
            let words = arguments(plan, &call, adapter, &frames, bench);
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
    fn needs(&self, around: &Surroundings, machine: &mut Machine) {
        let plan = self.plan;
        let named = |key: Key| plan.jobs.iter().filter_map(move |job| job.settings.text(&key)).collect::<BTreeSet<_>>();
        let names: BTreeSet<&str> = named(Key::Adapter).union(&named(Key::Export)).copied().collect();
        let folder = Path::new(&plan.home.folder);
        for name in names {
            let Some(adapter) = self.adapters.get(name) else { continue };
            let place = (folder, plan.home.system);
            if let Err(program) = facts::program(adapter, place, (&around.program, self.programs)) {
                machine.programs.insert(name.to_owned(), program);
            }
            let env = adapter.needs.env.iter().filter(|name| !lower::is_set(name));
            let mut lacking: Vec<String> = env.map(|name| format!("the environment variable {name}")).collect();
            for file in &adapter.needs.files {
                let path = folder.join(file.replacen('~', &plan.home.user.clone().unwrap_or_default(), 1));
                if !path.exists() {
                    lacking.push(format!("the file {file}"));
                }
            }
            if !lacking.is_empty() {
                machine.needs.insert(name.to_owned(), lacking);
            }
        }
    }
}

/// What stands at a root; of one that is not there, what its nearest folder above says.
fn ground(path: &Path) -> Ground {
    let there = path.exists();
    let Some(above) = path.ancestors().find(|above| above.exists()) else { return Ground::default() };
    let disk = above.metadata().map(|about| about.dev()).unwrap_or(0);
    Ground {
        there,
        folder: above.is_dir(),
        writable: access(above, Access::WRITE_OK).is_ok(),
        empty: there && std::fs::read_dir(path).is_ok_and(|mut entries| entries.next().is_none()),
        system_disk: Path::new("/").metadata().is_ok_and(|about| about.dev() == disk),
        disk,
        free: statvfs(above).ok().map(|disk| disk.f_bavail * disk.f_frsize),
    }
}

/// Why the folder for the state cannot be written.
fn state(folder: &Path) -> Option<String> {
    let above = folder.ancestors().find(|above| above.exists())?;
    if !above.is_dir() {
        return Some(format!("{} is a file", above.display()));
    }
    access(above, Access::WRITE_OK).err().map(|error| std::io::Error::from(error).to_string())
}
