//! Layers laid over one another, and job entries taken apart into jobs.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use crate::diagnostic::{Findings, Slug, Words, nearest};
use crate::frames::FrameExpr;
use crate::sheet::setting::{Above, KEYS};
use crate::sheet::{Each, Given, JobEntry, Key, Layer, Layers, PassEntry, Setting, Settings, Sheet, Version};
use crate::source::{FileId, Place, Spanned};

use super::paths;

/// A job with all its layers applied, before anything is known about its scene.
#[derive(Clone, Debug)]
pub struct Stacked {
    /// `crossing/quay`.
    pub name: String,
    /// `crossing`.
    pub job: String,
    /// The `[[job]]`.
    pub at: Place,
    /// All values.
    pub settings: Arc<Settings>,
    /// The layers that made them, the lowest first.
    pub layers: Vec<Arc<Settings>>,
    /// Frames asked for by modes and the command line, to be taken out of the job's own in this order.
    pub refine: Vec<Spanned<FrameExpr>>,
    /// How many of those the command line asks for, at the end.
    pub typed: usize,
}

/// Takes every job entry of a sheet apart into its jobs. `modes` are laid over them in their order, and `typed`, what
/// the command line sets, over all.
pub fn stack(sheet: &Sheet, modes: &[String], typed: &Settings, findings: &mut Findings) -> Vec<Stacked> {
    let lowest = [Arc::new(built_in()), Arc::new(sheet.defaults.clone())];
    let above = above(sheet, modes, typed, findings);
    let mut all: Vec<Stacked> = Vec::new();
    for (number, entry) in sheet.jobs.iter().enumerate() {
        let mut layers: Vec<Arc<Settings>> = lowest.to_vec();
        if let Some(like) = &entry.like {
            layers.extend(bases(sheet, like, findings));
        }
        layers.push(Arc::new(entry.settings.clone()));
        let own = layers.iter().skip(1).fold((*layers[0]).clone(), |below, layer| layer.over(&below));
        each_is_known(entry, &own, &above, findings);
        let named = |settings: &Settings| match (&entry.name, settings.text(&Key::Scene)) {
            (Some(name), _) => name.value.clone(),
            (None, Some(scene)) => paths::stem(&scene.replace('\\', "/")).to_owned(),
            (None, None) => format!("job {}", number + 1),
        };
        if is_too_large(entry, findings) {
            continue;
        }
        for (suffix, row) in jobs_of(entry) {
            let (mut settings, mut refine) = (row.over(&own), Vec::new());
            let mut typed = 0;
            for layer in &above {
                let before = refine.len();
                let mut layer = (**layer).clone();
                let narrowing: Vec<Key> =
                    layer.values.keys().filter(|key| key.row().above == Above::Narrows).cloned().collect();
                let narrowing = narrowing.iter().filter_map(|key| layer.values.remove(key));
                refine.extend(narrowing.filter_map(|given| match (&*given.value, given.at) {
                    (Setting::Frames(expr), Some(at)) => Some(Spanned::new(expr.clone(), at)),
                    _ => None,
                }));
                settings = layer.over(&settings);
                typed = refine.len() - before;
            }
            let job = named(&settings);
            let name = if suffix.is_empty() { job.clone() } else { format!("{job}/{}", suffix.join("/")) };
            let at = entry.name.as_ref().map_or(entry.at, |name| name.at);
            let mut layers = layers.clone();
            if !row.values.is_empty() {
                layers.push(Arc::new(row));
            }
            layers.extend(above.iter().cloned());
            all.push(Stacked { name, job, at, settings: Arc::new(settings), layers, refine, typed });
        }
    }
    twins(&all, findings);
    leaves(&all, modes, findings);
    all
}

/// Settings given back that no lower layer of any job gave.
fn leaves(all: &[Stacked], modes: &[String], findings: &mut Findings) {
    let mut useful: HashMap<Place, (bool, &Key)> = HashMap::new();
    for stacked in all {
        for (number, layer) in stacked.layers.iter().enumerate() {
            for (key, at) in &layer.leave {
                let Some(at) = at else { continue };
                let given = stacked.layers[..number].iter().any(|below| below.get(key).is_some());
                useful.entry(*at).or_insert((false, key)).0 |= given;
            }
        }
    }
    // A mode that is called gives back what some jobs have; others may be waiting for other modes.
    for (at, (_, key)) in useful.into_iter().filter(|(_, (useful, _))| !useful && modes.is_empty()) {
        let words = Words::new(format!("`leave` names `{key}`, which no lower layer sets"), "this key is not set");
        findings.add(Slug::LeaveUnneeded, Some(at), None, words.help("remove it"));
    }
}

