//! Union, intersection and difference of sets, run against run.
//!
//! Two runs meet in a run whose step is the least common multiple of theirs (Chinese remainder theorem). What is left of
//! a run after another is taken out is either a few interleaved runs or a few pieces, whichever is fewer.

use super::{FrameRun, Frames};

impl Frames {
    /// Frames in either.
    #[must_use]
    pub fn union(&self, other: &Frames) -> Frames {
        self.union_within(other, i64::MAX).unwrap_or_default()
    }

    /// Frames in both.
    #[must_use]
    pub fn intersect(&self, other: &Frames) -> Frames {
        let pairs = self.runs.iter().flat_map(|a| other.runs.iter().filter_map(move |b| meet(a, b)));
        pairs.collect::<Frames>().tidy()
    }

    /// Whether the two share no frame.
    #[must_use]
    pub fn is_disjoint(&self, other: &Frames) -> bool {
        self.runs.iter().all(|a| other.runs.iter().all(|b| meet(a, b).is_none()))
    }

    /// Frames of this set that are not in the other.
    #[must_use]
    pub fn minus(&self, other: &Frames) -> Frames {
        self.minus_within(other, i64::MAX).unwrap_or_default()
    }

    /// The same; `None` where it takes more than so many runs.
    pub(super) fn minus_within(&self, other: &Frames, most: i64) -> Option<Frames> {
        let mut left = self.runs.clone();
        for taken in &other.runs {
            let runs = left.iter().map(|run| pieces(run, taken)).fold(0i64, i64::saturating_add);
            if runs > most {
                return None;
            }
            left = left.iter().flat_map(|run| without(run, taken)).collect();
        }
        Some(left.into_iter().collect::<Frames>().tidy())
    }

    /// [`Frames::union`]; `None` where it takes more than so many runs.
    pub(super) fn union_within(&self, other: &Frames, most: i64) -> Option<Frames> {
        let new = other.minus_within(self, most)?;
        Some(self.runs.iter().chain(&new.runs).copied().collect::<Frames>().tidy())
    }

    /// Joins neighbours that continue each other, as long as no runs interleave.
    fn tidy(self) -> Frames {
        let apart = self.runs.windows(2).all(|pair| pair[0].last() < pair[1].first);
        if apart { super::print::sequential(self.runs.into_iter()).collect() } else { self }
    }
}

/// The frames that two runs share.
fn meet(a: &FrameRun, b: &FrameRun) -> Option<FrameRun> {
    let (low, high) = (a.first.max(b.first), a.last().min(b.last()));
    if low > high {
        return None;
    }
    if a.step == 1 && b.step == 1 {
        return FrameRun::new(low, high, 1);
    }
    let (a_step, b_step) = (i128::from(a.step), i128::from(b.step));
    let (divisor, inverse) = extended_gcd(a_step, b_step);
    let gap = i128::from(b.first) - i128::from(a.first);
    if gap % divisor != 0 {
        return None;
    }
    let step = a_step / divisor * b_step;
    let turns = ((gap / divisor) % (b_step / divisor) * inverse).rem_euclid(b_step / divisor);
    let common = i128::from(a.first) + turns * a_step;
    let low = i128::from(low);
    let first = common + (low - common).div_euclid(step) * step;
    let first = if first < low { first + step } else { first };
    FrameRun::new(i64::try_from(first).ok()?, high, i64::try_from(step).unwrap_or(i64::MAX))
}

impl FrameRun {
    /// The frames that two runs share.
    #[must_use]
    pub fn meet(&self, other: &FrameRun) -> Option<FrameRun> {
        meet(self, other)
    }

    /// Some `n` with `factor * n = rest` modulo `modulus`, where there is one.
    #[must_use]
    pub fn congruent(factor: i128, rest: i128, modulus: i128) -> Option<i128> {
        let (divisor, inverse) = extended_gcd(factor.rem_euclid(modulus), modulus);
        (rest % divisor == 0).then(|| ((rest / divisor).rem_euclid(modulus) * inverse).rem_euclid(modulus / divisor))
    }
}

/// The greatest common divisor of `a` and `b`, and the inverse of `a / gcd` modulo `b / gcd`.
fn extended_gcd(a: i128, b: i128) -> (i128, i128) {
    let (mut old, mut new) = ((a, 1), (b, 0));
    while new.0 != 0 {
        let quotient = old.0 / new.0;
        (old, new) = (new, (old.0 - quotient * new.0, old.1 - quotient * new.1));
    }
    (old.0, old.1)
}

/// At most so many runs are left of `run` without the frames of `taken`.
fn pieces(run: &FrameRun, taken: &FrameRun) -> i64 {
    meet(run, taken).map_or(1, |hole| (hole.step / run.step).min(hole.count).saturating_add(2))
}

/// What is left of `run` without the frames of `taken`.
fn without(run: &FrameRun, taken: &FrameRun) -> Vec<FrameRun> {
    let Some(hole) = meet(run, taken) else { return vec![*run] };
    let before = FrameRun::new(run.first, hole.first - run.step, run.step);
    let after = FrameRun::new(hole.last() + run.step, run.last(), run.step);
    let mut left: Vec<FrameRun> = before.into_iter().collect();
    let ratio = hole.step / run.step;
    if hole.count > 1 && ratio > 1 {
        if ratio <= hole.count {
            left.extend(
                (1..ratio).filter_map(|class| FrameRun::new(hole.first + class * run.step, hole.last(), hole.step)),
            );
        } else {
            let pieces = (0..hole.count - 1).map(|at| hole.first + at * hole.step);
            left.extend(pieces.filter_map(|at| FrameRun::new(at + run.step, at + hole.step - run.step, run.step)));
        }
    }
    left.extend(after);
    left
}
