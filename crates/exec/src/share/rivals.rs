//! Members whose plans differ: another part of the sheet, other calls. They share by frame. A claim says which files its call
//! writes. After a member has made one, it looks for claims of members with other plans on the same files.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::time::Duration;

use truepath_core::run::claim::{self, Signs, Table};
use truepath_core::run::meant::{Covered, overlap};

use super::OVER;
use super::members::{numbers, worker, workers};
use crate::disk;
use crate::state::StateFolder;

/// What a claim says: who made it, and what its call writes.
pub(super) fn written(tag: &str, covers: &Covered) -> String {
    format!("{tag}\n{}", serde_json::to_string(covers).unwrap_or_default())
}

/// Who made a claim.
pub(super) fn owner(text: &str) -> &str {
    text.lines().next().unwrap_or_default()
}

/// The claims of other plans on one sheet, as they are seen from one member.
pub(super) struct Rivals {
    claims: PathBuf,
    /// The name of this member's plan.
    own: String,
    takeover: Duration,
    /// What calls of other plans write, by the path of their claims.
    covered: HashMap<PathBuf, Covered>,
    signs: Signs,
    /// Members that have gone, by their files: they do not come back.
    gone: HashSet<PathBuf>,
    /// Whether there was ever another plan: its members may have landed some of this member's files.
    pub any: bool,
}

impl Rivals {
    pub fn of(state: &StateFolder, own: &str, takeover: Duration) -> Rivals {
        Rivals {
            claims: state.claims(),
            own: own.to_owned(),
            takeover,
            covered: HashMap::new(),
            signs: Signs::default(),
            gone: HashSet::new(),
            any: false,
        }
    }

    /// The plans of living members that claim any of the files.
    pub fn met(&mut self, covers: &Covered, now: Duration) -> std::io::Result<Vec<String>> {
        let mut met = Vec::new();
        let mut others = plans(&self.claims)?;
        others.retain(|(plan, _)| *plan != self.own);
        for (plan, folder) in others {
            self.any = true;
            let Some(newest) = numbers(&folder).unwrap_or_default().into_iter().max() else { continue };
            let round = folder.join(newest.to_string());
            if round.join(OVER).exists() || !self.has_living(&round, now) {
                continue;
            }
            let names = std::fs::read_dir(round.join("calls")).into_iter().flatten().filter_map(Result::ok);
            let table = Table::of(names.map(|entry| entry.file_name().to_string_lossy().into_owned()));
            for (call, generation) in table.held() {
                let path = round.join("calls").join(claim::claim(call, generation));
                if self.is_overlapping(&path, covers) && self.is_held(&round, &path, now) {
                    met.push(plan);
                    break;
                }
            }
        }
        Ok(met)
    }

    /// Whether anybody works on a round.
    fn has_living(&mut self, round: &Path, now: Duration) -> bool {
        let files = std::fs::read_dir(round.join("workers")).into_iter().flatten().filter_map(Result::ok);
        let mut living = false;
        for path in files.map(|entry| entry.path()) {
            living |= self.lives(&path, now);
        }
        living
    }

    /// Whether a member has neither gone nor been silent for too long.
    fn lives(&mut self, path: &Path, now: Duration) -> bool {
        if self.gone.contains(path) {
            return false;
        }
        let Some((member, gone, counter)) = worker(path) else { return true };
        if gone || member.is_surely_dead() {
            self.gone.insert(path.to_owned());
            return false;
        }
        let key = path.to_string_lossy();
        self.signs.look(&key, &counter, now);
        !self.signs.is_silent(&key, now, self.takeover)
    }

    /// Whether a claim may be on one of the files: of one that is not written yet, nobody knows.
    fn is_overlapping(&mut self, path: &Path, covers: &Covered) -> bool {
        if let Some(theirs) = self.covered.get(path) {
            return overlap(covers, theirs);
        }
        let text = disk::text(path).unwrap_or_default();
        let said = text.split_once('\n').and_then(|(_, covers)| serde_json::from_str::<Covered>(covers).ok());
        let Some(theirs) = said else { return path.exists() };
        overlap(covers, self.covered.entry(path.to_owned()).or_insert(theirs))
    }

    /// Whether the member that made a claim still has it.
    fn is_held(&mut self, round: &Path, path: &Path, now: Duration) -> bool {
        let Ok(text) = disk::text(path) else { return false };
        let member = round.join("workers").join(owner(&text));
        match text.is_empty() {
            false => self.lives(&member, now),
            // One that is not written yet is watched by its own name.
            true => !self.signs.is_silent(&path.to_string_lossy(), now, self.takeover),
        }
    }
}

/// The plans of a sheet that have claims, and their folders. Exports are claimed by what they make, in any plan alike.
fn plans(claims: &Path) -> std::io::Result<Vec<(String, PathBuf)>> {
    let entries = std::fs::read_dir(claims)?.collect::<std::io::Result<Vec<_>>>()?;
    let named = entries.into_iter().map(|entry| (entry.file_name().to_string_lossy().into_owned(), entry.path()));
    Ok(named.filter(|(name, _)| name != super::EXPORTS).collect())
}

/// Removes the claims of plans that are over and whose members have all gone.
pub(super) fn sweep(state: &StateFolder, own: &str) {
    for (_, folder) in plans(&state.claims()).unwrap_or_default().into_iter().filter(|(plan, _)| plan != own) {
        let Some(newest) = numbers(&folder).unwrap_or_default().into_iter().max() else { continue };
        let round = folder.join(newest.to_string());
        let all_gone =
            workers(&round).unwrap_or_default().iter().all(|(_, own, gone, _)| *gone || own.is_surely_dead());
        if round.join(OVER).exists() && all_gone {
            // What stays is only in the way.
            let _ = std::fs::remove_dir_all(folder);
        }
    }
}
