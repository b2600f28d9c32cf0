//! Writes self-contained folders.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use truepath_core::diagnostic::Slug;
use truepath_core::frames::Frames;
use truepath_core::invoke::script::Script;
use truepath_core::invoke::script::cmd::Cmd;
use truepath_core::invoke::script::sh::Sh;
use truepath_core::invoke::script::target::Target;
use truepath_core::parcel::{self, Contents, DESCRIPTION, Packed, Parcel, Slice, VERSION};
use truepath_core::plan::{Plan, calls_of};
use truepath_core::resolve::paths;
use truepath_core::run::cost::Costs;
use truepath_core::run::history::Depth;
use truepath_core::run::outstanding::outstanding;
use truepath_core::run::split::split;
use truepath_core::scene;
use truepath_core::sheet::Existing;
use truepath_core::template::slug;
use truepath_exec::disk;
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::guard::{NamedPlace, Scratch};
use truepath_exec::landing::stage;
use truepath_exec::observe::Look;
use truepath_exec::state::journal;
use truepath_exec::threads::Cores;

use super::{SHEET, archive, sent};
use crate::listener::{Listener, News, Note};
use crate::open::{LoadOptions, Loaded, Queue, load, open};
use crate::request::Request;
use crate::surroundings::Surroundings;

/// The scripts of a parcel, for machines without this program.
const SCRIPTS: [&dyn Target; 2] = [&Sh, &Cmd];

/// What is to be packed, and how.
#[derive(Clone, Debug)]
pub struct PackRequest<'p> {
    /// The folder that parcels are written into.
    pub into: &'p Path,
    /// How many parcels, of about equal time; without it one for each job.
    pub parts: Option<usize>,
    /// Whether only what is missing or broken is packed.
    pub missing: bool,
    /// Whether each becomes one file.
    pub archive: bool,
    /// Whether settings of the request may change the picture under final names.
    pub is_final: bool,
    /// What was said of modes and settings, as it is typed: it is part of what is planned.
    pub said: &'p [String],
}

/// A parcel that was packed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PackedParcel {
    /// Its folder, or its file.
    pub place: PathBuf,
    /// How many files it is to become.
    pub files: i64,
    /// Whether an earlier call had packed it.
    pub was_there: bool,
}

/// Packs the plan of one sheet. The listener hears of each parcel as it is packed.
///
/// # Errors
/// When there are several sheets, the plan cannot be packed, something else has the name of a parcel, or the disk refuses.
pub fn pack(
    queue: &mut Queue,
    request: &PackRequest<'_>,
    around: &Surroundings,
    listener: &dyn Listener,
) -> Result<Vec<PackedParcel>, Failure> {
    let looked = if request.missing { queue.verdicts(0, Look::Heads, listener)? } else { Vec::new() };
    let wanted = looked.iter().map(|own| outstanding(own, Existing::Keep)).collect::<Vec<_>>();
    let [loaded] = queue.sheets.as_mut_slice() else {
        let message = "a parcel is packed from one sheet".to_owned();
        return Err(Failure::unreadable(message).help("pack each sheet separately: -f SHEET"));
    };
    loaded.guard_start(request.is_final)?;
    loaded.pin(truepath_core::pins::Anew::default())?;
    loaded.look_up_made(around, listener);
    let loaded = &*loaded;
    let parts = parts(request, loaded, &wanted)?;
    if parts.is_empty() {
        return Ok(Vec::new());
    }
    let failed = |error: std::io::Error| Failure::machine("make the folder", request.into, &error);
    NamedPlace::of(&request.into.join(DESCRIPTION)).map_err(failed)?.is_anybodys(request.into)?;
    std::fs::create_dir_all(request.into).map_err(failed)?;
    let mut all = Vec::new();
    for part in &parts {
        let packed = one(part, &PackCall { loaded, request, around, listener })?;
        let PackedParcel { place, files, was_there } = packed.clone();
        listener.hear(News::Note(&Note::Packed { place, files, was_there }));
        all.push(packed);
    }
    Ok(all)
}

