//! What all calls of one run share: the plan, the journal, the programs, what stood before, and who else is there.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use truepath_core::adapter::Adapter;
use truepath_core::frames::Frames;
use truepath_core::picture::Oddity;
use truepath_core::plan::{Call, Plan};
use truepath_core::run::event::Event;
use truepath_core::run::fingerprint::Fingerprint;
use truepath_core::run::history::{Depth, past};
use truepath_core::verify::{State, Verdict};

use super::feed::Feed;
use crate::Project;
use crate::failure::{Failure, Trouble};
use crate::landing::stage::Folders;
use crate::landing::{Fate, Landing, Moves, Watcher, land, looked_at};
use crate::process::Programs;
use crate::record::lines::LogRules;
use crate::share::Claims;
use crate::state::journal::{self, Journal};

/// A file that is waited for: series and frame.
pub type OwedFile = (usize, i64);

/// A disk without room.
#[derive(Clone, Debug)]
pub struct Full {
    /// The folder that is written to, or the nearest one above that is there.
    pub folder: PathBuf,
    /// Which disk it lies on.
    pub disk: u64,
    /// Bytes that a file of the call takes.
    pub wanted: u64,
    /// What is wrong, in words.
    pub words: String,
}

/// What all calls of a run share.
pub struct Context<'c> {
    pub project: Project<'c>,
    pub journal: &'c Journal,
    pub programs: &'c dyn Programs,
    pub moves: &'c dyn Moves,
    pub claims: Option<&'c Claims>,
    /// What stood before, by series.
    pub before: &'c [Verdict],
    /// What is to be rendered, by series.
    pub need: &'c [Frames],
    pub events: Feed,
    pub stages: Folders,
    pub lines: Mutex<HashMap<String, Arc<LogRules>>>,
    pub interrupts: AtomicUsize,
    /// Whether the run cannot go on.
    pub stopped: AtomicBool,
    /// Problems that renderers reported, by job.
    pub problems: Mutex<BTreeMap<String, u64>>,
    /// What the movies are made of that are being made, by output.
    pub films: Mutex<HashMap<usize, Fingerprint>>,
    /// Bytes of the last file that landed, by output.
    pub sizes: Mutex<HashMap<usize, u64>>,
    /// What is odd about files that have landed.
    pub odd: Mutex<Watcher>,
    /// Disks on which nothing freed up.
    pub full_disks: Mutex<Vec<Full>>,
    /// Disks on which somebody waits for room now.
    pub awaited_disks: Mutex<Vec<Full>>,
}

