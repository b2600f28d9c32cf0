//! The calls of one sheet as `build` wants them, made as they are asked for: there may be millions.

use std::collections::BTreeMap;
use std::io;
use std::ops::Range;

use rayon::iter::{IntoParallelRefIterator, ParallelIterator};
use truepath_core::frames::Frames;
use truepath_core::invoke::command_line::{CallKind, CommandLine, CommandLines};
use truepath_core::plan::{Call, calls_of, movie_calls};
use truepath_core::resolve::{Job, paths};
use truepath_core::run::outstanding::{outstanding, with_movies};
use truepath_core::sheet::Existing;
use truepath_core::verify::State;
use truepath_exec::failure::Failure;
use truepath_exec::looking::Looking;
use truepath_exec::observe::Look;

use super::{BuildRequest, CallForm};
use crate::open::Loaded;
use crate::surroundings::Surroundings;

/// Calls that are made at a time.
const BLOCK: usize = 4096;

/// Files that are there and have to be made again, by series and frame: their bytes.
pub type Broken = BTreeMap<(usize, i64), u64>;

/// The calls of one sheet.
pub struct WantedCalls<'w> {
    request: &'w BuildRequest<'w>,
    around: &'w Surroundings,
    /// The sheet.
    pub loaded: &'w Loaded,
    /// What is left of each series, where only that is wanted.
    lost: Option<Vec<Frames>>,
    /// Files that have to be made again.
    pub broken: Broken,
}

/// Steps on their way to whoever writes them.
pub enum StepPiece<'p> {
    /// Neighbours.
    Steps(Vec<CommandLine>),
    /// A step that needs many others.
    Last(Box<CommandLine>, NeededNames<'p>),
}

/// The steps that one of them needs.
#[derive(Clone, Copy)]
pub struct NeededNames<'n> {
    names: &'n Names,
    /// Those that write any of these series; without any, all.
    series: Option<&'n [usize]>,
}

impl<'n> NeededNames<'n> {
    /// Their names.
    pub fn iter(self) -> impl Iterator<Item = &'n str> {
        let is_needed =
            move |own: &[usize]| self.series.is_none_or(|all| own.iter().any(|series| all.contains(series)));
        let runs = self.names.runs.iter().filter(move |(series, _)| is_needed(series));
        runs.flat_map(move |(_, range)| self.names.text[range.clone()].lines())
    }
}

/// The names of the steps so far, and which series they write. In one text, since there may be millions.
#[derive(Default)]
pub struct Names {
    text: String,
    /// The series of neighbours, and where their names stand.
    runs: Vec<(Vec<usize>, Range<usize>)>,
}

impl Names {
    fn add(&mut self, series: &[usize], id: &str) {
        let from = self.text.len();
        self.text.push_str(id);
        self.text.push('\n');
        match self.runs.last_mut() {
            Some((own, range)) if own == series => range.end = self.text.len(),
            _ => self.runs.push((series.to_vec(), from..self.text.len())),
        }
    }
}

