//! Sheet and facts to jobs: every layer laid, every job by its own name.

mod given;
pub mod paths;
mod stack;
mod tokens;

use std::collections::BTreeMap;
use std::sync::Arc;

use self::given::{checkpoint_of, layers_of, texts_of, version_of};
use crate::catalogue::FileType;
use crate::diagnostic::{Findings, Slug, Words};
use crate::frames::{FrameExpr, Frames, Shift};
use crate::scene::Facts;
use crate::sheet::machine::MachineFile;
use crate::sheet::{
    Checkpoint, Colour, Format, Fps, Key, Layers, MovieEntry, PassEntry, PassKind, RootPaths, Setting, Settings, Sheet,
    Size, System, Version,
};
use crate::source::{Place, Spanned};
use crate::template::{Part, Template};

pub use stack::{Stacked, stack, why};
pub use tokens::{TokenScope, lookup};

/// Where a sheet is at home. All paths are absolute text with `/`.
#[derive(Clone, Debug)]
pub struct Home {
    /// The sheet's folder.
    pub folder: String,
    /// The sheet's file name without extension.
    pub sheet: String,
    /// The user's home folder.
    pub user: Option<String>,
    /// The system this is.
    pub system: System,
    /// The folders of all texts by their numbers: a relative path starts at the folder of the text it stands in. Texts
    /// beyond the list, such as what was typed, are at home in the sheet's folder.
    pub folders: Vec<String>,
    /// Tells sheets of one name apart on a root that they share; the same on every machine, see `id` in the state folder.
    pub mark: String,
}

impl Home {
    /// Where a relative path of a text starts.
    #[must_use]
    pub fn folder_of(&self, at: Place) -> &str {
        self.folders.get(usize::from(at.file.0)).filter(|folder| !folder.is_empty()).unwrap_or(&self.folder)
    }
}

/// A root on this system.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ResolvedRoot {
    /// Its name.
    pub name: String,
    /// Absolute; `None` where the sheet gives no path for this system.
    pub path: Option<String>,
    /// Where the sheet gives it.
    pub at: Place,
}

/// One job with all that can be known.
#[derive(Clone, Debug)]
pub struct Job {
    /// Its own name, such as `crossing/quay`.
    pub name: String,
    /// The name of its job entry.
    pub job: String,
    /// The `[[job]]`.
    pub at: Place,
    /// All values as they were given, with their places: for findings that point at one.
    pub given: Arc<Settings>,
    /// How its renderer is driven; `None` where nothing says it.
    pub adapter: Option<String>,
    /// The exporter that runs before the renderer.
    pub export: Option<String>,
    /// The camera; the scene's own where there is none.
    pub camera: Option<String>,
    /// One of several views.
    pub view: Option<String>,
    /// A part of the picture, as the sheet spells it.
    pub region: Option<String>,
    /// The version, looked up or not.
    pub version: Option<Version>,
    /// Render at this percentage of the size.
    pub scale: f64,
    /// Width of a pixel over its height.
    pub pixel_aspect: Option<f64>,
    /// Samples per pixel.
    pub samples: Option<i64>,
    /// Threads that the renderer may use.
    pub threads: Option<i64>,
    /// The device to render on.
    pub device: Option<String>,
    /// How often a long still saves a checkpoint.
    pub checkpoint: Option<Checkpoint>,
    /// Whether it is rendered unless it is named.
    pub enabled: bool,
    /// Tokens of the sheet's own, by name.
    pub vars: BTreeMap<String, String>,
    /// Environment of the renderer, by name.
    pub env: BTreeMap<String, String>,
    /// Settings that only the renderer understands, by name.
    pub native: BTreeMap<String, String>,
    /// The scene's absolute path.
    pub scene: Option<Spanned<String>>,
    /// What is known about the scene; `None` where nothing is.
    pub facts: Option<Arc<Facts>>,
    /// The frames, handles included; `None` where nothing says them.
    pub frames: Option<Frames>,
    /// The same before a mode or the command line asked for some of them only: names stand on these.
    pub own_frames: Option<Frames>,
    /// The same before the command line asked for some of them only: movies stand on these.
    pub mode_frames: Option<Frames>,
    /// Whether the command line asked for some of its frames only.
    pub is_asked: bool,
    /// Whether a mode or the command line asked for some of its frames only.
    pub narrowed: bool,
    /// Added to the frame in names.
    pub shift: Shift,
    /// Frames per second.
    pub fps: Option<Fps>,
    /// Size before scale.
    pub full_size: Option<Size>,
    /// Size of the files.
    pub size: Option<Size>,
    /// Passes in the order of the sheet.
    pub passes: Vec<Pass>,
    /// One file for all passes or one for each.
    pub layers: Layers,
    /// Movies of its frames.
    pub movies: Vec<Movie>,
}

