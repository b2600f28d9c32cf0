//! What frames cost: seconds of a renderer, memory and bytes, as the journals have measured them.

use std::collections::{BTreeMap, HashMap};

use crate::frames::Frames;
use crate::plan::{Plan, Series};

use super::history::{History, PastCall, Session};
use super::pace::{Load, Pace};
use super::trial::plain;

/// What was measured of the frames of one call, for one of its series.
#[derive(Clone, Copy, Debug)]
struct Sample {
    last: i64,
    /// Seconds of one frame.
    seconds: f64,
}

/// What frames were measured to cost.
#[derive(Clone, Debug, Default)]
pub struct Costs {
    /// By series and the first frame of each measurement; no two hold the same frame.
    samples: HashMap<String, BTreeMap<i64, Sample>>,
    pace: Pace,
    bytes: HashMap<String, f64>,
    memory: Option<u64>,
    /// What each run took, beside what the runs before it let expect.
    runs: Vec<Judged>,
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

impl Costs {
    /// What the journals of a sheet say. They have to be read down to their calls.
    #[must_use]
    pub fn of(plan: &Plan, history: &History) -> Costs {
        let mut costs = Costs::default();
        let known: HashMap<&str, &Series> = plan.outputs().map(|(_, series)| (series.id.as_str(), series)).collect();
        // Of a frame that was rendered again, the newest time counts.
        let mut order: Vec<&Session> = history.sessions.iter().collect();
        order.sort_by_key(|session| session.began.turn);
        for session in order {
            costs.judge(session, &known);
            session.calls.iter().for_each(|call| costs.learn(call, &known));
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
    fn judge(&mut self, session: &Session, known: &HashMap<&str, &Series>) {
        let (mut took, mut estimated) = (0.0, 0.0);
        for call in &session.calls {
            for (series, frames, each) in measured(call) {
                let Some(series) = known.get(plain(series)) else { continue };
                let Some(own) = frames.iter().map(|frame| Some(self.seconds(series, *frame)?.0)).sum::<Option<f64>>()
                else {
                    continue;
                };
                took += each * frames.len() as f64;
                estimated += own;
            }
        }
        if estimated > 0.0 && took > 0.0 {
            self.runs.push(Judged { tag: session.began.tag.clone(), at: session.began.at.clone(), took, estimated });
        }
    }

    fn learn(&mut self, call: &PastCall, known: &HashMap<&str, &Series>) {
        self.memory = self.memory.max(call.ended.as_ref().and_then(|ended| ended.memory));
        for (name, frames, each) in measured(call) {
            let (Some(first), Some(last)) = (frames.iter().min(), frames.iter().max()) else { continue };
            let name = plain(name);
            let pixels = known.get(name).map_or(0.0, |series| pixels(series));
            let count = frames.len() as f64;
            self.pace.add(&Load { kind: name.to_owned(), pixels, frames: count }, each * count);
            let own = self.samples.entry(name.to_owned()).or_default();
            own.retain(|at, old| old.last < *first || at > last);
            own.insert(*first, Sample { last: *last, seconds: each });
        }
    }

    /// Whether anything was measured.
    #[must_use]
    pub fn is_known(&self) -> bool {
        !self.samples.is_empty()
    }

    /// Seconds for one frame of a series: measured, or between its measured neighbours, or by the pixels of whatever was
    /// measured. `None` while nothing was.
    #[must_use]
    pub fn seconds(&self, series: &Series, frame: i64) -> Option<(f64, bool)> {
        let Some(own) = self.samples.get(&series.id) else {
            let load = Load { kind: series.id.clone(), pixels: pixels(series), frames: 1.0 };
            return self.pace.left([&load]).map(|seconds| (seconds, false));
        };
        let before = own.range(..=frame).next_back();
        let after = own.range(frame.saturating_add(1)..).next();
        Some(match (before, after) {
            (Some((_, own)), _) if frame <= own.last => (own.seconds, true),
            (Some((_, a)), Some((first, b))) => {
                let share = (frame - a.last) as f64 / (first - a.last) as f64;
                (a.seconds + (b.seconds - a.seconds) * share, true)
            }
            (Some((_, only)), None) | (None, Some((_, only))) => (only.seconds, false),
            (None, None) => return None,
        })
    }

    /// What some frames of some outputs of a plan take; `None` while nothing was measured.
    #[must_use]
    pub fn cost(&self, plan: &Plan, outputs: &[usize], frames: &Frames) -> Option<Cost> {
        let mut cost = Cost::default();
        for at in outputs {
            let series = plan.output(*at);
            for frame in frames.iter() {
                let (seconds, measured) = self.seconds(series, frame)?;
                cost.seconds += seconds;
                cost.measured += i64::from(measured);
                cost.files += 1;
            }
        }
        Some(cost)
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

    /// By what an estimate is to be multiplied: the usual factor, the lowest and the highest. It follows from the last eight
    /// runs; without any, it is 1 with a wide range.
    #[must_use]
    pub fn bias(&self) -> (f64, f64, f64) {
        let mut factors: Vec<f64> = self.runs.iter().rev().take(8).map(|run| run.took / run.estimated).collect();
        factors.sort_by(f64::total_cmp);
        let (Some(low), Some(high)) = (factors.first(), factors.last()) else { return (1.0, 0.7, 1.5) };
        let (lower, upper) = (factors[(factors.len() - 1) / 2], factors[factors.len() / 2]);
        let usual = f64::midpoint(lower, upper).clamp(0.2, 5.0);
        // One run tells little about the next.
        let doubt = 0.4 / factors.len() as f64;
        (usual, (low * (1.0 - doubt)).min(usual), (high * (1.0 + doubt)).max(usual))
    }
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
