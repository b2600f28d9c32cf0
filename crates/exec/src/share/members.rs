//! Who works on a round, as each member says it of itself.

use std::collections::BTreeMap;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use truepath_core::run::meant::Intent;

use super::OVER;
use crate::disk;
use crate::process::identity;
use crate::state::StateFolder;
use crate::state::journal::Journal;

/// The file in which a plan's first member says what all of them mean.
pub(super) const MEANT: &str = "meant.json";
/// What a member's counter reads once it has left.
pub(super) const GONE: &str = "gone";

/// Who a worker is.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Member {
    /// The machine.
    pub host: String,
    /// Which start of its system.
    boot: String,
    /// Which numbering of processes.
    space: String,
    /// The process.
    pub process: u32,
    /// When the process was started.
    born: String,
    /// Its journal's file name.
    pub journal: String,
    /// What its stage folders end with; its file bears it.
    #[serde(skip)]
    pub tag: String,
    /// What its programs say their versions are, by adapter.
    #[serde(default)]
    pub versions: BTreeMap<String, String>,
}

impl Member {
    /// This process.
    #[must_use]
    pub fn own(host: &str, journal: &Journal) -> Member {
        let process = std::process::id();
        let born = identity::born(process);
        Member {
            host: host.to_owned(),
            boot: identity::boot(),
            space: identity::space(),
            process,
            born,
            journal: journal.name(),
            tag: journal.tag().to_owned(),
            versions: BTreeMap::new(),
        }
    }

    /// Whether this system knows for certain that it has ended.
    pub(super) fn is_surely_dead(&self) -> bool {
        identity::is_here(&self.boot, &self.space) && !identity::is_alive(self.process, &self.born)
    }
}

/// A worker of a round that is not over, with its counter, for those who only want to know.
pub struct Other {
    /// Who it is.
    pub worker: Member,
    /// What its plan is called.
    pub plan: String,
    /// Its file.
    path: PathBuf,
}

impl Other {
    /// What it means to render; `None` where it does not say so, or not yet.
    #[must_use]
    pub fn meant(&self) -> Option<Intent> {
        let plan = self.path.ancestors().nth(3)?;
        serde_json::from_str(&disk::text(&plan.join(MEANT)).ok()?).ok()
    }

    /// Whether this system knows for certain that it has not ended.
    #[must_use]
    pub fn is_surely_alive(&self) -> bool {
        let worker = &self.worker;
        identity::is_here(&worker.boot, &worker.space) && identity::is_alive(worker.process, &worker.born)
    }

    /// Its counter now; `None` once it has left or ended for certain.
    pub fn sign(&self) -> Option<String> {
        let (worker, gone, counter) = worker(&self.path)?;
        (!gone && !worker.is_surely_dead()).then_some(counter)
    }
}

/// All workers of all rounds of a sheet that are not over and have not ended for certain.
#[must_use]
pub fn others(state: &StateFolder) -> Vec<Other> {
    let plans = std::fs::read_dir(state.claims()).into_iter().flatten().filter_map(Result::ok);
    let rounds = plans.filter_map(|plan| {
        let newest = numbers(&plan.path()).unwrap_or_default().into_iter().max()?;
        let round = plan.path().join(newest.to_string());
        (!round.join(OVER).exists()).then(|| (plan.file_name().to_string_lossy().into_owned(), round))
    });
    let all = rounds.flat_map(|(plan, round)| {
        let other = |tag: String, worker| Other { worker, plan: plan.clone(), path: round.join("workers").join(tag) };
        let files = workers(&round).unwrap_or_default().into_iter();
        files.map(|(tag, worker, ..)| other(tag, worker)).collect::<Vec<_>>()
    });
    all.filter(|other| other.sign().is_some()).collect()
}

pub(super) fn numbers(folder: &Path) -> std::io::Result<Vec<u64>> {
    let entries = std::fs::read_dir(folder)?.collect::<std::io::Result<Vec<_>>>()?;
    Ok(entries.into_iter().filter_map(|entry| entry.file_name().to_str()?.parse().ok()).collect())
}

/// All members of a round: tag, who, whether it has left, counter.
pub(super) fn workers(round: &Path) -> std::io::Result<Vec<(String, Member, bool, String)>> {
    let entries = match std::fs::read_dir(round.join("workers")) {
        // A round that is just being made has no members yet.
        Err(error) if error.kind() == ErrorKind::NotFound && round.exists() => return Ok(Vec::new()),
        entries => entries?.collect::<std::io::Result<Vec<_>>>()?,
    };
    let read = entries.into_iter().filter_map(|entry| {
        let (worker, gone, counter) = worker(&entry.path())?;
        Some((entry.file_name().to_string_lossy().into_owned(), worker, gone, counter))
    });
    Ok(read.collect())
}

pub(super) fn worker(path: &Path) -> Option<(Member, bool, String)> {
    let text = disk::text(path).ok()?;
    let (head, counter) = text.split_once('\n')?;
    let counter = counter.trim().to_owned();
    Some((serde_json::from_str(head).ok()?, counter == GONE, counter))
}
