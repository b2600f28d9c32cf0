//! Failures by their causes: what was said once of many frames and jobs is one line.

use crate::frames::Frames;

use super::event::Event;

/// Frames that failed for one reason.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FailureCause {
    /// What was said, with `#` in place of numbers where it was said with several.
    pub why: String,
    /// The series or jobs it was said of, in the order of the plan, with their frames; of a job that was given up, none.
    pub of: Vec<(String, Frames)>,
}

/// The causes of failures, those that ended whole jobs first, each in the order of the plan. `place` is where a job stands in it.
/// What failed in a job for the reason for which it was given up is not said again.
#[must_use]
pub fn causes(events: &[Event], place: &dyn Fn(&str) -> usize) -> Vec<FailureCause> {
    let mut given_up: Vec<(usize, &str, &str)> = Vec::new();
    for event in events {
        if let Event::GaveUp { job, why } = event {
            given_up.push((place(job), job, why));
        }
    }
    given_up.sort_unstable();
    // The last failure of a job before it was given up is the one that ended it.
    let mut ended: Vec<(&str, String)> = Vec::new();
    for (at, event) in events.iter().enumerate() {
        let Event::GaveUp { job: over, .. } = event else { continue };
        let last = events[..at].iter().rev().find_map(|event| match event {
            Event::Failed { job, why, .. } if job == over => Some(without_numbers(why)),
            _ => None,
        });
        ended.extend(last.map(|why| (over.as_str(), why)));
    }
    let is_over = |job: &str, why: &str| ended.iter().any(|(own, end)| *own == job && *end == without_numbers(why));
    let mut failed: Vec<(usize, i64, String, &Frames, &str)> = Vec::new();
    for event in events {
        if let Event::Failed { job, series, frames, why, .. } = event
            && !is_over(job, why)
        {
            failed.push((place(job), frames.first().unwrap_or(0), series.join(" "), frames, why));
        }
    }
    failed.sort_by(|a, b| (a.0, a.1, &a.2).cmp(&(b.0, b.1, &b.2)));
    let mut causes: Vec<FailureCause> = Vec::new();
    let mut add = |of: &str, frames: &Frames, why: &str, from: usize| {
        let alike = |own: &FailureCause| without_numbers(&own.why) == without_numbers(why);
        let at = causes[from..].iter().position(alike).map_or_else(
            || {
                causes.push(FailureCause { why: why.to_owned(), of: Vec::new() });
                causes.len() - 1
            },
            |at| from + at,
        );
        let cause = &mut causes[at];
        if cause.why != why {
            cause.why = without_numbers(why);
        }
        match cause.of.iter_mut().find(|(own, _)| own == of) {
            Some((_, own)) => *own = own.union(frames),
            None => cause.of.push((of.to_owned(), frames.clone())),
        }
    };
    for (_, job, why) in &given_up {
        add(job, &Frames::none(), why, 0);
    }
    let from = given_up.iter().map(|(_, _, why)| without_numbers(why)).collect::<std::collections::BTreeSet<_>>().len();
    for (_, _, series, frames, why) in &failed {
        add(series, frames, why, from);
    }
    causes
}

/// A text in which every number is `#`, so that what differs by numbers alone is the same.
#[must_use]
pub fn without_numbers(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for letter in text.chars() {
        match letter {
            digit if digit.is_ascii_digit() && out.ends_with('#') => {}
            digit if digit.is_ascii_digit() => out.push('#'),
            letter => out.push(letter),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::{Event, Frames, causes};

    #[test]
    fn one_cause_is_one_line_with_all_its_jobs_in_the_order_of_the_plan() {
        let failed = |job: &str, frames: (i64, i64), why: &str| Event::Failed {
            job: job.to_owned(),
            series: vec![format!("{job}/beauty")],
            call: String::new(),
            frames: Frames::range(frames.0, frames.1),
            why: why.to_owned(),
            log: String::new(),
        };
        let gave_up = |job: &str, why: &str| Event::GaveUp { job: job.to_owned(), why: why.to_owned() };
        let events = [
            failed("c", (9, 9), "no texture 12"),
            failed("a", (5, 6), "no texture 7"),
            failed("b", (3, 3), "no light"),
            failed("b", (1, 24), "ended with 3"),
            gave_up("b", "6 starts produced nothing"),
            failed("a", (1, 2), "no texture 7"),
            gave_up("d", "8 starts produced nothing"),
        ];
        let told = causes(&events, &|job| "abcd".find(job).unwrap_or(9));
        let told: Vec<String> = told
            .iter()
            .map(|cause| {
                let of = cause.of.iter().map(|(of, frames)| format!("{of} {frames}").trim_end().to_owned());
                format!("{}: {}", cause.why, of.collect::<Vec<_>>().join(", "))
            })
            .collect();
        assert_eq!(
            told,
            ["# starts produced nothing: b, d", "no texture #: a/beauty 1-2,5-6, c/beauty 9", "no light: b/beauty 3",]
        );
    }
}
