//! Claims on a folder that many processes on many machines share. Nothing here needs a lock of the file system, compares
//! clocks, or lists a folder more than once a look.
//!
//! `claims/<plan>/<round>/workers/<tag>` tells who works, with a counter that is raised while the worker lives, and
//! `claims/<plan>/<round>/calls/<call>.<generation>` which of them has a call. A round is all that is done until every
//! call of a plan is over; the next run begins another one. Members whose plans differ meet as `rivals`.

mod members;
mod rivals;
mod trial;
pub mod two;

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io::{ErrorKind, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use truepath_core::run::claim::{self, Listing, Signs, Step, Table};
use truepath_core::run::meant::{Covered, Encounter, Intent, encounter};

use crate::disk;
use crate::failure::{Cause, Failure};
use crate::landing::stage;
use crate::state::StateFolder;
use crate::state::journal;
use members::{GONE, MEANT, numbers, workers};
use rivals::{Rivals, owner, written};

pub use members::{Member, Other, others};

/// Width of the counter, so that it can be written over.
const WIDTH: usize = 12;
/// The file that ends a round.
const OVER: &str = "over";
/// What exports are claimed under: products are the same whatever a member was asked for.
pub const EXPORTS: &str = "exports";

/// What members of one round have in common.
#[derive(Clone, Copy, Debug)]
pub struct Agreed<'a> {
    /// A name that differs where what they mean differs.
    pub name: &'a str,
    /// What they mean.
    pub meant: Option<&'a Intent>,
}

/// How often a sign of life is given, and how long one may fail to come.
#[derive(Clone, Copy, Debug)]
pub struct Times {
    /// From one sign to the next.
    pub heartbeat: Duration,
    /// Silence after which calls are taken over.
    pub takeover: Duration,
}

/// What became of a wish for a call.
#[derive(Debug, PartialEq, Eq)]
pub enum ClaimWish {
    /// It is ours; whether somebody had begun it before.
    Granted {
        /// Whether it was taken over.
        again: bool,
    },
    /// Somebody has it.
    Held,
    /// It is over.
    Over,
}

/// This process among the workers of one round.
pub struct Claims {
    round: PathBuf,
    is_new: bool,
    tag: String,
    times: Times,
    since: Instant,
    sign: Mutex<File>,
    at: u64,
    seen: Mutex<SeenMembers>,
    held: Mutex<HashMap<String, u64>>,
    state: StateFolder,
    /// The name of its plan.
    plan: String,
    rivals: Mutex<Rivals>,
    /// Calls of ours that wait until a member with another plan has made frames of them.
    waiting: Mutex<HashSet<String>>,
    /// The journals that were there when it joined, with their bytes.
    known: HashMap<String, u64>,
    left: Mutex<bool>,
    bell: Condvar,
}

#[derive(Default)]
struct SeenMembers {
    table: Table,
    signs: Signs,
    listing: Listing,
    workers: HashMap<String, (Member, bool)>,
}

impl Claims {
    /// Joins the round that others with the same plan work on, or begins one. A round that replaces frames is continued even
    /// when no member works on it.
    ///
    /// # Errors
    /// When the folder for claims cannot be read or written.
    pub fn join(
        state: &StateFolder,
        plan: Agreed<'_>,
        own: &Member,
        times: Times,
        replaces: bool,
    ) -> Result<Claims, Failure> {
        let base = state.claims().join(plan.name);
        let failure = |error: &std::io::Error| Failure::machine("write the claims in", &base, error);
        rivals::sweep(state, plan.name);
        let known = journal::list(state).into_iter().collect();
        std::fs::create_dir_all(&base).map_err(|error| failure(&error))?;
        trial::tried(&base, &own.tag).map_err(|why| {
            let message = format!("{} cannot be shared: {why}", base.display());
            Failure::new(Cause::Machine, message)
                .help("use a folder on a file system that all members mount in the same way, or `truepath parcel`")
        })?;
        if let Some(meant) = plan.meant.filter(|_| !base.join(MEANT).exists()) {
            let text = serde_json::to_string(meant).unwrap_or_default();
            disk::keep(&base.join(MEANT), &text).map_err(|error| failure(&error))?;
        }
        let (round, is_new) = enter(&base, replaces).map_err(|error| failure(&error))?;
        for folder in ["workers", "calls"] {
            std::fs::create_dir_all(round.join(folder)).map_err(|error| failure(&error))?;
        }
        let head = format!("{}\n", serde_json::to_string(own).unwrap_or_default());
        let path = round.join("workers").join(&own.tag);
        let written = File::options().write(true).create_new(true).open(&path).and_then(|mut sign| {
            sign.write_all(format!("{head}{:>WIDTH$}\n", 0).as_bytes())?;
            Ok(sign)
        });
        let sign = written.map_err(|error| failure(&error))?;
        let claims = Claims {
            at: head.len() as u64,
            round,
            is_new,
            tag: own.tag.clone(),
            times,
            since: Instant::now(),
            sign: Mutex::new(sign),
            seen: Mutex::default(),
            held: Mutex::default(),
            state: state.clone(),
            plan: plan.name.to_owned(),
            rivals: Mutex::new(Rivals::of(state, plan.name, times.takeover)),
            waiting: Mutex::default(),
            known,
            left: Mutex::new(false),
            bell: Condvar::new(),
        };
        claims.look()?;
        Ok(claims)
    }

