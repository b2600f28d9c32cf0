//! Which files of a call are known to be finished while its program runs, and after it has failed: those that it named as
//! written, and those that it has moved on from.
//!
//! A program has moved on from a file when, after the file was written last, a file of another frame appeared that was not
//! there before. That later files exist says nothing: some programs write many frames at once.

use std::collections::{HashMap, HashSet};

use super::context::OwedFile;
use crate::disk::Stamp;

/// What was seen of one file.
#[derive(Clone, Copy, Debug)]
struct Watched {
    stamp: Stamp,
    /// The look that saw it first, and the one that saw its bytes change last.
    first: u32,
    changed: u32,
}

/// What is known of the files of one call.
#[derive(Debug, Default)]
pub struct Finished {
    looks: u32,
    seen: HashMap<OwedFile, Watched>,
    named: HashSet<OwedFile>,
}

impl Finished {
    /// The program named a file as written.
    pub fn name(&mut self, place: OwedFile) {
        self.named.insert(place);
    }

    /// Whether the program named a file as written.
    #[must_use]
    pub fn is_named(&self, place: OwedFile) -> bool {
        self.named.contains(&place)
    }

    /// One look at all files that are there: which of them the program has moved on from.
    pub fn look(&mut self, files: &[(OwedFile, Stamp)]) -> Vec<OwedFile> {
        self.looks += 1;
        let now = self.looks;
        for (place, stamp) in files {
            let fresh = Watched { stamp: *stamp, first: now, changed: now };
            let watched = self.seen.entry(*place).or_insert(fresh);
            if watched.stamp != *stamp {
                (watched.stamp, watched.changed) = (*stamp, now);
            }
        }
        // The latest two, of different frames: of a file's own frame nothing is learnt.
        let mut begun: Vec<(u32, i64)> = self.seen.iter().map(|((_, frame), own)| (own.first, *frame)).collect();
        begun.sort_unstable_by_key(|own| std::cmp::Reverse(*own));
        let last = begun.first().copied();
        let other = last.and_then(|(_, frame)| begun.iter().find(|(_, own)| *own != frame).copied());
        let later = |frame: i64| last.filter(|(_, own)| *own != frame).or(other).map_or(0, |(first, _)| first);
        let is_over =
            |(place, _): &&(OwedFile, Stamp)| self.seen.get(place).is_some_and(|own| later(place.1) > own.changed);
        files.iter().filter(is_over).map(|(place, _)| *place).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::{Finished, OwedFile, Stamp};

    /// Looks at files of one series: frame and bytes. Which frames it has moved on from.
    fn look(finished: &mut Finished, files: &[(i64, u64)]) -> Vec<i64> {
        let files: Vec<(OwedFile, Stamp)> =
            files.iter().map(|(frame, bytes)| ((0, *frame), (*bytes, 0, 0, 0))).collect();
        finished.look(&files).into_iter().map(|(_, frame)| frame).collect()
    }

    #[test]
    fn a_file_is_finished_once_another_frame_began_after_its_last_byte() {
        // One frame after another.
        let mut one = Finished::default();
        assert!(look(&mut one, &[(1, 10)]).is_empty());
        assert!(look(&mut one, &[(1, 20)]).is_empty());
        assert_eq!(look(&mut one, &[(1, 20), (2, 5)]), [1]);
        assert_eq!(look(&mut one, &[(1, 20), (2, 9), (3, 1)]), [1], "the second was still growing");
        assert_eq!(look(&mut one, &[(1, 20), (2, 9), (3, 1), (4, 1)]), [1, 2, 3]);
        // All at once: nothing begins later.
        let mut all = Finished::default();
        for bytes in 1..5 {
            assert!(look(&mut all, &[(1, bytes), (2, bytes), (3, bytes)]).is_empty());
        }
        assert!(look(&mut all, &[(1, 9), (2, 9), (3, 9)]).is_empty());
        // A picture that is refined: written again after others have begun.
        let mut refined = Finished::default();
        look(&mut refined, &[(1, 10)]);
        assert_eq!(look(&mut refined, &[(1, 10), (2, 10)]), [1]);
        assert!(look(&mut refined, &[(1, 15), (2, 10)]).is_empty());
        // Passes of one frame say nothing about each other.
        let mut passes = Finished::default();
        let file = |series: usize, frame: i64| ((series, frame), (1, 0, 0, 0));
        passes.look(&[file(0, 1)]);
        assert!(passes.look(&[file(0, 1), file(1, 1)]).is_empty());
        assert_eq!(passes.look(&[file(0, 1), file(1, 1), file(0, 2)]).len(), 2);
    }
}
