//! Tasks of a cluster's scheduler, as squeue(1) of Slurm prints them.

use serde::Serialize;

/// What squeue has to be asked for, so that [`read`] understands its answer. `name` is that of the jobs.
#[must_use]
pub fn question(name: &str) -> Vec<String> {
    let words = ["--noheader", "--array", "--states=all", "--format=%i|%T|%N|%M|%r", "--name"];
    words.into_iter().chain([name]).map(str::to_owned).collect()
}

/// A task.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ClusterTask {
    /// Its number: `17`, or `17_4` for the fourth of an array.
    pub id: String,
    /// Its state in capitals, as the scheduler calls it.
    pub state: String,
    /// The node that it runs on, or ran on; empty while it waits.
    pub node: String,
    /// How long it has run, as the scheduler writes it.
    pub time: String,
    /// Why it waits, or how it ended; empty where nothing is to be said.
    pub reason: String,
}

impl ClusterTask {
    /// Whether it waits.
    #[must_use]
    pub fn is_waiting(&self) -> bool {
        ["PENDING", "REQUEUED", "REQUEUE_HOLD", "CONFIGURING"].contains(&self.state.as_str())
    }

    /// Whether it runs.
    #[must_use]
    pub fn is_running(&self) -> bool {
        ["RUNNING", "COMPLETING", "SUSPENDED", "STOPPED"].contains(&self.state.as_str())
    }

    /// Whether it renders, or will.
    #[must_use]
    pub fn is_active(&self) -> bool {
        self.is_waiting() || self.is_running()
    }

    /// Whether somebody has to let it go before it can begin: the scheduler holds it.
    #[must_use]
    pub fn is_held(&self) -> bool {
        self.is_waiting() && self.reason.to_ascii_lowercase().contains("held")
    }

    /// Whether it ended in another way than by itself: such a task has left something undone.
    #[must_use]
    pub fn was_cut_short(&self) -> bool {
        !self.is_waiting() && !self.is_running() && !["COMPLETED", "FAILED"].contains(&self.state.as_str())
    }

    /// The number of its job, without its place in an array.
    fn job(&self) -> u64 {
        self.id.split('_').next().and_then(|job| job.parse().ok()).unwrap_or(0)
    }
}

/// The tasks of the newest submission, in the order of their numbers. Lines that are none are passed over.
#[must_use]
pub fn read(text: &str) -> Vec<ClusterTask> {
    let line = |line: &str| {
        let mut parts = line.splitn(5, '|').map(|part| part.trim().to_owned());
        let (id, state) = (parts.next()?, parts.next()?);
        let (node, time, reason) = (parts.next()?, parts.next()?, parts.next()?);
        let reason = if reason == "None" { String::new() } else { reason };
        id.starts_with(|sign: char| sign.is_ascii_digit()).then_some(ClusterTask { id, state, node, time, reason })
    };
    let mut tasks: Vec<ClusterTask> = text.lines().filter_map(line).collect();
    let newest = tasks.iter().filter(|task| task.id.contains('_')).map(ClusterTask::job).max().unwrap_or(0);
    tasks.retain(|task| task.job() >= newest || task.is_waiting() || task.is_running());
    let place = |task: &ClusterTask| task.id.split_once('_').and_then(|(_, at)| at.parse::<u64>().ok()).unwrap_or(0);
    tasks.sort_by_key(|task| (task.job(), place(task)));
    tasks
}

#[cfg(test)]
mod tests {
    use super::read;

    #[test]
    fn the_tasks_of_the_newest_submission_are_read_in_their_order() {
        let text = "12|CANCELLED||0:00|Dependency\n11_10|PENDING||0:00|JobArrayTaskLimit\n11_2|RUNNING|n1|0:03|None\n\
                    11_3|NODE_FAIL|n2|1:03|NonZeroExitCode\n2_1|COMPLETED|n1|0:05|None\n3|RUNNING|n3|1-02:00:00|None\nslurm_load_jobs error\n";
        let tasks = read(text);
        let ids: Vec<&str> = tasks.iter().map(|task| task.id.as_str()).collect();
        assert_eq!(ids, ["3", "11_2", "11_3", "11_10", "12"]);
        assert_eq!((tasks[1].is_running(), tasks[2].was_cut_short(), tasks[3].is_waiting()), (true, true, true));
        assert_eq!((tasks[1].reason.as_str(), tasks[3].reason.as_str()), ("", "JobArrayTaskLimit"));
    }
}
