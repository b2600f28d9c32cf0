//! One call of the plan: tried again for what it lacks as often as the sheet allows, then halved until the frames that fail
//! are known.

use std::collections::VecDeque;

/// The tries of one call that are still to be made. `P` is a part of it.
#[derive(Debug)]
pub struct Tries<P> {
    waiting: VecDeque<(P, i64)>,
}

impl<P> Default for Tries<P> {
    fn default() -> Tries<P> {
        Tries { waiting: VecDeque::new() }
    }
}

/// How a part is split in two.
pub type Halve<'h, P> = &'h dyn Fn(&P) -> Vec<P>;

/// What is known of a try that was made to its end.
#[derive(Clone, Copy, Debug)]
pub struct EndedTry {
    /// Whether something is missing of it.
    pub lacks: bool,
    /// Whether it could not be made at all.
    pub stuck: bool,
    /// Whether there is no hope for the rest of its job.
    pub hopeless: bool,
    /// Whether what is missing can be split in two.
    pub can_be_halved: bool,
    /// Whether anything of its job has landed.
    pub has_landed: bool,
    /// Whether other members could have its call.
    pub is_shared: bool,
    /// Whether others of its job had better go first.
    pub better_later: bool,
    /// How often it may be tried again.
    pub left: i64,
}

/// What follows from a try.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum After {
    /// Nothing is missing.
    Next,
    /// What is missing is tried again.
    Again,
    /// What is missing is tried in halves.
    Halves,
    /// Others of its job go first.
    Later,
    /// What is missing is given up.
    GiveUp,
    /// What is missing is given up, and with it all that was still to be tried of its call.
    FailAll,
}

/// What follows from a try.
#[must_use]
pub fn after(ended: &EndedTry) -> After {
    // A call that other members could claim stays with the member that has it.
    let may_wait = !ended.stuck && !ended.is_shared && (ended.can_be_halved || !ended.has_landed);
    match ended {
        EndedTry { lacks: false, .. } => After::Next,
        EndedTry { hopeless: true, .. } => After::FailAll,
        EndedTry { better_later: true, .. } if may_wait => After::Later,
        EndedTry { left: 1.., .. } => After::Again,
        EndedTry { can_be_halved: true, .. } => After::Halves,
        _ => After::GiveUp,
    }
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

    /// Something is missing of a try with `left` retries, and is worth another one ([`After::Again`], [`After::Halves`]). `rest` are
    /// the parts that are missing, and `halve` splits one in two. While nothing has landed yet, others come before the halves:
    /// sooner or later one of them shows whether anything can.
    pub fn missing(&mut self, left: i64, rest: Vec<P>, halve: Option<Halve<'_, P>>, landed: bool) {
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
            (false, None) => {}
        }
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
    use super::{After, EndedTry, Halve, Tries, after};

    const NOTHING: EndedTry = EndedTry {
        lacks: false,
        stuck: false,
        hopeless: false,
        can_be_halved: false,
        has_landed: false,
        is_shared: false,
        better_later: false,
        left: 0,
    };

    #[test]
    fn what_follows_from_a_try_holds_whatever_is_known_of_it() {
        for bits in 0..256_u32 {
            let is = |bit: u32| bits >> bit & 1 == 1;
            let ended = EndedTry {
                lacks: is(0),
                stuck: is(1),
                hopeless: is(2),
                can_be_halved: is(3) && !is(1),
                has_landed: is(4),
                is_shared: is(5),
                better_later: is(6),
                left: i64::from(is(7)),
            };
            let next = after(&ended);
            assert_eq!(next == After::Next, !ended.lacks, "{ended:?}");
            match next {
                After::Next => {}
                After::FailAll => assert!(ended.hopeless, "{ended:?}"),
                // Nobody waits for a call that other members could have, or for one that cannot be made.
                After::Later => assert!(!ended.is_shared && !ended.stuck && ended.better_later, "{ended:?}"),
                After::Again => assert!(ended.left > 0, "{ended:?}"),
                After::Halves => assert!(ended.left == 0 && ended.can_be_halved, "{ended:?}"),
                // Frames are given up only when they have been tried alone, as often as they may be.
                After::GiveUp => assert!(ended.left == 0 && !ended.can_be_halved, "{ended:?}"),
            }
        }
    }

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
            let can_be_halved = rest.len() > 1;
            let ended = EndedTry { left, can_be_halved, has_landed: landed, lacks: true, ..NOTHING };
            match after(&ended) {
                After::GiveUp => lost.extend(rest),
                _ => tries.missing(left, vec![rest], can_be_halved.then_some(&halve as Halve<'_, Vec<u32>>), landed),
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
