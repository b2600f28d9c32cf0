//! What is left to render, from what was planned and what stands.

use crate::frames::Frames;
use crate::plan::Plan;
use crate::sheet::Existing;
use crate::verify::{NOT_GOOD, State, Verdict};

/// The frames of one series that have to be rendered. A movie that was made of other frames is made again whatever is said
/// of files that are there: it is as new as its frames.
#[must_use]
pub fn outstanding(verdict: &Verdict, existing: Existing) -> Frames {
    match existing {
        Existing::Keep | Existing::Stop if verdict.is_movie => {
            verdict.in_any(&[State::Missing, State::Broken, State::Stale])
        }
        Existing::Keep | Existing::Stop => verdict.in_any(&[State::Missing, State::Broken]),
        Existing::Renew => verdict.in_any(&[State::Missing, State::Broken, State::Wrong, State::Stale]),
        Existing::Replace => verdict.planned.clone(),
    }
}

/// The frames of one series that what is advised would render: what is left to do, whatever a plain run makes of it.
#[must_use]
pub fn advised(verdict: &Verdict) -> Frames {
    verdict.in_any(&NOT_GOOD)
}

/// Adds to what is needed, by output, the movies of which a frame is.
pub fn with_movies(plan: &Plan, need: &mut [Frames], verdicts: &[Verdict]) {
    for (at, movie) in plan.outputs().skip(plan.series.len()) {
        let film = movie.film.as_deref().filter(|_| movie.is_makeable());
        let touched = film.is_some_and(|film| {
            film.clips.iter().any(|clip| need.get(clip.series).is_some_and(|need| !need.is_disjoint(&clip.frames)))
        });
        if let (Some(need), Some(verdict), true) = (need.get_mut(at), verdicts.get(at), touched) {
            *need = verdict.planned.clone();
        }
    }
}

/// Frames at whose names anything stands.
#[must_use]
pub fn standing(verdict: &Verdict) -> Frames {
    verdict.planned.minus(verdict.in_state(State::Missing))
}
