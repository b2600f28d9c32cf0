//! What is left to render, from what was planned and what stands.

use crate::frames::Frames;
use crate::sheet::Existing;
use crate::verify::Verdict;

/// The frames of one series that have to be rendered.
#[must_use]
pub fn outstanding(verdict: &Verdict, existing: Existing) -> Frames {
    let lost = verdict.missing.union(&verdict.broken);
    match existing {
        Existing::Keep | Existing::Stop => lost,
        Existing::Renew => lost.union(&verdict.wrong),
        Existing::Replace => verdict.expected.clone(),
    }
}

/// Frames at whose names anything stands.
#[must_use]
pub fn standing(verdict: &Verdict) -> Frames {
    verdict.expected.minus(&verdict.missing)
}
