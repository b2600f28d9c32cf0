//! What frames were made of when they landed, from the journals, and what they would be made of now.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader};
use std::path::Path;

use truepath_core::plan::{Adapters, Plan};
use truepath_core::run::event::Event;
use truepath_core::run::fingerprint::made_of;
use truepath_core::sheet::Key;

use super::facts;

/// What each series of a plan is made of now; nothing where its scene cannot be read.
pub fn now(plan: &Plan, adapters: &Adapters, state: &Path) -> Vec<Option<String>> {
    let mut scenes: BTreeMap<&str, Option<String>> = BTreeMap::new();
    let one = |series: &truepath_core::plan::Series| {
        let job = &plan.jobs[series.job];
        let scene = job.scene.as_ref()?.value.as_str();
        let bytes = scenes.entry(scene).or_insert_with(|| facts::content(Path::new(scene), &state.join("facts")).ok());
        let adapter = job.settings.text(&Key::Adapter).and_then(|name| adapters.get(name));
        let mut hash = blake3::Hasher::new();
        hash.update(bytes.as_ref()?.as_bytes()).update(made_of(plan, series, adapter).as_bytes());
        Some(hash.finalize().to_hex()[..32].to_owned())
    };
    plan.series.iter().map(one).collect()
}

/// What landed files were made of, by path; the last landing of a name counts. A line that cannot be read is passed over.
pub fn landed(state: &Path) -> BTreeMap<String, String> {
    let entries = std::fs::read_dir(state.join("journal")).into_iter().flatten().filter_map(Result::ok);
    let mut journals: Vec<_> = entries
        .filter_map(|entry| Some((entry.metadata().and_then(|about| about.modified()).ok()?, entry.path())))
        .collect();
    journals.sort();
    let mut made = BTreeMap::new();
    for file in journals.iter().filter_map(|(_, path)| std::fs::File::open(path).ok()) {
        for line in BufReader::new(file).lines().map_while(Result::ok).filter(|line| line.contains("\"landed\"")) {
            match serde_json::from_str(&line) {
                Ok(Event::Landed { path, of: Some(of), .. }) => drop(made.insert(path, of)),
                Ok(Event::Landed { path, of: None, .. }) => drop(made.remove(&path)),
                _ => {}
            }
        }
    }
    made
}
