//! A plan, and programs that are none, for tests of the scheduler, of landing and of sharing.
#![cfg_attr(not(unix), allow(dead_code))]

use std::collections::BTreeMap;
use std::io::{Error, ErrorKind, Result};
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

use truepath_core::adapter;
use truepath_core::adapter::exit::Ending;
use truepath_core::diagnostic::Findings;
use truepath_core::frames::{FrameExpr, Frames};
use truepath_core::invoke::command_line::CommandLines;
use truepath_core::invoke::export::Exports;
use truepath_core::pins::Pins;
use truepath_core::plan::{Adapters, Plan, PlanInput, Selection, calls_of, plan};
use truepath_core::resolve::{Home, resolve, roots, stack};
use truepath_core::run::event::{self, Event};
use truepath_core::sheet::{Settings, System as Os, parse};
use truepath_core::source::FileId;
use truepath_core::verify::{Provenance, Seen, Verdict};
use truepath_exec::Project;
use truepath_exec::failure::Failure;
use truepath_exec::landing::{Disk, Moves};
use truepath_exec::process::{Alive, End, Prepared, ProcessListener, Programs, Start};
use truepath_exec::scheduler::{Orders, RunOutcome, run};
use truepath_exec::share::Claims;
use truepath_exec::state::StateFolder;
use truepath_exec::state::journal::{Journal, Opening};

/// What a program does when it is given some frames of a job, for the nth time.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Act {
    /// It writes all frames but these first ones that fail, and stops there.
    WritesUntil(i64),
    /// It writes all, or nothing.
    Writes,
    WritesNothing,
    /// It cannot be started.
    NoStart,
    /// It cannot be prepared.
    NoLog,
    /// It panics where it is started, or where it is heard.
    PanicsAtStart,
    PanicsUnderWay,
    /// It goes on until it is ended.
    Hangs,
}

pub type Behaviour = Box<dyn Fn(&str, &Frames) -> Act + Sync + Send>;

/// Programs that are none.
#[derive(Clone)]
pub struct Fakes(pub Arc<Shared>);

pub struct Shared {
    behaviour: Behaviour,
    /// A picture as it is planned.
    pub picture: Vec<u8>,
    ended: Mutex<bool>,
    bell: Condvar,
    running: AtomicUsize,
    pub most: AtomicUsize,
    /// Job and frames of every start, in their order.
    starts: Mutex<Vec<(String, Frames)>>,
    /// How much work it is until something is ready, by turns.
    slow: Vec<u64>,
    turns: AtomicUsize,
}

pub struct Fake {
    of: Arc<Shared>,
    act: Act,
    job: String,
    frames: Frames,
    out: String,
}

impl Fakes {
    pub fn new(slow: &[u64], behaviour: impl Fn(&str, &Frames) -> Act + Sync + Send + 'static) -> Fakes {
        let mut picture = Vec::new();
        let mut encoder = png::Encoder::new(&mut picture, 16, 9);
        encoder.set_color(png::ColorType::Rgb);
        encoder.write_header().unwrap().write_image_data(&[7; 16 * 9 * 3]).unwrap();
        Fakes(Arc::new(Shared {
            behaviour: Box::new(behaviour),
            picture,
            ended: Mutex::default(),
            bell: Condvar::new(),
            running: AtomicUsize::new(0),
            most: AtomicUsize::new(0),
            starts: Mutex::default(),
            slow: slow.to_vec(),
            turns: AtomicUsize::new(0),
        }))
    }

    pub fn started(&self, job: &str) -> Vec<Frames> {
        let starts = self.0.starts.lock().unwrap();
        starts.iter().filter(|(own, _)| own == job).map(|(_, frames)| frames.clone()).collect()
    }
}

/// Waits until something holds; what never does ends the test.
#[track_caller]
pub fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let since = Instant::now();
    while !holds() {
        assert!(since.elapsed() < Duration::from_secs(300), "{what} never came");
        std::thread::sleep(Duration::from_millis(2));
    }
}

