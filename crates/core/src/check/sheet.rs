//! What every sheet and job must have.

use crate::sheet::Key;

use super::{Sink, wording};

pub fn check(sink: &mut Sink<'_, '_>) {
    if sink.input.sheet.jobs.is_empty() {
        sink.findings.add("key-missing", None, None, wording::no_job());
    }
    for job in &sink.input.plan.jobs {
        for key in [Key::Scene, Key::Path] {
            let elsewhere = key == Key::Path && job.passes.iter().all(|pass| pass.path.is_some());
            if job.settings.get(&key).is_none() && !job.settings.unread.contains(&key) && !elsewhere {
                sink.add("key-missing", Some(job.at), job, wording::job_without(&key));
            }
        }
    }
}