    /// Where this member begins, of so many calls.
    #[must_use]
    pub fn beginning(&self, calls: usize) -> usize {
        let members = self.seen().workers.values().filter(|(_, gone)| !gone).count();
        claim::beginning(calls, members, u64::from_str_radix(&self.tag, 16).unwrap_or(0))
    }

    /// Whether this member began the round.
    #[must_use]
    pub fn is_new(&self) -> bool {
        self.is_new
    }

    /// Gives signs of life until this member leaves. Only a member that needs to know looks at what others do.
    pub fn live(&self) {
        let mut count = 0u64;
        let mut left = self.left.lock().unwrap_or_else(PoisonError::into_inner);
        while !*left {
            let waited = self.bell.wait_timeout(left, self.times.heartbeat);
            left = waited.unwrap_or_else(PoisonError::into_inner).0;
            if !*left {
                count += 1;
                // A disk that takes no sign now may take the next; until then others may take over.
                let _ = self.sign(&format!("{count:>WIDTH$}"));
            }
        }
    }

    /// Writes over the counter.
    fn sign(&self, text: &str) -> std::io::Result<()> {
        let mut file = self.sign.lock().unwrap_or_else(PoisonError::into_inner);
        file.seek(SeekFrom::Start(self.at))?;
        file.write_all(text.as_bytes())
    }

    /// Leaves: whatever is still claimed is free for others at once.
    pub fn leave(&self) {
        *self.left.lock().unwrap_or_else(PoisonError::into_inner) = true;
        self.bell.notify_all();
        // Where this cannot be written, the process that has ended says the same.
        let _ = self.sign(&format!("{GONE:>WIDTH$}"));
    }

    /// How long to wait until another look may show something new.
    #[must_use]
    pub fn patience(&self) -> Duration {
        (self.times.heartbeat / 3)
            .clamp(Duration::from_millis(20), Duration::from_secs(5))
            .max(self.seen().listing.rest())
    }

    /// Lists claims and members once.
    ///
    /// # Errors
    /// When their folders cannot be read.
    pub fn look(&self) -> Result<(), Failure> {
        let failure = |error: std::io::Error| {
            Failure::machine("read the claims in", &self.round, &error)
                .help("the other members can no longer be seen; `truepath run --share` joins them again")
        };
        let began = self.since.elapsed();
        let names = std::fs::read_dir(self.round.join("calls")).and_then(Iterator::collect::<std::io::Result<Vec<_>>>);
        let names = names.map_err(failure)?.into_iter().map(|entry| entry.file_name().to_string_lossy().into_owned());
        let (table, workers) = (Table::of(names), workers(&self.round).map_err(failure)?);
        let now = self.since.elapsed();
        let mut seen = self.seen();
        seen.table = table;
        seen.listing = Listing::made(began, now);
        for (tag, worker, gone, counter) in workers {
            seen.signs.look(&tag, &counter, now);
            seen.workers.insert(tag, (worker, gone));
        }
        Ok(())
    }

