//! Parcels: a slice of a plan as a sheet of its own, for a machine that shares nothing with this one. All values are resolved
//! and all paths are relative to the parcel.

use crate::flaw::Flaw;
use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};
use toml::{Table, Value};

use crate::frames::Frames;
use crate::plan::{Plan, Series};
use crate::resolve::{Job, paths};
use crate::sheet::entries::LEVELS;
use crate::sheet::{CheckRule, Format, Key, Layers, OF_PICTURES, PassKind, SYSTEMS, Setting, System, spelt};
use crate::template::{Piece, slug};

/// The version of a parcel's description.
pub const VERSION: u32 = 1;
/// The folder of a parcel below which its files come out, a folder for each root.
pub const OUT: &str = "out";
/// The file that describes a parcel.
pub const DESCRIPTION: &str = "parcel.json";

/// Some frames of one job.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Slice {
    /// Index into [`Plan::jobs`].
    pub job: usize,
    /// Its frames.
    pub frames: Frames,
}

/// What a parcel holds, and what its sender remembers of it.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Parcel {
    /// The version of this description.
    pub truepath: u32,
    /// What tells it from every other parcel: hexadecimal digits.
    pub parcel: String,
    /// Its name: job and range.
    pub name: String,
    /// Its series.
    pub series: Vec<Packed>,
    /// What was said of modes and settings when it was packed, as options: only the sender keeps it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub said: Vec<String>,
    /// Its files, relative to it, with the BLAKE3 digests of their bytes in hexadecimal.
    pub files: BTreeMap<String, String>,
}

/// One series of a parcel.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Packed {
    /// The series of the plan.
    pub series: String,
    /// What it is called in the parcel.
    pub own: String,
    /// Where its files lie, the same on every machine: see [`Series::place`].
    pub place: String,
    /// Its frames.
    pub frames: Frames,
    /// What its frames are made of in the parcel: only the sender keeps it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub made: Vec<(String, String)>,
    /// What they would have been made of here: only the sender keeps it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub here: Vec<(String, String)>,
}

impl Parcel {
    /// Whether a name from outside can be that of a parcel: it becomes a part of a path.
    #[must_use]
    pub fn is_id(text: &str) -> bool {
        (8..=64).contains(&text.len()) && text.bytes().all(|byte| byte.is_ascii_hexdigit())
    }
}

/// Where the parcel's files are, relative to it.
#[derive(Clone, Debug, Default)]
pub struct Contents {
    /// Scenes, by their absolute paths here.
    pub scenes: BTreeMap<String, String>,
    /// What the sheet says of checks.
    pub checks: Vec<CheckRule>,
    /// Systems that its names are made for. The rest of its policy only forbids, and was looked at here.
    pub systems: Option<Vec<System>>,
    /// Checks that say nothing there: they have been read here.
    pub quiet: BTreeSet<String>,
}

/// The file of one frame of a series, relative to a parcel. `None` for series that lie below no root.
#[must_use]
pub fn file(plan: &Plan, series: &Series, frame: i64) -> Option<String> {
    let root = &plan.roots[series.root?];
    let name = series.name(frame);
    let rest = name.strip_prefix(root.path.as_deref()?)?;
    Some(format!("{OUT}/{}{rest}", root.name))
}

/// The sheet of a parcel.
///
/// # Errors
/// In words, where a job cannot be packed.
pub fn sheet(plan: &Plan, slices: &[Slice], contents: &Contents) -> Result<String, Flaw> {
    let mut root = Table::new();
    root.insert("sheet".to_owned(), Value::Integer(1));
    if let Some(project) = &plan.project {
        root.insert("project".to_owned(), table([("name", Value::String(project.value.clone()))]));
    }
    let roots = plan.roots.iter().map(|root| (root.name.as_str(), Value::String(format!("{OUT}/{}", root.name))));
    root.insert("roots".to_owned(), table(roots));
    root.insert("checks".to_owned(), Value::Table(checks(contents)));
    if let Some(systems) = &contents.systems {
        let spelt = SYSTEMS.iter().filter(|(_, system)| systems.contains(system));
        let names = spelt.map(|(name, _)| Value::String((*name).to_owned())).collect();
        root.insert("policy".to_owned(), table([("systems", Value::Array(names))]));
    }
    root.insert("run".to_owned(), run(plan));
    let (mut formats, mut kinds, mut jobs) = (Table::new(), Table::new(), Vec::new());
    let mut names: BTreeMap<String, usize> = BTreeMap::new();
    for slice in slices {
        let job = &plan.jobs[slice.job];
        for pass in &job.passes {
            if let Some(own) = pass.format.as_deref() {
                formats.insert(own.name.value.clone(), format(own));
            }
            kinds.insert(pass.name.value.clone(), table([("kind", Value::String(kind(pass.kind).to_owned()))]));
        }
        let base = slug(&job.name);
        let count = names.entry(base.clone()).and_modify(|count| *count += 1).or_insert(1);
        let name = if *count == 1 { base } else { format!("{base}-{count}") };
        jobs.push(Value::Table(one(plan, slice, (job, name), contents)?));
    }
    root.insert("formats".to_owned(), Value::Table(formats));
    root.insert("passes".to_owned(), Value::Table(kinds));
    root.insert("job".to_owned(), Value::Array(jobs));
    let body = toml::to_string(&root).map_err(Flaw::of)?;
    Ok(format!("# A parcel of the sheet {}: everything in it is resolved.\n{body}", plan.home.sheet))
}

