//! Where programs and state are on this machine, for the steps that core makes.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::OnceLock;

use truepath_core::adapter::{Adapter, AdapterKind};
use truepath_core::check::Machine;
use truepath_core::invoke::command_line::CommandLines;
use truepath_core::resolve::paths::from_system;
use truepath_core::run::history::{Depth, History};
use truepath_core::sheet::Key;
use truepath_exec::Project;
use truepath_exec::failure::Failure;
use truepath_exec::record::{self, Asking, Made};
use truepath_exec::state::journal;

use super::loaded::{Here, Loaded};
use super::programs::{Places, program};
use crate::listener::{Listener, News, Read};
use crate::surroundings::Surroundings;

impl Loaded {
    /// All that steps are made from. Programs are looked for once.
    pub fn command_lines(&self, around: &Surroundings) -> CommandLines<'_> {
        self.lines(around, &self.products(around).0)
    }

    /// The same for those that are written down, to be made when somebody starts them: from a scene that may be another then.
    pub fn written_lines(&self, around: &Surroundings) -> CommandLines<'_> {
        self.lines(around, &self.products(around).1)
    }

    fn lines<'l>(&'l self, around: &Surroundings, products: &'l [String]) -> CommandLines<'l> {
        let here = self.here(around);
        CommandLines {
            plan: &self.plan,
            adapters: &self.adapters,
            exports: &self.exports,
            programs: &here.programs,
            logs: &here.logs,
            products,
        }
    }

    fn products(&self, around: &Surroundings) -> &(Vec<String>, Vec<String>) {
        self.here(around).products.get_or_init(|| {
            let folder = from_system(&self.state.exports());
            let folders = self.exports.all.iter().enumerate().map(|(at, export)| {
                let name = self.product(at, around);
                let some = name.get(..8).unwrap_or(&name);
                (format!("{folder}/{name}"), format!("{folder}/{}-{some}", export.id))
            });
            folders.unzip()
        })
    }

    /// The name that the folder of a product has, for what it would be made from now.
    pub fn product(&self, at: usize, around: &Surroundings) -> String {
        self.asking(around, &|_| {}).product(&self.exports.all[at])
    }

    fn asking<'a>(&'a self, around: &Surroundings, told: &'a dyn Fn(u64)) -> Asking<'a> {
        Asking {
            plan: &self.plan,
            adapters: &self.adapters,
            programs: self.programs(around),
            facts: &self.facts,
            state: &self.state,
            resource: &super::load::resource,
            told,
        }
    }

    /// Finds out what all frames would be made of now, where that was not asked yet. The listener hears of every
    /// megabyte of scenes that is read.
    pub fn look_up_made(&mut self, around: &Surroundings, listener: &dyn Listener) {
        if self.ground.made_of.is_empty() {
            let told = |more: u64| listener.hear(News::Reading(Read::Scenes, more));
            self.ground.made_of = self.asking(around, &told).now();
            listener.hear(News::ReadingOver);
            let movies = record::movie::all(&self.plan, &self.adapters, &self.state, &self.ground.history);
            self.ground.made_of.extend(movies);
        }
    }

    /// What its pictures and, by what journals say now, its movies would be made of.
    pub fn made_after(&self, history: &History) -> Vec<Made> {
        let pictures = self.ground.made_of.iter().take(self.plan.series.len()).cloned();
        pictures.chain(record::movie::all(&self.plan, &self.adapters, &self.state, history)).collect()
    }

    /// What journals say now: what was read when the sheet was opened is older.
    ///
    /// # Errors
    /// When a journal cannot be read.
    pub fn ground_now(&self) -> Result<Machine, Failure> {
        let history = journal::read(&self.state, Depth::Landings)?;
        Ok(Machine { made_of: self.made_after(&history), history, ..Machine::default() })
    }

    /// All that running needs.
    pub fn project<'p>(&'p self, around: &'p Surroundings) -> Project<'p> {
        Project {
            command_lines: self.command_lines(around),
            state: &self.state,
            made: &self.ground.made_of,
            program: Some(&around.program),
        }
    }

    /// Full paths of programs by the names of their adapters.
    pub fn programs(&self, around: &Surroundings) -> &BTreeMap<String, String> {
        &self.here(around).programs
    }

    fn here(&self, around: &Surroundings) -> &Here {
        self.here.get_or_init(|| Here {
            programs: self.look_for_programs(around),
            logs: from_system(&self.state.logs()),
            products: OnceLock::new(),
        })
    }

    /// The full path of each adapter's program, or its name where it is nowhere.
    fn look_for_programs(&self, around: &Surroundings) -> BTreeMap<String, String> {
        let home = &self.plan.home;
        let known = &self.machine.programs;
        let places = Places { system: home.system, ..around.places(Path::new(home.folder.as_str()), known) };
        let look =
            |adapter: &Adapter| program(adapter, &places).map_or_else(|missing| missing.0, |path| from_system(&path));
        let names = self.plan.jobs.iter().flat_map(|job| [Key::Adapter, Key::Export].map(|key| job.given.text(&key)));
        let names: BTreeSet<&str> = names.flatten().collect();
        // What makes movies is sought too, where there are any.
        let encoders =
            self.adapters.values().filter(|own| own.kind == AdapterKind::Encoder && !self.plan.movies.is_empty());
        let adapters = names.into_iter().filter_map(|name| self.adapters.get(name)).chain(encoders);
        adapters.map(|adapter| (adapter.name.clone(), look(adapter))).collect()
    }
}
