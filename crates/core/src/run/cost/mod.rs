//! What frames cost: seconds of a renderer, memory and bytes, as the journals have measured them.

mod choose;
mod other;
mod range;
mod samples;

use std::cmp::{Ordering, Reverse};
use std::collections::{BTreeMap, BinaryHeap, HashMap};

use crate::frames::Frames;
use crate::plan::{Plan, Series};

use super::event::SeriesOf;
use super::fingerprint::Fingerprint;
use super::history::{History, PastCall, Session};
use super::pace::{Load, Pace};
use super::trial::plain;
use choose::Measurable;
use other::Worth;
use range::Forecast;
use samples::Measurements;

pub use choose::{Round, rounds};
pub use range::{CostRange, ENOUGH};
pub use samples::Basis;

/// What frames were measured to cost.
#[derive(Clone, Debug, Default)]
pub struct Costs {
    /// By series.
    measured: HashMap<String, Measurements>,
    /// Frames that a call of a series renders.
    in_call: HashMap<String, f64>,
    pace: Pace,
    bytes: HashMap<String, f64>,
    memory: Option<u64>,
    /// What frames of a series that were measured at another size or with other samples were multiplied by.
    scaled: BTreeMap<String, f64>,
    /// What each run took, beside what the runs before it let expect.
    runs: Vec<Judged>,
    /// How much longer runs took than expected for frames that had been measured themselves: natural logarithms.
    drift: Vec<f64>,
    /// Seconds that a call takes beside its program, by run.
    beside: Vec<f64>,
}

/// A run that is over, and what was estimated of it.
#[derive(Clone, Debug, PartialEq)]
pub struct Judged {
    /// What its stage folders end with.
    pub tag: String,
    /// When it began: RFC 3339.
    pub at: String,
    /// Seconds of renderers that it took for the frames that it made.
    pub took: f64,
    /// Seconds by the clock, from its beginning to its end.
    pub wall: f64,
    /// Seconds that the runs before it let expect for the same frames.
    pub estimated: f64,
}

/// What some work takes.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Cost {
    /// Seconds that one renderer at a time needs for all of it.
    pub seconds: f64,
    /// Files of it whose frames were measured themselves, or stand between two that were.
    pub measured: i64,
    /// All its files.
    pub files: i64,
}

/// What measurements do not tell.
#[derive(Clone, Debug, PartialEq)]
pub enum Unknown {
    /// Nothing of the series was measured.
    Series,
    /// These frames lie beyond all that were.
    Beyond(Frames),
    /// What was measured was so at another size or with other samples, and is multiplied by this.
    Scaled(f64),
    /// How much of a call is the start of its program.
    Start,
}

impl Costs {
    /// What the journals of a sheet say, which have to be read down to their calls. `made` has what the frames of each output
    /// are made of now, where that is known: what was measured of something else is worth less.
    #[must_use]
    pub fn of(plan: &Plan, history: &History, made: &[Option<Fingerprint>]) -> Costs {
        let mut costs = Costs::default();
        let known: KnownOutputs<'_> = plan
            .outputs()
            .map(|(at, series)| (series.id.as_str(), (series, made.get(at).and_then(Option::as_ref))))
            .collect();
        for series in &plan.series {
            // A checkpoint belongs to one frame.
            let single = plan.jobs[series.job].checkpoint.is_some();
            let chunk = if single { 1 } else { plan.run.chunk.min(series.count().unwrap_or(1)) };
            costs.in_call.insert(series.id.clone(), chunk.max(1) as f64);
        }
        // Of a frame that was rendered again, the newest time counts.
        let mut order: Vec<&Session> = history.sessions.iter().collect();
        order.sort_by_key(|session| session.began.turn);
        for session in order {
            let worth = worths(session, &known);
            costs.judge(session, &known, &worth);
            session.calls.iter().for_each(|call| costs.learn(call, &known, &worth));
        }
        // Files of a series may have landed in other places: as another version, or only to be measured.
        let mut places: HashMap<&str, &str> = HashMap::new();
        for own in history.sessions.iter().flat_map(|session| &session.series) {
            if !history.at(&own.pattern).is_empty() {
                places.insert(plain(&own.series), &own.pattern);
            }
        }
        for (_, series) in plan.outputs() {
            let landed = match (history.of(series), places.get(series.id.as_str())) {
                ([], Some(place)) => history.at(place),
                (landed, _) => landed,
            };
            let bytes: f64 = landed.iter().map(|(_, record)| record.bytes as f64).sum();
            if bytes > 0.0 {
                costs.bytes.insert(series.id.clone(), bytes / landed.len() as f64);
            }
        }
        costs
    }

