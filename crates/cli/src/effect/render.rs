//! A crew of workers that takes calls from a list until none is left: stage, spawn, land, tell.

use std::collections::{BTreeSet, HashMap, HashSet, VecDeque};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc::Sender;
use std::sync::{Mutex, PoisonError};
use std::time::Instant;

use regex_lite::Regex;
use rustix::process::{Pid, Signal};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use truepath_core::frames::{FrameExpr, Frames};
use truepath_core::invoke::target::{Step, stage_base};
use truepath_core::plan::{Invocation, Plan, Series, invocations};
use truepath_core::run::event::Event;
use truepath_core::verify::Verdict;

use super::journal::Journal;
use super::spawn::{self, Running, Start};
use super::stage::{self, Landed, Landing};
use super::watch::{Limits, Watch};
use crate::exit_code::Failure;
use crate::lower::Surroundings;
use crate::pipeline::Loaded;

/// All that the workers share.
pub struct Crew<'c> {
    /// The sheet and its plan.
    pub loaded: &'c Loaded,
    /// The machine.
    pub around: &'c Surroundings,
    /// Where events are written down first.
    pub journal: &'c Journal,
    /// What stood before, by series.
    pub before: &'c [Verdict],
    /// What is to be rendered, by series.
    pub need: &'c [Frames],
    /// What the frames of each series are made of, by series.
    pub of: &'c [Option<String>],
    /// Where events go to be shown.
    pub events: Sender<Event>,
}

/// How a crew ended.
#[derive(Debug, Default)]
pub struct Outcome {
    /// Files that landed.
    pub landed: i64,
    /// Whether someone ended it.
    pub interrupted: bool,
}

/// Files that are waited for: series and frame.
type Awaited = BTreeSet<(usize, i64)>;

/// What workers tell each other.
#[derive(Default)]
struct Shared {
    running: Running,
    interrupts: AtomicUsize,
    failed: AtomicBool,
}

impl Shared {
    fn stopping(&self) -> bool {
        self.failed.load(Ordering::SeqCst) || self.interrupts.load(Ordering::SeqCst) > 0
    }
}

