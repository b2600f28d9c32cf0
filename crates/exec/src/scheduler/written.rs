//! What a call wrote, on its way to its final names: while its renderer runs, and once it has ended.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::time::Instant;

use truepath_core::adapter::exit::Ending;
use truepath_core::resolve::paths::from_system;
use truepath_core::run::event::Event;

use super::attempt::{Attempt, Unbelieved};
use super::context::OwedFile;
use crate::disk::{Stamp, no_file, stamp};
use crate::failure::Trouble;
use crate::landing::Fate;
use crate::landing::stage::{self, staged};
use crate::process::End;

/// Stray files that are named; the rest is counted.
const NAMED: usize = 4;

/// What is left in stage once everything has landed that is believed.
#[derive(Debug, Default)]
pub(super) struct Left {
    /// Files that nobody planned.
    strays: Vec<PathBuf>,
    /// Files that are waited for, of which nobody knows whether they are finished.
    unfinished: Vec<(PathBuf, OwedFile)>,
    /// Whether anything is left.
    is_any: bool,
}

impl Attempt<'_, '_> {
    /// Lands what lies in stage once the renderer has ended, as far as it is believed.
    pub(super) fn land_all(&mut self) -> Result<Left, Trouble> {
        stage::clear_besides(&self.step).map_err(Trouble::Call)?;
        // What it has moved on from is finished, however it ended.
        let mut over: BTreeSet<OwedFile> = BTreeSet::new();
        if !self.ended_well && !self.lines.tell_files() {
            over = self.moved_on().into_iter().map(|(place, _)| place).collect();
        }
        let all = self.ended_well && !self.lines.tell_files();
        let mut left = Left::default();
        for path in staged(&self.step) {
            let Some(place) = self.step.place(&from_system(&path)) else {
                left.strays.push(path);
                continue;
            };
            let is_finished = all || self.known.is_named(place) || over.contains(&place);
            match (self.awaited.contains(&place), self.landed.contains_key(&place)) {
                (true, _) if is_finished => self.land(&path, place, true)?,
                (true, _) => left.unfinished.push((path.clone(), place)),
                (_, true) if self.ended_well || is_finished => self.land_again(&path, place)?,
                // The program writes this file again, so the one that landed is out of date.
                (_, true) => self.take_back(place)?,
                (false, false) => {}
            }
            left.is_any |= path.exists();
        }
        let landed: Vec<(OwedFile, Stamp)> = self.landed.iter().map(|(place, stamp)| (*place, *stamp)).collect();
        for (place, before) in landed {
            let target = PathBuf::from(self.context.plan().output(place.0).name(place.1));
            let now = stamp(&target);
            // Across file systems a copy has landed, which nobody else writes into.
            let same_file = now.is_some_and(|now| now.3 == before.3);
            if same_file && now != Some(before) {
                self.written_into(&target, place)?;
            }
        }
        left.is_any |= !left.strays.is_empty();
        Ok(left)
    }

    /// A file that landed because the renderer had moved on from it, and that it then wrote again and did not finish: it is
    /// missing. One that the renderer had named stays.
    fn take_back(&mut self, place: OwedFile) -> Result<(), Trouble> {
        if !self.landed_by_looks.remove(&place) || !self.context.is_mine(self.call) {
            return Ok(());
        }
        let series = self.context.plan().output(place.0);
        let (call, id, target) = (self.call.id.clone(), series.id.clone(), PathBuf::from(series.name(place.1)));
        let why = "the renderer wrote it again and then failed".to_owned();
        self.record(&Event::Refused { call, series: id.clone(), frame: place.1, why: why.clone() })?;
        self.record(&Event::Late { series: id, frame: place.1 })?;
        stage::remove(&target).map_err(Trouble::Call)?;
        self.landed.remove(&place);
        self.awaited.insert(place);
        self.refused.insert(place, why);
        self.files -= 1;
        Ok(())
    }

    /// A renderer that has kept a file open, or opened it before it landed, wrote into it afterwards.
    fn written_into(&mut self, target: &Path, place: OwedFile) -> Result<(), Trouble> {
        let (call, series) = (self.call.id.clone(), self.context.plan().output(place.0).id.clone());
        match self.context.land(&call, target, place, true)? {
            Fate::Landed(..) => self.record(&Event::Rewritten { call, series, frame: place.1 })?,
            Fate::Refused(why) => {
                let why = format!("the renderer wrote into it again after reporting it as written: {why}");
                self.record(&Event::Refused { call, series, frame: place.1, why: why.clone() })?;
                stage::remove(target).map_err(Trouble::Call)?;
                self.landed.remove(&place);
                self.awaited.insert(place);
                self.refused.insert(place, why);
                self.files -= 1;
            }
            Fate::NotThere | Fate::Late => {}
        }
        Ok(())
    }