impl<'w> WantedCalls<'w> {
    /// Looks at the disk where only what is missing is wanted.
    ///
    /// # Errors
    /// When the disk cannot be looked at.
    pub fn of(
        request: &'w BuildRequest<'w>,
        loaded: &'w Loaded,
        around: &'w Surroundings,
    ) -> Result<WantedCalls<'w>, Failure> {
        let (plan, mut broken) = (&loaded.plan, Broken::new());
        if !request.missing {
            return Ok(WantedCalls { request, around, loaded, lost: None, broken });
        }
        let told = |_: u64| {};
        let (machine, state, look) = (&loaded.ground, &loaded.state, Look::Heads);
        let verdicts = Looking { plan, machine, state, look, beside: &[], told: &told }.all()?;
        for verdict in &verdicts {
            let series = plan.output(verdict.series);
            broken.extend(verdict.in_state(State::Broken).iter().filter_map(|frame| {
                Some(((verdict.series, frame), std::fs::metadata(series.name(frame)).ok()?.len()))
            }));
        }
        let mut lost: Vec<_> = verdicts.iter().map(|verdict| outstanding(verdict, Existing::Keep)).collect();
        with_movies(plan, &mut lost, &verdicts);
        Ok(WantedCalls { request, around, loaded, lost: Some(lost), broken })
    }

    fn calls<'c>(
        &'c self,
        lines: CommandLines<'c>,
        adapter: &'c dyn Fn(&Job) -> Option<&'c truepath_core::adapter::Adapter>,
    ) -> Box<dyn Iterator<Item = Call> + 'c> {
        let calls = calls_of(&self.loaded.plan, adapter).chain(movie_calls(&self.loaded.plan));
        match &self.lost {
            Some(lost) => Box::new(calls.flat_map(move |call| lines.narrowed(&call, lost))),
            None => Box::new(calls),
        }
    }

    /// All steps, in their order.
    #[must_use]
    pub fn steps(&self) -> Vec<CommandLine> {
        let mut all = Vec::new();
        let mut take = |piece: StepPiece<'_>| {
            match piece {
                StepPiece::Steps(steps) => all.extend(steps),
                StepPiece::Last(step, needs) => {
                    all.push(CommandLine { needs: needs.iter().map(str::to_owned).collect(), ..*step });
                }
            }
            Ok(())
        };
        // Gathering cannot fail: nothing is written.
        let _ = self.each(&mut take);
        all
    }

    /// Hands over all steps in their order. A movie needs the calls that write its frames; the call that ends a queue needs all.
    ///
    /// # Errors
    /// As `take` has them.
    pub fn each(&self, take: &mut dyn FnMut(StepPiece<'_>) -> io::Result<()>) -> io::Result<()> {
        let (plan, lines) = (&self.loaded.plan, self.loaded.written_lines(self.around));
        let adapter = |job: &Job| self.loaded.adapter(job);
        let words = self.request.guarded.then(|| guard_words(self.request, self.loaded));
        let mut names = Names::default();
        let mut exports = Vec::new();
        if !lines.exports.all.is_empty() {
            exports = lines.exports_of(self.calls(lines, &adapter).map(|call| call.job), "");
        }
        exports.iter_mut().for_each(|step| self.guard(step, words.as_deref()));
        exports.iter().for_each(|step| names.add(&[], &step.id));
        let mut first = exports.first().cloned();
        take(StepPiece::Steps(exports))?;
        let (mut calls, mut last) = (self.calls(lines, &adapter), String::new());
        loop {
            let block: Vec<Call> = calls.by_ref().take(BLOCK).collect();
            if block.is_empty() {
                break;
            }
            let made: Vec<Vec<CommandLine>> =
                block.par_iter().map(|call| lines.fitting(call, self.longest())).collect();
            let mut together = Vec::new();
            for (call, steps) in block.iter().zip(made) {
                for mut step in steps {
                    self.guard(&mut step, words.as_deref());
                    // `run` cuts a call by itself.
                    if words.is_some() && last == step.id {
                        continue;
                    }
                    last.clone_from(&step.id);
                    if first.is_none() {
                        first = Some(step.clone());
                    }
                    if call.is_movie(plan) {
                        take(StepPiece::Steps(std::mem::take(&mut together)))?;
                        let sources = call.sources(plan);
                        take(StepPiece::Last(Box::new(step), NeededNames { names: &names, series: Some(&sources) }))?;
                    } else {
                        together.push(step);
                    }
                    names.add(&call.series, &last);
                }
            }
            take(StepPiece::Steps(together))?;
        }
        // A script of ours ends a plan by itself, and so do the tasks of a cluster.
        if let (Some(words), Some(first)) = (words, first)
            && self.request.form.is_document()
        {
            take(StepPiece::Last(Box::new(end(&words, first)), NeededNames { names: &names, series: None }))?;
        }
        Ok(())
    }

    /// Bytes of a command line at most.
    fn longest(&self) -> usize {
        match self.request.form {
            CallForm::Script(target) => target.longest(),
            CallForm::Document | CallForm::Tasks(_) => 1 << 20,
        }
    }

    /// Lets `truepath run` make a call, told by some words: it stages, checks and lands by itself.
    fn guard(&self, step: &mut CommandLine, words: Option<&[String]>) {
        let Some(words) = words else { return };
        // What stands behind a dot is a part of a call.
        step.id.truncate(step.id.find('.').unwrap_or(step.id.len()));
        // Whoever starts several at a time has them share the work; what comes after the plan is not theirs to start.
        let own = ["--share".to_owned(), "--only".to_owned(), step.id.clone()];
        step.arguments = words.iter().cloned().chain(own).collect();
        step.program = paths::from_system(&self.around.program);
        step.env.clear();
        // Its own log is written by the guard.
        step.log = format!("{}/{}.guard.log", paths::parent(&step.log), step.id);
        if !matches!(self.request.form, CallForm::Tasks(_)) {
            step.writes.clear();
        }
        step.product = None;
        step.files.clear();
    }
}

/// What `truepath run` has to be told to make the same calls, beside their names.
pub(super) fn guard_words(request: &BuildRequest<'_>, loaded: &Loaded) -> Vec<String> {
    let head = ["run".to_owned(), "-f".to_owned(), paths::from_system(&loaded.sheet)];
    // The names of calls depend on their length, and somebody may edit the sheet before the last one begins.
    let chunk = ["--chunk".to_owned(), loaded.plan.run.chunk.to_string()];
    head.into_iter().chain(request.again.iter().cloned()).chain(chunk).collect()
}

/// The call that ends a plan in a queue: it comes after all others, whatever became of them.
fn end(words: &[String], first: CommandLine) -> CommandLine {
    CommandLine {
        id: "end".to_owned(),
        kind: CallKind::End,
        job: String::new(),
        adapter: String::new(),
        passes: Vec::new(),
        frames: Frames::none(),
        arguments: words.iter().cloned().chain(["--share".to_owned()]).collect(),
        log: format!("{}/end.guard.log", paths::parent(&first.log)),
        writes: Vec::new(),
        needs: Vec::new(),
        besides: Vec::new(),
        ..first
    }
}
