//! `[run.cluster]`: what is asked of a cluster's scheduler.

use std::collections::BTreeMap;
use std::time::Duration;

use super::read::{Raw, Reader};

/// The keys of `[run.cluster]` and what each means.
pub const KEYS: [(&str, &str); 11] = [
    ("partition", "The partition that tasks are put into."),
    ("account", "The account that they are charged to."),
    ("constraint", "Features that a node must have, as the scheduler writes them."),
    ("licences", "How many licences each task takes from the scheduler, by name."),
    ("time", "The longest a task may take, such as 2h; by default it follows from measured frames."),
    ("memory", "Memory of a task, such as 8 GB; by default it follows from the memory that renderers used."),
    ("threads", "Cores of a task."),
    ("parallel_environment", "The parallel environment in which Grid Engine counts the cores of a task."),
    (
        "priority",
        "Which tasks come first: 0 is the usual, and -100 comes after it. Most clusters let only operators go above 0.",
    ),
    ("at_once", "How many tasks may run at a time."),
    ("options", "More options for sbatch or qsub, each with its value: [\"--qos=night\"] or [\"-l gpu=1\"]."),
];

/// `[run.cluster]`, as written.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct ClusterEntry {
    /// The partition.
    pub partition: Option<String>,
    /// The account.
    pub account: Option<String>,
    /// Features that a node must have.
    pub constraint: Option<String>,
    /// Licences that each task takes, by name.
    pub licences: BTreeMap<String, i64>,
    /// The longest a task may take.
    pub time: Option<Duration>,
    /// Bytes of memory of a task.
    pub memory: Option<u64>,
    /// Cores of a task.
    pub threads: Option<i64>,
    /// What Grid Engine counts cores in.
    pub parallel_environment: Option<String>,
    /// Which tasks come first.
    pub priority: Option<i64>,
    /// Tasks at a time.
    pub at_once: Option<i64>,
    /// More options.
    pub options: Option<Vec<String>>,
}

impl ClusterEntry {
    /// This one laid over a lower one.
    #[must_use]
    pub fn over(self, below: ClusterEntry) -> ClusterEntry {
        ClusterEntry {
            partition: self.partition.or(below.partition),
            account: self.account.or(below.account),
            constraint: self.constraint.or(below.constraint),
            licences: below.licences.into_iter().chain(self.licences).collect(),
            time: self.time.or(below.time),
            memory: self.memory.or(below.memory),
            threads: self.threads.or(below.threads),
            parallel_environment: self.parallel_environment.or(below.parallel_environment),
            priority: self.priority.or(below.priority),
            at_once: self.at_once.or(below.at_once),
            options: self.options.or(below.options),
        }
    }
}

impl Reader<'_> {
    pub(super) fn cluster(&mut self, raw: &Raw<'_>) -> ClusterEntry {
        let mut entry = ClusterEntry::default();
        let Some(table) = self.table(raw, "cluster") else { return entry };
        for (name, raw) in self.keyed(table, "[run.cluster]", &KEYS.map(|(name, _)| name)) {
            match name {
                "partition" => entry.partition = self.text(raw, name).map(|text| text.value),
                "account" => entry.account = self.text(raw, name).map(|text| text.value),
                "constraint" => entry.constraint = self.text(raw, name).map(|text| text.value),
                "licences" => entry.licences = self.licences(raw),
                "time" => entry.time = self.duration(raw, name),
                "memory" => entry.memory = self.bytes(raw, name),
                "threads" => entry.threads = self.whole(raw, name, 1).map(|n| n.value),
                "parallel_environment" => entry.parallel_environment = self.text(raw, name).map(|text| text.value),
                "priority" => entry.priority = self.whole(raw, name, -1023).map(|n| n.value),
                "at_once" => entry.at_once = self.whole(raw, name, 1).map(|n| n.value),
                "options" => entry.options = self.options(raw, name),
                _ => {}
            }
        }
        entry
    }

    /// Options of a program, each beginning with a minus.
    fn options(&mut self, raw: &Raw<'_>, key: &str) -> Option<Vec<String>> {
        let all = self.texts(raw, key)?;
        for text in all.iter().filter(|text| !text.value.starts_with('-')) {
            self.bad(
                text.at,
                key,
                "a list of options, each beginning with a minus",
                "this does not begin with a minus",
            );
        }
        Some(all.into_iter().map(|text| text.value).collect())
    }
}
