//! Slurm. What its options mean is told in sbatch(1), its states in squeue(1), its limits in slurm.conf(5).

use crate::flaw::Flaw;
use crate::run::tasks::{ClusterTask, Stage, newest};
use crate::sheet::ClusterEntry;

use super::{Batch, Cluster, Question, SchedulerLimits, freed, number_after};

#[derive(Debug)]
pub(super) struct Slurm;

impl Cluster for Slurm {
    fn name(&self) -> &'static str {
        "Slurm"
    }

    fn folder(&self) -> &'static str {
        "slurm"
    }

    fn extension(&self) -> &'static str {
        "sbatch"
    }

    fn head(&self, batch: &Batch<'_>) -> (String, String) {
        let lines = format!("#SBATCH --job-name={}\n#SBATCH --output={}\n", batch.name, start_log(batch.logs));
        (lines, "Submit it with sbatch, or start it with sh: both submit".to_owned())
    }

    fn options(&self, wish: &ClusterEntry) -> Result<Vec<String>, Flaw> {
        let texts = [("partition", &wish.partition), ("account", &wish.account), ("constraint", &wish.constraint)];
        let mut all: Vec<String> =
            texts.into_iter().filter_map(|(name, value)| Some(format!("--{name}={}", value.as_ref()?))).collect();
        all.extend(wish.threads.map(|threads| format!("--cpus-per-task={threads}")));
        // Nice values run the other way.
        all.extend(wish.priority.filter(|own| *own != 0).map(|own| format!("--nice={}", -own)));
        if !wish.licences.is_empty() {
            let each: Vec<String> = wish.licences.iter().map(|(name, count)| format!("{name}:{count}")).collect();
            all.push(format!("--licenses={}", each.join(",")));
        }
        all.extend(wish.options.iter().flatten().cloned());
        Ok(all)
    }

    fn functions(&self) -> &'static str {
        include_str!("slurm.sh")
    }

    fn states(&self, name: &str) -> Question {
        let words = ["--noheader", "--array", "--states=all", "--format=%i|%T|%N|%M|%r", "--name"];
        ("squeue", words.into_iter().chain([name]).map(str::to_owned).collect())
    }

    fn tasks(&self, answer: &str, _: &[u64]) -> Vec<ClusterTask> {
        let line = |line: &str| {
            let mut parts = line.splitn(5, '|').map(|part| part.trim().to_owned());
            let (id, state) = (parts.next()?, parts.next()?);
            let (node, time, reason) = (parts.next()?, parts.next()?, parts.next()?);
            let reason = if reason == "None" { String::new() } else { reason };
            let stage = stage(&state, &reason);
            let free = (stage == Stage::Held).then(|| freed("scontrol release", "scancel", &id));
            let is_number = id.starts_with(|sign: char| sign.is_ascii_digit());
            is_number.then_some(ClusterTask { id, state, stage, free, node, time, reason })
        };
        newest(answer.lines().filter_map(line).collect())
    }

    fn limits(&self) -> Question {
        ("scontrol", ["show", "config"].map(str::to_owned).to_vec())
    }

    fn read_limits(&self, answer: &str) -> SchedulerLimits {
        // Places in an array begin at 1 here, and have to be below its size.
        let array = number_after(answer, "MaxArraySize").map(|size| (size.saturating_sub(1).max(1), "MaxArraySize"));
        // Four megabytes are slurm.conf(5)'s own default.
        let script = number_after(answer, "max_script_size").or(array.map(|_| 4 << 20));
        SchedulerLimits { array, script: script.map(|size| (size, "max_script_size")) }
    }

    fn refusals(&self) -> &'static [(&'static str, &'static str)] {
        &[
            ("Invalid job array", "the array is too large for this cluster (MaxArraySize): fewer tasks with --parts N"),
            ("MaxSubmit", "a user may have fewer tasks here at a time (MaxSubmitJobs): fewer tasks with --parts N"),
            ("SubmitJob", "a user may have fewer tasks here at a time (MaxSubmitJobs): fewer tasks with --parts N"),
            (
                "job violates",
                "an account or partition limits tasks, their time or memory: see [run.cluster], or fewer tasks with --parts N",
            ),
        ]
    }

    fn stop(&self, name: &str) -> String {
        format!("`scancel --name={name}` stops all that renders this sheet.")
    }
}

/// What a state comes to.
fn stage(state: &str, reason: &str) -> Stage {
    match state {
        "PENDING" | "REQUEUED" | "REQUEUE_HOLD" | "CONFIGURING" => {
            if reason.to_ascii_lowercase().contains("held") {
                Stage::Held
            } else {
                Stage::Waiting
            }
        }
        "RUNNING" | "COMPLETING" | "SUSPENDED" | "STOPPED" => Stage::Running,
        "COMPLETED" | "FAILED" => Stage::Ended,
        _ => Stage::CutShort,
    }
}

/// Where the script writes while it submits itself, as a line of options has it; nowhere, where no such line can say it.
fn start_log(logs: &str) -> String {
    if logs.chars().any(|sign| sign == '"' || sign == '\\' || sign.is_control()) {
        return "/dev/null".to_owned();
    }
    format!("\"{}/start.log\"", logs.replace('%', "%%"))
}

#[cfg(test)]
mod tests {
    use super::{Cluster, Slurm};

    #[test]
    fn the_tasks_of_the_newest_submission_are_read_in_their_order() {
        let text = "12|CANCELLED||0:00|Dependency\n11_10|PENDING||0:00|JobArrayTaskLimit\n11_2|RUNNING|n1|0:03|None\n\
                    11_3|NODE_FAIL|n2|1:03|NonZeroExitCode\n2_1|COMPLETED|n1|0:05|None\n3|RUNNING|n3|1-02:00:00|None\nslurm_load_jobs error\n";
        let tasks = Slurm.tasks(text, &[]);
        let ids: Vec<&str> = tasks.iter().map(|task| task.id.as_str()).collect();
        assert_eq!(ids, ["3", "11_2", "11_3", "11_10", "12"]);
        assert_eq!((tasks[1].is_running(), tasks[2].was_cut_short(), tasks[3].is_waiting()), (true, true, true));
        assert_eq!((tasks[1].reason.as_str(), tasks[3].reason.as_str()), ("", "JobArrayTaskLimit"));
    }
}
