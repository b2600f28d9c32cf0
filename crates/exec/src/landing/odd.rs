//! What is odd about files as they land: each by itself, and beside its neighbours once those are there.

use std::collections::{BTreeMap, HashMap};

use truepath_core::frames::Frames;
use truepath_core::picture::{Content, OddKind, Oddity, ShownPicture, alone, beside};
use truepath_core::plan::Plan;

use super::Down;

/// Pictures of a series that are kept until their neighbours have landed.
const MOST_KEPT: usize = 512;

/// A picture that has landed.
struct Kept {
    content: Content,
    bytes: u64,
    unproven: Option<String>,
    judged: bool,
}

impl Kept {
    fn shown(&self) -> ShownPicture<'_> {
        ShownPicture { content: &self.content, bytes: self.bytes }
    }
}

/// The pictures that have landed last, by series and frame.
#[derive(Default)]
pub struct Watcher {
    kept: HashMap<usize, BTreeMap<i64, Kept>>,
}

impl Watcher {
    /// A file has landed: what is odd about it and about its neighbours, as far as all that is needed is there.
    pub fn landed(&mut self, plan: &Plan, (series, frame): (usize, i64), down: &Down) -> Vec<(i64, Oddity)> {
        let Some(frames) = plan.series.get(series).and_then(|own| own.frames.as_ref()) else { return Vec::new() };
        let kept = self.kept.entry(series).or_default();
        let (content, unproven) = (down.content.clone(), down.unproven.clone());
        kept.insert(frame, Kept { content, bytes: down.bytes, unproven, judged: false });
        let around = [before(frames, frame), Some(frame), after(frames, frame)];
        let mut found = Vec::new();
        for frame in around.into_iter().flatten() {
            let is_there = |other: Option<i64>| other.is_none_or(|other| kept.contains_key(&other));
            if is_there(before(frames, frame)) && is_there(after(frames, frame)) {
                found.extend(judged(plan, series, kept, frame));
            }
        }
        while kept.len() > MOST_KEPT {
            let oldest = kept.iter().find(|(_, own)| own.judged).or_else(|| kept.first_key_value());
            let Some(oldest) = oldest.map(|(frame, _)| *frame) else { break };
            found.extend(judged(plan, series, kept, oldest));
            kept.remove(&oldest);
        }
        found
    }

    /// Nothing more will land: what is odd about the rest.
    pub fn rest(&mut self, plan: &Plan) -> Vec<(usize, i64, Oddity)> {
        let mut found = Vec::new();
        for (series, kept) in &mut self.kept {
            let frames: Vec<i64> = kept.keys().copied().collect();
            let own = frames.into_iter().filter_map(|frame| judged(plan, *series, kept, frame));
            found.extend(own.map(|(frame, odd)| (*series, frame, odd)));
        }
        self.kept.clear();
        found
    }
}

/// What is odd about a kept picture, beside those of its neighbours that are kept; once.
fn judged(plan: &Plan, series: usize, kept: &mut BTreeMap<i64, Kept>, frame: i64) -> Option<(i64, Oddity)> {
    let own = kept.get(&frame).filter(|own| !own.judged)?;
    let series = &plan.series[series];
    let frames = series.frames.as_ref()?;
    let asked = plan.asked(series);
    let neighbour = |frame: Option<i64>| frame.and_then(|frame| kept.get(&frame)).map(Kept::shown);
    let neighbours = [neighbour(before(frames, frame)), neighbour(after(frames, frame))];
    let mut found = alone(&own.content, asked);
    found.extend(beside(own.shown(), neighbours, asked, &plan.policy));
    found.extend(own.unproven.clone().map(|why| Oddity { kind: OddKind::Unproven, why }));
    let odd = plan.policy.together(found);
    kept.get_mut(&frame)?.judged = true;
    Some((frame, odd?))
}

/// The frame of a series that comes before one of its own.
fn before(frames: &Frames, frame: i64) -> Option<i64> {
    let before = |run: &truepath_core::frames::FrameRun| {
        let end = run.last().min(frame.checked_sub(1)?);
        (end >= run.first).then(|| end - (end - run.first).rem_euclid(run.step))
    };
    frames.runs().iter().filter_map(before).max()
}

/// The frame of a series that comes after one of its own.
fn after(frames: &Frames, frame: i64) -> Option<i64> {
    let after = |run: &truepath_core::frames::FrameRun| {
        let start = run.first.max(frame.checked_add(1)?);
        let next = start + (run.first - start).rem_euclid(run.step);
        (next <= run.last()).then_some(next)
    };
    frames.runs().iter().filter_map(after).min()
}
