//! What every sheet and job must have.

use crate::diagnostic::nearest;
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
    for movie in &sink.input.sheet.movies {
        let Some(of) = &movie.of else { continue };
        let jobs = || sink.input.sheet.jobs.iter().filter_map(|job| job.name.as_ref()).map(|name| name.value.as_str());
        let planned = sink
            .input
            .rivals
            .iter()
            .chain([sink.input.plan])
            .any(|plan| plan.jobs.iter().any(|job| job.job == of.value));
        if !planned && !jobs().any(|name| name == of.value) {
            let words = wording::movie_of_nothing(&of.value, nearest(&of.value, jobs()), of.at);
            sink.findings.add("name-unknown", Some(of.at), None, words);
        }
    }
    for job in &sink.input.plan.jobs {
        for movie in job.movies.iter().filter(|movie| movie.shows.is_none()) {
            sink.add("name-unknown", Some(movie.pass.name.at), job, wording::movie_without_pass(&movie.pass.name, job));
        }
    }
}