/// The layers above every job: modes in the order given, then the command line.
fn above(sheet: &Sheet, modes: &[String], typed: &Settings, findings: &mut Findings) -> Vec<Arc<Settings>> {
    let mut above = Vec::new();
    for name in modes {
        match sheet.modes.iter().find(|mode| mode.name.value == *name) {
            Some(mode) => above.push(Arc::new(mode.settings.clone())),
            None => {
                let near = nearest(name, sheet.modes.iter().map(|mode| mode.name.value.as_str()));
                let known: Vec<&str> = sheet.modes.iter().map(|mode| mode.name.value.as_str()).collect();
                let words = Words::new(format!("there is no mode `{name}`"), "");
                let help = match near {
                    Some(near) => format!("write --mode {near}"),
                    None if known.is_empty() => format!("define it under [modes.{name}]"),
                    None => format!("choose from {}", known.join(", ")),
                };
                findings.add(Slug::NameUnknown, None, None, words.help(help));
            }
        }
    }
    above.push(Arc::new(typed.clone()));
    above
}

/// What `each` varies must be a setting or a variable that some lower layer knows, and no mode may set it.
fn each_is_known(entry: &JobEntry, own: &Settings, above: &[Arc<Settings>], findings: &mut Findings) {
    let keys: Vec<(Key, Place)> = match &entry.each {
        None => Vec::new(),
        Some(Each::Table(axes)) => axes.iter().map(|(key, _)| (key.value.clone(), key.at)).collect(),
        Some(Each::Rows(rows)) => {
            let given = rows.iter().flat_map(|row| &row.values);
            given.filter_map(|(key, given)| Some((key.clone(), given.at?))).collect()
        }
    };
    for (key, at) in keys {
        if let Key::Var(name) = &key
            && own.get(&key).is_none()
        {
            let known =
                own.values.keys().map(|key| if let Key::Var(name) = key { name.clone() } else { key.to_string() });
            let known: Vec<String> = known.chain(KEYS.iter().map(|(name, _)| (*name).to_owned())).collect();
            let words = Words::new(
                format!("`each` varies `{name}`, which is not a setting or a variable"),
                "this key is not read",
            );
            let words = match nearest(name, known.iter().map(String::as_str)) {
                Some(near) => words.help(format!("write `{near}`")).fix(at, near),
                None => words.help(format!("define it as a variable: vars.{name} = \"...\"")),
            };
            findings.add(Slug::UnknownKey, Some(at), None, words);
        }
        for given in above.iter().filter_map(|layer| layer.get(&key)).filter(|given| given.layer == Layer::Mode) {
            let words = Words::new(
                format!("this mode sets `{key}`, which a job lists under `each`"),
                "all jobs of this `each` would have one value",
            );
            findings.add(
                Slug::ModeAgainstEach,
                given.at,
                None,
                words.also(at, "listed here").help("remove it from the mode"),
            );
        }
    }
}

/// Why a job has its values: for each key the values of all layers, the winner last.
#[must_use]
pub fn why(stacked: &Stacked) -> BTreeMap<Key, Vec<Option<Given>>> {
    let mut table: BTreeMap<Key, Vec<Option<Given>>> = BTreeMap::new();
    for layer in &stacked.layers {
        for key in layer.leave.keys() {
            if let Some(history) = table.get_mut(key) {
                history.push(None);
            }
        }
        for (key, given) in &layer.values {
            table.entry(key.clone()).or_default().push(Some(given.clone()));
        }
    }
    table
}

/// What holds when nobody says anything.
fn built_in() -> Settings {
    let nowhere = Place::new(FileId(0), 0..0);
    let beauty =
        PassEntry { name: Spanned::new("beauty".into(), nowhere), label: None, colour: None, format: None, path: None };
    let values = [
        (Key::Passes, Setting::Passes(vec![beauty])),
        (Key::Scale, Setting::Number(100.0)),
        (Key::Layers, Setting::Layers(Layers::Apart)),
        (Key::Enabled, Setting::Flag(true)),
    ];
    let given = |(key, value)| (key, Given { value: Arc::new(value), at: None, layer: Layer::BuiltIn });
    Settings { values: values.into_iter().map(given).collect(), ..Settings::default() }
}

