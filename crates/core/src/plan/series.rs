//! The series of one job: a template and its values to a pattern.

use std::collections::BTreeSet;

use crate::resolve::{Job, Movie, Pass, TokenScope, lookup, paths};
use crate::sheet::Layers;
use crate::template::{Pattern, Piece, expand};

use super::{Plan, PlanInput, Series, SeriesKind};

/// Makes series; all it knows is handed in once.
#[derive(Clone, Copy)]
pub struct Maker<'m> {
    /// What the plan stands on.
    pub ground: PlanInput<'m>,
    /// The plan, still without its series.
    pub plan: &'m Plan,
    /// Every variable of the sheet.
    pub variables: &'m BTreeSet<String>,
}

impl Maker<'_> {
    /// The pictures of one job.
    pub fn pictures(self, at: usize, job: &Job) -> Vec<Series> {
        let all: Vec<usize> = (0..job.passes.len()).collect();
        let groups: Vec<Vec<usize>> = match job.layers {
            Layers::Apart => all.into_iter().map(|pass| vec![pass]).collect(),
            Layers::Together if all.is_empty() => Vec::new(),
            Layers::Together => vec![all],
        };
        let picture = |passes: Vec<usize>| {
            let labels: Vec<&str> = passes.iter().map(|pass| job.passes[*pass].label.as_str()).collect();
            let name = labels.join("+");
            let pass = &job.passes[passes[0]];
            let mut series = self.series(at, pass, passes, &name);
            let single = job.frames.as_ref().is_some_and(|frames| frames.count() == 1);
            if single && series.pattern.frame_width().is_none() {
                series.kind = SeriesKind::Still;
            }
            series
        };
        groups.into_iter().map(picture).collect()
    }

    /// The movies of one job.
    pub fn movies(self, at: usize, job: &Job) -> Vec<Series> {
        let movie = |movie: &Movie| {
            let mut series = self.series(at, &movie.pass, movie.shows.into_iter().collect(), &movie.name.value);
            series.kind = SeriesKind::Movie;
            series
        };
        job.movies.iter().map(movie).collect()
    }

    /// What a path of one pass is made for.
    pub fn seen<'s>(&'s self, job: &'s Job, pass: &'s Pass, together: bool) -> TokenScope<'s> {
        let ground = self.ground;
        TokenScope {
            job,
            pass,
            together,
            roots: ground.roots,
            home: ground.home,
            project: ground.sheet.project.as_ref(),
            mode: self.plan.mode.as_deref(),
            pins: ground.pins,
            looking: ground.looking,
            variables: self.variables,
        }
    }

    fn series(self, at: usize, pass: &Pass, passes: Vec<usize>, name: &str) -> Series {
        let (ground, job) = (self.ground, &self.plan.jobs[at]);
        let seen = self.seen(job, pass, passes.len() > 1);
        let (pattern, troubles) = match &pass.path {
            Some(path) => expand(&path.value, &|name| lookup(seen, name)),
            None => (Pattern::default(), Vec::new()),
        };
        let hollow = troubles.is_empty() && pass.path.is_some() && is_hollow(&pattern);
        let pattern = match &pass.path {
            Some(path) if troubles.is_empty() => absolute(pattern, ground.home.folder_of(path.at)),
            _ => Pattern::default(),
        };
        let mode = self.plan.mode.as_ref().map(|mode| format!("@{mode}")).unwrap_or_default();
        Series {
            id: format!("{}/{name}{mode}", job.name),
            job: at,
            kind: SeriesKind::Sequence,
            root: root_of(&pattern, self.plan),
            pattern,
            path: pass.path.clone(),
            troubles,
            frames: job.frames.clone(),
            shift: job.shift,
            format: pass.format.clone(),
            format_lost: pass.format_lost,
            file_type: pass.file_type,
            bits: pass.format.as_deref().and_then(|format| format.bits.as_ref()).map(|bits| bits.value),
            channels: pass.format.as_deref().and_then(|format| format.channels.as_ref()).map(|channels| channels.value),
            size: job.size,
            hollow,
            passes,
        }
    }
}

/// Whether a part of a path has nothing in it, or a file has nothing before its extension.
fn is_hollow(pattern: &Pattern) -> bool {
    let text = pattern.with_frame(|_| "0".to_owned());
    let file = text.rsplit('/').next().unwrap_or("");
    text.get(1..).is_some_and(|rest| rest.contains("//")) || file.starts_with('.') || file.is_empty()
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
fn absolute(pattern: Pattern, folder: &str) -> Pattern {
    if is_tidy(&pattern) {
        return pattern;
    }
    let is_absolute = matches!(pattern.pieces().first(), Some(Piece::Text(text)) if paths::is_absolute(text));
    let mut parts = Vec::new();
    if !is_absolute {
        let mut above = Pattern::default();
        above.push_text(folder);
        parts = above.parts();
    }
    parts.extend(pattern.parts());
    let mut tidied: Vec<Pattern> = Vec::new();
    for (at, part) in parts.into_iter().enumerate() {
        let text = part.fixed();
        match text.as_deref() {
            // The head: the top itself, a drive, or a share.
            _ if at == 0 => tidied.push(part),
            Some("" | ".") => {}
            Some("..") if tidied.len() > 1 => drop(tidied.pop()),
            Some("..") => {}
            _ => tidied.push(part),
        }
    }
    let share = matches!(pattern.pieces().first(), Some(Piece::Text(text)) if text.starts_with("//"));
    if share || (!is_absolute && folder.starts_with("//")) {
        tidied.insert(0, Pattern::default());
    }
    Pattern::joined(&tidied)
}

/// Whether a pattern is absolute and has nothing to tidy, as nearly all have that begin with a root.
fn is_tidy(pattern: &Pattern) -> bool {
    let untidy = |text: &str| text.contains("//") || text.contains("/./") || text.contains("/../");
    let plain = |piece: &Piece| matches!(piece, Piece::Text(text) if !untidy(text) && !text.ends_with("/.") && !text.ends_with("/.."));
    let starts = matches!(pattern.pieces().first(), Some(Piece::Text(text)) if paths::is_absolute(text));
    let no_dots = |piece: &Piece| !matches!(piece, Piece::Text(_)) || plain(piece);
    starts && pattern.pieces().iter().all(no_dots)
}
