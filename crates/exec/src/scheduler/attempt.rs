//! One call of a renderer: stage, spawn, listen, land, tell.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use truepath_core::adapter::exit::Ending;
use truepath_core::frames::Frames;
use truepath_core::invoke::command_line::CommandLine;
use truepath_core::plan::Call;
use truepath_core::resolve::paths::from_system;
use truepath_core::run::event::{Ended, Event, Started};

use super::checkpoint;
use super::context::{Context, Full, OwedFile};
use super::finished::Finished;
use super::watch::{Limits, Watch};
use crate::disk::Stamp;
use crate::failure::{Failure, Trouble};
use crate::guard;
use crate::landing::stage;
use crate::process::{self, Alive, End, Prepared, ProcessListener, Start, identity};
use crate::record::lines::LogRules;
use crate::state::journal::millis;

/// How often stage folders are looked into, for renderers that do not say what they wrote.
const LOOK: Duration = Duration::from_secs(1);
/// How long a written file waits before it lands while its renderer runs. One that ends meanwhile makes room for the next
/// call first.
const LINGER: Duration = Duration::from_millis(100);
/// How long a renderer that was asked to end may take.
const GRACE: Duration = Duration::from_secs(5);

/// How a call ended.
#[derive(Debug, Default)]
pub struct Done {
    /// Files that landed.
    pub files: i64,
    /// What did not.
    pub missing: BTreeSet<OwedFile>,
    /// Whether no licence was free, and nothing came out.
    pub waited: bool,
    /// Whether another worker has taken the call over.
    pub lost: bool,
    /// Whether it wrote files, and none of them under a planned name.
    pub elsewhere: bool,
    /// Whether it could not be made at all: its job is of no use before somebody has fixed that.
    pub stuck: bool,
    /// Why nobody believes files that all look whole, where that is all that is wrong.
    pub unbelieved: Option<Unbelieved>,
    /// Problems that the renderer reported.
    pub problems: u64,
    /// A disk that had no room when its renderer ended.
    pub full: Option<Full>,
    /// Why something is missing, as far as known.
    pub why: String,
    /// The renderer's own last words, with a colon before them; empty where it had none.
    pub words: String,
    /// Its log; empty where it was never started.
    pub log: String,
}

/// A program wrote all its files and then ended in a way that nobody trusts. They stay in stage: once its adapter says that
/// they are whole, the next run lands them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unbelieved {
    /// How it ended, in words.
    pub how: String,
    /// What to write into its adapter if its files are whole all the same.
    pub line: String,
}

impl Done {
    /// A call that could not be made: there is no log of it.
    pub fn stuck(missing: BTreeSet<OwedFile>, failure: &Failure) -> Done {
        Done { missing, stuck: true, why: failure.message.clone(), ..Done::default() }
    }
}

