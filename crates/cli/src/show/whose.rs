//! Whose file it is, a line or two per file.

use truepath_core::plan::{Plan, Series, SeriesKind};
use truepath_core::resolve::paths;
use truepath_core::whose::Owner;

use super::{BAD, GOOD, QUIET, paint, state};
use crate::lower::Screen;
use truepath_project::Queue;

/// What is known of one file.
pub struct FileAnswer<'q> {
    /// Its local path, or its bare name.
    pub path: String,
    /// The sheet that knows it best, by number.
    pub sheet: usize,
    /// The plan that does, with its mode.
    pub plan: &'q Plan,
    /// Whose it is there.
    pub owner: Owner,
}

/// All answers.
pub fn text(queue: &Queue, answers: &[FileAnswer<'_>], screen: Screen) -> String {
    let mut out = String::new();
    for FileAnswer { path, plan, owner, .. } in answers {
        let path = paths::seen_from(path, &plan.home.folder);
        let sheet = if queue.sheets.len() > 1 {
            paint(screen, QUIET, format!("  (sheet {})", plan.home.sheet))
        } else {
            String::new()
        };
        match owner {
            Owner::Series(at, frame) => {
                let head = state(screen, GOOD, belongs(plan, plan.output(*at), *frame));
                out.push_str(&format!("{head}  {path}{sheet}\n"));
            }
            Owner::Nobody(why, near) => {
                let near = near.map(|at| format!(" (nearest: {})", plan.output(at).id)).unwrap_or_default();
                out.push_str(&format!(
                    "{}  {path}\n  {why}{}{sheet}\n",
                    state(screen, BAD, "no match"),
                    paint(screen, QUIET, near)
                ));
            }
        }
    }
    out
}

/// What a file is, in words: job, pass, version, mode and frame.
fn belongs(plan: &Plan, series: &Series, frame: Option<i64>) -> String {
    let job = &plan.jobs[series.job];
    let mut parts = match series.kind {
        SeriesKind::Movie => vec![format!("movie {}", series.id)],
        _ => {
            let passes = plan.labels(series);
            let word = if passes.len() == 1 { "pass" } else { "passes" };
            vec![job.name.clone(), format!("{word} {}", passes.join("+"))]
        }
    };
    let version = plan.version_of(job);
    parts.extend(version.map(|version| format!("version {version}")));
    parts.extend(plan.mode.as_ref().map(|mode| format!("mode {mode}")));
    parts.extend(frame.map(|frame| format!("frame {frame}")));
    parts.join(", ")
}
