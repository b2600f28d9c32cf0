//! Which frames to measure next: those of which least is known, and on which most depends.

use std::cmp::Ordering;
use std::collections::BinaryHeap;

use crate::frames::Frames;
use crate::plan::Plan;

use super::Costs;
use super::samples::Measurements;

/// Frames that may be measured, and what is known of them.
pub(super) struct Measurable<'w> {
    /// What was measured.
    pub samples: &'w Measurements,
    /// What is to be rendered.
    pub frames: &'w Frames,
    /// Seconds of a usual frame.
    pub seconds: f64,
}

/// Frames of one of the wanted, of which none was measured: from one place in their list up to another.
struct Gap {
    weight: f64,
    of: usize,
    from: usize,
    to: usize,
    /// Whether a frame before it was measured, and one after it.
    sides: (bool, bool),
}

impl Ord for Gap {
    fn cmp(&self, other: &Gap) -> Ordering {
        // Of two that weigh the same, the first one.
        self.weight.total_cmp(&other.weight).then((other.of, other.from).cmp(&(self.of, self.from)))
    }
}

impl PartialOrd for Gap {
    fn partial_cmp(&self, other: &Gap) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for Gap {
    fn eq(&self, other: &Gap) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}

impl Eq for Gap {}

/// At most `count` frames, each with the index of what it is of, in the order in which they tell most.
pub(super) fn choose(all: &[Measurable<'_>], count: usize) -> Vec<(usize, i64)> {
    let lists: Vec<Vec<i64>> = all.iter().map(|own| own.frames.iter().collect()).collect();
    let mut gaps: BinaryHeap<Gap> = BinaryHeap::new();
    let gap = |of: usize, from: usize, to: usize, sides: (bool, bool)| {
        // Most may be wrong where the gap is long, more beyond what was measured, most where nothing was. What its sides cost
        // does not count: around one dear frame, many cheap ones would be measured, and their cost taken for that of all.
        let doubt = match sides {
            (true, true) => 1.0,
            (true, false) | (false, true) => 2.0,
            (false, false) => 8.0,
        };
        Gap { weight: (to - from) as f64 * all[of].seconds * doubt, of, from, to, sides }
    };
    for (of, (own, list)) in all.iter().zip(&lists).enumerate() {
        let (Some(first), Some(last)) = (list.first(), list.last()) else { continue };
        let (mut from, mut before) = (0, own.samples.around(*first).0);
        for (at, _) in list.iter().enumerate().filter(|(_, frame)| own.samples.has(**frame)) {
            gaps.push(gap(of, from, at, (before, true)));
            (from, before) = (at + 1, true);
        }
        gaps.push(gap(of, from, list.len(), (before, own.samples.around(*last).1)));
    }
    let mut chosen = Vec::new();
    while chosen.len() < count {
        let Some(Gap { of, from, to, sides, .. }) = gaps.pop() else { break };
        if from >= to {
            continue;
        }
        let at = match sides {
            (true, false) => to - 1,
            (false, true) => from,
            // Not in the very middle: costs that come again every so many frames would all be met, or all be missed.
            _ => from + ((to - from) as f64 * (0.35 + 0.3 * scattered(from, to))) as usize,
        };
        chosen.push((of, lists[of][at]));
        gaps.push(gap(of, from, at, (sides.0, true)));
        gaps.push(gap(of, at + 1, to, (true, sides.1)));
    }
    chosen
}

/// A number between 0 and 1 that follows no pattern, the same for the same two numbers.
fn scattered(a: usize, b: usize) -> f64 {
    let mixed = (a as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ (b as u64).wrapping_mul(0xC2B2_AE3D_27D4_EB4F);
    ((mixed ^ (mixed >> 29)).wrapping_mul(0xBF58_476D_1CE4_E5B9) >> 40) as f64 / f64::from(1u32 << 24)
}

/// Frames of each series of a plan, and how many of them a call renders.
pub type Round = (Vec<Frames>, i64);

/// Frames of a call that is measured to tell its start from its frames.
const TOGETHER: i64 = 4;

/// At most `count` frames of what is `left` of each series: those that tell most, each in a call of its own; and, where calls
/// have several frames and nobody knows how long they take to start, a call of a few frames for each job.
#[must_use]
pub fn rounds(costs: &Costs, plan: &Plan, left: &[Frames], count: usize) -> Vec<Round> {
    // Passes of a job are rendered together: its first series stands for all.
    let firsts = (0..plan.jobs.len()).filter_map(|job| plan.series_of(job).next());
    let firsts: Vec<(usize, &Frames)> = firsts.map(|at| (at, &left[at])).filter(|(_, left)| !left.is_empty()).collect();
    let none = || vec![Frames::none(); plan.series.len()];
    let (mut single, mut together) = (none(), none());
    let mut rest = count;
    for (first, frames) in &firsts {
        let series = &plan.series[*first];
        let size = TOGETHER.min(plan.run.chunk).min(frames.count());
        let needed = usize::try_from(size).unwrap_or(0);
        // The greater part is for frames alone.
        if size < 2 || rest < needed * 3 || costs.knows_start(series) {
            continue;
        }
        rest -= needed;
        // Of frames that lie close together, so that nothing else is between them, and far from either end.
        let new = costs.unmeasured(series, frames);
        let middle = new.count() / size / 2;
        let span = |(at, own): &(usize, Frames)| {
            (own.last().unwrap_or(0) - own.first().unwrap_or(0), (*at as i64 - middle).abs())
        };
        let whole = new.chunks(size).enumerate().filter(|(_, own)| own.count() == size);
        let (_, closest) = whole.min_by_key(span).unwrap_or_default();
        plan.series_of(series.job).for_each(|at| together[at].clone_from(&closest));
    }
    let alone: Vec<(usize, Frames)> = firsts.iter().map(|(at, own)| (*at, own.minus(&together[*at]))).collect();
    let alone: Vec<(usize, &Frames)> = alone.iter().map(|(at, own)| (*at, own)).collect();
    for (first, frame) in costs.next_to_measure(plan, &alone, rest) {
        let own = plan.series_of(plan.series[first].job);
        own.for_each(|at| single[at] = single[at].union(&Frames::one(frame)));
    }
    vec![(single, 1), (together, TOGETHER)]
}