    /// Lands one staged file. Its absence and its flaws are told only once the renderer has ended.
    fn land(&mut self, staged: &Path, place: OwedFile, ended: bool) -> Result<(), Trouble> {
        if self.lost || !self.context.is_mine(self.call) {
            self.lost = true;
            return Ok(());
        }
        let over = !self.context.is_missing(place);
        match self.context.land(&self.call.id, staged, place, over)? {
            Fate::Landed(down) => {
                self.context.tell(&down.event);
                self.files += 1;
                self.has_landed(place, down.before);
            }
            Fate::Late => self.has_landed(place, Stamp::default()),
            Fate::Refused(why) if ended => {
                let series = self.context.plan().output(place.0).id.clone();
                let call = self.call.id.clone();
                self.record(&Event::Refused { call, series, frame: place.1, why: why.clone() })?;
                self.refused.insert(place, why);
            }
            Fate::NotThere | Fate::Refused(_) => {}
        }
        Ok(())
    }

    /// A file that the renderer wrote again after it had landed: the later one is what it means.
    fn land_again(&mut self, staged: &Path, place: OwedFile) -> Result<(), Trouble> {
        if self.context.is_mine(self.call) {
            let (call, series) = (self.call.id.clone(), self.context.plan().output(place.0).id.clone());
            match self.context.land(&call, staged, place, true)? {
                Fate::Landed(down) => {
                    self.landed.insert(place, down.before);
                    self.record(&Event::Rewritten { call, series, frame: place.1 })?;
                }
                Fate::Refused(why) => {
                    let why = format!("written again, and {why}; the landed file was kept");
                    self.record(&Event::Refused { call, series, frame: place.1, why })?;
                }
                Fate::NotThere | Fate::Late => {}
            }
        }
        Ok(())
    }

    fn has_landed(&mut self, place: OwedFile, before: Stamp) {
        self.awaited.remove(&place);
        self.landed.insert(place, before);
        self.refused.remove(&place);
        self.watch.frame(Instant::now());
        // Its last pass: nothing of this frame is waited for any more.
        let whole = !self.awaited.iter().any(|(_, frame)| *frame == place.1);
        if whole && self.context.is_stopping() {
            self.end(End::Ask);
        }
    }

    /// Lands while the renderer runs; what goes wrong ends it.
    pub(super) fn try_land(&mut self, staged: &Path, place: OwedFile) {
        let landed = self.land(staged, place, false);
        if let Err(trouble) = landed {
            self.trouble.get_or_insert(trouble);
        }
        if self.trouble.is_some() || self.lost {
            self.end(End::Now);
        }
    }

    /// Looks into the stage folders: what the renderer has moved on from lands.
    pub(super) fn look(&mut self) {
        self.looked = Instant::now();
        for (place, path) in self.moved_on() {
            if self.awaited.contains(&place) {
                self.try_land(&path, place);
                if self.landed.contains_key(&place) {
                    self.landed_by_looks.insert(place);
                }
            } else if let Err(trouble) = self.land_again(&path, place) {
                self.trouble.get_or_insert(trouble);
            }
        }
    }

    /// The files in stage that the renderer has moved on from.
    fn moved_on(&mut self) -> Vec<(OwedFile, PathBuf)> {
        let is_own = |place: &OwedFile| self.awaited.contains(place) || self.landed.contains_key(place);
        let own = |path: PathBuf| {
            let place = self.step.place(&from_system(&path)).filter(is_own)?;
            Some((place, stamp(&path)?, path))
        };
        let files: Vec<(OwedFile, Stamp, PathBuf)> = staged(&self.step).into_iter().filter_map(own).collect();
        let seen: Vec<(OwedFile, Stamp)> = files.iter().map(|(place, stamp, _)| (*place, *stamp)).collect();
        let over: BTreeSet<OwedFile> = self.known.look(&seen).into_iter().collect();
        files.into_iter().filter(|(place, ..)| over.contains(place)).map(|(place, _, path)| (place, path)).collect()
    }

    /// Tells what was left in the stage folders and nobody planned; puts the folders by when nothing was. Files that all look
    /// whole and are not believed stay, and are told beside the strays.
    pub(super) fn sweep(&mut self, left: Left, ending: Ending) -> Result<(i64, Option<Unbelieved>), Trouble> {
        let Left { strays, unfinished, is_any } = left;
        let strays = if self.lost || !self.ended_well { Vec::new() } else { strays };
        let files = i64::try_from(strays.len()).unwrap_or(i64::MAX);
        if !strays.is_empty() {
            let named = |path: &PathBuf| match no_file(path) {
                Some(what) => format!("{} ({what})", path.display()),
                None => path.display().to_string(),
            };
            let paths = strays.iter().take(NAMED).map(named).collect();
            self.record(&Event::Stray { call: self.call.id.clone(), files, paths })?;
            return Ok((files, None));
        }
        let are_whole = !self.lost
            && unfinished.len() == self.awaited.len()
            && unfinished.iter().all(|(path, place)| self.context.looks_whole(path, *place));
        let unbelieved = if are_whole && !unfinished.is_empty() { self.disbelief(ending) } else { None };
        for stage in stage::of(&self.step) {
            if is_any && (self.keeps_refused() || unbelieved.is_some()) {
                // Somebody may want to look at it.
                continue;
            }
            if is_any {
                self.context.stages.clear(stage).map_err(Trouble::Call)?;
            } else {
                self.context.stages.put_by(stage);
            }
        }
        Ok((0, unbelieved))
    }
}
