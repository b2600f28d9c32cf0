//! One call of the plan: tried again for what it lacks as often as the sheet allows, then halved until the frames that fail
//! are known.

use std::collections::VecDeque;

/// The tries of one call that are still to be made. `P` is a part of it.
#[derive(Debug)]
pub struct Tries<P> {
    waiting: VecDeque<(P, i64)>,
}

/// How a part is split in two.
pub type Halve<'h, P> = &'h dyn Fn(&P) -> Vec<P>;

/// What follows from a try of which something is missing.
#[derive(Debug, PartialEq, Eq)]
pub enum Next {
    /// It is tried again, whole or halved.
    Again,
    /// What is missing is given up.
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

    /// Something is missing of a try with `left` retries. `rest` makes the parts that are missing, and `halves` splits one
    /// in two; one that cannot be halved is given up. While nothing has landed yet, others come before the halves: sooner
    /// or later one of them shows whether anything can.
    pub fn missing(&mut self, left: i64, rest: Vec<P>, halve: Option<Halve<'_, P>>, landed: bool) -> Next {
        match (left > 0, halve) {
            (true, _) => rest.into_iter().rev().for_each(|part| self.waiting.push_front((part, left - 1))),
            (false, Some(halve)) => {
                let halves = rest.iter().flat_map(halve).map(|part| (part, 0));
                if landed {
                    let halves: Vec<_> = halves.collect();
                    halves.into_iter().rev().for_each(|part| self.waiting.push_front(part));
                } else {
                    self.waiting.extend(halves);
                }
            }
            (false, None) => return Next::GivenUp,
        }
        Next::Again
    }

    /// All that was still to be tried.
    pub fn into_rest(self) -> impl Iterator<Item = P> {
        self.waiting.into_iter().map(|(part, _)| part)
    }
}

/// What a renderer says without what differs from call to call: numbers, and words with paths or marks.
#[must_use]
pub fn complaint(why: &str) -> String {
    let words = why.split_whitespace().filter(|word| !word.contains(['/', '\\', '~']));
    words.map(|word| word.replace(|sign: char| sign.is_ascii_digit(), "")).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::{Halve, Next, Tries};

    /// Frames of which some fail each time; which were given up, and how many tries it took.
    fn made(frames: u32, fails: &[u32], retries: i64) -> (Vec<u32>, usize) {
        let mut tries = Tries::new([(1..=frames).collect::<Vec<u32>>()], retries);
        let (mut lost, mut count, mut landed) = (Vec::new(), 0, false);
        while let Some((part, left)) = tries.pop() {
            count += 1;
            // A program stops at the first frame that fails.
            let at = part.iter().position(|frame| fails.contains(frame)).unwrap_or(part.len());
            let rest = part[at..].to_vec();
            if rest.is_empty() {
                landed = true;
                continue;
            }
            let halve = |part: &Vec<u32>| -> Vec<Vec<u32>> {
                part.chunks(part.len().div_ceil(2)).map(<[u32]>::to_vec).collect()
            };
            landed |= at > 0;
            let halve: Option<Halve<'_, Vec<u32>>> = (rest.len() > 1).then_some(&halve);
            if tries.missing(left, vec![rest.clone()], halve, landed) == Next::GivenUp {
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