/// One job.
fn one(plan: &Plan, slice: &Slice, (job, name): (&Job, String), contents: &Contents) -> Result<Table, Flaw> {
    let text = |text: &str| Value::String(text.to_owned());
    let mut own = Table::new();
    own.insert("name".to_owned(), Value::String(name));
    let scene = job.scene.as_ref().and_then(|scene| contents.scenes.get(&scene.value));
    own.insert("scene".to_owned(), text(scene.ok_or_else(|| format!("{} has no scene to pack", job.name))?));
    own.insert("frames".to_owned(), Value::String(slice.frames.to_string()));
    own.extend(job.adapter.as_deref().map(|name| ("adapter".to_owned(), text(name))));
    own.extend(job.export.as_deref().map(|name| ("export".to_owned(), text(name))));
    own.extend(job.size.map(|size| ("size".to_owned(), Value::String(size.to_string()))));
    own.extend(job.fps.map(|fps| ("fps".to_owned(), Value::String(fps.to_string()))));
    if job.shift.0 != 0 {
        own.insert("shift".to_owned(), Value::Integer(job.shift.0));
    }
    settings(&mut own, job);
    passes(&mut own, plan, slice)?;
    Ok(own)
}

/// The settings that are handed on as they are.
fn settings(own: &mut Table, job: &Job) {
    for (key, given) in &job.given.values {
        match key {
            Key::Camera
            | Key::View
            | Key::Region
            | Key::PixelAspect
            | Key::Samples
            | Key::Threads
            | Key::Device
            | Key::Checkpoint => {
                own.insert(key.to_string(), value(&given.value));
            }
            Key::Var(_) | Key::Env(_) | Key::Native(_) => {
                let spelt = key.to_string();
                let (group, name) = spelt.split_once('.').unwrap_or(("vars", &spelt));
                let group = own.entry(group.to_owned()).or_insert_with(|| Value::Table(Table::new()));
                if let Some(group) = group.as_table_mut() {
                    group.insert(name.to_owned(), value(&given.value));
                }
            }
            // Resolved above, or of no meaning where nothing is named any more.
            Key::Scene
            | Key::Frames
            | Key::Handles
            | Key::Shift
            | Key::Path
            | Key::Version
            | Key::Size
            | Key::Scale
            | Key::Fps
            | Key::Format
            | Key::Layers
            | Key::Colour
            | Key::Passes
            | Key::Adapter
            | Key::Export
            | Key::Audio
            | Key::Enabled => {}
        }
    }
}

/// The passes with the names of their files, or the name of the file that has them all.
fn passes(own: &mut Table, plan: &Plan, slice: &Slice) -> Result<(), Flaw> {
    let text = |text: &str| Value::String(text.to_owned());
    let job = &plan.jobs[slice.job];
    let series: Vec<&Series> = plan.series_of(slice.job).map(|at| &plan.series[at]).collect();
    let together = job.layers == Layers::Together;
    own.insert("layers".to_owned(), text(if together { "together" } else { "apart" }));
    let mut passes = Vec::new();
    for series in &series {
        let path = path(plan, series).ok_or_else(|| format!("{} is below no root of the sheet", series.id))?;
        if together {
            own.insert("path".to_owned(), text(&path));
        }
        for pass in series.passes.iter().map(|pass| &job.passes[*pass]) {
            let mut entry = Table::new();
            entry.insert("name".to_owned(), text(&pass.name.value));
            if pass.label != pass.name.value {
                entry.insert("as".to_owned(), text(&pass.label));
            }
            entry.extend(pass.format.as_deref().map(|own| ("format".to_owned(), text(&own.name.value))));
            entry.extend(pass.colour.map(|colour| ("colour".to_owned(), Value::String(colour.to_string()))));
            if !together {
                entry.insert("path".to_owned(), text(&path));
            }
            passes.push(Value::Table(entry));
        }
    }
    own.insert("passes".to_owned(), Value::Array(passes));
    Ok(())
}

/// Where a series lies, as a path of the parcel's sheet: its root is a token, all else stands as it is.
fn path(plan: &Plan, series: &Series) -> Option<String> {
    let root = &plan.roots[series.root?];
    let escaped = |text: &str| text.replace('{', "{{").replace('}', "}}");
    let piece = |piece: &Piece| match piece {
        Piece::Text(text) => escaped(text),
        Piece::Frame { width } => format!("{{frame:{width}}}"),
        Piece::Version => String::new(),
    };
    let whole: String = series.pattern.pieces().iter().map(piece).collect();
    let rest = whole.strip_prefix(&escaped(root.path.as_deref()?))?;
    Some(format!("{{{}}}{rest}", root.name))
}

