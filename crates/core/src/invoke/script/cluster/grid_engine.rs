//! Grid Engine. What its options mean is told in qsub(1), its states in qstat(1), its limits in sge_conf(5).

use crate::flaw::Flaw;
use crate::run::tasks::{ClusterTask, Stage, newest};
use crate::sheet::ClusterEntry;

use super::{Batch, Cluster, Question, SchedulerLimits, freed, number_after};

#[derive(Debug)]
pub(super) struct GridEngine;

impl Cluster for GridEngine {
    fn name(&self) -> &'static str {
        "Grid Engine"
    }

    fn folder(&self) -> &'static str {
        "grid-engine"
    }

    fn extension(&self) -> &'static str {
        "qsub.sh"
    }

    fn head(&self, _: &Batch<'_>) -> (String, String) {
        (String::new(), "Start it with sh on a machine that may submit jobs: it submits".to_owned())
    }

    fn options(&self, wish: &ClusterEntry) -> Result<Vec<String>, Flaw> {
        let mut all: Vec<String> = Vec::new();
        let mut add = |option: &str, value: Option<String>| {
            all.extend(value.into_iter().flat_map(|value| [option.to_owned(), value]));
        };
        add("-q", wish.partition.clone());
        add("-A", wish.account.clone());
        add("-l", wish.constraint.clone());
        add("-p", wish.priority.filter(|own| *own != 0).map(|own| own.to_string()));
        for (name, count) in &wish.licences {
            add("-l", Some(format!("{name}={count}")));
        }
        match (&wish.threads, &wish.parallel_environment) {
            (Some(threads), Some(environment)) => {
                all.extend(["-pe".to_owned(), environment.clone(), threads.to_string()])
            }
            (Some(threads), None) if *threads > 1 => {
                return Err(format!(
                    "Grid Engine gives {threads} cores only in a parallel environment: name it, parallel_environment = \"...\" in [run.cluster]; `qconf -spl` lists those of the cluster"
                ).into());
            }
            _ => {}
        }
        // An option stands beside its value.
        let words = wish.options.iter().flatten().flat_map(|option| option.splitn(2, ' ').map(str::trim));
        all.extend(words.filter(|word| !word.is_empty()).map(str::to_owned));
        Ok(all)
    }

    fn functions(&self) -> &'static str {
        include_str!("grid_engine.sh")
    }

    fn states(&self, _: &str) -> Question {
        // Names are cut to ten letters here: jobs are told apart by their numbers.
        ("qstat", ["-u", "*", "-g", "d"].map(str::to_owned).to_vec())
    }

    fn tasks(&self, answer: &str, own: &[u64]) -> Vec<ClusterTask> {
        newest(answer.lines().filter_map(|line| task(line, own)).collect())
    }

    fn limits(&self) -> Question {
        ("qconf", vec!["-sconf".to_owned()])
    }

    fn read_limits(&self, answer: &str) -> SchedulerLimits {
        // Zero means none.
        let array = number_after(answer, "max_aj_tasks").filter(|most| *most > 0);
        SchedulerLimits { array: array.map(|most| (most, "max_aj_tasks")), script: None }
    }

    fn refusals(&self) -> &'static [(&'static str, &'static str)] {
        &[
            ("max_aj_tasks", "the array is too large for this cluster (max_aj_tasks): fewer tasks with --parts N"),
            ("max_u_jobs", "a user may have fewer jobs here at a time (max_u_jobs): wait for others to end"),
            ("no suitable queues", "no machine of the cluster gives what is asked for: see [run.cluster]"),
            (
                "unknown resource",
                "the cluster has no such resource: see licences, constraint and options in [run.cluster]",
            ),
            ("no access to project", "see account and options in [run.cluster]"),
            ("is not allowed to submit", "start it on a machine that may submit jobs; `qconf -ss` lists them"),
        ]
    }

    fn stop(&self, name: &str) -> String {
        format!("`qdel {name}` stops all that renders this sheet.")
    }
}

/// One line of a listing: number, priority, name, user, state, day, time, queue where it runs, slots, place in an array.
fn task(line: &str, own: &[u64]) -> Option<ClusterTask> {
    let words: Vec<&str> = line.split_whitespace().collect();
    let [job, _, _, _, state, day, time, rest @ ..] = words.as_slice() else { return None };
    let number: u64 = job.parse().ok()?;
    let queue = rest.first().filter(|word| word.contains('@'));
    let behind = if queue.is_some() { &rest[1..] } else { rest };
    if !own.contains(&number) {
        return None;
    }
    let id = behind.get(1).map_or_else(|| (*job).to_owned(), |place| format!("{job}.{place}"));
    let has = |letter: char| state.contains(letter);
    let (stage, word, reason) = if has('E') {
        (Stage::Held, "held", format!("it could not be started: {state}"))
    } else if state.contains("qw") {
        // The end of a plan is in the same state as what somebody holds: both wait.
        (Stage::Waiting, "waiting", if has('h') { "for another job, or held" } else { "" }.to_owned())
    } else if has('s') || has('S') || has('T') {
        (Stage::Running, "suspended", String::new())
    } else {
        (Stage::Running, "running", String::new())
    };
    Some(ClusterTask {
        state: word.to_owned(),
        stage,
        free: (stage == Stage::Held).then(|| freed("qmod -cj", "qdel", &id)),
        node: queue.and_then(|queue| queue.split_once('@')).map(|(_, node)| (*node).to_owned()).unwrap_or_default(),
        time: format!("{day} {time}"),
        reason,
        id,
    })
}

#[cfg(test)]
mod tests {
    use super::{Cluster, GridEngine};

    #[test]
    fn a_listing_is_read_by_the_numbers_of_our_jobs() {
        let text = "job-ID  prior   name       user         state submit/start at     queue                          slots ja-task-ID \n\
            -----------------------------------------------------------------------------------------------------------------\n\
                  7 0.50000 truepath-h root         r     12/01/2026 10:40:36 all.q@n1                           1 2\n\
                  7 0.00000 truepath-h root         Eqw   12/01/2026 10:40:36                                    1 3\n\
                  8 0.00000 truepath-h root         hqw   12/01/2026 10:40:36                                    1        \n\
                  9 0.50000 other      root         r     12/01/2026 10:40:36 all.q@n2                           1        \n";
        let tasks = GridEngine.tasks(text, &[7, 8]);
        let told = tasks.iter().map(|task| (task.id.as_str(), task.node.as_str(), task.is_running(), task.is_held()));
        let told: Vec<_> = told.collect();
        assert_eq!(told, [("7.2", "n1", true, false), ("7.3", "", false, true), ("8", "", false, false)]);
        assert!(tasks[1].free.as_deref().is_some_and(|free| free.starts_with("qmod -cj 7.3, or qdel 7.3")));
        assert_eq!(
            GridEngine.read_limits("max_aj_tasks                 75000\n").array,
            Some((75_000, "max_aj_tasks"))
        );
    }
}
