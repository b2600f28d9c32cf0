//! What frames would be made of now: the outside of a sheet, looked up and hashed.

pub mod answer;
pub mod ask;
pub mod lines;
pub mod movie;

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use truepath_core::adapter::Adapter;
use truepath_core::invoke::export::{Export, made_from};
use truepath_core::plan::{Adapters, Plan};
use truepath_core::run::fingerprint::{Fingerprint, NOT_ASKED, Outside, arguments};
use truepath_core::scene::Facts;
use truepath_core::sheet::Key;

use crate::disk;
use crate::state::StateFolder;

/// What the frames of one series are made of; `None` where nothing can be said of it.
pub type Made = Option<Fingerprint>;

/// How long a program may take to say its version.
const PATIENCE: Duration = Duration::from_secs(10);

/// All that is asked.
pub struct Asking<'a> {
    /// The plan.
    pub plan: &'a Plan,
    /// The adapters of its jobs.
    pub adapters: &'a Adapters,
    /// Full paths of programs by the names of their adapters.
    pub programs: &'a BTreeMap<String, String>,
    /// What is known about scenes.
    pub facts: &'a BTreeMap<String, Arc<Facts>>,
    /// Where the sheet's state is.
    pub state: &'a StateFolder,
    /// Where an outside file of a scene lies, if it is there.
    pub resource: &'a dyn Fn(&Path, &str) -> Option<PathBuf>,
    /// Hears of every megabyte that is read.
    pub told: &'a dyn Fn(u64),
}

impl Asking<'_> {
    /// What each series of the plan is made of now. Every scene, resource and program is asked once.
    #[must_use]
    pub fn now(&self) -> Vec<Made> {
        let folder = self.state.facts();
        let mut outside: HashMap<(String, String, String), Outside> = HashMap::new();
        let plan = self.plan;
        let one = |series: &truepath_core::plan::Series| {
            let job = &plan.jobs[series.job];
            let name = |key: &Key| job.given.text(key).unwrap_or_default().to_owned();
            let scene = job.scene.as_ref()?.value.clone();
            let key = (scene, name(&Key::Adapter), name(&Key::Export));
            let adapter = self.adapters.get(&key.1);
            let outside =
                outside.entry(key.clone()).or_insert_with(|| self.outside(&key.0, (adapter, &key.2), &folder));
            Some(Fingerprint::of(plan, series, (adapter, self.adapters.get(&key.2)), outside))
        };
        plan.series.iter().map(one).collect()
    }

    fn outside(&self, scene: &str, (adapter, exporter): (Option<&Adapter>, &str), folder: &Path) -> Outside {
        let digest = |path: &Path| ask::content(path, folder, self.told).ok();
        let bytes = digest(Path::new(scene));
        let facts = self.facts.get(scene);
        let resources = facts.into_iter().flat_map(|facts| facts.files());
        let file =
            |name: &String| (name.clone(), (self.resource)(Path::new(scene), name).and_then(|path| digest(&path)));
        let export = (!exporter.is_empty()).then(|| {
            let exporter = self.adapters.get(exporter)?;
            // What it makes follows from the scene and how the exporter is called.
            Some(short(format!("{}\n{}", bytes.as_ref()?, arguments(exporter).join(" ")).as_bytes()))
        });
        Outside {
            resources: resources.map(file).collect(),
            resources_known: facts.is_some(),
            export,
            version: adapter.and_then(|adapter| self.version(adapter, folder)),
            scene: bytes,
        }
    }

    /// A name for what an export would make now: another one wherever the scene, what belongs to it, the exporter or what it is
    /// told differs. What cannot be read has a name of its own.
    #[must_use]
    pub fn product(&self, export: &Export) -> String {
        let job = &self.plan.jobs[export.job];
        let folder = self.state.facts();
        let exporter = job.export.as_deref().and_then(|name| self.adapters.get(name));
        let (Some(scene), Some(exporter)) = (&job.scene, exporter) else { return export.id.clone() };
        let outside = self.outside(&scene.value, (Some(exporter), ""), &folder);
        let mut hash = blake3::Hasher::new();
        let files = outside.resources.iter().flat_map(|(name, digest)| [Some(name), digest.as_ref()]);
        let seen = [outside.scene.as_ref(), outside.version.as_ref()].into_iter().chain(files);
        for part in seen {
            hash.update(part.map_or("?", String::as_str).as_bytes()).update(b"\0");
        }
        for word in made_from(self.plan, export, self.adapters) {
            hash.update(word.as_bytes()).update(b"\0");
        }
        hash.finalize().to_hex()[..32].to_owned()
    }

    fn version(&self, adapter: &Adapter, folder: &Path) -> Option<String> {
        if adapter.version.is_empty() {
            return Some(NOT_ASKED.to_owned());
        }
        let program = self.programs.get(&adapter.name)?;
        version(adapter, Path::new(program), (folder, Path::new(&self.plan.home.folder)))
    }
}

/// What an adapter's program says its version is, kept in `kept_in` by the program's size, time and file number; `folder` is
/// the sheet's own. `None` where it may not be asked or gives no answer.
#[must_use]
pub fn version(adapter: &Adapter, program: &Path, (kept_in, folder): (&Path, &Path)) -> Option<String> {
    if adapter.unasked || adapter.version.is_empty() {
        return None;
    }
    let stamp = format!("{} {}", disk::identity(program).ok()?, adapter.version.join(" "));
    let kept = kept_in.join(format!("{}.version", short(stamp.as_bytes())));
    if let Some(text) = disk::text(&kept).ok().filter(|text| !text.is_empty()) {
        return Some(text);
    }
    let said = answer::ask(program, &adapter.version, folder, (PATIENCE, true)).ok()?;
    let text = said.text.lines().find(|line| !line.trim().is_empty())?.trim().to_owned();
    // An answer that cannot be kept is asked for again next time.
    let _ = disk::keep(&kept, &text);
    Some(text)
}

/// The words of all that an encoder says when it is asked what it can encode, kept by the program's size, time and file
/// number. `None` where it gives no answer.
#[must_use]
pub fn encoders(adapter: &Adapter, program: &Path, state: &StateFolder) -> Option<BTreeSet<String>> {
    let folder = state.facts();
    let stamp = format!("{} {}", disk::identity(program).ok()?, adapter.encoders.join(" "));
    let kept = folder.join(format!("{}.encoders", short(stamp.as_bytes())));
    let words = |text: &str| text.split_whitespace().map(str::to_owned).collect();
    if let Some(text) = disk::text(&kept).ok().filter(|text| !text.is_empty()) {
        return Some(words(&text));
    }
    let said = answer::ask(program, &adapter.encoders, state.folder().parent()?, (PATIENCE, true)).ok()?;
    let text = said.text;
    // An answer that cannot be kept is asked for again next time.
    let _ = disk::keep(&kept, &text);
    Some(words(&text)).filter(|words: &BTreeSet<String>| !words.is_empty())
}

/// The first half of a digest, in hexadecimal: enough to tell things apart.
fn short(bytes: &[u8]) -> String {
    blake3::hash(bytes).to_hex()[..32].to_owned()
}
