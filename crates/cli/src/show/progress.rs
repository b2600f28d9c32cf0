//! A run as it happens: a calm block on a terminal, a line per call in a log, JSON Lines for programs.

use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

use truepath_core::frames::Frames;
use truepath_core::run::event::{Ended, Event, Started};
use truepath_core::run::pace::{Load, Pace};
use truepath_project::Rendering;

use super::{BAD, Block, GOOD, HEAD, ODD, QUIET, counted, fitted, paint, state, tell};
use crate::lower::Screen;

/// Widest bar, and the one beside which the rate is still shown.
const BAR: usize = 30;
const MIN_BAR: usize = 10;

/// A run being shown.
pub struct Progress {
    way: Display,
    screen: Screen,
    title: String,
    done: i64,
    total: i64,
    workers: usize,
    loads: Vec<Load>,
    pace: Pace,
    /// What each worker does, by its number.
    at_work: BTreeMap<usize, AtWork>,
    /// Which worker makes a call.
    calls: BTreeMap<String, usize>,
    /// Calls whose renderers wait, or waited until they ended, for a licence.
    waiting: BTreeSet<String>,
    attention: Option<String>,
    troubles: usize,
    stopping: bool,
    since: Instant,
    block: Block,
}

/// How a run is shown.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Display {
    /// A block that is drawn over.
    Block,
    /// A plain line per call.
    Lines,
    /// The events themselves, on standard output.
    Json,
}

/// A worker's call.
struct AtWork {
    call: String,
    /// The series, or the job where a call writes several.
    what: String,
    kind: String,
    series: usize,
    frames: Frames,
    /// The frame that the renderer says it works on.
    at: Option<i64>,
    files: BTreeMap<i64, usize>,
    landed: i64,
    since: Instant,
    waiting: bool,
}

impl AtWork {
    /// The frame that is being worked on: what the renderer says of it, else the first of which a file is not there.
    fn frame(&self) -> Option<i64> {
        let said = self.at.filter(|frame| self.files.get(frame).copied().unwrap_or(0) < self.series);
        said.or_else(|| self.first_missing())
    }

    fn first_missing(&self) -> Option<i64> {
        self.frames.iter().find(|frame| self.files.get(frame).copied().unwrap_or(0) < self.series)
    }
}

impl Progress {
    /// A display of what is about to be rendered.
    pub fn new(rendering: &Rendering<'_>, (json, screen): (bool, Screen)) -> Progress {
        let plan = rendering.plan;
        let way = match (json, screen.terminal) {
            (true, _) => Display::Json,
            (false, true) => Display::Block,
            (false, false) => Display::Lines,
        };
        Progress {
            way,
            screen,
            title: plan.project.as_ref().map_or(plan.home.sheet.clone(), |name| name.value.clone()),
            done: 0,
            total: rendering.files,
            workers: plan.run.workers,
            loads: rendering.loads.to_vec(),
            pace: Pace::default(),
            at_work: BTreeMap::new(),
            calls: BTreeMap::new(),
            waiting: BTreeSet::new(),
            attention: None,
            troubles: 0,
            stopping: false,
            since: Instant::now(),
            block: Block::default(),
        }
    }

    /// Shows events, and how long all this has taken.
    pub fn follow(&mut self, events: &[Event]) {
        events.iter().for_each(|event| self.show(event));
        self.draw();
    }

    /// Shows one event.
    fn show(&mut self, event: &Event) {
        self.take(event);
        match self.way {
            // What is only shown is no event of the journal.
            Display::Json if matches!(event, Event::Working { .. }) => {}
            Display::Json => {
                // Nobody reading is no reason to stop rendering.
                let _ = super::print_exact(&event.line());
            }
            Display::Block => {}
            Display::Lines => self.line(event),
        }
    }

    /// What an event changes in the picture.
    fn take(&mut self, event: &Event) {
        match event {
            Event::Started(started) => self.started(started),
            Event::Landed(landed) => {
                self.done += 1;
                if let Some(work) = self.calls.get(&landed.call).and_then(|worker| self.at_work.get_mut(worker)) {
                    let part = Load { kind: work.kind.clone(), pixels: 0.0, frames: 1.0 / work.series as f64 };
                    measure(&mut self.pace, &mut self.loads, &part, work.since.elapsed());
                    *work.files.entry(landed.frame).or_default() += 1;
                    work.landed += 1;
                    work.since = Instant::now();
                    work.waiting = false;
                }
            }
            Event::Waiting { call, .. } | Event::Full { call, .. } => {
                self.waiting.insert(call.clone());
                if let Some(work) = self.calls.get(call).and_then(|worker| self.at_work.get_mut(worker)) {
                    work.waiting = true;
                }
            }
            Event::Ended(ended) => {
                if let Some(worker) = self.calls.get(&ended.call) {
                    // Another call may be this worker's by now.
                    let own = self.at_work.get(worker).is_some_and(|work| work.call == ended.call);
                    if own && self.way == Display::Block {
                        self.at_work.remove(worker);
                    }
                }
            }
            Event::Working { call, frame } => {
                if let Some(work) = self.calls.get(call).and_then(|worker| self.at_work.get_mut(worker)) {
                    work.at = Some(*frame);
                    work.waiting = false;
                }
            }
            Event::Interrupted => self.stopping = true,
            _ => {}
        }
        if let Some(line) = self.attention(event, Screen { colour: false, ..self.screen }) {
            self.attention = Some(line);
            self.troubles += 1;
        }
    }

