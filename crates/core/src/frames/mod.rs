//! Frames as arithmetic runs: a range of a billion frames costs what a range of ten costs.
//!
//! A set is a list of runs that share no frame and may interleave. It is never held as a list of numbers.

mod number;
mod ops;
mod parse;
mod print;
mod serde;
#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests;
mod timecode;

pub use number::{Number, Shift};
pub use parse::{FrameError, FrameExpr, MOST, What, words};
pub use timecode::Timecode;

/// `first`, `first + step`, ... : `count` frames, at least one. A run of one frame has step 1.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct FrameRun {
    /// The lowest frame.
    pub first: i64,
    /// The distance between neighbours, at least 1.
    pub step: i64,
    /// How many frames.
    pub count: i64,
}

impl FrameRun {
    /// All frames from `first` to at most `last`, every `step`th. `None` when there is none.
    #[must_use]
    pub fn new(first: i64, last: i64, step: i64) -> Option<FrameRun> {
        let count = last.checked_sub(first)?.checked_div(step)?.checked_add(1)?;
        (first <= last && step > 0).then_some(FrameRun { first, step: if count == 1 { 1 } else { step }, count })
    }

    /// The highest frame.
    #[must_use]
    pub fn last(&self) -> i64 {
        self.first + (self.count - 1) * self.step
    }

    /// Whether `frame` is one of them.
    #[must_use]
    pub fn contains(&self, frame: i64) -> bool {
        frame >= self.first && frame <= self.last() && (frame - self.first) % self.step == 0
    }
}

/// Frames of a set whose runs interleave: they are printed and counted out one by one.
const MOST_TANGLED: i64 = 1_000_000;

/// A set of frames.
#[derive(Clone, Debug, Default)]
pub struct Frames {
    runs: Vec<FrameRun>,
}

impl Frames {
    /// No frame.
    #[must_use]
    pub fn none() -> Frames {
        Frames::default()
    }

    /// One frame.
    #[must_use]
    pub fn one(frame: i64) -> Frames {
        Frames { runs: vec![FrameRun { first: frame, step: 1, count: 1 }] }
    }

    /// All frames from `first` to `last`; none when `first` is above `last`.
    #[must_use]
    pub fn range(first: i64, last: i64) -> Frames {
        Frames { runs: FrameRun::new(first, last, 1).into_iter().collect() }
    }

    /// The set of the frames in `ascending`, which must be in order and without twins.
    pub fn from_ascending(ascending: impl IntoIterator<Item = i64>) -> Frames {
        print::sequential(ascending.into_iter().map(|frame| FrameRun { first: frame, step: 1, count: 1 })).collect()
    }

    /// The set of any frames.
    #[must_use]
    pub fn from_any(mut frames: Vec<i64>) -> Frames {
        frames.sort_unstable();
        frames.dedup();
        Frames::from_ascending(frames)
    }

    /// The runs that make up the set, by first frame; they may interleave.
    #[must_use]
    pub fn runs(&self) -> &[FrameRun] {
        &self.runs
    }

    /// Whether its runs interleave and have more frames than can be taken apart one by one.
    fn is_tangled(&self) -> bool {
        let apart = |pair: &[FrameRun]| pair[0].last() < pair[1].first;
        self.count() > MOST_TANGLED && !self.runs.windows(2).all(apart)
    }

    /// How many frames.
    #[must_use]
    pub fn count(&self) -> i64 {
        self.runs.iter().map(|run| run.count).sum()
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.runs.is_empty()
    }

    /// The lowest frame.
    #[must_use]
    pub fn first(&self) -> Option<i64> {
        self.runs.iter().map(|run| run.first).min()
    }

    /// The highest frame.
    #[must_use]
    pub fn last(&self) -> Option<i64> {
        self.runs.iter().map(FrameRun::last).max()
    }

    /// Whether `frame` is in the set.
    #[must_use]
    pub fn contains(&self, frame: i64) -> bool {
        self.runs.iter().any(|run| run.contains(frame))
    }

    /// All frames, ascending, made one by one.
    pub fn iter(&self) -> impl Iterator<Item = i64> + '_ {
        self.sequential().flat_map(|run| (0..run.count).map(move |at| run.first + at * run.step))
    }

    /// The set in parts of `size` frames, ascending; the last may be shorter.
    pub fn chunks(&self, size: i64) -> impl Iterator<Item = Frames> + '_ {
        let size = size.max(1);
        let mut rest = self.sequential();
        let mut open: Option<FrameRun> = None;
        std::iter::from_fn(move || {
            let mut parts = Vec::new();
            let mut room = size;
            while room > 0 {
                let Some(run) = open.take().or_else(|| rest.next()) else { break };
                let taken = run.count.min(room);
                parts.push(FrameRun { count: taken, ..run });
                open = (taken < run.count).then(|| FrameRun {
                    first: run.first + taken * run.step,
                    count: run.count - taken,
                    step: run.step,
                });
                room -= taken;
            }
            (!parts.is_empty()).then(|| {
                parts.into_iter().map(|run| if run.count == 1 { FrameRun { step: 1, ..run } } else { run }).collect()
            })
        })
    }

    /// Every frame `by` higher (or lower); frames beyond 64 bits are left out.
    #[must_use]
    pub fn shifted(&self, by: i64) -> Frames {
        let moved = |run: &FrameRun| {
            run.last().checked_add(by)?;
            Some(FrameRun { first: run.first.checked_add(by)?, ..*run })
        };
        self.runs.iter().filter_map(moved).collect()
    }

    /// Every `n`th frame of the set, counted from its first. `n` is at least 1.
    #[must_use]
    pub fn every(&self, n: i64) -> Frames {
        let mut skipped = 0;
        let mut parts = Vec::new();
        for run in self.sequential() {
            let from = (n - skipped % n) % n;
            if from < run.count {
                parts.extend(FrameRun::new(run.first + from * run.step, run.last(), run.step.saturating_mul(n)));
            }
            skipped += run.count;
        }
        parts.into_iter().collect()
    }

    /// The frame in the middle: of an even number the lower of the two.
    #[must_use]
    pub fn middle(&self) -> Option<i64> {
        let mut before = (self.count() - 1) / 2;
        self.sequential().find_map(|run| {
            let found = (before < run.count).then(|| run.first + before * run.step);
            before -= run.count;
            found
        })
    }
}

impl FromIterator<FrameRun> for Frames {
    /// Takes runs that share no frame.
    fn from_iter<I: IntoIterator<Item = FrameRun>>(runs: I) -> Frames {
        let mut runs: Vec<FrameRun> = runs.into_iter().collect();
        runs.sort_unstable();
        Frames { runs }
    }
}

impl PartialEq for Frames {
    fn eq(&self, other: &Frames) -> bool {
        self.runs == other.runs || (self.count() == other.count() && self.minus(other).is_empty())
    }
}

impl Eq for Frames {}
