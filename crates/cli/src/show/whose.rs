//! Whose file it is, a line or two per file.

use truepath_core::plan::Series;
use truepath_core::whose::Owner;

use super::{BAD, GOOD, QUIET, paint};
use crate::lower::Screen;
use crate::pipeline::Queue;

/// The series of a number among pictures and movies.
pub fn series(queue: &Queue, sheet: usize, at: usize) -> Option<&Series> {
    let plan = &queue.sheets.get(sheet)?.plan;
    plan.series.iter().chain(&plan.movies).nth(at)
}

/// All answers.
pub fn text(queue: &Queue, answers: &[(String, usize, Owner)], screen: Screen) -> String {
    let mut out = String::new();
    for (path, sheet, owner) in answers {
        let home = queue.sheets.get(*sheet).map_or("", |sheet| sheet.plan.home.folder.as_str());
        let path = path.strip_prefix(home).map_or(path.as_str(), |rest| rest.trim_start_matches('/'));
        match owner {
            Owner::Series(at, frame) => {
                let id = series(queue, *sheet, *at).map_or("", |series| series.id.as_str());
                let frame = frame.map(|frame| format!(" frame {frame}")).unwrap_or_default();
                out.push_str(&format!("{}  {path}\n", paint(screen, GOOD, format!("{id}{frame}"))));
            }
            Owner::Nobody(why, near) => {
                let near = near
                    .and_then(|at| series(queue, *sheet, at))
                    .map(|series| format!(" (nearest: {})", series.id))
                    .unwrap_or_default();
                out.push_str(&format!(
                    "{}  {path}\n  {why}{}\n",
                    paint(screen, BAD, "fits nowhere"),
                    paint(screen, QUIET, near)
                ));
            }
        }
    }
    out
}
