//! What is left to render, from what was planned and what stands.

use crate::frames::Frames;
use crate::sheet::Existing;
use crate::verify::{State, Verdict};

/// The frames of one series that have to be rendered.
#[must_use]
pub fn outstanding(verdict: &Verdict, existing: Existing) -> Frames {
    match existing {
        Existing::Keep | Existing::Stop => verdict.in_any(&[State::Missing, State::Broken]),
        Existing::Renew => verdict.in_any(&[State::Missing, State::Broken, State::Wrong, State::Stale]),
        Existing::Replace => verdict.expected.clone(),
    }
}

/// Frames at whose names anything stands.
#[must_use]
pub fn standing(verdict: &Verdict) -> Frames {
    verdict.expected.minus(verdict.in_state(State::Missing))
}
