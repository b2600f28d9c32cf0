//! The series of one job: a template and its values to a pattern.

use std::collections::BTreeSet;

use crate::resolve::{Job, Seen, lookup, paths};
use crate::sheet::Layers;
use crate::source::Spanned;
use crate::template::{Pattern, Piece, expand};

use super::{Plan, Series, SeriesKind};

pub fn of_job(
    at: usize,
    job: &Job,
    plan: &Plan,
    project: Option<&Spanned<String>>,
    variables: &BTreeSet<String>,
) -> Vec<Series> {
    let all: Vec<usize> = (0..job.passes.len()).collect();
    let groups: Vec<Vec<usize>> = match job.layers {
        Layers::Apart => all.into_iter().map(|pass| vec![pass]).collect(),
        Layers::Together if all.is_empty() => Vec::new(),
        Layers::Together => vec![all],
    };
    let series = |passes: Vec<usize>| {
        let pass = &job.passes[passes[0]];
        let seen =
            Seen { job, pass, together: passes.len() > 1, roots: &plan.roots, home: &plan.home, project, variables };
        let (pattern, troubles) = match &pass.path {
            Some(path) => expand(&path.value, &|name| lookup(seen, name)),
            None => (Pattern::default(), Vec::new()),
        };
        let pattern = if troubles.is_empty() && pass.path.is_some() {
            absolute(&pattern, &plan.home.folder)
        } else {
            Pattern::default()
        };
        let single = job.frames.as_ref().is_some_and(|frames| frames.count() == 1);
        let labels: Vec<&str> = passes.iter().map(|pass| job.passes[*pass].label.as_str()).collect();
        Series {
            id: format!("{}/{}", job.name, labels.join("+")),
            job: at,
            kind: if single && pattern.frame_width().is_none() { SeriesKind::Still } else { SeriesKind::Sequence },
            root: root_of(&pattern, plan),
            pattern,
            path: pass.path.clone(),
            troubles,
            frames: job.frames.clone(),
            shift: job.shift,
            file_type: pass.file_type,
            bits: pass.format.as_deref().and_then(|format| format.bits.as_ref()).map(|bits| bits.value),
            channels: pass.format.as_deref().and_then(|format| format.channels.as_ref()).map(|channels| channels.value),
            size: job.size,
            passes,
        }
    };
    groups.into_iter().map(series).collect()
}

/// The innermost root that all names lie below.
fn root_of(pattern: &Pattern, plan: &Plan) -> Option<usize> {
    let fixed = match pattern.pieces().first() {
        Some(Piece::Text(text)) => &text[..text.rfind('/').unwrap_or(0)],
        _ => return None,
    };
    let below = |path: &Option<String>| path.as_deref().filter(|path| paths::is_below(fixed, path)).map(str::len);
    plan.roots.iter().enumerate().filter_map(|(at, root)| Some((below(&root.path)?, at))).max().map(|(_, at)| at)
}

/// The pattern from the top of the file system, without `.`, `..` and doubled separators.
fn absolute(pattern: &Pattern, folder: &str) -> Pattern {
    // Control characters cannot come from values, so they can stand for holes while the text is tidied.
    let text = pattern.with_frame(|width| format!("\u{1}{width}\u{2}"));
    let text = if paths::is_absolute(&text) { text } else { format!("{folder}/{text}") };
    let mut tidied = Pattern::default();
    for (at, piece) in paths::tidy(&text).split('\u{1}').enumerate() {
        match piece.split_once('\u{2}').filter(|_| at > 0) {
            Some((width, rest)) => {
                tidied.push_frame(width.parse().unwrap_or(1));
                tidied.push_text(rest);
            }
            None => tidied.push_text(piece),
        }
    }
    tidied
}
