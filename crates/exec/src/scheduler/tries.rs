//! One call of the plan: tried again for what it lacks as often as the sheet allows, then halved until the frames that fail
//! are known.

use std::collections::VecDeque;

/// The tries of one call that are still to be made. `P` is a part of it.
#[derive(Debug)]
pub struct Tries<P> {
    waiting: VecDeque<(P, i64)>,
}

/// What follows from a try of which something is lacking.
#[derive(Debug, PartialEq, Eq)]
pub enum Next {
    /// It is tried again, whole or halved.
    Again,
    /// What is lacking is given up.
    GivenUp,
}

impl<P> Tries<P> {
    /// All parts, each with so many retries.
    pub fn new(parts: impl IntoIterator<Item = P>, retries: i64) -> Tries<P> {
        Tries { waiting: parts.into_iter().map(|part| (part, retries)).collect() }
    }

    /// The next part, and how often it may be tried again after that.
    pub fn pop(&mut self) -> Option<(P, i64)> {
        self.waiting.pop_front()
    }

    /// No licence was free: the same again.
    pub fn waited(&mut self, part: P, left: i64) {
        self.waiting.push_front((part, left));
    }

    /// Something is lacking of a try with `left` retries. `rest` makes the parts that are lacking, and `halves` splits one
    /// in two; one that cannot be halved is given up.
    pub fn lacking(&mut self, left: i64, rest: Vec<P>, can_be_halved: bool, halve: impl Fn(&P) -> Vec<P>) -> Next {
        let (parts, left) = match (left > 0, can_be_halved) {
            (true, _) => (rest, left - 1),
            (false, true) => (rest.iter().flat_map(halve).collect(), 0),
            (false, false) => return Next::GivenUp,
        };
        parts.into_iter().rev().for_each(|part| self.waiting.push_front((part, left)));
        Next::Again
    }
}

#[cfg(test)]
mod tests {
    use super::{Next, Tries};

    /// Frames of which some fail each time; which were given up, and how many tries it took.
    fn made(frames: u32, fails: &[u32], retries: i64) -> (Vec<u32>, usize) {
        let mut tries = Tries::new([(1..=frames).collect::<Vec<u32>>()], retries);
        let (mut lost, mut count) = (Vec::new(), 0);
        while let Some((part, left)) = tries.pop() {
            count += 1;
            // A program stops at the first frame that fails.
            let at = part.iter().position(|frame| fails.contains(frame)).unwrap_or(part.len());
            let rest = part[at..].to_vec();
            if rest.is_empty() {
                continue;
            }
            let halve = |part: &Vec<u32>| -> Vec<Vec<u32>> {
                part.chunks(part.len().div_ceil(2)).map(<[u32]>::to_vec).collect()
            };
            if tries.lacking(left, vec![rest.clone()], rest.len() > 1, halve) == Next::GivenUp {
                lost.extend(rest);
            }
        }
        lost.sort_unstable();
        (lost, count)
    }

    #[test]
    fn just_the_frames_that_fail_are_given_up() {
        for fails in [vec![], vec![1], vec![7], vec![12], vec![3, 4, 11], (1..=12).collect()] {
            for retries in 0..3 {
                let (lost, count) = made(12, &fails, retries);
                assert_eq!(lost, fails, "{retries}");
                // A try, its retries, and for each lost frame the way down to it in halves.
                assert!(count <= 1 + retries as usize + fails.len() * 8, "{fails:?} took {count}");
            }
        }
        assert_eq!(made(12, &[], 5), (vec![], 1));
    }
}
