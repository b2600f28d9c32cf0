//! Command lines to scripts.

pub mod cluster;
pub mod cmd;
pub mod json;
pub mod lines;
pub mod powershell;
mod rules;
pub mod sh;
pub mod target;

use std::collections::{BTreeMap, BTreeSet, HashMap};

use self::target::Target;
use crate::frames::{FrameRun, Frames};
use crate::invoke::command_line::{CallKind, CommandLine, PART};
use crate::invoke::quote::literal;
use crate::invoke::stage::stage_base;
use crate::invoke::written_file::FileText;
use crate::plan::{Adapters, Plan};
use crate::resolve::paths;
use crate::run::event::{Event, SeriesOf};
use crate::run::fingerprint::{Fingerprint, UNKNOWN};

/// How a script behaves, and what it has to know beside its calls.
#[derive(Clone, Copy, Debug)]
pub struct Script<'s> {
    /// Go on after a call that failed.
    pub keep_going: bool,
    /// Wait for a key at the end, so that a window opened by a double-click stays (cmd only).
    pub pause: bool,
    /// It is started in whatever folder it lies: that of the sheet. Programs from elsewhere are looked for on the path.
    pub portable: bool,
    /// It is done by many tasks: `$role` says which one this is.
    pub is_task: bool,
    /// The adapters of the calls.
    pub adapters: &'s Adapters,
    /// What the frames of each series are made of.
    pub made: &'s [Option<Fingerprint>],
    /// The turn of its journal, where no later one is there when it is started.
    pub turn: u64,
    /// Files that are there and have to be made again, by series and frame: their bytes.
    pub broken: &'s BTreeMap<(usize, i64), u64>,
}

impl Script<'_> {
    /// The line of a journal that says what the frames of a series are made of.
    fn series_line(&self, plan: &Plan, at: usize) -> String {
        let series = plan.output(at);
        // What frames a movie will be made of is not known when its script is built.
        let made = self.made.get(at).and_then(Option::as_ref).map(|made| made.clone().with_frames_unknown());
        // What renders where it is sent is asked there.
        let made = made.map(|made| if self.portable { made.with_version(UNKNOWN) } else { made }.parts);
        let (pattern, shift) = (series.place.clone(), series.shift.0);
        Event::Series(SeriesOf { series: series.id.clone(), pattern, shift, made: made.unwrap_or_default() }).line()
    }
}

/// A folder or a program that a script names at its head and nowhere else.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BasePath {
    /// The variable.
    pub name: String,
    /// The path.
    pub path: String,
}

/// Where a base is to be found, as a script says it at its head.
pub(super) enum Found<'b> {
    /// The script's own folder.
    Here,
    /// Below that folder.
    Below(&'b str),
    /// As it stands.
    There(&'b str),
}

impl BasePath {
    fn found(&self, plan: &Plan, portable: bool) -> Found<'_> {
        let home = &plan.home.folder;
        let inside = self.path.strip_prefix(home.as_str()).filter(|rest| rest.is_empty() || rest.starts_with('/'));
        match inside {
            _ if !portable => Found::There(&self.path),
            Some("") => Found::Here,
            Some(rest) => Found::Below(rest.trim_start_matches('/')),
            None => Found::There(paths::file_name(&self.path)),
        }
    }
}