impl Crew<'_> {
    /// Renders what is needed of `calls`. `show` drains the events meanwhile and ends when the workers are done.
    pub fn render(self, calls: Vec<Invocation>, show: impl FnOnce()) -> Result<Outcome, Failure> {
        let shared = Shared::default();
        let queue: Mutex<VecDeque<Invocation>> = Mutex::new(
            calls.into_iter().flat_map(|call| self.loaded.shop(self.around).narrowed(&call, self.need)).collect(),
        );
        let landed = Mutex::new(Ok(0i64));
        let mut signals = Signals::new([SIGINT, SIGTERM, SIGHUP])
            .map_err(|error| Failure::machine("listen for", "signals", &error))?;
        let handle = signals.handle();
        let plan = &self.loaded.plan;
        let workers = plan.run.workers;
        std::thread::scope(|scope| {
            let (shared, queue, landed) = (&shared, &queue, &landed);
            scope.spawn(move || {
                for _ in signals.forever() {
                    // The first one lets each renderer finish its frame; the second ends them.
                    if shared.interrupts.fetch_add(1, Ordering::SeqCst) > 0 {
                        shared.running.signal(Signal::KILL);
                    }
                }
            });
            let crew = std::sync::Arc::new(self);
            let hands: Vec<_> = (0..workers)
                .map(|_| {
                    let crew = crew.clone();
                    scope.spawn(move || {
                        while let Some(call) = next(queue).filter(|_| !shared.stopping()) {
                            let done = crew.persist(&call, shared);
                            let mut sum = landed.lock().unwrap_or_else(PoisonError::into_inner);
                            match (done, &mut *sum) {
                                (Ok(files), Ok(sum)) => *sum += files,
                                (Err(failure), sum) => {
                                    shared.failed.store(true, Ordering::SeqCst);
                                    shared.running.signal(Signal::TERM);
                                    *sum = Err(failure);
                                }
                                (Ok(_), Err(_)) => {}
                            }
                        }
                    })
                })
                .collect();
            // The last sender goes with the last worker, and with it the loop that shows.
            drop(crew);
            show();
            hands.into_iter().for_each(|hand| {
                let _ = hand.join();
            });
            handle.close();
        });
        remove_empty_bases(plan);
        let landed = landed.into_inner().unwrap_or_else(PoisonError::into_inner)?;
        Ok(Outcome { landed, interrupted: shared.interrupts.load(Ordering::SeqCst) > 0 })
    }

    /// One call, tried again for what it lacks as often as the sheet allows. Returns how many files landed.
    fn persist(&self, call: &Invocation, shared: &Shared) -> Result<i64, Failure> {
        let Some(adapter) = self.loaded.adapter(&self.loaded.plan.jobs[call.job]) else { return Ok(0) };
        let mut landed = 0;
        let mut rest = vec![call.clone()];
        let mut done = HashSet::new();
        for _ in 0..=self.loaded.plan.run.retries {
            let mut lacking = Frames::none();
            for part in &rest {
                let (count, without) = self.once(part, shared, &mut done)?;
                landed += count;
                lacking = lacking.union(&without);
                if shared.stopping() {
                    return Ok(landed);
                }
            }
            rest = call.for_frames(adapter, &lacking);
            if lacking.is_empty() {
                break;
            }
        }
        Ok(landed)
    }

    /// One call of the renderer: how many files landed, and the frames of which some did not. What is in `done` landed
    /// in an earlier try and is left alone.
    fn once(
        &self,
        call: &Invocation,
        shared: &Shared,
        done: &mut HashSet<(usize, i64)>,
    ) -> Result<(i64, Frames), Failure> {
        let plan = &self.loaded.plan;
        let Some(step) = self.loaded.shop(self.around).step(call) else { return Ok((0, call.frames.clone())) };
        for write in &step.writes {
            stage::prepare(Path::new(&write.stage))?;
        }
        let mut awaited = awaited(call);
        awaited.retain(|place| self.need[place.0].contains(place.1) && !done.contains(place));
        let wrote = self
            .loaded
            .adapter(&plan.jobs[call.job])
            .and_then(|adapter| adapter.log.wrote.as_deref())
            .and_then(|regex| Regex::new(regex).ok());
        let began = Instant::now();
        let start = Start {
            program: &step.program,
            arguments: &step.arguments,
            env: &step.env,
            folder: &plan.home.folder,
            log: Path::new(&step.log),
        };
        let process = std::cell::Cell::new(0);
        let (mut landed, mut trouble) = (0, None);
        let run = &plan.run;
        let watch = Watch::new(Limits { frame: run.frame_timeout, silence: run.silence });
        let watched = run.frame_timeout.is_some() || run.silence.is_some();
        let (ended, why) = std::thread::scope(|scope| {
            let ended = spawn::run(
                &start,
                &shared.running,
                |id| {
                    process.set(id);
                    self.tell(&Event::Started {
                        invocation: call.id.clone(),
                        frames: call.frames.to_string(),
                        process: id,
                    });
                    if watched {
                        let watch = &watch;
                        scope.spawn(move || watch.guard(move || end_group(id, Signal::KILL)));
                    }
                },
                |line| {
                    watch.line();
                    let found = wrote.as_ref().and_then(|regex| regex.captures(line));
                    let path = found.and_then(|found| Some(found.name("path")?.as_str()));
                    // A relative path starts where the program was started.
                    let path = path.map(|path| Path::new(&plan.home.folder).join(path));
                    let place = path.as_ref().and_then(|path| step.place(&path.to_string_lossy()));
                    let (Some(path), Some(place)) = (path, place.filter(|place| awaited.contains(place))) else {
                        return;
                    };
                    match self.land(call, &path, place, false) {
                        Ok(true) => {
                            landed += 1;
                            done.insert(place);
                            awaited.remove(&place);
                            watch.frame();
                        }
                        Ok(false) => {}
                        Err(failure) => trouble = Some(failure),
                    }
                    let frame_done = !awaited.iter().any(|(_, frame)| *frame == place.1);
                    if trouble.is_some() || (frame_done && shared.stopping()) {
                        end_group(process.get(), Signal::TERM);
                    }
                },
            );
            (ended, watch.over())
        });
        let code = ended.map_err(|error| {
            Failure::machine("start", &step.program, &error).help("is the program there, and may it be run?")
        })?;
        if let Some(failure) = trouble {
            return Err(failure);
        }
        for path in staged(&step) {
            let place = step.place(&path.to_string_lossy()).filter(|place| awaited.contains(place));
            if let Some(place) = place
                && self.land(call, &path, place, true)?
            {
                landed += 1;
                done.insert(place);
                awaited.remove(&place);
            }
        }
        let lacking = Frames::from_any(awaited.iter().map(|(_, frame)| *frame).collect());
        self.sweep(call, &step)?;
        let seconds = (began.elapsed().as_secs_f64() * 1000.0).round() / 1000.0;
        self.record(&Event::Ended {
            invocation: call.id.clone(),
            code,
            lacking: lacking.to_string(),
            seconds,
            log: step.log,
            why,
        })?;
        Ok((landed, lacking))
    }

    /// Lands one staged file. Its absence and its flaws are told only once the renderer has ended.
    fn land(
        &self,
        call: &Invocation,
        staged: &Path,
        (series, frame): (usize, i64),
        ended: bool,
    ) -> Result<bool, Failure> {
        let plan = &self.loaded.plan;
        let target = PathBuf::from(plan.series[series].name(frame));
        let over = !self.before[series].missing.contains(frame);
        let labels = labels(plan, &plan.series[series]);
        let landing = Landing {
            staged,
            target: &target,
            invocation: &call.id,
            series: &plan.series[series],
            labels: &labels,
            frame,
            of: self.of[series].as_deref(),
            over,
        };
        match stage::land(&landing, self.journal)? {
            Landed::Yes(event) => {
                self.tell(&event);
                Ok(true)
            }
            Landed::Late => Ok(true),
            Landed::NotThere => Ok(false),
            Landed::Refused(why) => {
                if ended {
                    self.record(&Event::Refused { series: plan.series[series].id.clone(), frame, why })?;
                }
                Ok(false)
            }
        }
    }

    /// Tells what was left in the stage folders and nobody planned; takes the folders away when they are empty.
    fn sweep(&self, call: &Invocation, step: &Step) -> Result<(), Failure> {
        let left = staged(step);
        let stray: Vec<&PathBuf> = left.iter().filter(|path| step.place(&path.to_string_lossy()).is_none()).collect();
        for path in &stray {
            self.record(&Event::Stray { invocation: call.id.clone(), path: path.display().to_string() })?;
        }
        for write in step.writes.iter().filter(|_| stray.is_empty()) {
            stage::clear(Path::new(&write.stage))?;
        }
        Ok(())
    }

    /// Into the journal, then to the display.
    fn record(&self, event: &Event) -> Result<(), Failure> {
        self.journal.write(event)?;
        self.tell(event);
        Ok(())
    }

    fn tell(&self, event: &Event) {
        // The display may have ended; the journal is the record.
        let _ = self.events.send(event.clone());
    }
}

