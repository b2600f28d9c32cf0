//! What a member of a shared run means to render, as it leaves it for the others; and how two of them differ.

use serde::{Deserialize, Serialize};

use super::fingerprint::{self, Difference, Fingerprint};
use crate::frames::Frames;
use crate::plan::{Call, Plan};

/// The frames of one series.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct IntendedSeries {
    /// `job/pass`.
    pub id: String,
    /// Its root and its names below it, the same on every machine.
    pub place: String,
    /// Its frames.
    pub frames: Frames,
    /// What they are made of, as far as that does not depend on the machine.
    pub made: Vec<(String, String)>,
}

/// What one member means to render. Two members mean the same where all of it is equal.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Intent {
    /// Modes that are laid over the sheet.
    pub mode: Option<String>,
    /// What becomes of files that are there.
    pub existing: String,
    /// Frames of a call.
    pub chunk: i64,
    /// Its series, movies last.
    pub series: Vec<IntendedSeries>,
}

/// Frames that two members would render differently.
#[derive(Clone, Debug, PartialEq)]
pub struct Conflict {
    /// `job/pass`.
    pub series: String,
    /// The frames.
    pub frames: Frames,
    /// In what they differ: was what the other means, is what this one means.
    pub differences: Vec<Difference>,
}

/// Files that a call writes: where a series lies, and its frames.
pub type Covered = Vec<(String, Frames)>;

impl Intent {
    /// What a plan means. `made` is what its frames are made of, by series.
    #[must_use]
    pub fn of(plan: &Plan, made: &[Option<Fingerprint>], existing: &str) -> Intent {
        let one = |(at, series): (usize, &crate::plan::Series)| IntendedSeries {
            id: series.id.clone(),
            place: series.place.clone(),
            frames: series.frames.clone().unwrap_or_default(),
            made: made
                .get(at)
                .and_then(Option::as_ref)
                .filter(|_| at < plan.series.len())
                .map(anywhere)
                .unwrap_or_default(),
        };
        Intent {
            mode: plan.mode.clone(),
            existing: existing.to_owned(),
            chunk: plan.run.chunk,
            series: plan.outputs().map(one).collect(),
        }
    }

    /// The same, whatever its calls are and whatever becomes of files that are there: two such plans have one end.
    #[must_use]
    pub fn of_files(&self) -> Intent {
        Intent { series: self.series.clone(), ..Intent::default() }
    }

    /// The first frames that another member would render with other settings.
    #[must_use]
    pub fn conflict(&self, other: &Intent) -> Option<Conflict> {
        self.pairs(other).find_map(|(own, theirs)| {
            let frames = own.frames.intersect(&theirs.frames);
            let differences = Fingerprint { parts: own.made.clone() }.differences(&theirs.made);
            let both = !own.made.is_empty() && !theirs.made.is_empty();
            (both && !frames.is_empty() && !differences.is_empty()).then(|| Conflict {
                series: own.id.clone(),
                frames,
                differences,
            })
        })
    }

    /// In what another member's plan differs from this one, in words; empty where both mean the same.
    #[must_use]
    pub fn differs(&self, other: &Intent) -> Vec<String> {
        let mut words = Vec::new();
        if self.chunk != other.chunk {
            let frames = if other.chunk == 1 { "frame" } else { "frames" };
            words.push(format!("calls of {} {frames} instead of {}", other.chunk, self.chunk));
        }
        let mode = |own: &Intent| own.mode.as_ref().map_or("no mode".to_owned(), |mode| format!("mode {mode}"));
        if self.mode != other.mode {
            words.push(format!("{} instead of {}", mode(other), mode(self)));
        }
        if self.existing != other.existing {
            words.push(format!("existing = \"{}\" instead of \"{}\"", other.existing, self.existing));
        }
        for (own, theirs) in self.pairs(other).filter(|(own, theirs)| own.frames != theirs.frames) {
            words.push(format!("{} of {} instead of {}", theirs.frames.worded(), own.id, own.frames));
        }
        let only = |own: &Intent, other: &Intent| {
            let is_new = |series: &&IntendedSeries| !other.series.iter().any(|theirs| theirs.place == series.place);
            own.series.iter().filter(is_new).map(|series| series.id.clone()).collect::<Vec<_>>()
        };
        let (more, less) = (only(other, self), only(self, other));
        words.extend((!more.is_empty()).then(|| format!("also {}", more.join(", "))));
        words.extend((!less.is_empty()).then(|| format!("without {}", less.join(", "))));
        words
    }

