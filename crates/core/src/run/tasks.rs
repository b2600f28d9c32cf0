//! Tasks of a cluster's scheduler, as it tells of them.

use serde::Serialize;

/// Where a task stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stage {
    /// It waits for a free place, or for another task.
    Waiting,
    /// It waits until somebody lets it go.
    Held,
    /// It runs.
    Running,
    /// It ended by itself.
    Ended,
    /// It was ended by others, and has left something undone.
    CutShort,
}

/// A task.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ClusterTask {
    /// Its number, and its place in an array: `17`, `17_4` or `17.4`, as the scheduler writes it.
    pub id: String,
    /// Its state, as the scheduler calls it.
    pub state: String,
    /// What that comes to.
    #[serde(skip)]
    pub stage: Stage,
    /// How it is let go, in words with commands, where it is held.
    #[serde(skip)]
    pub free: Option<String>,
    /// The node that it runs on, or ran on; empty while it waits.
    pub node: String,
    /// How long it has run, or since when, as the scheduler writes it.
    pub time: String,
    /// Why it waits, or how it ended; empty where nothing is to be said.
    pub reason: String,
}

impl ClusterTask {
    /// Whether it waits.
    #[must_use]
    pub fn is_waiting(&self) -> bool {
        matches!(self.stage, Stage::Waiting | Stage::Held)
    }

    /// Whether it runs.
    #[must_use]
    pub fn is_running(&self) -> bool {
        self.stage == Stage::Running
    }

    /// Whether it renders, or will.
    #[must_use]
    pub fn is_active(&self) -> bool {
        self.is_waiting() || self.is_running()
    }

    /// Whether somebody has to let it go before it can begin.
    #[must_use]
    pub fn is_held(&self) -> bool {
        self.stage == Stage::Held
    }

    /// Whether it was ended by others: such a task has left something undone.
    #[must_use]
    pub fn was_cut_short(&self) -> bool {
        self.stage == Stage::CutShort
    }

    /// The number of its job, without its place in an array; and that place.
    fn numbers(&self) -> (u64, u64) {
        let (job, place) = self.id.split_once(['_', '.']).unwrap_or((&self.id, ""));
        (job.parse().unwrap_or(0), place.parse().unwrap_or(0))
    }
}

/// The tasks of the newest submission and all that are not over, in the order of their numbers.
#[must_use]
pub fn newest(mut tasks: Vec<ClusterTask>) -> Vec<ClusterTask> {
    let newest = tasks.iter().map(ClusterTask::numbers).filter(|(_, place)| *place > 0).map(|(job, _)| job).max();
    tasks.retain(|task| task.numbers().0 >= newest.unwrap_or(0) || task.is_active());
    tasks.sort_by_key(ClusterTask::numbers);
    tasks
}
