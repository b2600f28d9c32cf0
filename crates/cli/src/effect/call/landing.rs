//! What a call wrote, on its way to its final names: while its renderer runs, and once it has ended.

use std::collections::{BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::time::Instant;

use rustix::process::Signal;
use truepath_core::invoke::target::Step;
use truepath_core::plan::{Plan, Series};
use truepath_core::run::event::Event;

use super::super::crew::Crew;
use super::super::stage::{self, Fate, Landing, Stamp};
use super::{Attempt, Place};
use crate::exit_code::Failure;

/// Stray files that are named; the rest is counted.
const NAMED: usize = 4;

impl Attempt<'_> {
    /// Lands what lies in stage once the renderer has ended. Returns whether anything was left there, and what of it was
    /// not planned.
    pub(super) fn land_all(&mut self) -> Result<(bool, Vec<PathBuf>), Failure> {
        let (mut strays, mut left) = (Vec::new(), false);
        for path in staged(&self.step) {
            let Some(place) = self.step.place(&path.to_string_lossy()) else {
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
        let landed: Vec<(Place, Stamp)> = self.landed.iter().map(|(place, stamp)| (*place, *stamp)).collect();
        for (place, before) in landed {
            let target = PathBuf::from(self.crew.loaded.plan.series[place.0].name(place.1));
            let now = stage::stamp(&target);
            // Across file systems a copy has landed, which nobody else writes into.
            let same_file = now.is_some_and(|now| now.3 == before.3);
            if same_file && now != Some(before) {
                self.written_into(&target, place)?;
            }
        }
        Ok((left || !strays.is_empty(), strays))
    }

    /// A renderer that has kept a file open, or opened it before it landed, wrote into it afterwards.
    fn written_into(&mut self, target: &Path, place: Place) -> Result<(), Failure> {
        let (call, series) = (self.call.id.clone(), self.crew.loaded.plan.series[place.0].id.clone());
        match self.crew.land(&call, target, place, true)? {
            Fate::Landed(..) => self.crew.record(&Event::Rewritten { call, series, frame: place.1 })?,
            Fate::Refused(why) => {
                let why = format!("the renderer wrote into it after it had called it written: {why}");
                self.crew.record(&Event::Refused { call, series, frame: place.1, why: why.clone() })?;
                stage::remove(target)?;
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
    fn land(&mut self, staged: &Path, place: Place, ended: bool) -> Result<(), Failure> {
        if self.lost || !self.crew.is_mine(self.call) {
            self.lost = true;
            return Ok(());
        }
        let over = !self.crew.is_missing(place);
        match self.crew.land(&self.call.id, staged, place, over)? {
            Fate::Landed(event, before) => {
                self.crew.tell(&event);
                self.files += 1;
                self.settle(place, before);
            }
            Fate::Late => self.settle(place, Stamp::default()),
            Fate::Refused(why) if ended => {
                let series = self.crew.loaded.plan.series[place.0].id.clone();
                let call = self.call.id.clone();
                self.crew.record(&Event::Refused { call, series, frame: place.1, why: why.clone() })?;
                self.refused.insert(place, why);
            }
            Fate::NotThere | Fate::Refused(_) => {}
        }
        Ok(())
    }

    /// A file that the renderer wrote again after it had landed: the later one is what it means.
    fn land_again(&mut self, staged: &Path, place: Place) -> Result<(), Failure> {
        if self.crew.is_mine(self.call) {
            let (call, series) = (self.call.id.clone(), self.crew.loaded.plan.series[place.0].id.clone());
            match self.crew.land(&call, staged, place, true)? {
                Fate::Landed(_, before) => {
                    self.landed.insert(place, before);
                    self.crew.record(&Event::Rewritten { call, series, frame: place.1 })?;
                }
                Fate::Refused(why) => {
                    let why = format!("written again, and {why}; what had landed stays");
                    self.crew.record(&Event::Refused { call, series, frame: place.1, why })?;
                }
                Fate::NotThere | Fate::Late => {}
            }
        }
        Ok(())
    }

    fn settle(&mut self, place: Place, before: Stamp) {
        self.awaited.remove(&place);
        self.landed.insert(place, before);
        self.refused.remove(&place);
        self.watch.frame();
        // Its last pass: nothing of this frame is waited for any more.
        let whole = !self.awaited.iter().any(|(_, frame)| *frame == place.1);
        if whole && self.crew.is_stopping() {
            self.end(Signal::TERM);
        }
    }

    /// Lands while the renderer runs; what goes wrong ends it.
    pub(super) fn try_land(&mut self, staged: &Path, place: Place) {
        let landed = self.land(staged, place, false);
        if let Err(failure) = landed {
            self.failure.get_or_insert(failure);
        }
        if self.failure.is_some() || self.lost {
            self.end(Signal::KILL);
        }
    }

    /// Looks into the stage folders: of the files of a series, all but the one that was written last have been moved on
    /// from.
    pub(super) fn look(&mut self) {
        self.looked = Instant::now();
        let mut by_series: HashMap<usize, Vec<(std::time::SystemTime, Place, PathBuf)>> = HashMap::new();
        for path in staged(&self.step) {
            let place = self.step.place(&path.to_string_lossy()).filter(|place| self.awaited.contains(place));
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
    pub(super) fn sweep(&mut self, (left, mut strays): (bool, Vec<PathBuf>)) -> Result<i64, Failure> {
        if self.lost {
            strays.clear();
        }
        let files = i64::try_from(strays.len()).unwrap_or(i64::MAX);
        if !strays.is_empty() {
            let paths = strays.iter().take(NAMED).map(|path| path.display().to_string()).collect();
            self.crew.record(&Event::Stray { call: self.call.id.clone(), files, paths })?;
            return Ok(files);
        }
        for stage in stages(&self.step) {
            if left {
                stage::clear(stage)?;
            } else {
                self.crew.stages.put_by(stage);
            }
        }
        Ok(0)
    }
}

/// Labels of the passes in a series' files.
pub fn labels<'p>(plan: &'p Plan, series: &Series) -> Vec<&'p str> {
    series.passes.iter().map(|pass| plan.jobs[series.job].passes[*pass].label.as_str()).collect()
}

/// The stage folders of a step, each once.
pub(super) fn stages(step: &Step) -> BTreeSet<&Path> {
    step.writes.iter().map(|write| Path::new(&write.stage)).collect()
}

/// Everything that lies in the stage folders of a step, each file once.
pub fn staged(step: &Step) -> BTreeSet<PathBuf> {
    stages(step).into_iter().flat_map(stage::files).collect()
}

impl Crew<'_> {
    /// Lands one staged file of a call under its final name.
    pub fn land(&self, call: &str, staged: &Path, (series, frame): Place, over: bool) -> Result<Fate, Failure> {
        let plan = &self.loaded.plan;
        let series_of = &plan.series[series];
        let target = PathBuf::from(series_of.name(frame));
        let labels = labels(plan, series_of);
        let made = self.made.get(series).and_then(Option::as_ref);
        let landing = Landing { staged, target: &target, call, series: series_of, labels: &labels, frame, made, over };
        stage::land(&landing, self.journal)
    }
}
