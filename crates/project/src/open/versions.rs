//! Versions other than a plan's own: each has its own moment in its names.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use truepath_core::pins::Pins;
use truepath_core::plan::{self, Plan, PlanInput, Selection};
use truepath_core::resolve::Job;
use truepath_core::sheet::Version;

use super::loaded::Loaded;
use super::lookup;

impl Loaded {
    /// The versions of each job that files and folders on disk bear, those that had their first run on another day included.
    pub fn versions_there(&self) -> BTreeMap<String, BTreeSet<i64>> {
        // A version that the sheet names is looked for like any other.
        let open = |job: &Arc<Job>| {
            let version = job.version.map(|_| Version::Latest);
            Arc::new(Job { version, ..Job::clone(job) })
        };
        let jobs: Vec<Arc<Job>> = self.plan.jobs.iter().map(open).collect();
        let mode = self.plan.pin_mode.as_deref();
        let before = |job: &Arc<Job>| self.pins.versions(&job.job, mode);
        let earlier: BTreeSet<i64> = jobs.iter().flat_map(before).collect();
        let mut found: BTreeMap<String, BTreeSet<i64>> = BTreeMap::new();
        for version in std::iter::once(None).chain(earlier.into_iter().map(Some)) {
            let names = jobs.iter().map(|job| job.job.as_str());
            let pins = version.map_or_else(|| self.pins.clone(), |version| self.pins.at(version, mode, names));
            let looking = self.planned(&jobs, &pins, true);
            for series in looking.series.iter().chain(&looking.movies) {
                let own = found.entry(looking.jobs[series.job].job.clone()).or_default();
                own.extend(lookup::versions_of(&series.pattern).into_keys());
            }
        }
        found
    }

    /// The plans of versions that had a first run before: what their files are called.
    pub fn earlier(&self) -> Vec<Plan> {
        let mode = self.plan.pin_mode.as_deref();
        let all: BTreeSet<i64> = self.plan.jobs.iter().flat_map(|job| self.pins.versions(&job.job, mode)).collect();
        let had = |version: i64, job: &Job| self.pins.versions(&job.job, mode).contains(&version);
        all.into_iter().rev().map(|version| self.as_version(version, &|job| had(version, job))).collect()
    }

    /// The plan of another version, of all jobs that have one.
    pub fn at_version(&self, version: i64) -> Plan {
        self.as_version(version, &|job| job.version.is_some())
    }

    /// The plans of all versions that are there.
    pub fn all_versions(&self) -> Vec<Plan> {
        if self.plan.jobs.iter().all(|job| job.version.is_none()) {
            return Vec::new();
        }
        let all: BTreeSet<i64> = self.versions_there().into_values().flatten().collect();
        all.into_iter().map(|version| self.at_version(version)).collect()
    }
    fn as_version(&self, version: i64, takes: &dyn Fn(&Job) -> bool) -> Plan {
        let jobs = self.plan.jobs.iter().filter(|job| takes(job));
        let jobs: Vec<Arc<Job>> =
            jobs.map(|job| Arc::new(Job { version: Some(Version::Number(version)), ..Job::clone(job) })).collect();
        self.planned(&jobs, &self.pins, false)
    }

    fn planned(&self, jobs: &[Arc<Job>], pins: &Pins, looking: bool) -> Plan {
        let (roots, home) = (&self.plan.roots, &self.plan.home);
        let ground = PlanInput { sheet: &self.written, roots, home, modes: &self.plan.modes, pins, looking };
        plan::plan(ground, jobs, &Selection::default())
    }
}
