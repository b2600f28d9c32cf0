//! Claims of workers that share a folder, judged: who owns a call, whose turn it is, who has shown no sign of life.
//!
//! A claim is a file `<call>.<generation>`, made only where there is none. The highest generation owns. A call is over
//! when `<call>.<generation>.done` stands beside its highest claim.

use std::collections::HashMap;
use std::time::Duration;

/// What a finished claim's file ends with.
const DONE: &str = ".done";

/// The name of a claim.
#[must_use]
pub fn claim(call: &str, generation: u64) -> String {
    format!("{call}.{generation}")
}

/// The name of the mark that a claim's call is over.
#[must_use]
pub fn done(call: &str, generation: u64) -> String {
    format!("{call}.{generation}{DONE}")
}

/// How a call stands among the workers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ClaimState {
    /// Nobody has it.
    Free,
    /// Somebody has it.
    Held {
        /// Its highest generation.
        generation: u64,
    },
    /// It is over.
    Over {
        /// The generation that ended it.
        generation: u64,
    },
}

/// All claims of one listing of their folder.
#[derive(Clone, Debug, Default)]
pub struct Table {
    calls: HashMap<String, (u64, u64)>,
}

impl Table {
    /// Reads the names in the folder; foreign ones are passed over.
    #[must_use]
    pub fn of(names: impl IntoIterator<Item = String>) -> Table {
        let mut table = Table::default();
        for name in names {
            let (name, over) = name.strip_suffix(DONE).map_or((name.as_str(), false), |name| (name, true));
            let Some((call, generation)) = name.rsplit_once('.') else { continue };
            let Ok(generation) = generation.parse::<u64>() else { continue };
            let (held, done) = table.calls.entry(call.to_owned()).or_default();
            *held = generation.max(*held);
            if over {
                *done = generation.max(*done);
            }
        }
        table
    }

    /// How one call stands.
    #[must_use]
    pub fn standing(&self, call: &str) -> ClaimState {
        match self.calls.get(call) {
            None => ClaimState::Free,
            Some((held, done)) if held == done => ClaimState::Over { generation: *held },
            Some((held, _)) => ClaimState::Held { generation: *held },
        }
    }

    /// A claim that was just made.
    pub fn claimed(&mut self, call: &str, generation: u64) {
        let (held, _) = self.calls.entry(call.to_owned()).or_default();
        *held = generation.max(*held);
    }
}

/// The signs of life of all workers, by the clock of the one who watches.
#[derive(Clone, Debug, Default)]
pub struct Signs {
    seen: HashMap<String, (String, Duration)>,
}

impl Signs {
    /// A worker's counter was read. `now` never goes back.
    pub fn look(&mut self, worker: &str, counter: &str, now: Duration) {
        match self.seen.get_mut(worker) {
            Some((last, _)) if last == counter => {}
            Some(entry) => *entry = (counter.to_owned(), now),
            None => drop(self.seen.insert(worker.to_owned(), (counter.to_owned(), now))),
        }
    }

    /// Whether a worker's counter has stood still for so long. One that was never read is silent since `now`.
    pub fn is_silent(&mut self, worker: &str, now: Duration, takeover: Duration) -> bool {
        let (_, since) = self.seen.entry(worker.to_owned()).or_insert((String::new(), now));
        now.saturating_sub(*since) >= takeover
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::{ClaimState, Signs, Table, claim, done};

    #[test]
    fn the_highest_generation_owns() {
        let names = [claim("a.b_1-12", 1), claim("a.b_1-12", 2), done("a.b_1-12", 1), claim("c", 9), claim("c", 10)];
        let table = Table::of(names.into_iter().chain([done("c", 10), "lost+found".to_owned()]));
        assert_eq!(table.standing("a.b_1-12"), ClaimState::Held { generation: 2 });
        assert_eq!(table.standing("c"), ClaimState::Over { generation: 10 });
        assert_eq!(table.standing("d"), ClaimState::Free);
    }

    #[test]
    fn silence_is_told_by_the_watchers_own_clock() {
        let (mut signs, second) = (Signs::default(), Duration::from_secs(1));
        signs.look("w", "7", second);
        signs.look("w", "7", 5 * second);
        assert!(!signs.is_silent("w", 5 * second, 5 * second));
        assert!(signs.is_silent("w", 6 * second, 5 * second));
        signs.look("w", "8", 6 * second);
        assert!(!signs.is_silent("w", 10 * second, 5 * second));
        assert!(!signs.is_silent("new", 10 * second, 5 * second));
        assert!(signs.is_silent("new", 15 * second, 5 * second));
    }
}