impl Job {
    /// The region in whole pixels of the final size: x, y, width, height. `None` where there is none, or where it is in
    /// percent of a size that is not known.
    #[must_use]
    pub fn region_pixels(&self) -> Option<[u32; 4]> {
        let mut parts = self.region.as_deref()?.split(',').map(str::trim);
        let mut part = |full: Option<u32>| {
            let part = parts.next()?;
            match part.strip_suffix('%') {
                Some(percent) => Some((f64::from(full?) * percent.parse::<f64>().ok()? / 100.0).round() as u32),
                None => part.parse().ok(),
            }
        };
        let (width, height) = (self.size.map(|size| size.width), self.size.map(|size| size.height));
        Some([part(width)?, part(height)?, part(width)?, part(height)?])
    }
}

/// A movie of one job.
#[derive(Clone, Debug)]
pub struct Movie {
    /// As it is written.
    pub entry: MovieEntry,
    /// Index of the pass it shows; `None` where the job does not render it.
    pub shows: Option<usize>,
    /// That pass, with the movie's own format, colour and path.
    pub pass: Pass,
    /// Its sound, absolute: its own or the job's.
    pub audio: Option<Spanned<String>>,
}

impl Movie {
    /// Jobs that it shows one after another; empty where it shows its own job and nothing else.
    #[must_use]
    pub fn reel(&self) -> &[Spanned<String>] {
        if self.entry.is_reel { &self.entry.of } else { &[] }
    }
}

/// One pass of a job.
#[derive(Clone, Debug)]
pub struct Pass {
    /// The renderer's pass.
    pub name: Spanned<String>,
    /// What it is called in names.
    pub label: String,
    /// What it is.
    pub kind: PassKind,
    /// How its pixels are stored: linear (scene-linear) or display (display-encoded).
    pub colour: Option<Colour>,
    /// Where that is written.
    pub colour_at: Option<Place>,
    /// Its file options.
    pub format: Option<Arc<Format>>,
    /// Whether it asks for a format that nothing defines, or whose type could not be read: said once.
    pub format_lost: bool,
    /// Its file type: the format's, else the path's own extension's.
    pub file_type: Option<&'static FileType>,
    /// Its path.
    pub path: Option<Spanned<Arc<Template>>>,
}

/// Resolves jobs. `facts` knows each scene by its absolute path.
pub fn resolve(
    sheet: &Sheet,
    stacked: &[Stacked],
    facts: &dyn Fn(&str) -> Option<Arc<Facts>>,
    home: &Home,
    findings: &mut Findings,
) -> Vec<Arc<Job>> {
    let formats: Vec<Arc<Format>> = sheet.formats.iter().cloned().map(Arc::new).collect();
    let known = Known { sheet, formats: &formats, facts, home, stacked };
    stacked.iter().map(|stacked| Arc::new(job(&known, stacked, findings))).collect()
}

/// All that jobs are resolved with.
struct Known<'k> {
    sheet: &'k Sheet,
    formats: &'k [Arc<Format>],
    /// Each scene by its absolute path.
    facts: &'k dyn Fn(&str) -> Option<Arc<Facts>>,
    home: &'k Home,
    stacked: &'k [Stacked],
}