    /// Asks for a call that writes some files. Whether what others hold is theirs still is looked up only where nothing else is
    /// left (`idle`).
    ///
    /// # Errors
    /// When the claim cannot be written.
    pub fn wish(&self, call: &str, covers: &Covered, idle: bool) -> Result<ClaimWish, Failure> {
        if self.waiting().contains(call) {
            return self.settled(call, covers);
        }
        let standing = self.seen().table.standing(call);
        let mut is_void = |generation| self.is_void(call, generation);
        let generation = match claim::step(standing, idle.then_some(&mut is_void)) {
            Step::Strike => return Ok(ClaimWish::Over),
            Step::Leave => return Ok(ClaimWish::Held),
            Step::Claim { generation } => generation,
        };
        if !self.met(covers)?.is_empty() {
            return Ok(ClaimWish::Held);
        }
        let path = self.round.join("calls").join(claim::claim(call, generation));
        tracing::debug!(call, generation, "claiming");
        let made = File::options().write(true).create_new(true).open(&path);
        self.seen().table.claimed(call, generation);
        match made {
            Ok(mut file) => {
                let text = written(&self.tag, covers);
                file.write_all(text.as_bytes()).map_err(|error| Failure::machine("write the claim", &path, &error))?;
                // Some shares show to others only what is closed.
                drop(file);
                self.held().insert(call.to_owned(), generation);
                self.settled(call, covers)
            }
            // Some shares refuse a name that is taken with another number (SFTP: no permission).
            Err(error) if error.kind() == ErrorKind::AlreadyExists || path.exists() => {
                let is_due = self.seen().listing.refused(self.since.elapsed());
                if is_due {
                    self.look()?;
                }
                Ok(ClaimWish::Held)
            }
            Err(error) => Err(Failure::machine("write the claim", &path, &error)),
        }
    }

    /// Whether a call that is claimed can begin, or a member with another plan has frames of it.
    fn settled(&self, call: &str, covers: &Covered) -> Result<ClaimWish, Failure> {
        let Some(generation) = self.held().get(call).copied() else { return Ok(ClaimWish::Held) };
        let met = self.met(covers)?;
        match encounter(&self.plan, met.iter().map(String::as_str)) {
            Encounter::Clear => {
                self.waiting().remove(call);
                Ok(ClaimWish::Granted { again: generation > 1 || self.rivals().any })
            }
            Encounter::Waits => {
                self.waiting().insert(call.to_owned());
                Ok(ClaimWish::Held)
            }
            Encounter::Yields => {
                self.waiting().remove(call);
                self.release(call)?;
                Ok(ClaimWish::Held)
            }
        }
    }

    /// The other plans whose members claim any of some files.
    fn met(&self, covers: &Covered) -> Result<Vec<String>, Failure> {
        if covers.is_empty() {
            return Ok(Vec::new());
        }
        let met = self.rivals().met(covers, self.since.elapsed());
        met.map_err(|error| Failure::machine("read the claims in", self.state.claims(), &error))
    }

    /// Whether the holder of a claim has gone, or has been silent for too long.
    fn is_void(&self, call: &str, generation: u64) -> bool {
        let name = claim::claim(call, generation);
        let text = disk::text(&self.round.join("calls").join(&name)).unwrap_or_default();
        let owner = owner(&text).to_owned();
        if owner == self.tag {
            return false;
        }
        let mut seen = self.seen();
        let (known, now) = (seen.workers.get(&owner), self.since.elapsed());
        if known.is_some_and(|(worker, gone)| *gone || worker.is_surely_dead()) {
            return true;
        }
        // A claim whose owner is not written yet is watched by its own name.
        let watched = if known.is_some() { owner } else { name };
        seen.signs.is_silent(&watched, now, self.times.takeover)
    }

    /// Whether a call that was granted is ours still.
    pub fn is_mine(&self, call: &str) -> bool {
        let Some(generation) = self.held().get(call).copied() else { return false };
        let claim = |generation| self.round.join("calls").join(claim::claim(call, generation));
        // A round that was cleared away is nobody's.
        claim(generation).exists() && !claim(generation + 1).exists()
    }