fn next(queue: &Mutex<VecDeque<Invocation>>) -> Option<Invocation> {
    queue.lock().unwrap_or_else(PoisonError::into_inner).pop_front()
}

fn end_group(process: u32, signal: Signal) {
    if let Some(group) = i32::try_from(process).ok().and_then(Pid::from_raw) {
        // A group that has just ended needs no signal.
        let _ = rustix::process::kill_process_group(group, signal);
    }
}

fn labels<'p>(plan: &'p Plan, series: &Series) -> Vec<&'p str> {
    series.passes.iter().map(|pass| plan.jobs[series.job].passes[*pass].label.as_str()).collect()
}

/// Every file that a call owes: series and frame.
fn awaited(call: &Invocation) -> Awaited {
    call.series.iter().flat_map(|series| call.frames.iter().map(|frame| (*series, frame))).collect()
}

/// Everything that lies in the stage folders of a step, each file once.
fn staged(step: &Step) -> BTreeSet<PathBuf> {
    step.writes.iter().flat_map(|write| stage::files(Path::new(&write.stage))).collect()
}

/// Takes away stage folders that are empty, up to the root's own `.truepath`.
fn remove_empty_bases(plan: &Plan) {
    for root in plan.roots.iter().filter_map(|root| root.path.as_deref()) {
        let base = PathBuf::from(stage_base(plan, root));
        for folder in base.ancestors().take(3) {
            // A folder that is not empty stays.
            let _ = std::fs::remove_dir(folder);
        }
    }
}

/// Lands whole frames that an interrupted run has left in stage, and removes the rest. Returns how many landed.
pub fn salvage(loaded: &Loaded, around: &Surroundings, journal: &Journal) -> Result<i64, Failure> {
    let plan = &loaded.plan;
    let bases: Vec<PathBuf> = plan
        .roots
        .iter()
        .filter_map(|root| root.path.as_deref())
        .map(|root| PathBuf::from(stage_base(plan, root)))
        .collect();
    if !bases.iter().any(|base| base.exists()) {
        return Ok(0);
    }
    let calls: HashMap<String, Invocation> =
        invocations(plan, &|job| loaded.adapter(job)).map(|call| (call.id.clone(), call)).collect();
    let mut landed = 0;
    for folder in bases.iter().flat_map(|base| std::fs::read_dir(base).into_iter().flatten().filter_map(Result::ok)) {
        let name = folder.file_name().to_string_lossy().into_owned();
        let Some(step) = part_of(&calls, &name).and_then(|call| loaded.shop(around).step(&call)) else { continue };
        for path in staged(&step) {
            let Some((at, frame)) = step.place(&path.to_string_lossy()) else { continue };
            let series = &plan.series[at];
            let (target, labels) = (PathBuf::from(series.name(frame)), labels(plan, series));
            let landing = Landing {
                staged: &path,
                target: &target,
                invocation: &name,
                series,
                labels: &labels,
                frame,
                of: None,
                over: false,
            };
            landed += i64::from(matches!(stage::land(&landing, journal)?, Landed::Yes(_)));
        }
    }
    for base in bases {
        stage::clear(&base)?;
    }
    remove_empty_bases(plan);
    Ok(landed)
}

/// The call whose stage folder has a name: a planned one, or a part of one for some of its frames.
fn part_of(calls: &HashMap<String, Invocation>, name: &str) -> Option<Invocation> {
    let (id, span) = name.split_once('.').map_or((name, None), |(id, span)| (id, Some(span)));
    let call = calls.get(id)?;
    let Some(span) = span else { return Some(call.clone()) };
    let part = FrameExpr::parse(span).ok()?.frames(None, None)?.intersect(&call.frames);
    Some(Invocation { id: name.to_owned(), frames: part, ..call.clone() })
}