/// A piece of a word: text, or a base folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Body<'b> {
    /// Text.
    Text(&'b str),
    /// A base.
    BasePath(&'b BasePath),
}

/// The frames of one job's steps, by their passes.
type ByPasses<'s> = BTreeMap<&'s [String], Vec<FrameRun>>;

/// The bases below which exports lie, and are written: each start of a script has its own, so that nothing is replaced that a
/// renderer of another start reads.
pub(super) const PRODUCTS: &str = "products";
pub(super) const PARTS: &str = "parts";

/// Whether a script exports anything.
fn has_products(bases: &[BasePath]) -> bool {
    bases.iter().any(|base| base.name == PRODUCTS)
}

/// What scripts can be written for.
pub const TARGETS: [&dyn Target; 3] = [&sh::Sh, &cmd::Cmd, &powershell::PowerShell];

/// What every script says of itself in its first lines.
pub const MARK: &str = "Made by True Path";

/// What stands at the head of a script: what made it, and for which frames.
#[must_use]
pub fn head(plan: &Plan, steps: &[CommandLine]) -> Vec<String> {
    // Chunks of one set of passes share no frame, so that their runs can simply be gathered.
    let mut jobs: Vec<(&str, ByPasses<'_>)> = Vec::new();
    let mut known: HashMap<&str, usize> = HashMap::new();
    for step in steps.iter().filter(|step| step.kind == CallKind::Render) {
        let at = *known.entry(&step.job).or_insert_with(|| {
            jobs.push((&step.job, BTreeMap::new()));
            jobs.len() - 1
        });
        jobs[at].1.entry(&step.passes).or_default().extend(step.frames.runs());
    }
    let together = |by_pass: &ByPasses<'_>| {
        let mut all = by_pass.values().map(|runs| runs.iter().copied().collect::<Frames>());
        let first = all.next().unwrap_or_default();
        all.fold(first, |sum, frames| if sum == frames { sum } else { sum.union(&frames) })
    };
    let mode = plan.mode.as_ref().map(|mode| format!(", mode {mode}")).unwrap_or_default();
    let mut lines = vec![format!("{MARK} {} from the sheet {}{mode}.", env!("CARGO_PKG_VERSION"), plan.home.sheet)];
    lines.extend(jobs.iter().map(|(name, by_pass)| format!("{name}: frames {}", together(by_pass))));
    lines.push(format!("{} call{}", steps.len(), if steps.len() == 1 { "" } else { "s" }));
    lines
}

/// The folders and programs of a script: the sheet's folder, roots with their stage folders, what is exported and where it is
/// written, programs.
#[must_use]
pub fn bases(plan: &Plan, steps: &[CommandLine]) -> Vec<BasePath> {
    let base = |name: String, path: &str| BasePath { name, path: path.to_owned() };
    let mut all = vec![base("home".to_owned(), &plan.home.folder)];
    all.extend(steps.first().map(|step| base("logs".to_owned(), paths::parent(&step.log))));
    for (at, root) in plan.roots.iter().enumerate() {
        let Some(path) = root.path.as_deref() else { continue };
        all.push(base(format!("root_{}", at + 1), path));
        all.push(base(format!("stage_{}", at + 1), &stage_base(plan, path)));
    }
    let products = steps.iter().find_map(|step| Some(paths::parent(paths::parent(&step.product.as_ref()?.path))));
    if let Some(products) = products {
        all.extend([base(PRODUCTS.to_owned(), products), base(PARTS.to_owned(), &format!("{products}/{PART}"))]);
    }
    let programs: BTreeSet<&str> = steps.iter().map(|step| step.program.as_str()).collect();
    all.extend(programs.iter().enumerate().map(|(at, path)| base(format!("program_{}", at + 1), path)));
    all
}

/// A word with every base folder in it found, the longest first.
#[must_use]
pub fn in_pieces<'b>(text: &'b str, bases: &'b [BasePath]) -> Vec<Body<'b>> {
    let mut pieces = Vec::new();
    let (mut from, mut at) = (0, 0);
    let bytes = text.as_bytes();
    // Where every base begins with a slash, nothing else needs to be looked at.
    let slashes = bases.iter().all(|base| base.path.starts_with('/'));
    while at < bytes.len() {
        if slashes {
            let Some(next) = text[at..].find('/') else { break };
            at += next;
        }
        let base = base_at(&bytes[at..], bases);
        let Some(base) = base else {
            at += 1;
            continue;
        };
        if at > from {
            pieces.push(Body::Text(&text[from..at]));
        }
        pieces.push(Body::BasePath(base));
        at += base.path.len();
        from = at;
    }
    if from < text.len() {
        pieces.push(Body::Text(&text[from..]));
    }
    pieces
}

/// The text of a file with every base folder in it found, as it is written in a literal of the file's language.
#[must_use]
pub fn in_text<'b>(file: &'b FileText, bases: &'b [BasePath]) -> Vec<Body<'b>> {
    // A program that is looked for on the path has a name, and no folder that could be elsewhere.
    let folders = bases.iter().filter(|base| base.path.contains('/'));
    let encoded = folders.filter_map(|base| Some((literal::part(file.language, &base.path)?, base)));
    let encoded: Vec<(String, &BasePath)> = encoded.collect();
    let text = file.text.as_str();
    let (mut pieces, mut from, mut at) = (Vec::new(), 0, 0);
    // A folder ends where a path goes on below it, or where its literal ends.
    let ends = |rest: &str| rest.chars().next().is_none_or(|next| "/\"'<".contains(next) || next.is_whitespace());
    while at < text.len() {
        let rest = &text[at..];
        let fits = |(path, _): &&(String, &BasePath)| rest.starts_with(path.as_str()) && ends(&rest[path.len()..]);
        match encoded.iter().filter(fits).max_by_key(|(path, _)| path.len()) {
            Some((path, base)) => {
                if at > from {
                    pieces.push(Body::Text(&text[from..at]));
                }
                pieces.push(Body::BasePath(base));
                at += path.len();
                from = at;
            }
            None => at += rest.chars().next().map_or(1, char::len_utf8),
        }
    }
    if from < text.len() {
        pieces.push(Body::Text(&text[from..]));
    }
    pieces
}

/// The longest base that a text begins with, as a whole folder.
fn base_at<'b>(text: &[u8], bases: &'b [BasePath]) -> Option<&'b BasePath> {
    let first = *text.first()?;
    // Nearly every byte begins no base at all.
    let fits = |base: &&BasePath| {
        let path = base.path.as_bytes();
        path.first() == Some(&first) && text.starts_with(path) && matches!(text.get(path.len()), None | Some(b'/'))
    };
    bases.iter().filter(fits).max_by_key(|base| base.path.len())
}