/// How it is run: without what belongs to this machine.
fn run(plan: &Plan) -> Value {
    let run = &plan.run;
    let span = |time: std::time::Duration| Value::String(format!("{}s", time.as_secs().max(1)));
    let mut own = Table::new();
    own.insert("chunk".to_owned(), Value::Integer(run.chunk));
    own.insert("retries".to_owned(), Value::Integer(run.retries));
    own.extend(run.frame_timeout.map(|time| ("frame_timeout".to_owned(), span(time))));
    own.extend(run.silence.map(|time| ("silence".to_owned(), span(time))));
    let licences = run.licences.iter().map(|(name, count)| (name.as_str(), Value::Integer(*count)));
    own.insert("licences".to_owned(), table(licences));
    Value::Table(own)
}

/// What is said of checks: as the sheet has it, but nothing of what has been read here.
fn checks(contents: &Contents) -> Table {
    let spelt = |level| LEVELS.iter().find(|(_, own)| *own == level).map_or("off", |(name, _)| *name);
    let mut own = Table::new();
    for rule in &contents.checks {
        let level = Value::String(spelt(rule.level).to_owned());
        let value = match rule.limit {
            Some(limit) => table([("level", level), ("limit", Value::Float(limit))]),
            None => level,
        };
        own.insert(rule.check.value.clone(), value);
    }
    for check in &contents.quiet {
        own.insert(check.clone(), Value::String("off".to_owned()));
    }
    own
}

fn format(format: &Format) -> Value {
    let mut own = Table::new();
    let mut add = |key: &str, value: Option<Value>| own.extend(value.map(|value| (key.to_owned(), value)));
    for option in OF_PICTURES {
        // Depths and qualities are numbers in a sheet.
        let value = spelt(Some(format), option);
        add(option.name(), value.map(|value| value.parse().map_or(Value::String(value), Value::Integer)));
    }
    Value::Table(own)
}

fn kind(kind: PassKind) -> &'static str {
    match kind {
        PassKind::Colour => "colour",
        PassKind::Data => "data",
        PassKind::Mask => "mask",
    }
}

fn value(setting: &Setting) -> Value {
    match setting {
        Setting::Whole(number) => Value::Integer(*number),
        Setting::Number(number) => Value::Float(*number),
        Setting::Flag(flag) => Value::Boolean(*flag),
        Setting::Checkpoint(own) => table([
            ("every", Value::String(format!("{}s", own.every.as_secs().max(1)))),
            ("keep", Value::Integer(own.keep)),
        ]),
        other => Value::String(other.to_string()),
    }
}

fn table<'k>(pairs: impl IntoIterator<Item = (&'k str, Value)>) -> Value {
    let mut table = Table::new();
    for (key, value) in pairs {
        table.insert(key.to_owned(), value);
    }
    Value::Table(table)
}

/// Files of a scene on their way into a parcel.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Moved {
    /// Where the scene goes, relative to the parcel.
    pub scene: String,
    /// Its outside files: where each is, and where it goes.
    pub files: Vec<(String, String)>,
    /// What the scene has to spell another way: an absolute path, and what takes its place.
    pub respelt: BTreeMap<String, String>,
}

/// Places a scene and its outside files below a folder of the parcel, so that all relative paths stay as they are. `resources`
/// are the outside files as the scene spells them, with their absolute paths here.
#[must_use]
pub fn arrange(scene: &str, resources: &[(String, String)], folder: &str) -> Moved {
    let near = |(spelt, _): &&(String, String)| !paths::is_absolute(spelt);
    // The innermost folder that holds the scene and all that it names from its own place.
    let mut above = paths::parent(scene).to_owned();
    for (_, path) in resources.iter().filter(near) {
        while !paths::is_below(path, &above) && !above.is_empty() {
            above = paths::parent(&above).to_owned();
        }
    }
    let inside = |path: &str| path.strip_prefix(above.as_str()).unwrap_or(path).trim_start_matches('/').to_owned();
    let own = inside(scene);
    let up = "../".repeat(own.matches('/').count());
    let mut moved = Moved { scene: format!("{folder}/{own}"), ..Moved::default() };
    for (at, (spelt, path)) in resources.iter().enumerate() {
        if paths::is_absolute(spelt) {
            let name = format!("outside/{at}-{}", paths::file_name(path));
            moved.files.push((path.clone(), format!("{folder}/{name}")));
            moved.respelt.insert(spelt.clone(), format!("{up}{name}"));
        } else {
            moved.files.push((path.clone(), format!("{folder}/{}", inside(path))));
        }
    }
    moved
}
