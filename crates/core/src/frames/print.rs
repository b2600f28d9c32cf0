//! Sets back to text: from the left, each part the longest run of one step from the next frame.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::fmt;

use super::{FrameRun, Frames};

impl Frames {
    /// The set as runs that follow one another without interleaving, as they are printed.
    pub fn sequential(&self) -> Box<dyn Iterator<Item = FrameRun> + '_> {
        if self.runs.windows(2).all(|pair| pair[0].last() < pair[1].first) {
            return Box::new(sequential(self.runs.iter().copied()));
        }
        let mut heads: BinaryHeap<Reverse<(i64, i64, i64)>> =
            self.runs.iter().map(|run| Reverse((run.first, run.step, run.count))).collect();
        Box::new(sequential(std::iter::from_fn(move || {
            let Reverse((frame, step, count)) = heads.pop()?;
            if count > 1 {
                heads.push(Reverse((frame + step, step, count - 1)));
            }
            Some(FrameRun { first: frame, step: 1, count: 1 })
        })))
    }
}

impl fmt::Display for Frames {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, run) in self.sequential().enumerate() {
            let comma = if at > 0 { "," } else { "" };
            match run {
                FrameRun { first, count: 1, .. } => write!(f, "{comma}{first}")?,
                FrameRun { first, step: 1, .. } => write!(f, "{comma}{first}-{}", run.last())?,
                FrameRun { first, step, .. } => write!(f, "{comma}{first}-{}/{step}", run.last())?,
            }
        }
        Ok(())
    }
}

/// Joins runs that follow one another into the longest ones: step 1 needs two frames, a larger step three.
pub(super) fn sequential(runs: impl Iterator<Item = FrameRun>) -> impl Iterator<Item = FrameRun> {
    Joined { runs, waiting: Vec::new(), open: None }
}

struct Joined<I> {
    runs: I,
    /// Pieces put back, the next one last.
    waiting: Vec<FrameRun>,
    open: Option<FrameRun>,
}

impl<I: Iterator<Item = FrameRun>> Iterator for Joined<I> {
    type Item = FrameRun;

    fn next(&mut self) -> Option<FrameRun> {
        loop {
            let Some(next) = self.waiting.pop().or_else(|| self.runs.next()) else {
                let open = self.open.take()?;
                return Some(self.close(open));
            };
            let Some(open) = self.open else {
                self.open = Some(next);
                continue;
            };
            let step = if open.count == 1 { next.first - open.last() } else { open.step };
            if next.first - open.last() != step {
                self.open = None;
                self.waiting.push(next);
                return Some(self.close(open));
            }
            let whole = next.count == 1 || next.step == step;
            let taken = if whole { next.count } else { 1 };
            if !whole {
                let rest = next.count - 1;
                self.waiting.push(FrameRun {
                    first: next.first + next.step,
                    count: rest,
                    step: if rest == 1 { 1 } else { next.step },
                });
            }
            self.open = Some(FrameRun { first: open.first, step, count: open.count + taken });
        }
    }
}

impl<I> Joined<I> {
    /// A finished run; of two frames with a gap only the first is given out, the second may begin another run.
    fn close(&mut self, run: FrameRun) -> FrameRun {
        if run.count == 2 && run.step > 1 {
            self.waiting.push(FrameRun { first: run.last(), step: 1, count: 1 });
            return FrameRun { first: run.first, step: 1, count: 1 };
        }
        run
    }
}

impl Frames {
    /// What a sentence calls them: `frame 7`, `frames 1-4`.
    #[must_use]
    pub fn worded(&self) -> String {
        format!("{} {self}", if self.count() == 1 { "frame" } else { "frames" })
    }

    /// `is` of one frame, `are` of several.
    #[must_use]
    pub fn are(&self) -> &'static str {
        if self.count() == 1 { "is" } else { "are" }
    }

    /// `was` of one frame, `were` of several.
    #[must_use]
    pub fn were(&self) -> &'static str {
        if self.count() == 1 { "was" } else { "were" }
    }
}