/// What is packed, and with what it is looked up.
#[derive(Clone, Copy)]
struct PackCall<'p> {
    loaded: &'p Loaded,
    request: &'p PackRequest<'p>,
    around: &'p Surroundings,
    listener: &'p dyn Listener,
}

/// Packs one parcel, unless an earlier call that was ended before it had packed all has done that.
fn one((name, slices): &(String, Vec<Slice>), call: &PackCall<'_>) -> Result<PackedParcel, Failure> {
    let PackCall { loaded, request, around, listener } = *call;
    let files: i64 = slices.iter().map(|own| own.frames.count() * loaded.plan.series_of(own.job).len() as i64).sum();
    let place = match request.archive {
        true => request.into.join(format!("{name}{}", archive::ENDING)),
        false => request.into.join(name),
    };
    if place.symlink_metadata().is_ok() {
        if sent::is_packed(&place, loaded, (name, slices))? {
            return Ok(PackedParcel { place, files, was_there: true });
        }
        let help = "use another folder (--into), or collect this one and remove it";
        return Err(Failure::new(Cause::Refused, format!("{} already exists", place.display())).help(help));
    }
    let scratch = Scratch::within(request.into);
    let scratch = scratch.map_err(|error| Failure::machine("make a folder in", request.into, &error))?;
    let inner = scratch.file(name);
    let packing = Packing { said: request.said, loaded, folder: inner.clone(), around, listener };
    packing.pack(name, slices)?;
    match request.archive {
        true => drop(archive::pack(&inner, request.into, &scratch)?),
        false => std::fs::rename(&inner, &place).map_err(|error| Failure::machine("write", &place, &error))?,
    }
    Ok(PackedParcel { place, files, was_there: false })
}

/// The parcels with their names. `wanted` are the frames of each series, where not all of them are.
fn parts(request: &PackRequest<'_>, loaded: &Loaded, wanted: &[Frames]) -> Result<Vec<(String, Vec<Slice>)>, Failure> {
    let plan = &loaded.plan;
    let costs = Costs::of(plan, &journal::read(&loaded.state, Depth::Calls)?, &loaded.ground.made_of);
    let mut pieces: Vec<(usize, i64)> = Vec::new();
    let mut weights = Vec::new();
    for job in 0..plan.jobs.len() {
        let series: Vec<usize> = plan.series_of(job).collect();
        let of = |at: &usize| match wanted.get(*at) {
            Some(frames) => frames.clone(),
            None => plan.series[*at].frames.clone().unwrap_or_default(),
        };
        let frames = series.iter().map(of).fold(Frames::none(), |sum, own| sum.union(&own));
        for frame in frames.iter() {
            pieces.push((job, frame));
            let seconds = costs.cost(plan, &series, &Frames::one(frame)).map(|cost| cost.seconds);
            weights.push(seconds.unwrap_or(1.0));
        }
    }
    let cut = match request.parts {
        Some(parts) => split(&weights, parts),
        None => pieces
            .chunk_by(|a, b| a.0 == b.0)
            .map(<[_]>::len)
            .scan(0, |from, len| {
                *from += len;
                Some(*from - len..*from)
            })
            .collect(),
    };
    let mut taken: BTreeMap<String, usize> = BTreeMap::new();
    let part = |range: std::ops::Range<usize>| {
        let mut frames: BTreeMap<usize, Vec<i64>> = BTreeMap::new();
        pieces[range].iter().for_each(|(job, frame)| frames.entry(*job).or_default().push(*frame));
        let slices: Vec<Slice> =
            frames.into_iter().map(|(job, frames)| Slice { job, frames: Frames::from_any(frames) }).collect();
        let name = name(plan, &slices);
        let count = taken.entry(name.clone()).and_modify(|count| *count += 1).or_insert(1);
        let name = if *count == 1 { name } else { format!("{name}-{count}") };
        (name, slices)
    };
    Ok(cut.into_iter().map(part).collect())
}

/// Job and range; of several jobs, those of the first and the last.
fn name(plan: &Plan, slices: &[Slice]) -> String {
    let job = |slice: &Slice| slug(&plan.jobs[slice.job].name);
    let (Some(first), Some(last)) = (slices.first(), slices.last()) else { return String::new() };
    let (from, to) = (first.frames.first().unwrap_or(0), last.frames.last().unwrap_or(0));
    if slices.len() == 1 {
        format!("{}_{from}-{to}", job(first))
    } else {
        format!("{}_{from}-{}_{to}", job(first), job(last))
    }
}

