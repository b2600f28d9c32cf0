//! Whose file it is, a line or two per file.

use truepath_core::plan::Plan;
use truepath_core::resolve::paths;
use truepath_core::whose::Owner;

use super::{BAD, GOOD, QUIET, paint};
use crate::lower::Screen;
use crate::pipeline::Queue;

/// What is known of one file.
pub struct Answer<'q> {
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
pub fn text(queue: &Queue, answers: &[Answer<'_>], screen: Screen) -> String {
    let mut out = String::new();
    for Answer { path, plan, owner, .. } in answers {
        let path = paths::seen_from(path, &plan.home.folder);
        let sheet = if queue.sheets.len() > 1 {
            paint(screen, QUIET, format!("  (sheet {})", plan.home.sheet))
        } else {
            String::new()
        };
        match owner {
            Owner::Series(at, frame) => {
                let id = &plan.output(*at).id;
                let frame = frame.map(|frame| format!(" frame {frame}")).unwrap_or_default();
                out.push_str(&format!("{}  {path}{sheet}\n", paint(screen, GOOD, format!("{id}{frame}"))));
            }
            Owner::Nobody(why, near) => {
                let near = near.map(|at| format!(" (nearest: {})", plan.output(at).id)).unwrap_or_default();
                out.push_str(&format!(
                    "{}  {path}\n  {why}{}{sheet}\n",
                    paint(screen, BAD, "fits nowhere"),
                    paint(screen, QUIET, near)
                ));
            }
        }
    }
    out
}