impl Known<'_> {
    /// Whether a job is the first that a name refers to.
    fn is_first(&self, own: &Stacked, name: &str) -> bool {
        let first = self.stacked.iter().find(|stacked| stacked.job == name || stacked.name == name);
        first.is_some_and(|first| first.name == own.name)
    }
}

fn job(known: &Known<'_>, stacked: &Stacked, findings: &mut Findings) -> Job {
    let mut job = settled(known, stacked);
    let span = job.facts.as_ref().and_then(|facts| facts.frames(job.fps));
    job.own_frames = own_frames(&job, span.as_ref(), findings);
    let (by_modes, typed) = stacked.refine.split_at(stacked.refine.len() - stacked.typed);
    job.mode_frames = job.own_frames.as_ref().and_then(|own| narrowed(&job, own, span.as_ref(), by_modes, findings));
    job.frames = job.mode_frames.as_ref().and_then(|own| narrowed(&job, own, span.as_ref(), typed, findings));
    let entries = match job.given.value(&Key::Passes) {
        Some(Setting::Passes(entries)) => entries.clone(),
        _ => Vec::new(),
    };
    job.passes = entries.iter().map(|entry| pass(known.sheet, &job, entry, known.formats, findings)).collect();
    job.movies = movies(known, stacked, &job, findings);
    job
}

/// A job as its settings have it, still without frames, passes and movies.
fn settled(known: &Known<'_>, stacked: &Stacked) -> Job {
    let given = stacked.settings.clone();
    let scene = match (given.text(&Key::Scene), given.place(&Key::Scene)) {
        (Some(scene), Some(at)) => Some(Spanned::new(paths::absolute(scene, at, known.home), at)),
        _ => None,
    };
    let facts = scene.as_ref().and_then(|scene| (known.facts)(&scene.value));
    let text = |key: Key| given.text(&key).map(str::to_owned);
    let number = |key: Key| match given.value(&key) {
        Some(Setting::Number(number)) => Some(*number),
        _ => None,
    };
    let fps = match given.value(&Key::Fps) {
        Some(Setting::Fps(fps)) => Some(*fps),
        _ => facts.as_ref().and_then(|facts| facts.fps),
    };
    let full_size = match given.value(&Key::Size) {
        Some(Setting::Size(size)) => Some(*size),
        _ => facts.as_ref().and_then(|facts| facts.size),
    };
    let scale = number(Key::Scale).unwrap_or(100.0);
    let layers = layers_of(&given);
    let table = |pick: fn(&Key) -> Option<&String>| texts_of(&given, pick);
    Job {
        frames: None,
        own_frames: None,
        mode_frames: None,
        is_asked: stacked.typed > 0,
        narrowed: !stacked.refine.is_empty(),
        shift: Shift(given.whole(&Key::Shift).unwrap_or(0)),
        adapter: text(Key::Adapter),
        export: text(Key::Export),
        camera: text(Key::Camera),
        view: text(Key::View),
        region: text(Key::Region),
        device: text(Key::Device),
        version: version_of(&given),
        pixel_aspect: number(Key::PixelAspect),
        samples: given.whole(&Key::Samples),
        threads: given.whole(&Key::Threads),
        checkpoint: checkpoint_of(&given),
        enabled: !matches!(given.value(&Key::Enabled), Some(Setting::Flag(false))),
        vars: table(|key| if let Key::Var(name) = key { Some(name) } else { None }),
        env: table(|key| if let Key::Env(name) = key { Some(name) } else { None }),
        native: table(|key| if let Key::Native(name) = key { Some(name) } else { None }),
        scale,
        size: full_size.map(|size| size.scaled(scale)),
        passes: Vec::new(),
        movies: Vec::new(),
        name: stacked.name.clone(),
        job: stacked.job.clone(),
        at: stacked.at,
        scene,
        facts,
        fps,
        full_size,
        layers,
        given,
    }
}

