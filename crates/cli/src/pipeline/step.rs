//! Where programs and state are on this machine, for the steps that core makes.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use truepath_core::adapter::Adapter;
use truepath_core::invoke::step::Shop;
use truepath_core::sheet::Key;

use super::Loaded;
use crate::effect::{facts, lock};
use crate::lower::{Surroundings, text};

/// What steps need to know of this machine.
pub(super) struct Here {
    programs: BTreeMap<String, String>,
    state: String,
}

impl Loaded {
    /// All that steps are made from. Programs are looked for once.
    pub fn shop(&self, around: &Surroundings) -> Shop<'_> {
        let here = self
            .here
            .get_or_init(|| Here { programs: self.programs(around), state: text(&lock::state_folder(&self.sheet)) });
        Shop {
            plan: &self.plan,
            adapters: &self.adapters,
            exports: &self.exports,
            programs: &here.programs,
            state: &here.state,
        }
    }

    /// The full path of each adapter's program, or its name where it is nowhere.
    fn programs(&self, around: &Surroundings) -> BTreeMap<String, String> {
        let home = &self.plan.home;
        let place = (Path::new(home.folder.as_str()), home.system);
        let known = (around.program.as_path(), &self.machine.programs);
        let look =
            |adapter: &Adapter| facts::program(adapter, place, known).map_or_else(|name| name, |path| text(&path));
        let names =
            self.plan.jobs.iter().flat_map(|job| [Key::Adapter, Key::Export].map(|key| job.settings.text(&key)));
        let names: BTreeSet<&str> = names.flatten().collect();
        let adapters = names.into_iter().filter_map(|name| self.adapters.get(name));
        adapters.map(|adapter| (adapter.name.clone(), look(adapter))).collect()
    }
}