impl Programs for Fakes {
    fn prepare(&self, start: &Start<'_>) -> Result<Box<dyn Prepared + '_>> {
        let [job, frames, out] = start.arguments else { panic!("{:?}", start.arguments) };
        let frames = FrameExpr::parse(frames).unwrap().frames(None, None).unwrap();
        let act = (self.0.behaviour)(job, &frames);
        let turn = self.0.turns.fetch_add(1, Ordering::SeqCst);
        // Getting ready takes some work, and some more than others.
        let work =
            (0..self.0.slow[turn % self.0.slow.len()] * 20_000).fold(turn as u64, |sum, at| sum.rotate_left(5) ^ at);
        std::hint::black_box(work);
        if act == Act::NoLog {
            return Err(Error::from(ErrorKind::PermissionDenied));
        }
        Ok(Box::new(Fake { of: self.0.clone(), act, job: job.clone(), frames, out: out.clone() }))
    }

    fn end(&self, _: u32, _: End) {}

    fn end_all(&self) {
        *self.0.ended.lock().unwrap_or_else(PoisonError::into_inner) = true;
        self.0.bell.notify_all();
    }
}

impl Prepared for Fake {
    fn go(self: Box<Self>) -> Result<Box<dyn Alive>> {
        self.of.starts.lock().unwrap().push((self.job.clone(), self.frames.clone()));
        match self.act {
            Act::NoStart => return Err(Error::from(ErrorKind::PermissionDenied)),
            Act::PanicsAtStart => panic!("a fault on purpose"),
            _ => {}
        }
        let running = self.of.running.fetch_add(1, Ordering::SeqCst) + 1;
        self.of.most.fetch_max(running, Ordering::SeqCst);
        Ok(self)
    }
}

impl Alive for Fake {
    fn hear(self: Box<Self>, listener: &mut dyn ProcessListener) -> Result<Ending> {
        listener.began(4_000_000);
        let write = |frame: i64| {
            let path = self.out.replace("####", &format!("{frame:04}"));
            std::fs::write(&path, &self.of.picture).unwrap();
        };
        match self.act {
            Act::WritesUntil(stop) => self.frames.iter().take_while(|frame| *frame != stop).for_each(write),
            Act::Writes => self.frames.iter().for_each(write),
            Act::PanicsUnderWay => panic!("a fault on purpose"),
            Act::Hangs => {
                let ended = self.of.ended.lock().unwrap();
                drop(self.of.bell.wait_while(ended, |ended| !*ended).unwrap());
            }
            _ => {}
        }
        self.of.running.fetch_sub(1, Ordering::SeqCst);
        listener.ended();
        Ok(Ending::Code(0))
    }
}

/// A file system that refuses what is moved to a name with a word in it.
pub struct Refuses(pub &'static str);

impl Moves for Refuses {
    fn rename(&self, from: &Path, to: &Path, over: bool) -> Result<()> {
        if to.to_string_lossy().contains(self.0) {
            return Err(Error::from(ErrorKind::ReadOnlyFilesystem));
        }
        Disk.rename(from, to, over)
    }

    fn copy(&self, from: &Path, to: &Path) -> Result<()> {
        Disk.copy(from, to)
    }

    fn sync(&self, file: &std::fs::File) -> Result<()> {
        Disk.sync(file)
    }
}

/// A sheet in a folder of its own, planned.
pub struct Night {
    pub folder: tempfile::TempDir,
    pub plan: Plan,
    pub adapters: Adapters,
}

/// What came of a run.
pub struct Morning {
    pub ended: std::result::Result<RunOutcome, Failure>,
    pub events: Vec<Event>,
    /// Frames that are there, by job.
    pub there: BTreeMap<String, Frames>,
}

impl Night {
    /// Jobs with so many frames each, and the licence that each needs.
    pub fn new(jobs: &[(&str, i64, Option<&str>)], run: &str) -> Night {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path().to_str().unwrap().to_owned();
        let mut text = format!(
            "sheet = 1\n[roots]\nout = \"out\"\n[formats.f]\ntype = \"png\"\nbits = 8\nchannels = \"rgb\"\n\
             [defaults]\nformat = \"f\"\nsize = \"16x9\"\npath = \"{{out}}/{{job}}.{{frame:4}}.png\"\n[run]\n{run}\n"
        );
        let mut adapters = Adapters::new();
        for (name, frames, licence) in jobs {
            text += &format!(
                "[[job]]\nname = \"{name}\"\nscene = \"x.gltf\"\nframes = \"1-{frames}\"\nadapter = \"{name}\"\n"
            );
            let needs = licence.map_or(String::new(), |licence| format!("[needs]\nlicences = [\"{licence}\"]\n"));
            let body = format!(
                "adapter = 1\nname = \"{name}\"\nprogram = \"p\"\narguments = [\"{{job}}\", \"{{frames}}\", \"{{out}}\"]\n\
                 [out]\nnumber = \"#\"\n{needs}"
            );
            adapters.insert((*name).to_owned(), adapter::adapter(FileId(0), &body, &mut Findings::default()));
        }
        let home = Home {
            folder: root.clone(),
            sheet: "s".into(),
            user: None,
            system: Os::Linux,
            folders: vec![root],
            mark: String::new(),
        };
        let mut findings = Findings::default();
        let sheet = parse::sheet(FileId(0), &text, &mut findings);
        let stacked = stack(&sheet, &[], &Settings::default(), &mut findings);
        let jobs = resolve(&sheet, &stacked, &|_| None, &home, &mut findings);
        assert!(findings.iter().next().is_none(), "{findings:?}\n{text}");
        let roots = roots(&sheet, &home, &Default::default(), true);
        let pins = Pins::default();
        let ground = PlanInput { sheet: &sheet, roots: &roots, home: &home, modes: &[], pins: &pins, looking: false };
        let plan = plan(ground, &jobs, &Selection::default());
        Night { folder, plan, adapters }
    }

    /// Where its state is.
    pub fn state(&self) -> StateFolder {
        StateFolder::of(&self.folder.path().join("s.toml")).unwrap()
    }

    /// A journal of this machine.
    pub fn open_journal(&self, share: bool) -> Journal {
        Journal::new(&self.state(), &Opening { host: "here", at: String::new(), second: 0, share, task: None }, 1)
    }

    pub fn run(&self, programs: &Fakes, moves: &dyn Moves, show: impl FnMut(&[Event])) -> Morning {
        self.run_sharing(programs, moves, (&self.open_journal(false), None), show)
    }

    /// Does something with the plan and all that running it needs to know.
    pub fn with<T>(&self, program: Option<&Path>, work: impl FnOnce(Project<'_>) -> T) -> T {
        let state = self.state();
        let (exports, paths) = (Exports::default(), BTreeMap::new());
        let logs = state.logs();
        let command_lines = CommandLines {
            plan: &self.plan,
            adapters: &self.adapters,
            exports: &exports,
            programs: &paths,
            logs: logs.to_str().unwrap(),
            products: &[],
        };
        let made = vec![None; self.plan.series.len()];
        work(Project { command_lines, state: &state, made: &made, program })
    }

    /// A run of one member.
    pub fn run_sharing(
        &self,
        programs: &Fakes,
        moves: &dyn Moves,
        (journal, claims): (&Journal, Option<&Claims>),
        show: impl FnMut(&[Event]),
    ) -> Morning {
        self.with(None, |project| self.follow(project, (programs, moves), (journal, claims), show))
    }

    fn follow(
        &self,
        project: Project<'_>,
        (programs, moves): (&Fakes, &dyn Moves),
        (journal, claims): (&Journal, Option<&Claims>),
        mut show: impl FnMut(&[Event]),
    ) -> Morning {
        let calls = calls_of(&self.plan, &|job| project.command_lines.adapter(job)).collect();
        let need: Vec<Frames> = self.plan.series.iter().map(|series| series.frames.clone().unwrap()).collect();
        let before: Vec<Verdict> = self
            .plan
            .series
            .iter()
            .enumerate()
            .map(|(at, series)| {
                let missing = |frame| (frame, Seen::Missing, Provenance::Fresh);
                Verdict::gather(
                    (at, series),
                    (&[], &truepath_core::picture::OddPolicy::default()),
                    series.frames.as_ref().unwrap().iter().map(missing),
                )
            })
            .collect();
        let mut orders = Orders::new(project, journal, programs, calls);
        (orders.before, orders.need, orders.moves, orders.claims) = (&before, &need, moves, claims);
        let mut events = Vec::new();
        let ended = run(orders, |told| {
            events.extend_from_slice(told);
            show(told);
        });
        let there = self.plan.series.iter().map(|series| {
            let frames = series.files().filter(|(_, path)| Path::new(path).is_file()).map(|(frame, _)| frame);
            (self.plan.jobs[series.job].name.clone(), Frames::from_ascending(frames))
        });
        Morning { ended, events, there: there.collect() }
    }

    /// What the journal says.
    pub fn journal(&self) -> Vec<Event> {
        let files = std::fs::read_dir(self.folder.path().join(".truepath/s/journal")).unwrap();
        let text = |entry: Result<std::fs::DirEntry>| std::fs::read_to_string(entry.unwrap().path()).unwrap();
        files.flat_map(|entry| event::read(&text(entry)).collect::<Vec<_>>()).collect()
    }
}