    /// Compares what a run took with what is known before it.
    fn judge(&mut self, session: &Session, known: &KnownOutputs<'_>, worth: &Worths<'_>) {
        let (mut took, mut estimated) = (0.0, 0.0);
        let (mut took_again, mut known_before) = (0.0, 0.0);
        for call in &session.calls {
            for (series, frames, each) in measured(call) {
                let times = worth.get(plain(series)).map_or(1.0, |worth| worth.times());
                let Some((series, _)) = known.get(plain(series)) else { continue };
                let in_call = frames.len() as f64;
                let own = |frame: &i64| self.in_call_of(series, *frame, in_call);
                let Some(own) = frames.iter().map(own).collect::<Option<Vec<_>>>() else { continue };
                // What is known is known of frames as they are now.
                let sum = own.iter().map(|(seconds, _)| seconds).sum::<f64>() / times;
                took += each * in_call;
                estimated += sum;
                if own.iter().all(|(_, basis)| *basis == Basis::Measured) {
                    took_again += each * in_call;
                    known_before += sum;
                }
            }
        }
        if estimated > 0.0 && took > 0.0 {
            self.runs.push(Judged {
                tag: session.began.tag.clone(),
                at: session.began.at.clone(),
                took,
                wall: session.seconds,
                estimated,
            });
        }
        if known_before > 0.0 && took_again > 0.0 {
            self.drift.push((took_again / known_before).ln());
        }
        let workers = session.calls.iter().map(|call| call.started.worker).max().unwrap_or(0) as f64;
        let ended = session.calls.iter().filter_map(|call| call.ended.as_ref());
        let (calls, busy) = ended.fold((0.0, 0.0), |(calls, busy), ended| (calls + 1.0, busy + ended.seconds));
        // Of members the time of waiting for others would be in it.
        if calls > 0.0 && !session.began.share && session.outcome.is_some() {
            let beside = (session.seconds * workers - busy) / calls;
            // More than that is waiting for a last call.
            self.beside.push(beside.clamp(0.0, 0.3 + 0.2 * busy / calls));
        }
    }

    fn learn(&mut self, call: &PastCall, known: &KnownOutputs<'_>, worth: &Worths<'_>) {
        self.memory = self.memory.max(call.ended.as_ref().and_then(|ended| ended.memory));
        for (name, frames, each) in measured(call) {
            if frames.is_empty() {
                continue;
            }
            let name = plain(name);
            let pixels = known.get(name).map_or(0.0, |(series, _)| pixels(series));
            let count = frames.len() as f64;
            let worth = worth.get(name).copied().unwrap_or(Worth::Times(1.0));
            let each = each * worth.times();
            self.pace.add(&Load { kind: name.to_owned(), pixels, frames: count }, each * count);
            if let Worth::Times(times) = worth {
                if (times - 1.0).abs() > 1e-9 {
                    self.scaled.insert(name.to_owned(), times);
                } else {
                    self.scaled.remove(name);
                }
                self.measured.entry(name.to_owned()).or_default().add(frames, each);
            }
        }
    }

    /// Whether anything was measured.
    #[must_use]
    pub fn is_known(&self) -> bool {
        !self.measured.is_empty()
    }

    /// Seconds for one frame of a series, in a call as the plan has them: measured, or between its measured neighbours, or by
    /// the pixels of whatever was measured. `None` while nothing was.
    #[must_use]
    pub fn seconds(&self, series: &Series, frame: i64) -> Option<(f64, Basis)> {
        self.in_call_of(series, frame, self.frames_in_call(series))
    }

    fn in_call_of(&self, series: &Series, frame: i64, frames: f64) -> Option<(f64, Basis)> {
        if let Some(own) = self.measured.get(&series.id) {
            return own.seconds(frame, frames);
        }
        let load = Load { kind: series.id.clone(), pixels: pixels(series), frames: 1.0 };
        self.pace.left([&load]).map(|seconds| (seconds, Basis::Pixels))
    }

