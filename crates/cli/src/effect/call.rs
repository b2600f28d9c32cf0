//! One call of a renderer: stage, spawn, listen, land, tell.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use rustix::process::Signal;
use truepath_core::frames::Frames;
use truepath_core::invoke::target::Step;
use truepath_core::plan::{Invocation, Plan, Series};
use truepath_core::run::event::{Ended, Event, Started};

use super::crew::Crew;
use super::lines::Lines;
use super::spawn::{self, Listener, Start, end_group};
use super::stage::{self, Fate, Landing, Stamp};
use super::still;
use super::watch::{Limits, Watch};
use super::{journal, process};
use crate::exit_code::Failure;

/// How often stage folders are looked into, for renderers that do not say what they wrote.
const LOOK: Duration = Duration::from_secs(1);
/// How long a renderer that was asked to end may take.
const GRACE: Duration = Duration::from_secs(5);

/// Stray files that are named; the rest is counted.
const NAMED: usize = 4;

/// A file that is waited for: series and frame.
pub type Place = (usize, i64);

/// How a call ended.
#[derive(Debug, Default)]
pub struct Done {
    /// Files that landed.
    pub files: i64,
    /// What did not.
    pub lacking: BTreeSet<Place>,
    /// Whether no licence was free, and nothing came out.
    pub waited: bool,
    /// Whether another worker has taken the call over.
    pub lost: bool,
    /// Whether it wrote files, and none of them under a planned name.
    pub elsewhere: bool,
    /// Why something is lacking, as far as known.
    pub why: String,
    /// Its log.
    pub log: String,
}

/// One call while it runs.
pub struct Attempt<'a> {
    crew: &'a Crew<'a>,
    call: &'a Invocation,
    step: Step,
    worker: usize,
    awaited: BTreeSet<Place>,
    landed: BTreeMap<Place, Stamp>,
    files: i64,
    lines: Arc<Lines>,
    watch: Watch,
    looked: Instant,
    process: u32,
    ending: Option<Instant>,
    why: Option<String>,
    said: Option<String>,
    refused: BTreeMap<Place, String>,
    waiting: bool,
    lost: bool,
    failure: Option<Failure>,
}