    fn started(&mut self, started: &Started) {
        let work = AtWork {
            call: started.call.clone(),
            what: match started.series.as_slice() {
                [only] => only.clone(),
                _ => started.job.clone(),
            },
            kind: started.series.join(","),
            series: started.series.len().max(1),
            frames: started.frames.clone(),
            at: None,
            files: BTreeMap::new(),
            landed: 0,
            since: Instant::now(),
            waiting: false,
        };
        self.calls.insert(started.call.clone(), started.worker);
        self.at_work.insert(started.worker, work);
    }

    /// A plain line, where one is due.
    fn line(&mut self, event: &Event) {
        let plain = Screen { colour: false, terminal: false, width: 100, unicode: false };
        match event {
            Event::Began(_) => {
                let workers = counted(i64::try_from(self.workers).unwrap_or(i64::MAX), "worker");
                tell(&format!("{}: {} to render, {workers}\n", self.title, counted(self.total, "file")));
            }
            // Whatever it leads to is told when the call has ended.
            Event::Refused { .. } => {}
            Event::Interrupted => tell("stopping: each renderer finishes its frame; Ctrl-C again stops them at once\n"),
            Event::Ended(Ended { call, files: 0, .. }) if self.waiting.contains(call) => {}
            Event::Ended(Ended { call, files, seconds, .. }) => {
                if let Some(line) = self.attention(event, plain) {
                    tell(&format!("{line}\n"));
                    return;
                }
                let left = self.left().map(|left| format!(", {left} left")).unwrap_or_default();
                let landed = counted(*files, "file");
                let (done, total) = (self.done, self.total);
                tell(&format!("{call}: {landed} landed in {} ({done} of {total}{left})\n", span(*seconds)));
            }
            event => {
                if let Some(line) = self.attention(event, plain) {
                    tell(&format!("{line}\n"));
                }
            }
        }
        if let Event::Ended(ended) = event {
            self.waiting.remove(&ended.call);
        }
    }

    /// What an event has to say. A call that ended because no licence was free has said so already.
    fn attention(&self, event: &Event, screen: Screen) -> Option<String> {
        let waited = matches!(event, Event::Ended(ended) if ended.files == 0 && self.waiting.contains(&ended.call));
        if waited { None } else { attention(event, screen) }
    }

    /// The time left, in words.
    fn left(&self) -> Option<String> {
        if self.done >= self.total {
            return None;
        }
        let seconds = self.pace.left(&self.loads)? / self.workers.max(1) as f64;
        Some(span(seconds))
    }

    /// Draws the block over the last one.
    fn draw(&mut self) {
        if self.way == Display::Block {
            let lines = self.lines();
            self.block.draw(&lines, 1);
        }
    }

    fn lines(&self) -> Vec<String> {
        let screen = self.screen;
        let columns = Block::columns();
        let mut lines = vec![self.head(columns)];
        if self.stopping {
            let words = "stopping: each renderer finishes its frame; Ctrl-C again stops them at once";
            lines.push(paint(screen, ODD, words));
        }
        let widest = self.at_work.values().map(|work| super::width(&work.what)).max().unwrap_or(0);
        for (worker, work) in &self.at_work {
            let on = span(work.since.elapsed().as_secs_f64().floor());
            let frame = match (work.waiting, work.frame()) {
                (true, _) => paint(screen, ODD, "waits"),
                (false, Some(frame)) => format!("frame {frame}"),
                (false, None) => "closing".to_owned(),
            };
            let number = paint(screen, QUIET, format!("{worker:>3}"));
            lines.push(format!(
                "{number}  {}  {frame:<12}  {}",
                super::pad(&work.what, widest),
                paint(screen, QUIET, on)
            ));
        }
        if let Some(line) = &self.attention {
            let more = if self.troubles > 1 { format!("  ({} in all)", self.troubles) } else { String::new() };
            // `truepath log` finds the file; here it would only be cut off.
            let line = line.split("; see /").next().unwrap_or(line);
            let room = columns.saturating_sub(2 + more.len());
            lines.push(format!("  {}{}", paint(screen, ODD, fitted(line, room, screen)), paint(screen, QUIET, more)));
        }
        lines
    }

