//! Between which bounds what some work takes will lie.

use crate::frames::Frames;

use super::samples::{Basis, Measurements};

/// Bounds, as factors of what was estimated.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct CostRange {
    /// The lower one.
    pub low: f64,
    /// The upper one.
    pub high: f64,
}

/// A normal distribution lies within so many standard deviations 19 times in 20.
const USUALLY: f64 = 1.96;
/// Where a few frames are far dearer than the others, a mean that has too many of them is further off than one that has too few.
const SKEWED: f64 = 3.2;
/// How many times as dear as the usual one such a frame is.
const FAR_DEARER: f64 = 5.0;
/// From so many measured frames on, the upper bound is at most `NARROW` times the lower one.
pub const ENOUGH: i64 = 24;
const NARROW: f64 = 4.0;
const WIDE: f64 = 12.0;
/// How many times as dear as the usual frame one may be that nobody has measured: a flash, a close view of the water.
const DEAR: f64 = 20.0;
/// Where some frames out of so many are of a kind, that kind is not seen in `n` frames one time in ten at a share of this
/// over `n`.
const UNSEEN: f64 = 2.2;
/// Most that unseen frames may add, in parts of what is guessed.
const MOST_UNSEEN: f64 = 2.0;

/// What is known and guessed of some frames of one series.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Forecast {
    /// Seconds of frames that were measured themselves.
    known: f64,
    /// Seconds of all others.
    guessed: f64,
    /// Standard deviation of these, in seconds.
    doubt: f64,
    /// Seconds that frames may add that are dearer than all that were measured.
    unseen: f64,
    /// Whether a few of the measured frames are far dearer than the others.
    skewed: bool,
}

impl Forecast {
    /// What `samples` say of some frames that are rendered in calls of a size.
    pub(super) fn of(samples: &Measurements, frames: &Frames, in_call: f64) -> Forecast {
        let (mut part, mut count, mut beyond) = (Forecast::default(), 0.0, 0.0);
        for frame in frames.iter() {
            let Some((seconds, basis)) = samples.seconds(frame, in_call) else { continue };
            if basis == Basis::Measured {
                part.known += seconds;
                continue;
            }
            part.guessed += seconds;
            count += 1.0;
            beyond += if basis == Basis::Beyond { seconds } else { 0.0 };
        }
        if count == 0.0 {
            return part;
        }
        let mean = part.guessed / count;
        let spread = samples.residual() * count * (1.0 / samples.calls() + 1.0 / count).sqrt();
        // Frames beyond all that were measured may be of another kind altogether; one or two of them are not.
        let outside = if beyond > part.guessed / 20.0 { beyond / 2.0 } else { 0.0 };
        part.doubt = spread.hypot(outside);
        part.skewed = samples.dearest() > FAR_DEARER * samples.usual();
        let dearer = (DEAR * samples.usual() - samples.dearest()).max(0.0) / mean.max(f64::MIN_POSITIVE);
        part.unseen = (UNSEEN / samples.frames() * dearer).min(MOST_UNSEEN) * part.guessed;
        part
    }

    /// Frames of a series of which nothing was measured.
    pub(super) fn by_pixels(seconds: f64) -> Forecast {
        Forecast { guessed: seconds, doubt: seconds * 0.7, unseen: seconds, ..Forecast::default() }
    }
}

/// The bounds of all of it together. `noise` is how much frames differ from one time to the next, in parts of themselves;
/// `seen` is how many frames were measured.
pub(super) fn range(parts: &[Forecast], noise: f64, seen: i64) -> CostRange {
    let sum = |of: fn(&Forecast) -> f64| parts.iter().map(of).sum::<f64>();
    let (known, guessed) = (sum(|part| part.known), sum(|part| part.guessed));
    let all = known + guessed;
    if all <= 0.0 {
        return CostRange { low: 1.0, high: 1.0 };
    }
    // What is wrong for one series is wrong for the next in the same way.
    let doubt = (sum(|part| part.doubt) / all).hypot(noise).min(0.9);
    let below = if parts.iter().any(|part| part.skewed) { SKEWED } else { USUALLY };
    let low = (-below * doubt).exp();
    let high = (USUALLY * doubt).exp() + sum(|part| part.unseen) / all;
    let widest = if seen >= ENOUGH { NARROW } else { WIDE };
    let too_wide = ((high / low).ln() / widest.ln()).max(1.0);
    CostRange { low: low.powf(1.0 / too_wide), high: high.powf(1.0 / too_wide) }
}