    fn pairs<'m>(&'m self, other: &'m Intent) -> impl Iterator<Item = (&'m IntendedSeries, &'m IntendedSeries)> {
        let theirs: std::collections::HashMap<&str, &IntendedSeries> =
            other.series.iter().map(|series| (series.place.as_str(), series)).collect();
        self.series.iter().filter_map(move |own| Some((own, *theirs.get(own.place.as_str())?)))
    }
}

/// The parts that do not depend on the machine: farms whose machines have different versions render together, unless the sheet
/// says otherwise.
fn anywhere(made: &Fingerprint) -> Vec<(String, String)> {
    made.parts.iter().filter(|(name, _)| name != fingerprint::RENDERER).cloned().collect()
}

/// The version of the renderer among the parts of what frames are made of.
#[must_use]
pub fn version(made: &Fingerprint) -> Option<&str> {
    made.parts.iter().find(|(name, _)| name == fingerprint::RENDERER).map(|(_, version)| version.as_str())
}

/// The files that a call writes.
#[must_use]
pub fn covered(plan: &Plan, call: &Call) -> Covered {
    call.series.iter().map(|at| (plan.output(*at).place.clone(), call.frames.clone())).collect()
}

/// Whether two calls write a file of one name.
#[must_use]
pub fn overlap(one: &Covered, other: &Covered) -> bool {
    one.iter().any(|(place, frames)| other.iter().any(|(own, theirs)| own == place && !frames.is_disjoint(theirs)))
}

/// What a member does that finds frames of its claim under claims of members with other plans. Both made their claims before
/// they looked, so that at least one of two finds the other's: whoever finds one does not begin.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Encounter {
    /// Nobody else has them.
    Clear,
    /// It keeps its claim and waits until theirs are over.
    Waits,
    /// It gives its claim back. Of two plans always the same one does, so that both never wait for each other.
    Yields,
}

/// Decides it, by the names of the plans.
#[must_use]
pub fn encounter<'p>(own: &str, met: impl IntoIterator<Item = &'p str>) -> Encounter {
    met.into_iter().fold(Encounter::Clear, |so_far, theirs| match theirs < own {
        true => Encounter::Yields,
        false if so_far == Encounter::Yields => so_far,
        false => Encounter::Waits,
    })
}

#[cfg(test)]
mod tests {
    use super::{Encounter, IntendedSeries, Intent, encounter, overlap};
    use crate::frames::Frames;

    fn meant(frames: (i64, i64), samples: &str) -> Intent {
        let made = vec![("samples".to_owned(), samples.to_owned())];
        let series = |id: &str| IntendedSeries {
            id: id.to_owned(),
            place: format!("{{renders}}/{id}"),
            frames: Frames::range(frames.0, frames.1),
            made: made.clone(),
        };
        Intent { chunk: 6, existing: "keep".to_owned(), mode: None, series: vec![series("quay"), series("mast")] }
    }

    #[test]
    fn plans_conflict_where_the_same_frames_would_look_different() {
        let own = meant((1, 10), "16");
        assert_eq!(own.conflict(&own), None);
        assert_eq!(own.conflict(&meant((11, 20), "32")), None, "other frames");
        let met = own.conflict(&meant((8, 20), "32")).expect("they meet");
        assert_eq!((met.series.as_str(), met.frames), ("quay", Frames::range(8, 10)));
        assert_eq!(met.differences[0].to_string(), "samples 16, was 32");
        let other = Intent { chunk: 4, ..meant((8, 20), "16") };
        assert_eq!(own.conflict(&other), None);
        assert_eq!(own.differs(&other)[0], "calls of 4 frames instead of 6");
        assert!(own.differs(&other)[1].starts_with("frames 8-20 of quay instead of 1-10"));
        assert!(own.differs(&own).is_empty());
    }

    #[test]
    fn of_two_plans_that_meet_one_yields_and_one_waits() {
        assert_eq!(encounter("b", []), Encounter::Clear);
        assert_eq!((encounter("a", ["b"]), encounter("b", ["a"])), (Encounter::Waits, Encounter::Yields));
        assert_eq!(encounter("b", ["a", "c"]), Encounter::Yields);
        let of = |first, last| vec![("p".to_owned(), Frames::range(first, last))];
        assert!(overlap(&of(1, 6), &of(6, 9)) && !overlap(&of(1, 6), &of(7, 9)));
    }
}