    /// The first line: what is never cut off are the count and the time left. The rate is left out where there is no room,
    /// then the bar gets shorter.
    fn head(&self, columns: usize) -> String {
        let screen = self.screen;
        let count = format!("{} of {}", self.done, counted(self.total, "file"));
        let left = self.left().map(|left| format!(", {left} left")).unwrap_or_default();
        let rate = self.done as f64 / self.since.elapsed().as_secs_f64().max(0.001);
        let rate = format!(", {rate:.1} per second");
        let title = fitted(&self.title, columns / 4, screen);
        let fixed = super::width(&title) + 2 + 2 + super::width(&count) + super::width(&left);
        let room = columns.saturating_sub(fixed);
        let (rate, room) = if room >= MIN_BAR + rate.len() { (rate.as_str(), room - rate.len()) } else { ("", room) };
        let bar = room.min(BAR);
        let full = ((self.done as f64 / self.total.max(1) as f64 * bar as f64) as usize).min(bar);
        let (on, off) = if screen.unicode { ("\u{2501}", "\u{2500}") } else { ("=", "-") };
        let bar = format!("{}{}", paint(screen, GOOD, on.repeat(full)), paint(screen, QUIET, off.repeat(bar - full)));
        format!("{}  {bar}  {count}{left}{rate}", paint(screen, HEAD, title))
    }

    /// Takes the block away.
    pub fn end(&mut self) {
        if self.way == Display::Block {
            self.block.end();
        }
    }
}

/// Takes what was rendered off what is left.
fn measure(pace: &mut Pace, loads: &mut [Load], part: &Load, took: Duration) {
    let Some(load) = loads.iter_mut().find(|load| load.kind == part.kind) else { return };
    load.frames = (load.frames - part.frames).max(0.0);
    pace.add(&Load { pixels: load.pixels, ..part.clone() }, took.as_secs_f64());
}

/// A line of an event that wants attention.
pub fn attention(event: &Event, screen: Screen) -> Option<String> {
    Some(match event {
        Event::Refused { series, frame, why, .. } => {
            format!("{} {series} frame {frame}: {why}", state(screen, BAD, "not landed"))
        }
        Event::Stray { call, files, paths } => {
            let (count, path) = (counted(*files, "file"), paths.first().map_or("", String::as_str));
            format!(
                "{} {call} wrote {count} that the sheet does not plan, kept in stage: {path}",
                state(screen, ODD, "stray")
            )
        }
        Event::Rewritten { series, frame, .. } => {
            let what = "was written again after it had landed; the later file was kept";
            format!("{} {series} frame {frame} {what}", state(screen, ODD, "odd"))
        }
        Event::Ended(ended) if !ended.missing.is_empty() => {
            let Ended { call, files, missing, log, why, .. } = ended;
            let how = why.as_ref().map(|why| format!("was ended: {why}")).unwrap_or_else(|| ended.ending().words());
            let landed = counted(*files, "file");
            format!("{} {call} {how}; {landed} landed, missing {missing}; see {log}", state(screen, ODD, "again"))
        }
        Event::Ended(ended) if !ended.ok && ended.code != Some(0) => {
            let (Ended { call, log, .. }, how) = (ended, ended.ending().words());
            format!("{} {call} {how}, but all its frames landed; see {log}", state(screen, ODD, "odd"))
        }
        Event::Full { why, .. } => format!("{} {why}; its calls wait", state(screen, BAD, "no room")),
        Event::Waiting { call, line } => format!("{} {call}: {line}", state(screen, ODD, "waiting")),
        Event::Lost { call } => {
            format!("{} {call} was taken over by another member while this one was silent", state(screen, ODD, "lost"))
        }
        Event::Failed { series, frames, why, .. } => {
            format!("{} {} {}: {why}", state(screen, BAD, "failed"), series.join(" "), frames.worded())
        }
        Event::Edited { what } => {
            format!("{} {what}; this run goes on with what it read", state(screen, ODD, "edited"))
        }
        Event::GaveUp { job, why } => {
            format!("{} {job}: {why}; the rest of this job is skipped", state(screen, BAD, "gave up"))
        }
        _ => return None,
    })
}

/// A span of time, for people: `0.4 s`, `12 s`, `3 min 20 s`, `2 h 5 min`.
pub fn span(seconds: f64) -> String {
    let whole = seconds.round().max(0.0) as u64;
    match whole {
        0..10 if seconds.fract() != 0.0 => format!("{seconds:.1} s"),
        0..60 => format!("{whole} s"),
        60..3600 => format!("{} min {} s", whole / 60, whole % 60),
        _ => format!("{} h {} min", whole / 3600, whole % 3600 / 60),
    }
}
