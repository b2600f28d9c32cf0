//! Layers laid over one another, and combinations taken apart.

use std::sync::Arc;

use crate::diagnostic::{Findings, Words, nearest};
use crate::frames::FrameExpr;
use crate::sheet::{Each, Given, JobEntry, Key, Layer, Layers, PassEntry, Setting, Settings, Sheet};
use crate::source::{FileId, Place, Spanned};

use super::paths;

/// A combination with all its layers laid, before anything is known about its scene.
#[derive(Clone, Debug)]
pub struct Stacked {
    /// `crossing/quay`.
    pub name: String,
    /// `crossing`.
    pub job: String,
    /// The `[[job]]`.
    pub at: Place,
    /// All values.
    pub settings: Settings,
    /// Frames asked for above the job, to be taken out of the job's own.
    pub refine: Vec<Spanned<FrameExpr>>,
}

/// Takes every job of a sheet apart into its combinations. `typed` is what the command line sets.
pub fn stack(sheet: &Sheet, typed: &Settings, findings: &mut Findings) -> Vec<Stacked> {
    let below = sheet.defaults.over(&built_in());
    let mut all: Vec<Stacked> = Vec::new();
    for (number, entry) in sheet.jobs.iter().enumerate() {
        let base = entry.like.as_ref().map(|like| base(sheet, like, findings)).unwrap_or_default();
        let own = entry.settings.over(&base.over(&below));
        let named = |settings: &Settings| match (&entry.name, settings.text(&Key::Scene)) {
            (Some(name), _) => name.value.clone(),
            (None, Some(scene)) => paths::stem(&scene.replace('\\', "/")).to_owned(),
            (None, None) => format!("job {}", number + 1),
        };
        for (suffix, row) in combinations(entry) {
            let mut typed = typed.clone();
            let frames = typed.values.remove(&Key::Frames);
            let settings = typed.over(&row.over(&own));
            let refine = frames.into_iter().filter_map(|given| match (&*given.value, given.at) {
                (Setting::Frames(expr), Some(at)) => Some(Spanned::new(expr.clone(), at)),
                _ => None,
            });
            let job = named(&settings);
            let name = if suffix.is_empty() { job.clone() } else { format!("{job}/{}", suffix.join("/")) };
            all.push(Stacked {
                name,
                job,
                at: entry.name.as_ref().map_or(entry.at, |name| name.at),
                settings,
                refine: refine.collect(),
            });
        }
    }
    twins(&all, findings);
    all
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

/// A base with the ones below it. A name that nothing bears and a circle are findings.
fn base(sheet: &Sheet, like: &Spanned<String>, findings: &mut Findings) -> Settings {
    let mut settings = Settings::default();
    let mut seen: Vec<&str> = Vec::new();
    let mut next = Some(like);
    while let Some(name) = next {
        let Some(base) = sheet.bases.iter().find(|base| base.name.value == name.value) else {
            let mut words = Words::new(format!("there is no base `{}`", name.value), "nothing is called so");
            words = match nearest(&name.value, sheet.bases.iter().map(|base| base.name.value.as_str())) {
                Some(near) => words.help(format!("write \"{near}\"")).fix(name.at, near),
                None => words.help(format!("give it a table: [bases.{}]", name.value)),
            };
            findings.add("name-unknown", Some(name.at), None, words);
            break;
        };
        if seen.contains(&base.name.value.as_str()) {
            let words =
                Words::new(format!("base `{}` is like itself in the end", name.value), "this closes the circle");
            findings.add("name-unknown", Some(name.at), None, words.help("let the lowest base have no `like`"));
            break;
        }
        seen.push(&base.name.value);
        settings = settings.over(&base.settings);
        next = base.like.as_ref();
    }
    settings
}

/// The suffixes and rows of a job; one empty row when there is no `each`.
fn combinations(entry: &JobEntry) -> Vec<(Vec<String>, Settings)> {
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
                    (suffix.iter().cloned().chain([label(given)]).collect(), row)
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

/// A value as part of a combination's name.
fn label(given: &Given) -> String {
    match &*given.value {
        Setting::Text(text) => text.clone(),
        Setting::Whole(number) => number.to_string(),
        Setting::Number(number) => number.to_string(),
        Setting::Flag(flag) => flag.to_string(),
        Setting::Frames(frames) => frames.to_string(),
        Setting::Fps(fps) => fps.to_string(),
        Setting::Size(size) => size.to_string(),
        Setting::Path(path) => path.to_string(),
        Setting::Version(super::super::sheet::Version::Number(version)) => format!("v{version:03}"),
        Setting::Handles(before, after) => format!("{before}+{after}"),
        Setting::Layers(layers) => if *layers == Layers::Apart { "apart" } else { "together" }.to_owned(),
        Setting::Colour(colour) => colour.to_string(),
        Setting::Passes(passes) => passes.iter().map(|pass| pass.name.value.as_str()).collect::<Vec<_>>().join("+"),
    }
}

/// Two jobs of one name would share a state and a journal.
fn twins(all: &[Stacked], findings: &mut Findings) {
    let mut seen: std::collections::HashMap<&str, &Stacked> = std::collections::HashMap::new();
    for stacked in all {
        if let Some(first) = seen.insert(&stacked.name, stacked) {
            let words = Words::new(format!("two jobs are called `{}`", stacked.name), "the second one");
            findings.add(
                "job-twice",
                Some(stacked.at),
                Some(&stacked.name),
                words.also(first.at, "the first one").help("give one of them another name"),
            );
        }
    }
}