    /// How many frames a call of a series renders.
    fn frames_in_call(&self, series: &Series) -> f64 {
        self.in_call.get(&series.id).copied().unwrap_or(1.0)
    }

    /// What some frames of some outputs of a plan take; `None` while nothing was measured.
    #[must_use]
    pub fn cost(&self, plan: &Plan, outputs: &[usize], frames: &Frames) -> Option<Cost> {
        let mut cost = Cost::default();
        for at in outputs {
            let series = plan.output(*at);
            for frame in frames.iter() {
                let (seconds, basis) = self.seconds(series, frame)?;
                cost.seconds += seconds;
                cost.measured += i64::from(matches!(basis, Basis::Measured | Basis::Between));
                cost.files += 1;
            }
        }
        Some(cost)
    }

    /// Between which bounds the time for frames of some series will lie, 19 times in 20. From [`ENOUGH`] measured frames on,
    /// the upper bound is at most four times the lower one.
    #[must_use]
    pub fn range(&self, plan: &Plan, left: &[(usize, &Frames)]) -> CostRange {
        let of = |(at, frames): &(usize, &Frames)| {
            let series = plan.output(*at);
            match self.measured.get(&series.id) {
                Some(own) => Forecast::of(own, frames, self.frames_in_call(series)),
                None => Forecast::by_pixels(self.cost(plan, &[*at], frames).unwrap_or_default().seconds),
            }
        };
        let parts: Vec<Forecast> = left.iter().map(of).collect();
        range::range(&parts, self.noise(), self.seen(plan, left.iter().map(|(at, _)| *at)))
    }

    /// How many frames of some series were measured; passes of one job are rendered together.
    #[must_use]
    pub fn seen(&self, plan: &Plan, series: impl Iterator<Item = usize>) -> i64 {
        let mut by_job: BTreeMap<usize, f64> = BTreeMap::new();
        for series in series.map(|at| plan.output(at)) {
            let own = self.measured.get(&series.id).map_or(0.0, Measurements::frames);
            let most = by_job.entry(series.job).or_default();
            *most = most.max(own);
        }
        by_job.values().sum::<f64>() as i64
    }

    /// How much the same frames differ from one run to the next, in parts of what they take. Before that was seen, an eighth.
    fn noise(&self) -> f64 {
        let (at_first, runs) = (0.12f64, 4.0);
        let seen = self.drift.iter().rev().take(8);
        let squares: f64 = seen.clone().map(|own| own.powi(2)).sum();
        ((at_first.powi(2) * runs + squares) / (runs + seen.count() as f64)).sqrt()
    }

    /// Seconds that a call takes beside its program: to be started, looked through and landed.
    #[must_use]
    pub fn beside(&self) -> f64 {
        let mut last: Vec<f64> = self.beside.iter().rev().take(8).copied().collect();
        last.sort_by(f64::total_cmp);
        last.get(last.len() / 2).copied().unwrap_or(0.0)
    }

    /// Frames of jobs to be measured next, at most so many: those of which least is known, and on which most depends. What is
    /// wanted are series of different jobs, with what is left of each.
    fn next_to_measure(&self, plan: &Plan, left: &[(usize, &Frames)], count: usize) -> Vec<(usize, i64)> {
        let none = Measurements::default();
        let wanted = |&(at, frames): &(usize, _)| {
            let series = plan.output(at);
            let usual = self.pace.left([&Load { kind: series.id.clone(), pixels: pixels(series), frames: 1.0 }]);
            let samples = self.measured.get(&series.id).unwrap_or(&none);
            Measurable { samples, frames, seconds: usual.unwrap_or(1.0) }
        };
        let wanted: Vec<Measurable<'_>> = left.iter().map(wanted).collect();
        choose::choose(&wanted, count).into_iter().map(|(of, frame)| (left[of].0, frame)).collect()
    }

    /// What measurements do not tell of what is left of some series, with the series.
    #[must_use]
    pub fn unknown(&self, plan: &Plan, left: &[(usize, &Frames)]) -> Vec<(usize, Unknown)> {
        let mut all = Vec::new();
        for (at, frames) in left {
            let series = plan.output(*at);
            let Some(own) = self.measured.get(&series.id) else {
                all.push((*at, Unknown::Series));
                continue;
            };
            let beyond = Frames::from_ascending(frames.iter().filter(|frame| own.is_beyond(*frame)));
            if !beyond.is_empty() {
                all.push((*at, Unknown::Beyond(beyond)));
            }
            all.extend(self.scaled.get(&series.id).map(|times| (*at, Unknown::Scaled(*times))));
            if !self.knows_start(series) {
                all.push((*at, Unknown::Start));
            }
        }
        all
    }