impl<'c> Context<'c> {
    pub fn plan(&self) -> &'c Plan {
        self.project.command_lines.plan
    }

    /// Renderers of a job reported so many problems more.
    pub fn count_problems(&self, job: usize, more: u64) {
        if more > 0 {
            let mut problems = self.problems.lock().unwrap_or_else(PoisonError::into_inner);
            *problems.entry(self.plan().jobs[job].name.clone()).or_default() += more;
        }
    }

    /// Problems that renderers reported, by job.
    pub fn problems(&self) -> BTreeMap<String, u64> {
        std::mem::take(&mut self.problems.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// The adapter of a call.
    pub fn adapter(&self, call: &Call) -> Option<&'c Adapter> {
        self.project.command_lines.adapter_of(call)
    }

    /// What the lines of a renderer's log mean; read once.
    pub fn lines(&self, adapter: &Adapter) -> Arc<LogRules> {
        let mut known = self.lines.lock().unwrap_or_else(PoisonError::into_inner);
        known.entry(adapter.name.clone()).or_insert_with(|| Arc::new(LogRules::of(&adapter.log))).clone()
    }

    /// Every file that a call owes: series and frame.
    pub fn awaited(&self, call: &Call) -> BTreeSet<OwedFile> {
        let needed = |series: &usize| self.need[*series].intersect(&call.frames);
        let of = |series: &usize| needed(series).iter().map(|frame| (*series, frame)).collect::<Vec<_>>();
        call.series.iter().flat_map(of).collect()
    }

    /// The files of some that other members landed since this one joined.
    pub fn landed_meanwhile(
        &self,
        claims: &Claims,
        places: &BTreeSet<OwedFile>,
    ) -> Result<BTreeSet<OwedFile>, Failure> {
        let names = claims.journals();
        let history = journal::read_some(self.project.state, Depth::Landings, |name| names.contains(name))?;
        let has_landed = |(series, frame): &&OwedFile| {
            let series = self.plan().output(*series);
            let about = std::fs::metadata(series.name(*frame)).ok();
            let landed = about.and_then(|about| past(history.of(series), series.number(*frame), about.len()));
            landed.is_some_and(|(_, same)| same)
        };
        Ok(places.iter().filter(has_landed).copied().collect())
    }

    /// Whether nothing stood at a file's name before.
    pub fn is_missing(&self, (series, frame): OwedFile) -> bool {
        self.before[series].in_state(State::Missing).contains(frame)
    }

    /// Whether a call is ours still.
    pub fn is_mine(&self, call: &Call) -> bool {
        self.claims.is_none_or(|claims| claims.is_mine(call.unit()))
    }

    /// Whether no further call is to be made.
    pub fn is_stopping(&self) -> bool {
        self.stopped.load(Ordering::SeqCst) || self.is_interrupted()
    }

    /// Whether somebody has asked the run to end.
    pub fn is_interrupted(&self) -> bool {
        self.interrupts.load(Ordering::SeqCst) > 0
    }

    /// Says of what the frames of some series are made.
    pub fn announce(&self, series: &[usize]) -> Result<(), Failure> {
        for at in series {
            let said = self.journal.announce(self.plan().output(*at), self.made(*at)?.as_deref())?;
            said.iter().for_each(|event| self.tell(event));
        }
        Ok(())
    }

    /// Into the journal, then to the display.
    pub fn record(&self, event: &Event) -> Result<(), Failure> {
        self.journal.write(event)?;
        self.tell(event);
        Ok(())
    }

    /// To the display only.
    pub fn tell(&self, event: &Event) {
        self.events.send(event.clone());
    }

    /// Something odd about a file that has landed goes into the journal.
    fn record_odd(&self, (series, frame): OwedFile, odd: Oddity) -> Result<(), Failure> {
        let series = self.plan().output(series).id.clone();
        self.record(&Event::Odd { series, frame, check: odd.kind.check().to_owned(), why: odd.why })
    }

    /// Nothing more will land: what is odd about the last files.
    pub fn record_last_oddities(&self) -> Result<(), Failure> {
        let found = self.odd.lock().unwrap_or_else(PoisonError::into_inner).rest(self.plan());
        found.into_iter().try_for_each(|(series, frame, odd)| self.record_odd((series, frame), odd))
    }

    /// Whether a staged file looks like the one that is planned, from its first byte to its last.
    pub fn looks_whole(&self, staged: &Path, place: OwedFile) -> bool {
        let series = self.plan().output(place.0);
        let labels = self.plan().labels(series);
        matches!(looked_at(staged, series, &labels), Ok((_, (State::Good | State::Unproven, _))))
    }

    /// Lands one staged file of a call under its final name.
    pub fn land(&self, call: &str, staged: &Path, place: OwedFile, over: bool) -> Result<Fate, Trouble> {
        let (series, frame) = (self.plan().output(place.0), place.1);
        let target = PathBuf::from(series.name(frame));
        let labels = self.plan().labels(series);
        let made = self.made(place.0).map_err(Trouble::Run)?;
        let made = made.as_deref();
        let (asked, policy) = (self.plan().asked(series), &self.plan().policy);
        let landing =
            Landing { staged, target: &target, call, series, labels: &labels, frame, made, over, asked, policy };
        let fate = land(&landing, self.journal, self.moves);
        if let Ok(Fate::Landed(down)) = &fate {
            self.sizes.lock().unwrap_or_else(PoisonError::into_inner).insert(place.0, down.bytes);
            let found = self.odd.lock().unwrap_or_else(PoisonError::into_inner).landed(self.plan(), place, down);
            for (frame, odd) in found {
                self.record_odd((place.0, frame), odd).map_err(Trouble::Run)?;
            }
        }
        tracing::debug!(staged = %staged.display(), target = %target.display(), landed = matches!(fate, Ok(Fate::Landed(..))), "landing");
        fate
    }
}