/// One parcel that is being written.
struct Packing<'p> {
    said: &'p [String],
    loaded: &'p Loaded,
    folder: PathBuf,
    around: &'p Surroundings,
    listener: &'p dyn Listener,
}

impl Packing<'_> {
    fn pack(&self, name: &str, slices: &[Slice]) -> Result<(), Failure> {
        let (loaded, plan) = (self.loaded, &self.loaded.plan);
        let written = &self.loaded.written;
        let (checks, systems) = (written.checks.clone(), written.policy.systems.clone());
        let mut contents = Contents { checks, systems, quiet: self.quiet(), ..Contents::default() };
        for slice in slices {
            let job = &plan.jobs[slice.job];
            if let Some(path) = job.scene.as_ref().map(|scene| &scene.value)
                && !contents.scenes.contains_key(path)
            {
                let folder = format!("scenes/{}", contents.scenes.len() + 1);
                contents.scenes.insert(path.clone(), self.scene(path, &folder)?);
            }
            for adapter in [job.adapter.as_deref(), job.export.as_deref()].into_iter().flatten() {
                self.adapter(adapter)?;
            }
        }
        let text = parcel::sheet(plan, slices, &contents);
        let help = "remove it, or put its files below one of the [roots]";
        let text = text.map_err(|why| Failure::unreadable(format!("a parcel cannot be packed: {why}")).help(help))?;
        self.write(SHEET, text.as_bytes())?;
        let packed = self.load(slices)?;
        // What was looked up for that is known by where it lay here.
        let state = self.folder.join(".truepath");
        stage::clear(&state)?;
        let mut own =
            Parcel { truepath: VERSION, parcel: id(), name: name.to_owned(), series: packed, ..Parcel::default() };
        own.said = self.said.to_vec();
        for path in stage::files(&self.folder) {
            let digest = truepath_media::digest(&path).map_err(|error| Failure::machine("read", &path, &error))?;
            let name = path.strip_prefix(&self.folder).unwrap_or(&path);
            own.files.insert(paths::from_system(name), blake3::Hash::from_bytes(digest.0).to_hex().to_string());
        }
        let json = |own: &Parcel| serde_json::to_string_pretty(own).unwrap_or_default();
        let kept = loaded.state.parcels().join(format!("{}.json", own.parcel));
        let wrote = loaded.state.make().and_then(|()| std::fs::create_dir_all(loaded.state.parcels()));
        let wrote = wrote.and_then(|()| disk::keep(&kept, &json(&own)));
        wrote.map_err(|error| Failure::machine("write", &kept, &error))?;
        // What its frames are made of is nobody else's affair.
        own.said.clear();
        own.series.iter_mut().for_each(|series| {
            series.made.clear();
            series.here.clear();
        });
        self.write(DESCRIPTION, json(&own).as_bytes())
    }

    /// Checks that say nothing in a parcel: what was found here has been read, and a slice covers no scene.
    fn quiet(&self) -> BTreeSet<String> {
        let found = self.loaded.findings.iter().map(|finding| finding.check.name().to_owned());
        let slice = [Slug::SceneSpanNotCovered, Slug::ResourceNotShared, Slug::FramesCut, Slug::StepMissesEnd];
        let allowed = self.loaded.written.allow.iter().map(|entry| entry.check.value.clone());
        found.chain(allowed).chain(slice.map(|slug| slug.name().to_owned())).collect()
    }

    /// Copies a scene with all its files; where it lies in the parcel.
    fn scene(&self, path: &str, folder: &str) -> Result<String, Failure> {
        let (mut resources, mut open) = (Vec::new(), vec![path.to_owned()]);
        let mut seen: BTreeSet<String> = BTreeSet::from([path.to_owned()]);
        // Layers of a scene name files of their own, from where they lie.
        while let Some(file) = open.pop() {
            let found = if file == path {
                self.loaded
                    .plan
                    .jobs
                    .iter()
                    .find(|job| job.scene.as_ref().is_some_and(|own| own.value == path))
                    .and_then(|job| job.facts.clone())
            } else {
                std::fs::read(&file).ok().and_then(|bytes| scene::read(&file, &bytes).ok()).map(std::sync::Arc::new)
            };
            for spelt in found.iter().flat_map(|facts| &facts.resources) {
                let Some(at) = load::resource(Path::new(&file), spelt) else {
                    let message = format!("{file} needs {spelt}, which does not exist");
                    return Err(Failure::unreadable(message).help("`truepath scene` lists what a scene needs"));
                };
                let at = paths::tidy(&paths::from_system(&at));
                if file != path && paths::is_absolute(spelt) {
                    let message = format!("{file} needs {spelt} by an absolute path, and a layer is packed unchanged");
                    return Err(Failure::unreadable(message).help("use a path relative to the layer"));
                }
                if seen.insert(at.clone()) {
                    resources.push((spelt.clone(), at.clone()));
                    open.push(at);
                }
            }
        }
        let moved = parcel::arrange(path, &resources, folder);
        for (from, to) in &moved.files {
            self.copy(Path::new(from), to)?;
        }
        if moved.respelt.is_empty() {
            self.copy(Path::new(path), &moved.scene)?;
        } else {
            let bytes = std::fs::read(path).map_err(|error| Failure::machine("read", path, &error))?;
            let new = scene::respelt(path, &bytes, &moved.respelt).ok_or_else(|| {
                let spelt = moved.respelt.keys().next().cloned().unwrap_or_default();
                Failure::unreadable(format!(
                    "{path} needs {spelt} by an absolute path, which other machines do not have"
                ))
                .help("use relative paths in the scene, or save it as .gltf or .usda")
            })?;
            self.write(&moved.scene, &new)?;
        }
        let facts = format!("{path}.facts.toml");
        if Path::new(&facts).is_file() {
            self.copy(Path::new(&facts), &format!("{}.facts.toml", moved.scene))?;
        }
        Ok(moved.scene)
    }

    /// Copies an adapter, those that it is like, and the program that it has beside the sheet.
    fn adapter(&self, name: &str) -> Result<(), Failure> {
        let known = self.loaded.adapters.get(name);
        for below in known.into_iter().flat_map(|adapter| &adapter.below).filter(|below| below.as_str() != name) {
            self.adapter(below)?;
        }
        // A variant is a part of its adapter's file.
        let name = name.split('@').next().unwrap_or(name);
        let home = Path::new(&self.loaded.plan.home.folder);
        let folders = [Some(home), self.around.configuration.as_deref()];
        let file = format!("adapters/{name}.toml");
        // Those in the box are in every box.
        if let Some(path) = folders.into_iter().flatten().map(|folder| folder.join(&file)).find(|path| path.is_file()) {
            self.copy(&path, &file)?;
        }
        let Some(adapter) = known else { return Ok(()) };
        if let Some(program) = adapter.program_on(self.around.system)
            && program.contains('/')
            && !paths::is_absolute(program)
            && !program.contains("..")
            && home.join(program).is_file()
        {
            self.copy(&home.join(program), program)?;
        }
        Ok(())
    }

    /// Reads the parcel as its renderer will, and writes its scripts; what it holds.
    fn load(&self, slices: &[Slice]) -> Result<Vec<Packed>, Failure> {
        let request = Request { sheets: vec![self.folder.join(SHEET)], ..Request::default() };
        let mut queue = open(&request, self.around, LoadOptions::default(), self.listener)?;
        if let Some(first) =
            queue.findings().iter().find(|finding| finding.level == truepath_core::diagnostic::Level::Error)
        {
            let sheets: Vec<PathBuf> = queue.sheets.iter().map(|own| own.sheet.clone()).collect();
            let (findings, sources) = (queue.findings(), &queue.sources);
            self.listener.hear(News::Opened { sheets: &sheets, findings: &findings, sources });
            let message = format!("the parcel would not render: {}", first.check);
            return Err(
                Failure::new(Cause::Refused, message).help("the findings above are those of the parcel's own sheet")
            );
        }
        let Some(own) = queue.sheets.first_mut() else { return Ok(Vec::new()) };
        own.look_up_made(self.around, self.listener);
        let own = &*own;
        let plan = &self.loaded.plan;
        let sources: Vec<usize> = slices.iter().flat_map(|slice| plan.series_of(slice.job)).collect();
        let parts = |made: Option<&Option<truepath_core::run::fingerprint::Fingerprint>>| {
            made.and_then(Option::as_ref).map(|made| made.parts.clone()).unwrap_or_default()
        };
        let pair = |(at, source): (usize, &usize)| {
            let (series, there) = (&plan.series[*source], &own.plan.series[at]);
            // What comes back is known by its place: it has to be the same on both sides.
            let same = series.place == there.place && series.shift == there.shift;
            same.then(|| Packed {
                series: series.id.clone(),
                own: there.id.clone(),
                place: there.place.clone(),
                frames: there.frames.clone().unwrap_or_default(),
                made: parts(own.ground.made_of.get(at)),
                here: parts(self.loaded.ground.made_of.get(*source)),
            })
        };
        let same_count = own.plan.series.len() == sources.len();
        let packed = sources.iter().enumerate().filter(|_| same_count).map(pair).collect::<Option<Vec<_>>>();
        let packed = packed.filter(|packed| !packed.is_empty()).ok_or_else(|| {
            Failure::new(Cause::Refused, "the parcel's files would have other names than in this project".to_owned())
                .help("pack jobs whose outputs lie below one of the [roots]")
        })?;
        self.scripts(own)?;
        Ok(packed)
    }

    /// Writes the scripts. What one of them cannot say is left to the other one, and told.
    fn scripts(&self, own: &Loaded) -> Result<(), Failure> {
        let adapter = |job: &truepath_core::resolve::Job| own.adapter(job);
        let calls: Vec<_> = calls_of(&own.plan, &adapter).collect();
        let lines = own.written_lines(self.around);
        let steps = |most: usize| {
            let mut steps = lines.exports(&calls, "");
            steps.extend(calls.iter().flat_map(|call| lines.fitting(call, most)));
            steps
        };
        let broken = BTreeMap::new();
        let wish = Script {
            keep_going: true,
            pause: false,
            portable: true,
            is_task: false,
            adapters: &own.adapters,
            made: &own.ground.made_of,
            turn: 1,
            broken: &broken,
        };
        for target in SCRIPTS {
            let name = format!("render.{}", target.extension());
            match target.script(&own.plan, &steps(target.longest()), &wish, &Cores) {
                Ok(text) => self.write(&name, text.as_bytes())?,
                Err(why) => self.listener.hear(News::Note(&Note::WithoutScript { name: name.clone(), why })),
            }
            if target.is_program() {
                let path = self.folder.join(&name);
                disk::make_executable(&path).map_err(|error| Failure::machine("write", &path, &error))?;
            }
        }
        Ok(())
    }

    fn copy(&self, from: &Path, to: &str) -> Result<(), Failure> {
        let to = self.place(to)?;
        std::fs::copy(from, &to).map_err(|error| Failure::machine("copy", from, &error))?;
        Ok(())
    }

    fn write(&self, to: &str, bytes: &[u8]) -> Result<(), Failure> {
        let to = self.place(to)?;
        std::fs::write(&to, bytes).map_err(|error| Failure::machine("write", &to, &error))
    }

    fn place(&self, to: &str) -> Result<PathBuf, Failure> {
        let to = self.folder.join(to);
        let folder = to.parent().unwrap_or(&self.folder);
        std::fs::create_dir_all(folder).map_err(|error| Failure::machine("make the folder", folder, &error))?;
        Ok(to)
    }
}

/// A number that no other parcel has.
fn id() -> String {
    let seed = std::hash::BuildHasher::build_hasher(&std::hash::RandomState::new());
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default().as_nanos();
    let text = format!("{now} {} {}", std::process::id(), std::hash::Hasher::finish(&seed));
    blake3::hash(text.as_bytes()).to_hex()[..16].to_owned()
}