/// The movies that show a job.
fn movies(known: &Known<'_>, stacked: &Stacked, job: &Job, findings: &mut Findings) -> Vec<Movie> {
    let is_of = |of: &Spanned<String>| of.value == job.job || of.value == job.name;
    let is_own = |entry: &&MovieEntry| match entry.is_reel {
        // A reel belongs to the first of what it shows.
        true => entry.of.first().is_some_and(is_of) && known.is_first(stacked, &entry.of[0].value),
        false => entry.of.iter().any(is_of),
    };
    known.sheet.movies.iter().filter(is_own).filter_map(|entry| movie(known, job, entry, findings)).collect()
}

/// A movie of a job: the pass it shows under a format and a path of its own.
fn movie(known: &Known<'_>, job: &Job, entry: &MovieEntry, findings: &mut Findings) -> Option<Movie> {
    let Known { sheet, formats, home, .. } = *known;
    let shown = |pass: &Pass| entry.pass.as_ref().is_none_or(|name| pass.label == name.value);
    let shows = job.passes.iter().position(shown);
    let name = shows.map(|at| job.passes[at].name.clone()).or(entry.pass.clone())?;
    let written = PassEntry {
        name,
        label: None,
        colour: entry.colour.clone(),
        format: entry.format.clone(),
        path: entry.path.clone(),
    };
    let mut pass = pass(sheet, job, &written, formats, findings);
    if let Some(shown) = shows {
        pass.label.clone_from(&job.passes[shown].label);
    }
    if entry.format.is_none() {
        // The job's format is the sequence's, not the movie's: without its own, the extension tells the type.
        let extension = pass.path.as_ref().and_then(|path| written_extension(&path.value));
        pass.file_type = extension.and_then(crate::catalogue::by_extension);
        pass.format = None;
        pass.format_lost = false;
    }
    let of_job = || Some(Spanned::new(job.given.text(&Key::Audio)?.to_owned(), job.given.place(&Key::Audio)?));
    let audio = entry.audio.clone().or_else(of_job);
    Some(Movie {
        entry: entry.clone(),
        shows,
        pass,
        audio: audio.map(|audio| Spanned::new(paths::absolute(&audio.value, audio.at, home), audio.at)),
    })
}

/// The job's own frames, widened by handles.
fn own_frames(job: &Job, span: Option<&Frames>, findings: &mut Findings) -> Option<Frames> {
    let mut frames = match job.given.value(&Key::Frames) {
        Some(Setting::Frames(expr)) if expr.needs_own() => {
            let words = Words::new(
                "`frames` of a job cannot use words that refer to its own frames",
                "all, first, middle and last can be used on the command line and in modes",
            );
            findings.add(Slug::FramesNotUnderstood, job.given.place(&Key::Frames), Some(&job.name), words);
            return None;
        }
        Some(Setting::Frames(expr)) => expr.frames(span, None)?,
        _ => span.cloned()?,
    };
    if let (Some(Setting::Handles(before, after)), Some(first), Some(last)) =
        (job.given.value(&Key::Handles), frames.first(), frames.last())
    {
        frames = frames.union(&Frames::range(first - before, first)).union(&Frames::range(last, last + after));
    }
    Some(frames)
}

/// A job's frames, narrowed by what modes and the command line ask for.
fn narrowed(
    job: &Job,
    own: &Frames,
    span: Option<&Frames>,
    refine: &[Spanned<FrameExpr>],
    findings: &mut Findings,
) -> Option<Frames> {
    let mut frames = own.clone();
    for expr in refine {
        let wanted = expr.value.frames(span, Some(&frames))?;
        let beyond = wanted.minus(&frames);
        if !beyond.is_empty() {
            let words = Words::new(
                format!("the job `{}` has no {}", job.name, beyond.worded()),
                format!("its frames are {frames}"),
            );
            findings.add(
                Slug::FramesCut,
                Some(expr.at),
                Some(&job.name),
                words.help("give frames that the job has, or change `frames` in the sheet"),
            );
        }
        frames = wanted.intersect(&frames);
    }
    Some(frames)
}

