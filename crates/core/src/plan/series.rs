//! The series of one job: a template and its values to a pattern.

use std::collections::BTreeSet;
use std::sync::Arc;

use crate::frames::Timecode;
use crate::resolve::{Job, Movie, Pass, TokenScope, lookup, paths};
use crate::sheet::{Colour, Layers};
use crate::source::Spanned;
use crate::template::{Lookup, Part, Pattern, Piece, Template, expand, expand_text};

use super::film::{self, Clip, Film};
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
            let inside = |pass: &usize| {
                let format = job.passes[*pass].format.as_deref();
                let bits = format.and_then(|format| format.bits.as_ref()).map(|bits| bits.value);
                (bits, format.and_then(|format| format.channels.as_ref()).map(|channels| channels.value))
            };
            let inside = if passes.len() > 1 { passes.iter().map(inside).collect() } else { Vec::new() };
            let mut series = self.series(at, pass, passes, &name);
            series.inside = inside;
            let single = job.frames.as_ref().is_some_and(|frames| frames.count() == 1);
            if single && series.pattern.frame_width().is_none() {
                series.kind = SeriesKind::Still;
            }
            series
        };
        groups.into_iter().map(picture).collect()
    }

    /// Whether every job of a reel takes part.
    pub fn takes_whole(self, all: &[Arc<Job>], movie: &Movie) -> bool {
        let parts = all.iter().filter(|job| movie.reel().iter().any(|of| is_of(of, job)));
        movie.reel().is_empty() || parts.clone().all(|part| self.plan.jobs.iter().any(|job| job.name == part.name))
    }

    /// A movie of one job, or one that begins with it. `series` are those of the plan.
    pub fn movie(self, at: usize, movie: &Movie, series: &[Series]) -> Series {
        let job = &self.plan.jobs[at];
        let mut made = self.series(at, &movie.pass, movie.shows.into_iter().collect(), &movie.entry.name.value);
        made.kind = SeriesKind::Movie;
        let parts: Vec<usize> = if movie.reel().is_empty() {
            vec![at]
        } else {
            let of = |of: &Spanned<String>| {
                let jobs = self.plan.jobs.iter().enumerate();
                jobs.filter(|(_, job)| is_of(of, job)).map(|(at, _)| at).collect::<Vec<_>>()
            };
            movie.reel().iter().flat_map(of).collect()
        };
        let clip = |part: &usize| {
            let job = &self.plan.jobs[*part];
            // The other jobs of a reel show the pass that bears the same name there.
            let pass = job.passes.iter().position(|pass| pass.label == movie.pass.label)?;
            let at = series.iter().position(|series| series.job == *part && series.passes.contains(&pass))?;
            film::clip(at, job, &Movie { shows: Some(pass), ..movie.clone() })
        };
        let clips = parts.iter().map(clip).collect::<Option<Vec<Clip>>>().unwrap_or_default();
        let fps = movie.entry.fps.as_ref().map(|fps| fps.value).or(job.fps);
        let scaled =
            |size: crate::sheet::Size| size.scaled(movie.entry.scale.as_ref().map_or(100.0, |scale| scale.value));
        let size = movie.entry.size.as_ref().map(|size| size.value).or(job.size.map(scaled));
        let seen = self.seen(job, &movie.pass, false);
        let counted = fps.map_or(0, |fps| fps.frames.div_ceil(fps.seconds));
        let start = movie.entry.start_timecode.as_ref().and_then(|text| Timecode::parse(&text.value, counted));
        made.film = Some(Arc::new(Film {
            clips,
            fps,
            codec: film::codec(&made),
            audio: movie.audio.as_ref().map(|audio| audio.value.clone()),
            audio_offset: movie.entry.audio_offset.as_ref().map_or(0.0, |offset| offset.value),
            colour: movie.pass.colour.unwrap_or(Colour::Display),
            over: movie.entry.over.as_ref().map(|over| over.value),
            burn: movie.entry.burn.as_ref().map(|burn| burned(&burn.value, &|name| lookup(seen, name))),
            start,
            encoder: movie.entry.adapter.as_ref().map(|adapter| adapter.value.clone()),
            size,
            is_scaled: size != job.size,
        }));
        made.size = size.map(|size| match movie.entry.burn {
            Some(_) => crate::sheet::Size { height: size.height + film::burn_height(size.height), ..size },
            None => size,
        });
        made
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
            pins: ground.pins,
            pin_mode: self.plan.pin_mode.as_deref(),
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
            inside: Vec::new(),
            place: place_of(&pattern, self.plan),
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
            film: None,
            hollow,
            passes,
        }
    }
}

/// Whether an entry of a reel means one job.
fn is_of(of: &Spanned<String>, job: &Job) -> bool {
    of.value == job.job || of.value == job.name
}

/// The line below a picture with all values in it that are the same for every frame; what is a frame's own stays a token.
fn burned(line: &Template, values: &dyn Fn(&str) -> Lookup) -> String {
    let own = |name: &str| matches!(name, "name" | "frame" | "timecode");
    let escaped = |text: &str| text.replace('{', "{{").replace('}', "}}");
    let mut text = String::new();
    for part in line.parts() {
        match part {
            Part::Text(words) => text.push_str(&escaped(words)),
            Part::Token(token) if own(&token.name) => text.push_str(&line.to_string()[token.range.clone()]),
            Part::Token(token) => {
                let one = Template::of(token.clone());
                text.push_str(&escaped(&expand_text(&one, values).unwrap_or_default()));
            }
        }
    }
    text
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

/// Where files lie, the same on every machine: the pattern from its root on, with the root's name in place of its path. A
/// folder in no root keeps its path.
fn place_of(pattern: &Pattern, plan: &Plan) -> String {
    let text = pattern.spelt();
    let root = root_of(pattern, plan).map(|root| &plan.roots[root]);
    let rest = root.and_then(|root| Some((root, text.strip_prefix(root.path.as_deref()?)?)));
    rest.map_or_else(|| text.clone(), |(root, rest)| format!("{{{}}}{rest}", root.name))
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