/// A base and the ones below it, the lowest first. A name that nothing bears and a circle are findings.
fn bases(sheet: &Sheet, like: &Spanned<String>, findings: &mut Findings) -> Vec<Arc<Settings>> {
    let mut found = Vec::new();
    let mut seen: Vec<&str> = Vec::new();
    let mut next = Some(like);
    while let Some(name) = next {
        let Some(base) = sheet.bases.iter().find(|base| base.name.value == name.value) else {
            let mut words = Words::new(format!("there is no base `{}`", name.value), "not defined");
            words = match nearest(&name.value, sheet.bases.iter().map(|base| base.name.value.as_str())) {
                Some(near) => words.help(format!("write \"{near}\"")).fix(name.at, near),
                None => words.help(format!("define it under [bases.{}]", name.value)),
            };
            findings.add(Slug::NameUnknown, Some(name.at), None, words);
            break;
        };
        if seen.contains(&base.name.value.as_str()) {
            let words =
                Words::new(format!("the base `{}` is `like` itself", name.value), "this `like` leads back to it");
            findings.add(Slug::NameUnknown, Some(name.at), None, words.help("remove one `like` of this circle"));
            break;
        }
        seen.push(&base.name.value);
        found.push(Arc::new(base.settings.clone()));
        next = base.like.as_ref();
    }
    found.reverse();
    found
}

/// Jobs of one entry at most: lists that multiply reach what no machine can hold.
const MOST_JOBS: usize = 50_000;

/// Whether an entry has more jobs than anybody intends.
fn is_too_large(entry: &JobEntry, findings: &mut Findings) -> bool {
    let Some(Each::Table(axes)) = &entry.each else { return false };
    let count = axes.iter().fold(1usize, |count, (_, values)| count.saturating_mul(values.len()));
    if count <= MOST_JOBS {
        return false;
    }
    let lists: Vec<String> = axes.iter().map(|(_, values)| values.len().to_string()).collect();
    let words = Words::new(
        format!("`each` gives {} = {count} jobs, and at most {MOST_JOBS} are allowed", lists.join(" x ")),
        "the lists under `each` multiply",
    );
    let at = axes.last().map_or(entry.at, |(key, _)| key.at);
    findings.add(Slug::EachTooLarge, Some(at), None, words.help("use shorter lists, or give rows: each = [{ ... }]"));
    true
}

/// The suffixes and rows of a job; one empty row when there is no `each`.
fn jobs_of(entry: &JobEntry) -> Vec<(Vec<String>, Settings)> {
    match &entry.each {
        None => vec![(Vec::new(), Settings::default())],
        Some(Each::Rows(rows)) => {
            rows.iter().enumerate().map(|(number, row)| (vec![row_name(row, number)], row.clone())).collect()
        }
        Some(Each::Table(axes)) => axes.iter().fold(vec![(Vec::new(), Settings::default())], |done, (key, values)| {
            let grown = done.iter().flat_map(|(suffix, row)| {
                values.iter().map(move |given| {
                    let mut row = row.clone();
                    row.values.insert(key.value.clone(), given.clone());
                    // A job without a name bears that of its scene already.
                    let own = (key.value != Key::Scene || entry.name.is_some()).then(|| label(&key.value, given));
                    (suffix.iter().cloned().chain(own).collect(), row)
                })
            });
            grown.collect()
        }),
    }
}

/// A row's text values joined, else its number from 1.
fn row_name(row: &Settings, number: usize) -> String {
    let texts: Vec<&str> = row
        .values
        .values()
        .filter_map(|given| if let Setting::Text(text) = &*given.value { Some(text.as_str()) } else { None })
        .collect();
    if texts.is_empty() { (number + 1).to_string() } else { texts.join("/") }
}

/// A value as part of a job's name.
fn label(key: &Key, given: &Given) -> String {
    match &*given.value {
        Setting::Text(scene) if *key == Key::Scene => paths::stem(&scene.replace('\\', "/")).to_owned(),
        Setting::Version(Version::Number(version)) => format!("v{version:03}"),
        value => value.to_string(),
    }
}

/// Two jobs of one name would share a state and a journal.
fn twins(all: &[Stacked], findings: &mut Findings) {
    let mut seen: HashMap<&str, &Stacked> = HashMap::new();
    for stacked in all {
        if let Some(first) = seen.insert(&stacked.name, stacked) {
            let words = Words::new(format!("two jobs have the name `{}`", stacked.name), "the second one");
            findings.add(
                Slug::JobTwice,
                Some(stacked.at),
                Some(&stacked.name),
                words.also(first.at, "the first one").help("rename one of them"),
            );
        }
    }
}