    /// Leaves a call of ours to others: nothing of it was made here.
    ///
    /// # Errors
    /// When the claim cannot be taken away.
    pub fn release(&self, call: &str) -> Result<(), Failure> {
        let Some(generation) = self.held().remove(call) else { return Ok(()) };
        self.seen().table.released(call, generation);
        stage::remove(&self.round.join("calls").join(claim::claim(call, generation)))
    }

    /// A call of ours is over.
    ///
    /// # Errors
    /// When that cannot be written down.
    pub fn done(&self, call: &str, missing: &str) -> Result<(), Failure> {
        if !self.is_mine(call) {
            return Ok(());
        }
        let Some(generation) = self.held().remove(call) else { return Ok(()) };
        let path = self.round.join("calls").join(claim::done(call, generation));
        let marked = File::options().write(true).create(true).truncate(true).open(&path);
        marked
            .and_then(|mut file| file.write_all(missing.as_bytes()))
            .map_err(|error| Failure::machine("write the claim", &path, &error))
    }

    /// Ends the round; true for the one who does.
    pub fn end_round(&self) -> bool {
        File::options().write(true).create_new(true).open(self.round.join(OVER)).is_ok()
    }

    /// The journals in which others wrote since this member joined.
    pub fn journals(&self) -> HashSet<String> {
        let own = format!("-{}.jsonl", self.tag);
        let grown = |(name, bytes): &(String, u64)| !name.ends_with(&own) && self.known.get(name) != Some(bytes);
        journal::list(&self.state).into_iter().filter(grown).map(|(name, _)| name).collect()
    }

    /// Tags of workers that have ended for certain: what they left behind may be cleared up.
    pub fn dead(&self) -> Vec<String> {
        let seen = self.seen();
        let dead = seen.workers.iter().filter(|(_, (worker, gone))| *gone || worker.is_surely_dead());
        dead.map(|(tag, _)| tag.clone()).collect()
    }

    fn seen(&self) -> MutexGuard<'_, SeenMembers> {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn rivals(&self) -> MutexGuard<'_, Rivals> {
        self.rivals.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn waiting(&self) -> MutexGuard<'_, HashSet<String>> {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn held(&self) -> MutexGuard<'_, HashMap<String, u64>> {
        self.held.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Claims {
    /// Ends the newest round of a plan whose members have all gone and left it open; true for the one who does.
    ///
    /// # Errors
    /// When the claims cannot be read.
    pub fn end_left(state: &StateFolder, plan: &str) -> Result<bool, Failure> {
        let base = state.claims().join(plan);
        let Some(newest) = numbers(&base).unwrap_or_default().into_iter().max() else { return Ok(false) };
        let round = base.join(newest.to_string());
        let members = workers(&round).map_err(|error| Failure::machine("read the claims in", &round, &error))?;
        let all_gone = members.iter().all(|(_, worker, gone, _)| *gone || worker.is_surely_dead());
        Ok(all_gone && File::options().write(true).create_new(true).open(round.join(OVER)).is_ok())
    }
}

/// Clears all claims away, when nobody shares the sheet.
pub fn clear(state: &StateFolder) {
    // What stays is only in the way.
    let _ = std::fs::remove_dir_all(state.claims());
}

/// The round that others work on, or a new one, and whether it is new. One that replaces frames is continued even when no member
/// works on it.
fn enter(base: &Path, replaces: bool) -> std::io::Result<(PathBuf, bool)> {
    loop {
        let newest = numbers(base)?.into_iter().max();
        let next = match newest {
            None => 1,
            Some(newest) => {
                let round = base.join(newest.to_string());
                let workers = workers(&round)?;
                let all_gone =
                    !workers.is_empty() && workers.iter().all(|(_, worker, gone, _)| *gone || worker.is_surely_dead());
                if !round.join(OVER).exists() && (replaces || !all_gone) {
                    return Ok((round, false));
                }
                newest + 1
            }
        };
        match std::fs::create_dir(base.join(next.to_string())) {
            Ok(()) => {
                // The last round stays for those who are about to find out that it is over.
                for old in numbers(base).unwrap_or_default().into_iter().filter(|old| old + 1 < next) {
                    let _ = std::fs::remove_dir_all(base.join(old.to_string()));
                }
                return Ok((base.join(next.to_string()), true));
            }
            Err(_) if base.join(next.to_string()).exists() => {}
            Err(error) => return Err(error),
        }
    }
}
