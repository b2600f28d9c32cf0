//! What was measured of the frames of one series.

use std::collections::BTreeMap;

/// What was measured of the frames of one call.
#[derive(Clone, Copy, Debug)]
struct Measurement {
    last: i64,
    /// Seconds of one frame, with its share of the start of the program.
    each: f64,
    /// Frames of the call.
    frames: f64,
}

/// What is known of a frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Basis {
    /// It was measured itself.
    Measured,
    /// It stands between two that were.
    Between,
    /// It lies beyond all that were: the nearest one stands for it.
    Beyond,
    /// Nothing of its series was measured: it goes by its pixels.
    Pixels,
}

/// All measurements of one series; no two hold the same frame.
#[derive(Clone, Debug, Default)]
pub(super) struct Measurements {
    /// By the first frame of each.
    all: BTreeMap<i64, Measurement>,
    /// Seconds that the start of the program takes, each time that two sizes of calls could be compared, the lowest first.
    starts: Vec<f64>,
    /// Seconds of the shortest call.
    shortest: Option<f64>,
}

/// Seconds of a frame as it was measured, and which part of a start is in them.
type Guess = (f64, f64, Basis);

impl Measurements {
    /// Frames of one call took so long each. What was known of them before is forgotten.
    pub(super) fn add(&mut self, frames: &[i64], each: f64) {
        let (Some(first), Some(last)) = (frames.iter().min(), frames.iter().max()) else { return };
        let count = frames.len() as f64;
        if frames.len() > 1 {
            let alone: Option<Vec<Guess>> = frames.iter().map(|frame| self.guess(*frame)).collect();
            let alone = alone.unwrap_or_default();
            let (sum, shares) = alone.iter().fold((0.0, 0.0), |sum, own| (sum.0 + own.0, sum.1 + own.1));
            // The same frames in more calls took longer by the starts of these calls.
            if shares > 1.5 && alone.iter().all(|own| own.2 != Basis::Beyond) {
                let start = ((sum - each * count) / (shares - 1.0)).max(0.0);
                self.starts.insert(self.starts.partition_point(|own| *own < start), start);
            }
        }
        self.shortest = Some(self.shortest.map_or(each * count, |own| own.min(each * count)));
        self.forget(*first, *last);
        self.all.insert(*first, Measurement { last: *last, each, frames: count });
    }

    /// Takes away what holds any frame from one to another. No two hold the same frame, so that what begins before the first
    /// of them is one at most.
    fn forget(&mut self, first: i64, last: i64) {
        let before = self.all.range(..first).next_back().filter(|(_, own)| own.last >= first).map(|(at, _)| *at);
        let within: Vec<i64> = self.all.range(first..=last).map(|(at, _)| *at).chain(before).collect();
        for at in within {
            self.all.remove(&at);
        }
    }

    /// How many frames were measured.
    pub(super) fn frames(&self) -> f64 {
        self.all.values().map(|own| own.frames).sum()
    }

    /// How many calls were measured.
    pub(super) fn calls(&self) -> f64 {
        self.all.len() as f64
    }

    /// Whether it is known how much of a call is its start; where all were measured in calls of about that size, nobody asks.
    pub(super) fn knows_start(&self, in_call: f64) -> bool {
        !self.starts.is_empty() || self.all.values().all(|own| own.frames * 2.0 >= in_call)
    }

    /// Seconds that the start of the program takes; none, where that is not known.
    fn start(&self) -> f64 {
        let usual = self.starts.get(self.starts.len() / 2).copied().unwrap_or(0.0);
        // No call is shorter than its start.
        self.shortest.map_or(usual, |shortest| usual.min(shortest))
    }

    /// Seconds of a frame in a call of so many frames: measured, between its measured neighbours, or as its nearest one.
    pub(super) fn seconds(&self, frame: i64, in_call: f64) -> Option<(f64, Basis)> {
        let (each, share, basis) = self.guess(frame)?;
        Some((each - self.start() * (share - 1.0 / in_call.max(1.0)), basis))
    }

    fn guess(&self, frame: i64) -> Option<Guess> {
        let of = |own: &Measurement, basis| (own.each, 1.0 / own.frames, basis);
        let before = self.all.range(..=frame).next_back();
        let after = self.all.range(frame.saturating_add(1)..).next();
        match (before, after) {
            (Some((_, own)), _) if frame <= own.last => Some(of(own, Basis::Measured)),
            (Some((_, a)), Some((first, b))) => {
                let way = (frame - a.last) as f64 / (first - a.last) as f64;
                let mixed = |a: f64, b: f64| a + (b - a) * way;
                Some((mixed(a.each, b.each), mixed(1.0 / a.frames, 1.0 / b.frames), Basis::Between))
            }
            (Some((_, only)), None) | (None, Some((_, only))) => Some(of(only, Basis::Beyond)),
            (None, None) => None,
        }
    }

    /// Whether a frame was measured.
    pub(super) fn has(&self, frame: i64) -> bool {
        self.guess(frame).is_some_and(|own| own.2 == Basis::Measured)
    }

    /// Whether a frame lies beyond all that were measured.
    pub(super) fn is_beyond(&self, frame: i64) -> bool {
        self.guess(frame).is_some_and(|own| own.2 == Basis::Beyond)
    }

    /// Whether a frame before this one was measured, and one after it.
    pub(super) fn around(&self, frame: i64) -> (bool, bool) {
        (self.all.range(..frame).next().is_some(), self.all.range(frame.saturating_add(1)..).next().is_some())
    }

    /// Seconds of a frame of each measured call without its start, by the middle of its frames.
    fn points(&self) -> Vec<(f64, f64)> {
        let start = self.start();
        let of = |(first, own): (&i64, &Measurement)| ((first + own.last) as f64 / 2.0, own.each - start / own.frames);
        self.all.iter().map(of).collect()
    }

    /// The frame in the middle of all, by what they cost.
    pub(super) fn usual(&self) -> f64 {
        let mut all: Vec<f64> = self.points().iter().map(|(_, own)| *own).collect();
        all.sort_by(f64::total_cmp);
        all.get(all.len() / 2).copied().unwrap_or(0.0)
    }

    /// The dearest frame.
    pub(super) fn dearest(&self) -> f64 {
        self.points().iter().map(|(_, own)| *own).fold(0.0, f64::max)
    }

    /// How far a measured frame is from what the others let expect of it, in seconds: the root of the mean square.
    pub(super) fn residual(&self) -> f64 {
        let points = self.points();
        if let [(_, only)] = points[..] {
            // Of one frame nobody knows how far others are from it.
            return only / 2.0;
        }
        let square = |at: usize| {
            let (x, y) = points[at];
            let before = at.checked_sub(1).map(|at| points[at]);
            let expected = match (before, points.get(at + 1)) {
                (Some(a), Some(b)) => a.1 + (b.1 - a.1) * (x - a.0) / (b.0 - a.0),
                (Some(near), None) | (None, Some(&near)) => near.1,
                (None, None) => y,
            };
            (y - expected).powi(2)
        };
        // What is expected has an error of its own, by half as much again.
        ((0..points.len()).map(square).sum::<f64>() / points.len().max(1) as f64 / 1.5).sqrt()
    }
}