/// A call with its program, which waits to be started.
type Begun<'a, 'c> = (Attempt<'a, 'c>, Box<dyn Prepared + 'c>);

/// One call while it runs.
pub struct Attempt<'a, 'c> {
    pub(super) context: &'a Context<'c>,
    pub(super) call: &'a Call,
    pub(super) step: CommandLine,
    worker: usize,
    /// Gives worker and licences back; to be called once.
    free: Option<&'a dyn Fn(usize)>,
    pub(super) awaited: BTreeSet<OwedFile>,
    pub(super) landed: BTreeMap<OwedFile, Stamp>,
    pub(super) files: i64,
    pub(super) lines: Arc<LogRules>,
    pub(super) watch: Watch,
    pub(super) looked: Instant,
    /// Which of its files are known to be finished.
    pub(super) known: Finished,
    /// Written files, and when each is to land if the renderer still runs.
    written: VecDeque<(Instant, PathBuf, OwedFile)>,
    process: u32,
    ending: Option<Instant>,
    pub(super) why: Option<String>,
    said: Option<String>,
    /// The last line that is nothing but talk.
    last: Option<String>,
    problems: u64,
    /// Whether it said that it had failed, or that it had finished.
    fatal: bool,
    finished: bool,
    pub(super) refused: BTreeMap<OwedFile, String>,
    /// Whether its files are believed to be whole: it ended as its adapter says that it ends when it has succeeded.
    pub(super) ended_well: bool,
    /// Files that looks, not words, have landed.
    pub(super) landed_by_looks: BTreeSet<OwedFile>,
    waiting: bool,
    /// The frame that it says it works on.
    working: Option<i64>,
    pub(super) lost: bool,
    pub(super) trouble: Option<Trouble>,
}

impl<'a, 'c> Attempt<'a, 'c> {
    /// A call that is about to be made for the files in `awaited`, its stage folders made and its renderer ready. `None`
    /// where its job has no adapter. `free` gives its worker and its licences back.
    pub fn new(
        context: &'a Context<'c>,
        call: &'a Call,
        awaited: BTreeSet<OwedFile>,
        free: &'a dyn Fn(usize),
    ) -> Result<Option<Begun<'a, 'c>>, Trouble> {
        let plan = context.plan();
        let (Some(step), Some(adapter)) = (context.project.command_lines.step(call), context.adapter(call)) else {
            return Ok(None);
        };
        for stage in stage::of(&step) {
            context.stages.prepare(stage).map_err(Trouble::Call)?;
        }
        stage::write_files(&step).map_err(Trouble::Call)?;
        let mark = call.marked();
        let start = Start::of(&step, plan.run.log_limit, &mark);
        let ready = context.programs.prepare(&start);
        let ready = ready.map_err(|error| Trouble::Call(Failure::machine("write", Path::new(&step.log), &error)))?;
        let attempt = Attempt {
            worker: 0,
            free: Some(free),
            landed: BTreeMap::new(),
            files: 0,
            lines: context.lines(adapter),
            watch: Watch::new(Limits { frame: plan.run.frame_timeout, silence: plan.run.silence }, Instant::now()),
            looked: Instant::now(),
            known: Finished::default(),
            written: VecDeque::new(),
            process: 0,
            ending: None,
            why: None,
            said: None,
            last: None,
            problems: 0,
            fatal: false,
            finished: false,
            refused: BTreeMap::new(),
            ended_well: false,
            landed_by_looks: BTreeSet::new(),
            waiting: false,
            working: None,
            lost: false,
            trouble: None,
            step,
            awaited,
            context,
            call,
        };
        Ok(Some((attempt, ready)))
    }

    /// The call is not made after all.
    pub fn leave(&self) {
        let _ = stage::clear_besides(&self.step);
        stage::of(&self.step).into_iter().for_each(|stage| self.context.stages.put_by(stage));
        // A log without a call says nothing; one that stays does no harm.
        let _ = std::fs::remove_file(&self.step.log);
    }

    /// Follows the call to its end.
    pub fn make(mut self, worker: usize, live: std::io::Result<Box<dyn Alive>>) -> Result<Done, Trouble> {
        self.worker = worker;
        tracing::info!(call = %self.call.id, worker, program = %self.step.program, log = %self.step.log, "starting");
        self.watch = Watch::new(self.watch.limits, Instant::now());
        let began = Instant::now();
        let ended = live.and_then(|live| live.hear(&mut self));
        self.set_free();
        let ending = match ended {
            Ok(ending) => ending,
            Err(error) => {
                let failure = Failure::unstarted(&self.step, &error);
                return Ok(Done::stuck(std::mem::take(&mut self.awaited), &failure));
            }
        };
        self.ended_well = self.is_believed(ending);
        // Now, before what it left half-written is removed.
        let full = if self.awaited.is_empty() { None } else { self.context.full(self.call) };
        let left = match self.trouble.take() {
            None => self.land_all().and_then(|left| self.sweep(left, ending)),
            Some(trouble) => Err(trouble),
        };
        match left {
            Ok((strays, unbelieved)) => Ok(Done { full, unbelieved, ..self.close(ending, strays, began)? }),
            // The renderer has ended: a fault of its files is a fault of this call.
            Err(Trouble::Call(failure)) => {
                self.why = Some(failure.message.clone());
                let done = self.close(ending, 0, began)?;
                Ok(Done { stuck: true, why: failure.message, full, ..done })
            }
            Err(run) => Err(run),
        }
    }

    /// Whether its files are believed to be whole, by how it ended and by what it printed.
    fn is_believed(&self, ending: Ending) -> bool {
        let said_so = self.finished || !self.lines.tell_the_end();
        let in_time = self.why.is_none() && !self.fatal;
        in_time && said_so && self.context.adapter(self.call).is_some_and(|adapter| adapter.exit.is_good(ending))
    }

    /// Whether its adapter knows of such an end.
    fn succeeds(&self, ending: Ending) -> bool {
        self.context.adapter(self.call).is_some_and(|adapter| adapter.exit.knows(ending))
    }

    /// Why files that look whole do not land, and what to write if they are; `None` where it was ended by others.
    pub(super) fn disbelief(&self, ending: Ending) -> Option<Unbelieved> {
        let adapter = self.context.adapter(self.call)?;
        if self.why.is_some() {
            return None;
        }
        let how = ending.words();
        if !adapter.exit.is_good(ending) {
            let mut ends: Vec<String> = adapter.exit.ok.iter().map(ToString::to_string).collect();
            ends.extend(adapter.exit.crashes.iter().map(|crash| format!("\"{}\"", crash.name())));
            let own = ending.written()?;
            if !ends.contains(&own) {
                ends.push(own);
            }
            let whole = if matches!(ending, Ending::Crash(_)) { " and whole = true" } else { "" };
            let line = format!("ok = [{}]{whole} under [exit]", ends.join(", "));
            return Some(Unbelieved { how, line });
        }
        let (rule, what) = match self.finished || !self.lines.tell_the_end() {
            true => ("wrote", "never reported these files as written"),
            false => ("finished", "never reported that it had finished"),
        };
        let line = format!("another `{rule}` under [log], or none");
        Some(Unbelieved { how: format!("{how} and {what}"), line })
    }

    /// Whether files that were refused stay in stage: those of a renderer that has failed are half-written.
    pub(super) fn keeps_refused(&self) -> bool {
        self.ended_well && !self.refused.is_empty()
    }

    /// Records how the call ended.
    fn close(mut self, ending: Ending, strays: i64, began: Instant) -> Result<Done, Trouble> {
        let missing = Frames::from_any(self.awaited.iter().map(|(_, frame)| *frame).collect());
        // Another member that took the call over may have removed its stage folder: nothing is left there to judge.
        self.lost |= !missing.is_empty() && !self.context.is_mine(self.call);
        if self.lost {
            self.record(&Event::Lost { call: self.call.id.clone() })?;
        }
        self.record(&Event::Ended(Ended {
            call: self.call.id.clone(),
            code: ending.code(),
            signal: if let Ending::Crash(crash) = ending { Some(crash) } else { None },
            ok: self.succeeds(ending),
            files: self.files,
            missing,
            seconds: millis(began.elapsed().as_secs_f64()),
            log: self.step.log.clone(),
            why: self.why.clone(),
            memory: process::most_memory(),
            t: self.context.journal.t(),
        }))?;
        if self.why.is_none() && !self.awaited.is_empty() && self.lines.tell_the_end() && !self.finished {
            self.why = Some("it never reported that it had finished".to_owned());
        }
        let how = match &self.why {
            Some(why) if self.ending.is_none() => why.clone(),
            Some(why) => format!("was ended: {why}"),
            None => ending.words(),
        };
        let refused = self.refused.iter().next().map(|((_, frame), why)| {
            // Words with a path are no part of what a complaint is known by.
            let stage = stage::of(&self.step).into_iter().next().filter(|_| self.keeps_refused());
            let stage = stage.map(|stage| format!(" (kept in {})", stage.display()));
            format!("; frame {frame}: {why}{}", stage.unwrap_or_default())
        });
        let other = format!("; it wrote {strays} other file{}", if strays == 1 { "" } else { "s" });
        let said = self.said.take().or(self.last.take()).filter(|_| !self.awaited.is_empty());
        let words = said.as_ref().map(|said| format!(": {said}")).unwrap_or_default();
        let why = [Some(how), said.map(|said| format!("; it said: {said}")), refused, (strays > 0).then_some(other)];
        Ok(Done {
            files: self.files,
            waited: self.waiting && self.files == 0 && self.refused.is_empty(),
            lost: self.lost,
            elsewhere: strays > 0 && self.files == 0 && self.refused.is_empty(),
            stuck: false,
            unbelieved: None,
            full: None,
            problems: self.problems,
            words,
            why: why.into_iter().flatten().collect(),
            log: self.step.log,
            missing: self.awaited,
        })
    }

    /// Into the journal, or nothing can go on.
    pub(super) fn record(&self, event: &Event) -> Result<(), Trouble> {
        self.context.record(event).map_err(Trouble::Run)
    }

    /// Keeps what went wrong while the renderer runs.
    fn note(&mut self, told: Result<(), Failure>) {
        if let Err(failure) = told {
            self.trouble.get_or_insert(Trouble::Run(failure));
            self.end(End::Now);
        }
    }

    pub(super) fn end(&mut self, how: End) {
        if self.process != 0 && (self.ending.is_none() || how == End::Now) {
            self.context.programs.end(self.process, how);
            self.ending = Some(Instant::now() + GRACE);
        }
    }

    fn set_free(&mut self) {
        self.process = 0;
        if let Some(free) = self.free.take() {
            free(self.worker);
        }
    }

    /// A checkpoint is whole: it is put by.
    fn put_by(&mut self, path: &str) {
        let Some(still) = &self.call.still else { return };
        let keep = self.context.plan().jobs[self.call.job].checkpoint.map_or(1, |setting| setting.keep);
        match checkpoint::put_by(still, Path::new(path), self.call, keep) {
            Ok(event) => {
                let told = event.map_or(Ok(()), |event| self.context.record(&event));
                self.note(told);
                if self.context.is_stopping() {
                    self.end(End::Ask);
                }
            }
            Err(failure) => {
                self.trouble.get_or_insert(Trouble::Call(failure));
                self.end(End::Now);
            }
        }
    }
}

impl ProcessListener for Attempt<'_, '_> {
    fn began(&mut self, process: u32) {
        self.process = process;
        let plan = self.context.plan();
        let started = Started {
            call: self.call.id.clone(),
            job: plan.jobs[self.call.job].name.clone(),
            series: self.call.series.iter().map(|at| plan.output(*at).id.clone()).collect(),
            frames: self.call.frames.clone(),
            worker: self.worker,
            process,
            born: identity::born(process),
            log: self.step.log.clone(),
            t: self.context.journal.t(),
        };
        let told =
            self.context.announce(&self.call.series).and_then(|()| self.context.record(&Event::Started(started)));
        self.note(told);
    }

    fn alive(&mut self) {
        self.watch.alive(Instant::now());
    }

    fn line(&mut self, line: &str) {
        let meant = self.lines.read(line);
        self.watch.line(meant.waits, Instant::now());
        if meant.waits && !self.waiting {
            let told = Event::Waiting { call: self.call.id.clone(), line: line.to_owned() };
            let told = self.context.record(&told);
            self.note(told);
        }
        self.waiting |= meant.waits;
        if !meant.is_something() && meant.problem.is_none() && !line.trim().is_empty() {
            self.last = Some(line.trim().to_owned());
        }
        self.problems += u64::from(meant.problem.is_some());
        self.said = meant.problem.or(self.said.take());
        self.finished |= meant.finished;
        if meant.fatal && !self.fatal {
            self.fatal = true;
            self.said = Some(line.trim().to_owned());
            self.why = Some("its log reports a failure".to_owned());
            self.end(End::Ask);
        }
        if let Some(frame) = meant.frame.filter(|frame| self.working != Some(*frame)) {
            self.working = Some(frame);
            // A movie lands as one file: its frames are counted as it says them.
            if self.call.is_movie(self.context.plan()) {
                self.watch.frame(Instant::now());
            }
            self.context.tell(&Event::Working { call: self.call.id.clone(), frame });
        }
        // A relative path starts where the program was started.
        let home = PathBuf::from(&self.step.folder);
        if let Some(path) = meant.wrote.map(|path| home.join(path)) {
            let place = self.step.place(&from_system(&path));
            let is_own = |place: &OwedFile| self.awaited.contains(place) || self.landed.contains_key(place);
            // A folder that is a link leads out of the stage folder.
            let is_inside = || guard::confined(&path, stage::of(&self.step)).is_ok();
            if let Some(place) = place.filter(|place| is_own(place) && !self.fatal && is_inside()) {
                self.known.name(place);
                self.written.push_back((Instant::now() + LINGER, path, place));
            }
        }
        if let Some(path) = meant.saved {
            self.put_by(&from_system(&home.join(path)));
        }
    }

    fn due(&self) -> Option<Instant> {
        let look = (!self.lines.tell_files()).then(|| self.looked + LOOK);
        let written = self.written.front().map(|(due, ..)| *due);
        [self.watch.due().filter(|_| self.ending.is_none()), look, written, self.ending].into_iter().flatten().min()
    }

    fn tick(&mut self) {
        if self.ending.is_some_and(|ending| ending <= Instant::now()) {
            self.end(End::Now);
        }
        while self.written.front().is_some_and(|(due, ..)| *due <= Instant::now())
            && let Some((_, path, place)) = self.written.pop_front()
        {
            self.try_land(&path, place);
        }
        if !self.lines.tell_files() && !self.fatal && self.looked.elapsed() >= LOOK {
            self.look();
        }
        if self.ending.is_none()
            && let Some(why) = self.watch.over(Instant::now())
        {
            self.why = Some(why);
            self.end(End::Now);
        }
    }

    fn ended(&mut self) {
        self.set_free();
    }
}
