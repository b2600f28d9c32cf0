//! One call of a renderer: stage, spawn, listen, land, tell.

mod landing;

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use rustix::process::Signal;
use truepath_core::frames::Frames;
use truepath_core::invoke::target::Step;
use truepath_core::plan::Invocation;
use truepath_core::run::event::{Ended, Event, Started};

use super::crew::Crew;
use super::lines::Lines;
use super::spawn::{Listener, Ready, Start, end_group};
use super::stage::Stamp;
use super::still;
use super::supply::Seat;
use super::watch::{Limits, Watch};
use super::{journal, process};
use crate::exit_code::Failure;
use landing::stages;
pub use landing::{labels, staged};

/// How often stage folders are looked into, for renderers that do not say what they wrote.
const LOOK: Duration = Duration::from_secs(1);
/// How long a written file waits before it lands while its renderer runs. One that ends meanwhile makes room for the next
/// call first.
const LINGER: Duration = Duration::from_millis(100);
/// How long a renderer that was asked to end may take.
const GRACE: Duration = Duration::from_secs(5);

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
    /// Written files, and when each is to land if the renderer still runs.
    written: VecDeque<(Instant, PathBuf, Place)>,
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
    /// A call that is about to be made for the files in `awaited`, its stage folders made and its renderer ready. `None`
    /// where its job has no adapter.
    pub fn new(
        crew: &'a Crew<'a>,
        call: &'a Invocation,
        awaited: BTreeSet<Place>,
    ) -> Result<Option<(Attempt<'a>, Ready)>, Failure> {
        let plan = &crew.loaded.plan;
        let step = crew.loaded.shop(crew.around).step(call);
        let (Some(step), Some(adapter)) = (step, crew.loaded.adapter(&plan.jobs[call.job])) else { return Ok(None) };
        let lines = crew.lines(adapter);
        for stage in stages(&step) {
            crew.stages.prepare(stage)?;
        }
        let start = Start {
            program: &step.program,
            arguments: &step.arguments,
            env: &step.env,
            folder: &plan.home.folder,
            log: Path::new(&step.log),
        };
        let ready = Ready::new(&start).map_err(|error| Failure::machine("write", Path::new(&step.log), &error))?;
        let attempt = Attempt {
            step,
            awaited,
            worker: 0,
            landed: BTreeMap::new(),
            files: 0,
            lines,
            watch: Watch::new(Limits { frame: plan.run.frame_timeout, silence: plan.run.silence }),
            looked: Instant::now(),
            written: VecDeque::new(),
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
        };
        Ok(Some((attempt, ready)))
    }

    /// The call is not made after all.
    pub fn leave(&self) {
        stages(&self.step).into_iter().for_each(|stage| self.crew.stages.put_by(stage));
        // A log without a call says nothing; one that stays does no harm.
        let _ = std::fs::remove_file(&self.step.log);
    }

    /// Follows the call to its end.
    pub fn make(mut self, seat: Seat) -> Result<Done, Failure> {
        self.worker = seat.worker;
        self.watch = Watch::new(self.watch.limits);
        let began = Instant::now();
        let running = &self.crew.running;
        let ended = seat.live.and_then(|live| live.hear(running, &mut self));
        let code = ended.map_err(|error| {
            Failure::machine("start", &self.step.program, &error).help("is the program there, and may it be run?")
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
        // Whoever took it over may have cleared its stage away: then nothing lies there to tell.
        self.lost |= !lacking.is_empty() && !self.crew.is_mine(self.call);
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

    fn end(&mut self, signal: Signal) {
        if self.process != 0 && (self.ending.is_none() || signal == Signal::KILL) {
            end_group(self.process, signal);
            self.ending = Some(Instant::now() + GRACE);
        }
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
                self.written.push_back((Instant::now() + LINGER, path, place));
            }
        }
        if let Some(path) = meant.saved {
            self.put_by(&home.join(path).to_string_lossy());
        }
    }

    fn due(&self) -> Option<Instant> {
        let look = (!self.lines.tell_files()).then(|| self.looked + LOOK);
        let written = self.written.front().map(|(due, ..)| *due);
        [self.watch.due().filter(|_| self.ending.is_none()), look, written, self.ending].into_iter().flatten().min()
    }

    fn tick(&mut self) {
        if self.ending.is_some_and(|ending| ending <= Instant::now()) {
            self.end(Signal::KILL);
        }
        while self.written.front().is_some_and(|(due, ..)| *due <= Instant::now())
            && let Some((_, path, place)) = self.written.pop_front()
        {
            self.try_land(&path, place);
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

    fn ended(&mut self) {
        self.process = 0;
        self.crew.release(self.worker, self.call);
    }
}
