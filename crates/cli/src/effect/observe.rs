//! What lies on disk at the names of a plan. Every folder is listed once; only files that are there are opened.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::Path;

use rayon::iter::{IntoParallelRefIterator, ParallelIterator};
use truepath_core::plan::{Plan, Series};
use truepath_core::resolve::paths;
use truepath_core::verify::{Seen, Verdict};

use crate::exit_code::Failure;

/// The names in each folder that was asked for.
#[derive(Default)]
struct Folders {
    listed: HashMap<String, BTreeSet<String>>,
}

impl Folders {
    fn names(&mut self, folder: &str) -> Result<&BTreeSet<String>, Failure> {
        if !self.listed.contains_key(folder) {
            let names = match std::fs::read_dir(folder) {
                Ok(entries) => entries
                    .filter_map(Result::ok)
                    .map(|entry| entry.file_name().to_string_lossy().into_owned())
                    .collect(),
                Err(error)
                    if matches!(error.kind(), std::io::ErrorKind::NotFound | std::io::ErrorKind::NotADirectory) =>
                {
                    BTreeSet::new()
                }
                Err(error) => return Err(Failure::machine("list", folder, &error)),
            };
            self.listed.insert(folder.to_owned(), names);
        }
        Ok(&self.listed[folder])
    }
}

/// The verdict on every series of a plan, from the heads and ends of its files. `told` hears how many files were looked at.
pub fn verdicts(plan: &Plan, told: &(dyn Fn(u64) + Sync)) -> Result<Vec<Verdict>, Failure> {
    let mut folders = Folders::default();
    plan.series.iter().enumerate().map(|(at, series)| verdict(plan, (at, series), &mut folders, told)).collect()
}

fn verdict(
    plan: &Plan,
    (at, series): (usize, &Series),
    folders: &mut Folders,
    told: &(dyn Fn(u64) + Sync),
) -> Result<Verdict, Failure> {
    let mut there: Vec<(i64, String)> = Vec::new();
    let mut seen: BTreeMap<i64, Seen> = BTreeMap::new();
    let mut wanted_folders: BTreeSet<String> = BTreeSet::new();
    for (frame, path) in series.files() {
        let folder = paths::parent(&path);
        if !wanted_folders.contains(folder) {
            wanted_folders.insert(folder.to_owned());
        }
        if folders.names(folder)?.contains(paths::file_name(&path)) {
            there.push((frame, path));
        } else {
            seen.insert(frame, Seen::Missing);
        }
    }
    let probed: Vec<(i64, Seen)> = there
        .par_iter()
        .map(|(frame, path)| {
            let found = truepath_media::probe(Path::new(path))
                .unwrap_or_else(|error| Seen::Broken(format!("cannot be read: {error}")));
            told(1);
            (*frame, found)
        })
        .collect();
    seen.extend(probed);
    let labels: Vec<&str> =
        series.passes.iter().map(|pass| plan.jobs[series.job].passes[*pass].label.as_str()).collect();
    let mut verdict = Verdict::gather((at, series), &labels, seen);
    if let Some(numbers) = series.numbers().filter(|_| series.pattern.frame_width().is_some()) {
        for folder in wanted_folders {
            let paths = folders.names(&folder)?.iter().map(|name| format!("{folder}/{name}"));
            verdict
                .stray
                .extend(paths.filter(|path| series.pattern.read(path).is_some_and(|number| !numbers.contains(number))));
        }
    }
    Ok(verdict)
}