#[cfg(test)]
mod tests {
    use super::{Forecast, range};
    use crate::frames::Frames;
    use crate::run::cost::choose::{Measurable, choose};
    use crate::run::cost::samples::Measurements;

    /// Numbers between 0 and 1, the same each time.
    struct Numbers(u64);

    impl Numbers {
        fn next(&mut self) -> f64 {
            self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (self.0 >> 33) as f64 / f64::from(1u32 << 31)
        }
    }

    const FRAMES: i64 = 240;

    /// What frame costs what, by profile; `at` shifts it.
    fn seconds(profile: &str, frame: i64, at: i64, numbers: &mut Numbers) -> f64 {
        let way = (frame - 1) as f64 / FRAMES as f64;
        let own = match profile {
            "flat" => 2.0,
            "ramp" => 1.0 + 9.0 * way,
            "step" => {
                if frame > FRAMES / 5 + at * 7 {
                    10.0
                } else {
                    1.0
                }
            }
            "spike" => {
                if (frame + at) % 12 == 0 {
                    20.0
                } else {
                    1.0
                }
            }
            _ => 0.3 + 3.0 * numbers.next() * numbers.next(),
        };
        own * (0.95 + 0.1 * numbers.next())
    }

    #[test]
    fn what_frames_take_lies_between_the_bounds_nineteen_times_in_twenty() {
        let all = Frames::range(1, FRAMES);
        for profile in ["flat", "ramp", "step", "spike", "noisy"] {
            let mut outside = [0, 0];
            for seed in 0..60 {
                let mut numbers = Numbers(seed);
                let costs: Vec<f64> =
                    (1..=FRAMES).map(|frame| seconds(profile, frame, seed as i64 % 20, &mut numbers)).collect();
                let of = |frame: i64| costs[frame as usize - 1];
                let mut samples = Measurements::default();
                // In two goes, as somebody does who is not content with the first.
                for _ in 0..2 {
                    let wanted = [Measurable { samples: &samples, frames: &all, seconds: 1.0 }];
                    let chosen: Vec<i64> = choose(&wanted, 12).into_iter().map(|(_, frame)| frame).collect();
                    assert_eq!(chosen.len(), 12);
                    for frame in chosen {
                        samples.add(&[frame], of(frame));
                    }
                }
                assert_eq!(samples.frames(), 24.0, "no frame is measured twice");
                let truth: f64 = costs.iter().sum();
                let mut look = |samples: &Measurements, noise: f64, again: f64, which: usize| {
                    let estimated: f64 = (1..=FRAMES).filter_map(|frame| Some(samples.seconds(frame, 1.0)?.0)).sum();
                    let range = range(&[Forecast::of(samples, &all, 1.0)], noise, 24);
                    assert!(range.high / range.low <= 4.0 + 1e-9, "{profile} {range:?}");
                    let factor = truth * again / estimated;
                    if factor < range.low || factor > range.high {
                        outside[which] += 1;
                    }
                };
                look(&samples, 0.12, 1.0, 0);
                // Once all is known, only the machine may be faster or slower.
                for frame in 1..=FRAMES {
                    samples.add(&[frame], of(frame));
                }
                look(&samples, 0.12, 0.85 + 0.3 * numbers.next(), 1);
            }
            assert!(outside.iter().all(|count| *count <= 3), "{profile}: {outside:?} of 60 outside");
        }
    }

    #[test]
    fn few_frames_promise_little_and_frames_beyond_them_less() {
        let mut samples = Measurements::default();
        samples.add(&[1], 2.0);
        let wide = range(&[Forecast::of(&samples, &Frames::range(1, 48), 1.0)], 0.12, 1);
        assert!(wide.high / wide.low > 5.0, "{wide:?}");
        for frame in 2..=48 {
            samples.add(&[frame], 2.0);
        }
        let known = range(&[Forecast::of(&samples, &Frames::range(1, 48), 1.0)], 0.12, 48);
        assert!(known.high / known.low < 1.7, "{known:?}");
        let beyond = range(&[Forecast::of(&samples, &Frames::range(49, 240), 1.0)], 0.12, 48);
        assert!(beyond.high > 2.0 && beyond.high / beyond.low > 3.0, "{beyond:?}");
    }
}
