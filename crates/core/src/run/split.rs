//! Work in parts that take about equally long.

use std::ops::Range;

/// Cuts a row of pieces into at most `parts` runs of neighbours, so that the heaviest run is as light as it can be. Pieces of
/// one weight give runs whose lengths differ by at most one. No run is empty; weights are finite and not below zero.
///
/// # Panics
/// Never: with no piece there is no run.
#[must_use]
pub fn split(weights: &[f64], parts: usize) -> Vec<Range<usize>> {
    let parts = parts.clamp(1, weights.len().max(1));
    if weights.is_empty() {
        return Vec::new();
    }
    let even = evenly(weights.len(), parts);
    let heaviest =
        |runs: &[Range<usize>]| runs.iter().map(|run| weights[run.clone()].iter().sum::<f64>()).fold(0.0, f64::max);
    // No run can be lighter than the heaviest piece, and the even cut is always possible.
    let mut low = weights.iter().copied().fold(0.0, f64::max);
    let mut high = heaviest(&even);
    for _ in 0..60 {
        let middle = f64::midpoint(low, high);
        match filled(weights, parts, middle) {
            Some(_) => high = middle,
            None => low = middle,
        }
    }
    let near = nearest(weights, parts);
    let enough = high * 1.000_001;
    for runs in [even, near] {
        if runs.len() == parts && heaviest(&runs) <= enough {
            return runs;
        }
    }
    let mut runs = filled(weights, parts, enough).unwrap_or_else(|| evenly(weights.len(), parts));
    // Room that is left goes to whoever has most.
    while runs.len() < parts {
        let weight = |run: &Range<usize>| weights[run.clone()].iter().sum::<f64>();
        let most = runs.iter().enumerate().filter(|(_, run)| run.len() > 1);
        let Some((at, run)) =
            most.max_by(|a, b| weight(a.1).total_cmp(&weight(b.1))).map(|(at, run)| (at, run.clone()))
        else {
            break;
        };
        let halves = nearest(&weights[run.clone()], 2);
        let middle = halves.first().map_or(run.start + 1, |half| run.start + half.end);
        runs.splice(at..=at, [run.start..middle, middle..run.end]);
    }
    runs
}

/// Runs whose lengths differ by at most one.
fn evenly(count: usize, parts: usize) -> Vec<Range<usize>> {
    (0..parts).map(|part| part * count / parts..(part + 1) * count / parts).collect()
}

/// Runs that end as near as they can to equal shares of the whole.
fn nearest(weights: &[f64], parts: usize) -> Vec<Range<usize>> {
    let all: f64 = weights.iter().sum();
    let (mut runs, mut from, mut sum) = (Vec::new(), 0, 0.0);
    for (at, weight) in weights.iter().enumerate() {
        let left = parts - runs.len() - 1;
        let share = all * (runs.len() + 1) as f64 / parts as f64;
        let is_nearer = sum + weight / 2.0 > share;
        let must = weights.len() - at <= left;
        if at > from && left > 0 && (is_nearer || must) {
            runs.push(from..at);
            from = at;
        }
        sum += weight;
    }
    runs.push(from..weights.len());
    runs
}

/// Runs that are each filled up to a limit; `None` where that takes too many.
fn filled(weights: &[f64], parts: usize, most: f64) -> Option<Vec<Range<usize>>> {
    let (mut runs, mut from, mut sum) = (Vec::new(), 0, 0.0);
    for (at, weight) in weights.iter().enumerate() {
        if at > from && sum + weight > most {
            runs.push(from..at);
            (from, sum) = (at, 0.0);
            if runs.len() == parts {
                return None;
            }
        }
        sum += weight;
    }
    runs.push(from..weights.len());
    Some(runs)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::split;

    /// The lightest heaviest run there is, by trying every cut.
    fn best(weights: &[f64], parts: usize) -> f64 {
        if parts == 1 || weights.len() == 1 {
            return weights.iter().sum();
        }
        let cuts = 1..=weights.len();
        let rest = |cut: usize| if cut == weights.len() { 0.0 } else { best(&weights[cut..], parts - 1) };
        cuts.map(|cut| weights[..cut].iter().sum::<f64>().max(rest(cut))).fold(f64::INFINITY, f64::min)
    }

    proptest! {
        #[test]
        fn no_cut_is_better_and_no_piece_is_lost(
            weights in prop::collection::vec(prop_oneof![Just(1.0), 0.0..100.0], 1..9),
            parts in 1usize..6,
        ) {
            let runs = split(&weights, parts);
            prop_assert_eq!(runs.len(), parts.min(weights.len()));
            prop_assert!(runs.iter().all(|run| !run.is_empty()));
            let joined: Vec<usize> = runs.iter().cloned().flatten().collect();
            prop_assert_eq!(joined, (0..weights.len()).collect::<Vec<_>>());
            let heaviest = runs.iter().map(|run| weights[run.clone()].iter().sum::<f64>()).fold(0.0, f64::max);
            prop_assert!(heaviest <= best(&weights, parts) * 1.000_01 + 1e-9);
        }

        #[test]
        fn equal_pieces_are_dealt_out_evenly(count in 1usize..500, parts in 1usize..40) {
            let runs = split(&vec![3.5; count], parts);
            let lengths: Vec<usize> = runs.iter().map(ExactSizeIterator::len).collect();
            prop_assert!(lengths.iter().max().unwrap_or(&0) - lengths.iter().min().unwrap_or(&0) <= 1);
        }
    }

    #[test]
    fn frames_that_cost_more_and_more_are_cut_by_their_cost() {
        let weights: Vec<f64> = (0..960).map(|frame| 1.0 + 9.0 * f64::from(frame) / 959.0).collect();
        let ideal = weights.iter().sum::<f64>() / 8.0;
        let longest = |runs: &[std::ops::Range<usize>]| {
            runs.iter().map(|run| weights[run.clone()].iter().sum::<f64>()).fold(0.0, f64::max)
        };
        assert!(longest(&split(&weights, 8)) < 1.01 * ideal);
        assert!(longest(&split(&vec![1.0; 960], 8)) > 1.6 * ideal, "by count, the last part takes much longer");
        assert!(split(&[], 3).is_empty());
    }
}
