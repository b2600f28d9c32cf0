//! The threads of this machine, for what the core does side by side.

use rayon::iter::{IntoParallelIterator, ParallelIterator};
use truepath_core::threads::Threads;

/// As many as there are cores.
#[derive(Clone, Copy, Debug, Default)]
pub struct Cores;

impl Threads for Cores {
    fn count(&self) -> usize {
        rayon::current_num_threads()
    }

    fn all(&self, count: usize, work: &(dyn Fn(usize) + Sync)) {
        (0..count).into_par_iter().for_each(work);
    }
}