    /// Those of some frames of a series that were not measured.
    fn unmeasured(&self, series: &Series, frames: &Frames) -> Frames {
        let Some(own) = self.measured.get(&series.id) else { return frames.clone() };
        Frames::from_ascending(frames.iter().filter(|frame| !own.has(*frame)))
    }

    /// Whether it is known how much of a call of a series is the start of its program. Where calls have one frame, nobody asks.
    fn knows_start(&self, series: &Series) -> bool {
        let in_call = self.frames_in_call(series);
        in_call < 2.0 || self.measured.get(&series.id).is_some_and(|own| own.knows_start(in_call))
    }

    /// Weights of calls, for cutting them into parts: seconds where anything was measured, else their frames and files.
    #[must_use]
    pub fn weight(&self, plan: &Plan, outputs: &[usize], frames: &Frames) -> f64 {
        let counted = || frames.count() as f64 * outputs.len().max(1) as f64;
        self.cost(plan, outputs, frames).map_or_else(counted, |cost| cost.seconds)
    }

    /// Bytes of one file of a series, where one has landed.
    #[must_use]
    pub fn bytes(&self, series: &Series) -> Option<f64> {
        self.bytes.get(&series.id).copied()
    }

    /// Most bytes of memory that a program was seen to hold.
    #[must_use]
    pub fn memory(&self) -> Option<u64> {
        self.memory
    }

    /// What runs took, beside what was to be estimated of each; in the order in which they began.
    #[must_use]
    pub fn runs(&self) -> &[Judged] {
        &self.runs
    }
}

/// Seconds until the last of some calls has ended: each begins, in their order, when a worker is free.
#[must_use]
pub fn makespan(calls: impl Iterator<Item = f64>, workers: u64) -> f64 {
    let mut free: BinaryHeap<Reverse<FreeAt>> = BinaryHeap::new();
    let mut last = 0.0;
    for seconds in calls {
        let idle = (free.len() as u64) < workers.max(1);
        let from = if idle { 0.0 } else { free.pop().map_or(0.0, |at| at.0.0) };
        last = f64::max(last, from + seconds);
        free.push(Reverse(FreeAt(from + seconds)));
    }
    last
}

/// Seconds since a run began.
#[derive(Clone, Copy, PartialEq)]
struct FreeAt(f64);

impl Eq for FreeAt {}

impl PartialOrd for FreeAt {
    fn partial_cmp(&self, other: &FreeAt) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for FreeAt {
    fn cmp(&self, other: &FreeAt) -> Ordering {
        self.0.total_cmp(&other.0)
    }
}

/// The outputs of a plan by name, with what their frames are made of now, where that is known.
type KnownOutputs<'k> = HashMap<&'k str, (&'k Series, Option<&'k Fingerprint>)>;

/// What the frames of a past run are worth, by series; those of which nothing else is said are worth what they are.
type Worths<'w> = HashMap<&'w str, Worth>;

/// What the frames of a run are worth now.
fn worths<'s>(session: &'s Session, known: &KnownOutputs<'_>) -> Worths<'s> {
    let of = |own: &'s SeriesOf| {
        let name = plain(&own.series);
        let (_, now) = known.get(name)?;
        Some((name, Worth::of(&own.made, (*now)?)))
    };
    session.series.iter().filter_map(of).collect()
}

/// The frames that a call made, by series, and the seconds of each. Nobody knows for which frames a call without any spent
/// its time.
fn measured(call: &PastCall) -> impl Iterator<Item = (&str, &[i64], f64)> {
    let files: usize = call.landed.iter().map(|(_, frames)| frames.len()).sum();
    let each = call.ended.as_ref().filter(|_| files > 0).map(|ended| ended.seconds / files as f64);
    call.landed.iter().filter_map(move |(name, frames)| Some((name.as_str(), frames.as_slice(), each?)))
}

fn pixels(series: &Series) -> f64 {
    series.size.map_or(0.0, |size| f64::from(size.width) * f64::from(size.height))
}