/// How many steps at the head are exports, and how many at the end are movies.
#[must_use]
pub fn around(steps: &[CommandLine]) -> (usize, usize) {
    let exports = steps.iter().take_while(|step| step.kind == CallKind::Export).count();
    let movies = steps[exports..].iter().rev().take_while(|step| step.kind == CallKind::Encode).count();
    (exports, movies)
}

/// How many files some steps write.
fn planned(steps: &[CommandLine]) -> i64 {
    steps.iter().map(|step| step.frames.count() * step.writes.len() as i64).sum()
}

/// A text as JSON has it, with its quotes.
fn json(text: &str) -> String {
    serde_json::to_string(text).unwrap_or_default()
}

/// The folders that all steps need, each once: for logs and files.
#[must_use]
pub fn folders(plan: &Plan, steps: &[CommandLine]) -> Vec<String> {
    let mut folders: BTreeSet<String> = BTreeSet::new();
    let mut known: BTreeSet<usize> = BTreeSet::new();
    for step in steps {
        let log = paths::parent(&step.log);
        if !folders.contains(log) {
            folders.insert(log.to_owned());
        }
        for write in &step.writes {
            let series = plan.output(write.series);
            if known.contains(&write.series) {
                continue;
            }
            match series.pattern.folder().and_then(|folder| folder.fixed()) {
                Some(folder) => {
                    known.insert(write.series);
                    folders.insert(folder);
                }
                None => folders.extend(step.frames.iter().map(|frame| paths::parent(&series.name(frame)).to_owned())),
            }
        }
    }
    folders.into_iter().collect()
}