impl<'a> Attempt<'a> {
    /// A call that is about to be made for the files in `awaited`, its stage folders made. `None` where its job has no
    /// adapter.
    pub fn new(
        crew: &'a Crew<'a>,
        call: &'a Invocation,
        awaited: BTreeSet<Place>,
    ) -> Result<Option<Attempt<'a>>, Failure> {
        let plan = &crew.loaded.plan;
        let step = crew.loaded.shop(crew.around).step(call);
        let (Some(step), Some(adapter)) = (step, crew.loaded.adapter(&plan.jobs[call.job])) else { return Ok(None) };
        let lines = crew.lines(adapter);
        for stage in stages(&step) {
            crew.stages.prepare(stage)?;
        }
        Ok(Some(Attempt {
            step,
            awaited,
            worker: 0,
            landed: BTreeMap::new(),
            files: 0,
            lines,
            watch: Watch::new(Limits { frame: plan.run.frame_timeout, silence: plan.run.silence }),
            looked: Instant::now(),
            process: 0,
            ending: None,
            why: None,
            said: None,
            refused: BTreeMap::new(),
            waiting: false,
            lost: false,
            failure: None,
            crew,
            call,
        }))
    }

    /// The call is not made after all.
    pub fn leave(&self) {
        stages(&self.step).into_iter().for_each(|stage| self.crew.stages.put_by(stage));
    }

    /// Makes the call. `freed` hears when the renderer has ended and what is left is landing.
    pub fn make(mut self, worker: usize, freed: impl FnOnce()) -> Result<Done, Failure> {
        self.worker = worker;
        self.watch = Watch::new(self.watch.limits);
        let (program, arguments) = (self.step.program.clone(), self.step.arguments.clone());
        let (env, log) = (self.step.env.clone(), PathBuf::from(&self.step.log));
        let folder = &self.crew.loaded.plan.home.folder;
        let start = Start { program: &program, arguments: &arguments, env: &env, folder, log: &log };
        let began = Instant::now();
        let ended = spawn::run(&start, &self.crew.running, &mut self);
        freed();
        let code = ended.map_err(|error| {
            Failure::machine("start", &program, &error).help("is the program there, and may it be run?")
        })?;
        if let Some(failure) = self.failure.take() {
            return Err(failure);
        }
        let left = self.land_all()?;
        let strays = self.sweep(left)?;
        self.close(code, strays, began)
    }

    /// What is said and known in the end.
    fn close(mut self, code: Option<i32>, strays: i64, began: Instant) -> Result<Done, Failure> {
        let lacking = Frames::from_any(self.awaited.iter().map(|(_, frame)| *frame).collect());
        if self.lost {
            self.crew.record(&Event::Lost { call: self.call.id.clone() })?;
        }
        self.crew.record(&Event::Ended(Ended {
            call: self.call.id.clone(),
            code,
            files: self.files,
            lacking: lacking.to_string(),
            seconds: journal::millis(began.elapsed().as_secs_f64()),
            log: self.step.log.clone(),
            why: self.why.clone(),
            t: self.crew.journal.t(),
        }))?;
        let how = match (&self.why, code) {
            (Some(why), _) => format!("was ended: {why}"),
            (None, None) => "was ended by a signal".to_owned(),
            (None, Some(code)) => format!("ended with {code}"),
        };
        let refused = self.refused.iter().next().map(|((_, frame), why)| format!("; frame {frame}: {why}"));
        let other = format!("; it wrote {strays} other file{}", if strays == 1 { "" } else { "s" });
        let why = [
            Some(how),
            self.said.take().map(|said| format!("; it said: {said}")),
            refused,
            (strays > 0).then_some(other),
        ];
        Ok(Done {
            files: self.files,
            waited: self.waiting && self.files == 0 && self.refused.is_empty(),
            lost: self.lost,
            elsewhere: strays > 0 && self.files == 0 && self.refused.is_empty(),
            why: why.into_iter().flatten().collect(),
            log: self.step.log,
            lacking: self.awaited,
        })
    }

    /// Lands what lies in stage once the renderer has ended. Returns whether anything was left there, and what of it was
    /// not planned.
    fn land_all(&mut self) -> Result<(bool, Vec<PathBuf>), Failure> {
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
    fn try_land(&mut self, staged: &Path, place: Place) {
        let landed = self.land(staged, place, false);
        if let Err(failure) = landed {
            self.failure.get_or_insert(failure);
        }
        if self.failure.is_some() || self.lost {
            self.end(Signal::KILL);
        }
    }

    fn end(&mut self, signal: Signal) {
        if self.process != 0 && (self.ending.is_none() || signal == Signal::KILL) {
            end_group(self.process, signal);
            self.ending = Some(Instant::now() + GRACE);
        }
    }

    /// Looks into the stage folders: of the files of a series, all but the one that was written last have been moved on
    /// from.
    fn look(&mut self) {
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
    fn sweep(&mut self, (left, mut strays): (bool, Vec<PathBuf>)) -> Result<i64, Failure> {
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

    /// A checkpoint is whole: it is put by.
    fn put_by(&mut self, path: &str) {
        let kept = self.call.still.as_ref().map(|still| still::keep(still, Path::new(path), self.call, self.crew));
        match kept {
            Some(Ok(())) if self.crew.is_stopping() => self.end(Signal::TERM),
            Some(Err(failure)) => {
                self.failure.get_or_insert(failure);
                self.end(Signal::KILL);
            }
            _ => {}
        }
    }
}

impl Listener for Attempt<'_> {
    fn began(&mut self, process: u32) {
        self.process = process;
        let plan = &self.crew.loaded.plan;
        let started = Started {
            call: self.call.id.clone(),
            job: plan.jobs[self.call.job].name.clone(),
            series: self.call.series.iter().map(|at| plan.series[*at].id.clone()).collect(),
            frames: self.call.frames.to_string(),
            worker: self.worker,
            process,
            born: process::born(process),
            log: self.step.log.clone(),
            t: self.crew.journal.t(),
        };
        let told = self.crew.announce(&self.call.series).and_then(|()| self.crew.record(&Event::Started(started)));
        if let Err(failure) = told {
            self.failure.get_or_insert(failure);
            self.end(Signal::KILL);
        }
    }

    fn line(&mut self, line: &str) {
        let meant = self.lines.read(line);
        self.watch.line(meant.waits);
        if meant.waits && !self.waiting {
            let told = Event::Waiting { call: self.call.id.clone(), line: line.to_owned() };
            if let Err(failure) = self.crew.record(&told) {
                self.failure.get_or_insert(failure);
            }
        }
        self.waiting |= meant.waits;
        self.said = meant.problem.or(self.said.take());
        // A relative path starts where the program was started.
        let home = Path::new(&self.crew.loaded.plan.home.folder);
        if let Some(path) = meant.wrote.map(|path| home.join(path)) {
            let place = self.step.place(&path.to_string_lossy());
            if let Some(place) = place.filter(|place| self.awaited.contains(place)) {
                self.try_land(&path, place);
            }
        }
        if let Some(path) = meant.saved {
            self.put_by(&home.join(path).to_string_lossy());
        }
    }

    fn due(&self) -> Option<Instant> {
        let look = (!self.lines.tell_files()).then(|| self.looked + LOOK);
        [self.watch.due().filter(|_| self.ending.is_none()), look, self.ending].into_iter().flatten().min()
    }

    fn tick(&mut self) {
        if self.ending.is_some_and(|ending| ending <= Instant::now()) {
            self.end(Signal::KILL);
        }
        if !self.lines.tell_files() && self.looked.elapsed() >= LOOK {
            self.look();
        }
        if self.ending.is_none()
            && let Some(why) = self.watch.over()
        {
            self.why = Some(why);
            self.end(Signal::KILL);
        }
    }
}

/// Labels of the passes in a series' files.
pub fn labels<'p>(plan: &'p Plan, series: &Series) -> Vec<&'p str> {
    series.passes.iter().map(|pass| plan.jobs[series.job].passes[*pass].label.as_str()).collect()
}

/// The stage folders of a step, each once.
fn stages(step: &Step) -> BTreeSet<&Path> {
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