fn pass(sheet: &Sheet, job: &Job, entry: &PassEntry, formats: &[Arc<Format>], findings: &mut Findings) -> Pass {
    let wanted = entry
        .format
        .clone()
        .or_else(|| Some(Spanned::new(job.given.text(&Key::Format)?.to_owned(), job.given.place(&Key::Format)?)));
    let format = wanted.as_ref().and_then(|name| formats.iter().find(|format| format.name.value == name.value));
    if let (Some(name), None) = (&wanted, format) {
        let mut words = Words::new(format!("there is no format `{}`", name.value), "not defined");
        words = match crate::diagnostic::nearest(
            &name.value,
            sheet.formats.iter().map(|format| format.name.value.as_str()),
        ) {
            Some(near) => words.help(format!("write \"{near}\"")).fix(name.at, near),
            None => words.help(format!("define it under [formats.{}]", name.value)),
        };
        findings.add(Slug::NameUnknown, Some(name.at), Some(&job.name), words);
    }
    let path = entry.path.clone().or_else(|| match job.given.get(&Key::Path) {
        Some(given) => match (&*given.value, given.at) {
            (Setting::Path(path), Some(at)) => Some(Spanned::new(path.clone(), at)),
            _ => None,
        },
        None => None,
    });
    let by_format = format.and_then(|format| crate::catalogue::by_name(&format.kind.as_ref()?.value));
    let by_path = || path.as_ref().and_then(|path| crate::catalogue::by_extension(written_extension(&path.value)?));
    let colour = entry.colour.as_ref().map(|colour| colour.value).or_else(|| match job.given.value(&Key::Colour) {
        Some(Setting::Colour(colour)) => Some(*colour),
        _ => None,
    });
    Pass {
        label: entry.label.as_ref().unwrap_or(&entry.name).value.clone(),
        kind: sheet
            .passes
            .iter()
            .find(|pass| pass.name.value == entry.name.value)
            .and_then(|pass| pass.kind)
            .unwrap_or(usual_kind(&entry.name.value)),
        colour,
        colour_at: entry.colour.as_ref().map(|colour| colour.at).or(job.given.place(&Key::Colour)),
        format_lost: (wanted.is_some() && format.is_none()) || format.is_some_and(|format| format.kind_unread),
        format: format.cloned(),
        file_type: by_format.or_else(by_path),
        path,
        name: entry.name.clone(),
    }
}

/// What a pass is when the sheet does not say.
fn usual_kind(name: &str) -> PassKind {
    match name {
        "depth" | "normal" | "position" | "motion" | "uv" | "id" => PassKind::Data,
        "mask" | "alpha" => PassKind::Mask,
        _ => PassKind::Colour,
    }
}

/// The extension that a path spells by hand: what follows the last dot of its last text.
#[must_use]
pub fn written_extension(path: &Template) -> Option<&str> {
    match path.parts().last()? {
        Part::Text(text) => text.rsplit_once('.').map(|(_, extension)| extension).filter(|e| !e.contains('/')),
        Part::Token(_) => None,
    }
}

/// The sheet's roots on this system. The machine file knows best where they are here. With `anywhere`, a root without a
/// path on this system is where it is on another one, so that the answer is the same on all.
#[must_use]
pub fn roots(sheet: &Sheet, home: &Home, machine: &MachineFile, anywhere: bool) -> Vec<ResolvedRoot> {
    let absolute = |path: &Spanned<String>| paths::absolute(&path.value, path.at, home);
    let resolved = |paths: &RootPaths| match paths {
        RootPaths::Same(path) => Some(absolute(path)),
        RootPaths::BySystem(paths) => {
            let here = paths.iter().find(|(system, _)| *system == home.system);
            here.or(paths.first().filter(|_| anywhere)).map(|(_, path)| absolute(path))
        }
    };
    sheet
        .roots
        .iter()
        .map(|root| ResolvedRoot {
            name: root.name.value.clone(),
            path: machine.roots.get(&root.name.value).map(absolute).or_else(|| resolved(&root.paths)),
            at: root.name.at,
        })
        .collect()
}
