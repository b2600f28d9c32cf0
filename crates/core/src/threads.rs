//! Threads, handed in by whoever has them: the core makes none.

use std::sync::{Mutex, PoisonError};

/// Does pieces of work side by side.
pub trait Threads: Sync {
    /// How many pieces can be done at a time, at least 1.
    fn count(&self) -> usize;
    /// Calls `work` with every number below `count`, in any order, and returns when all is done.
    fn all(&self, count: usize, work: &(dyn Fn(usize) + Sync));
}

/// No threads at all: one piece after the other.
#[derive(Clone, Copy, Debug, Default)]
pub struct OneByOne;

impl Threads for OneByOne {
    fn count(&self) -> usize {
        1
    }

    fn all(&self, count: usize, work: &(dyn Fn(usize) + Sync)) {
        (0..count).for_each(work);
    }
}

/// What `work` makes of each of some items, in their order.
pub fn map<T: Sync, R: Send>(threads: &dyn Threads, items: &[T], work: impl Fn(&T) -> R + Sync) -> Vec<R> {
    // A few pieces for each thread, so that a slow one holds nobody up.
    let size = items.len().div_ceil(threads.count() * 4).max(1);
    let pieces: Vec<&[T]> = items.chunks(size).collect();
    let done: Vec<Mutex<Vec<R>>> = pieces.iter().map(|_| Mutex::default()).collect();
    threads.all(pieces.len(), &|at| {
        let made = pieces[at].iter().map(&work).collect();
        *done[at].lock().unwrap_or_else(PoisonError::into_inner) = made;
    });
    done.into_iter().flat_map(|made| made.into_inner().unwrap_or_else(PoisonError::into_inner)).collect()
}

#[cfg(test)]
mod tests {
    use super::{OneByOne, Threads, map};

    /// Two threads, and the pieces backwards.
    struct Two;

    impl Threads for Two {
        fn count(&self) -> usize {
            2
        }

        fn all(&self, count: usize, work: &(dyn Fn(usize) + Sync)) {
            std::thread::scope(|scope| {
                scope.spawn(|| (0..count).rev().step_by(2).for_each(work));
                scope.spawn(|| (0..count).rev().skip(1).step_by(2).for_each(work));
            });
        }
    }

    #[test]
    fn the_order_of_items_is_kept() {
        for count in [0, 1, 2, 7, 8, 9, 100] {
            let items: Vec<usize> = (0..count).collect();
            let doubled: Vec<usize> = items.iter().map(|item| item * 2).collect();
            assert_eq!(map(&Two, &items, |item| item * 2), doubled);
            assert_eq!(map(&OneByOne, &items, |item| item * 2), doubled);
        }
    }
}
