//! How long frames take, measured, and how long those that are left will.

use std::collections::BTreeMap;

/// Seconds per frame by kind of call: the job's passes and their size.
#[derive(Clone, Debug, Default)]
pub struct Pace {
    kinds: BTreeMap<String, (f64, f64)>,
    seconds: f64,
    pixels: f64,
}

/// Frames of one kind: its name, pixels of all that is written for one frame, and how many frames.
#[derive(Clone, Debug, PartialEq)]
pub struct Load {
    /// The kind.
    pub kind: String,
    /// Pixels of one frame, over all its files.
    pub pixels: f64,
    /// Frames.
    pub frames: f64,
}

impl Pace {
    /// Frames were rendered in so many seconds.
    pub fn add(&mut self, done: &Load, seconds: f64) {
        let (own, frames) = self.kinds.entry(done.kind.clone()).or_default();
        *own += seconds;
        *frames += done.frames;
        self.seconds += seconds;
        self.pixels += done.pixels * done.frames;
    }

    /// Seconds that one worker needs for what is left; `None` while nothing was measured. Kinds that were not measured yet
    /// are taken by their pixels.
    #[must_use]
    pub fn left<'l>(&self, loads: impl IntoIterator<Item = &'l Load>) -> Option<f64> {
        if self.pixels <= 0.0 {
            return None;
        }
        let of = |load: &Load| match self.kinds.get(&load.kind).filter(|(_, frames)| *frames > 0.0) {
            Some((seconds, frames)) => seconds / frames * load.frames,
            None => self.seconds / self.pixels * load.pixels * load.frames,
        };
        Some(loads.into_iter().map(of).sum())
    }
}

#[cfg(test)]
mod tests {
    use super::{Load, Pace};

    #[test]
    fn each_kind_has_its_own_pace_and_an_unknown_one_goes_by_its_pixels() {
        let load = |kind: &str, pixels: f64, frames: f64| Load { kind: kind.to_owned(), pixels, frames };
        let mut pace = Pace::default();
        assert_eq!(pace.left(&[load("beauty", 100.0, 1.0)]), None);
        pace.add(&load("beauty", 100.0, 4.0), 40.0);
        pace.add(&load("depth", 100.0, 4.0), 4.0);
        assert_eq!(pace.left(&[load("beauty", 100.0, 2.0), load("depth", 100.0, 3.0)]), Some(23.0));
        assert_eq!(pace.left(&[load("mask", 200.0, 1.0)]), Some(11.0));
    }
}
