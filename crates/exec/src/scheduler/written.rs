//! What a call wrote, on its way to its final names: while its renderer runs, and once it has ended.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::time::Instant;

use truepath_core::resolve::paths::from_system;
use truepath_core::run::event::Event;

use super::attempt::Attempt;
use super::context::OwedFile;
use crate::disk::{Stamp, no_file, stamp};
use crate::failure::Trouble;
use crate::landing::Fate;
use crate::landing::stage::{self, staged};
use crate::process::End;

/// Stray files that are named; the rest is counted.
const NAMED: usize = 4;

impl Attempt<'_, '_> {
    /// Lands what lies in stage once the renderer has ended. Returns whether anything was left there, and what of it was
    /// not planned.
    pub(super) fn land_all(&mut self) -> Result<(bool, Vec<PathBuf>), Trouble> {
        stage::clear_besides(&self.step).map_err(Trouble::Call)?;
        let (mut strays, mut left) = (Vec::new(), false);
        for path in staged(&self.step) {
            let Some(place) = self.step.place(&from_system(&path)) else {
                strays.push(path);
                continue;
            };
            if self.awaited.contains(&place) {
                self.land(&path, place, true)?;
            } else if self.landed.contains_key(&place) {
                self.land_again(&path, place)?;
            }
            left |= path.exists();
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
        Ok((left || !strays.is_empty(), strays))
    }

    /// A renderer that failed, or that never said it had finished, has ended: of what lies in stage, only what it had moved
    /// on from lands, and after a failure nothing. The rest is not kept: nobody can tell whether it is whole.
    pub(super) fn leave_untrusted(&mut self) -> Result<i64, Trouble> {
        if !self.has_failed() {
            self.look();
            if let Some(trouble) = self.trouble.take() {
                return Err(trouble);
            }
        }
        stage::clear_besides(&self.step).map_err(Trouble::Call)?;
        for stage in stage::of(&self.step) {
            stage::clear(stage).map_err(Trouble::Call)?;
        }
        Ok(0)
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
        self.watch.frame();
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

    /// Looks into the stage folders: of the files of a series, all but the one that was written last have been moved on
    /// from.
    pub(super) fn look(&mut self) {
        self.looked = Instant::now();
        let mut by_series: HashMap<usize, Vec<(std::time::SystemTime, OwedFile, PathBuf)>> = HashMap::new();
        for path in staged(&self.step) {
            let place = self.step.place(&from_system(&path)).filter(|place| self.awaited.contains(place));
            let changed = path.metadata().and_then(|about| about.modified());
            if let (Some(place), Ok(changed)) = (place, changed) {
                by_series.entry(place.0).or_default().push((changed, place, path));
            }
        }
        for mut files in by_series.into_values() {
            files.sort();
            files.pop();
            for (_, place, path) in files {
                self.try_land(&path, place);
            }
        }
    }

    /// Tells what was left in the stage folders and nobody planned; puts the folders by when nothing was.
    pub(super) fn sweep(&mut self, (left, mut strays): (bool, Vec<PathBuf>)) -> Result<i64, Trouble> {
        if self.lost {
            strays.clear();
        }
        let files = i64::try_from(strays.len()).unwrap_or(i64::MAX);
        if !strays.is_empty() {
            let named = |path: &PathBuf| match no_file(path) {
                Some(what) => format!("{} ({what})", path.display()),
                None => path.display().to_string(),
            };
            let paths = strays.iter().take(NAMED).map(named).collect();
            self.record(&Event::Stray { call: self.call.id.clone(), files, paths })?;
            return Ok(files);
        }
        for stage in stage::of(&self.step) {
            if left && self.keeps_refused() {
                // Somebody may want to look at it.
                continue;
            }
            if left {
                stage::clear(stage).map_err(Trouble::Call)?;
            } else {
                self.context.stages.put_by(stage);
            }
        }
        Ok(0)
    }
}
