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

/// What a worker that wishes for a call does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Step {
    /// It makes this claim; whoever makes it first has the call.
    Claim {
        /// Its generation.
        generation: u64,
    },
    /// It leaves the call to whoever has it.
    Leave,
    /// It strikes the call off: it is over.
    Strike,
}

/// What a worker does that wishes for a call. Whether a claim is void, because its owner has gone or is silent, is only asked
/// by those who have nothing else left to do: to find out costs a look at the claim, and there may be many.
pub fn step(standing: ClaimState, is_void: Option<&mut dyn FnMut(u64) -> bool>) -> Step {
    match standing {
        ClaimState::Over { .. } => Step::Strike,
        ClaimState::Free => Step::Claim { generation: 1 },
        ClaimState::Held { generation } if is_void.is_some_and(|is_void| is_void(generation)) => {
            Step::Claim { generation: generation + 1 }
        }
        ClaimState::Held { .. } => Step::Leave,
    }
}

/// Members that work in the order of the sheet. Where there are more, each begins at a place of its own: otherwise all of them
/// would ask for the same call, and all but one in vain.
pub const IN_ORDER: usize = 16;

/// Where a member begins, of so many calls. `mark` is anything that other members do not have.
#[must_use]
pub fn beginning(calls: usize, members: usize, mark: u64) -> usize {
    if members <= IN_ORDER || calls == 0 {
        return 0;
    }
    // Neighbouring marks come to lie far apart (Knuth, The Art of Computer Programming 3, 6.4).
    let place = mark.wrapping_mul(0x9E37_79B9_7F4A_7C15);
    usize::try_from((u128::from(place) * calls as u128) >> 64).unwrap_or(0)
}

/// When the claims are listed anew: a listing costs the more the more claims there are, and is only needed by those who ask in
/// vain.
#[derive(Clone, Copy, Debug, Default)]
pub struct Listing {
    ended: Duration,
    took: Duration,
    refused: u32,
}

impl Listing {
    /// Claims that were made in vain until a listing is worth while.
    const REFUSED: u32 = 8;
    /// How much longer than a listing takes the next one waits.
    const REST: u32 = 20;

    /// A listing was made between two times.
    #[must_use]
    pub fn made(began: Duration, ended: Duration) -> Listing {
        Listing { ended, took: ended.saturating_sub(began), refused: 0 }
    }

    /// How long the next one waits.
    #[must_use]
    pub fn rest(&self) -> Duration {
        self.took * Listing::REST
    }

    /// A claim was made in vain; whether it is time for another listing.
    pub fn refused(&mut self, now: Duration) -> bool {
        self.refused += 1;
        self.refused >= Listing::REFUSED && now.saturating_sub(self.ended) >= self.rest()
    }
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

    /// The calls that somebody has, with the generations of their claims.
    pub fn held(&self) -> impl Iterator<Item = (&str, u64)> {
        let held = self.calls.iter().filter(|(_, (held, done))| held != done);
        held.map(|(call, (held, _))| (call.as_str(), *held))
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

    /// A claim was given back.
    pub fn released(&mut self, call: &str, generation: u64) {
        if generation < 2 {
            self.calls.remove(call);
        } else if let Some((held, _)) = self.calls.get_mut(call) {
            *held = generation - 1;
        }
    }
}

/// The signs of life of all workers, by the clock of the one who watches.
#[derive(Clone, Debug, Default)]
pub struct Signs {
    seen: HashMap<String, Sign>,
}

/// What was seen of one worker.
#[derive(Clone, Debug)]
struct Sign {
    counter: String,
    /// Since when it stands there.
    since: Duration,
    /// When it was read last.
    read: Duration,
    /// Whether it was ever seen to change.
    changed: bool,
    /// The longest time for which it stood still while its worker lived: some shares show what others write late.
    longest: Duration,
}

impl Signs {
    /// How much longer a worker may be silent whose counter was not seen to change yet: nothing is known of how late it is shown.
    const UNSEEN: u32 = 3;
    /// How much longer than before a counter may stand still.
    const MORE: u32 = 2;

    /// A worker's counter was read. `now` never goes back.
    pub fn look(&mut self, worker: &str, counter: &str, now: Duration) {
        match self.seen.get_mut(worker) {
            Some(sign) if sign.counter == counter => sign.read = now,
            Some(sign) => {
                sign.longest = sign.longest.max(sign.read.saturating_sub(sign.since));
                (sign.since, sign.read, sign.changed) = (now, now, true);
                counter.clone_into(&mut sign.counter);
            }
            None => {
                let (counter, longest) = (counter.to_owned(), Duration::ZERO);
                self.seen.insert(worker.to_owned(), Sign { counter, since: now, read: now, changed: false, longest });
            }
        }
    }

    /// Whether a worker's counter has stood still for so long that it must be gone. One that was never read is silent since
    /// `now`.
    pub fn is_silent(&mut self, worker: &str, now: Duration, takeover: Duration) -> bool {
        if !self.seen.contains_key(worker) {
            self.look(worker, "", now);
        }
        let Some(sign) = self.seen.get(worker) else { return false };
        let patience = match sign.changed {
            true => takeover.max(sign.longest * Signs::MORE),
            false => takeover * Signs::UNSEEN,
        };
        now.saturating_sub(sign.since) >= patience
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::{ClaimState, IN_ORDER, Listing, Signs, Step, Table, beginning, claim, done, step};

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
        // Nothing is known yet of how late this folder shows what others write.
        signs.look("w", "7", second);
        assert!(!signs.is_silent("w", 15 * second, 5 * second) && signs.is_silent("w", 16 * second, 5 * second));
        signs.look("w", "8", 17 * second);
        assert!(!signs.is_silent("w", 21 * second, 5 * second) && signs.is_silent("w", 22 * second, 5 * second));
        // It stood still for eight seconds, and lived: it may do so again.
        signs.look("w", "8", 25 * second);
        signs.look("w", "9", 26 * second);
        assert!(!signs.is_silent("w", 41 * second, 5 * second) && signs.is_silent("w", 42 * second, 5 * second));
        // Whoever looks seldom knows nothing of what was between.
        signs.look("w", "99", 900 * second);
        assert!(signs.is_silent("w", 916 * second, 5 * second));
        assert!(!signs.is_silent("new", 10 * second, 5 * second) && signs.is_silent("new", 25 * second, 5 * second));
    }

    #[test]
    fn only_the_idle_ask_whether_a_claim_is_void_and_many_begin_apart() {
        let held = ClaimState::Held { generation: 2 };
        assert_eq!(step(held, None), Step::Leave);
        assert_eq!(step(held, Some(&mut |_| false)), Step::Leave);
        assert_eq!(step(held, Some(&mut |generation| generation == 2)), Step::Claim { generation: 3 });
        assert_eq!(step(ClaimState::Free, None), Step::Claim { generation: 1 });
        assert!((0..1000).all(|mark| beginning(500, IN_ORDER, mark) == 0 && beginning(0, 99, mark) == 0));
        let places: std::collections::BTreeSet<usize> = (0..100).map(|mark| beginning(1000, 17, mark)).collect();
        assert!(places.len() > 80 && places.iter().all(|place| *place < 1000), "{places:?}");
    }

    #[test]
    fn claims_are_listed_again_after_refusals_and_the_later_the_longer_it_took() {
        let seconds = Duration::from_secs;
        let mut listing = Listing::made(seconds(10), seconds(12));
        assert!((1..8).all(|_| !listing.refused(seconds(100))));
        assert!(!listing.refused(seconds(51)));
        assert!(listing.refused(seconds(52)));
    }
}
