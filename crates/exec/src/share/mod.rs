//! Claims on a folder that many processes on many machines share. Nothing here needs a lock of the file system, compares
//! clocks, or lists a folder more than once a look.
//!
//! `claims/<plan>/<round>/workers/<tag>` tells who works, with a counter that is raised while the worker lives, and
//! `claims/<plan>/<round>/calls/<call>.<generation>` which of them has a call. A round is all that is done until every
//! call of a plan is over; the next run begins another one.

use std::collections::HashMap;
use std::fs::File;
use std::io::{ErrorKind, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};
use truepath_core::run::claim::{self, Listing, Signs, Step, Table};

use crate::disk;
use crate::failure::Failure;
use crate::process::identity;
use crate::state::StateFolder;
use crate::state::journal::Journal;

/// What a worker's counter reads once it has left.
const GONE: &str = "gone";
/// Width of the counter, so that it can be written over.
const WIDTH: usize = 12;
/// The file that ends a round.
const OVER: &str = "over";

/// Who a worker is.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Member {
    /// The machine.
    pub host: String,
    /// Which start of its system.
    boot: String,
    /// Which numbering of processes.
    space: String,
    /// The process.
    pub process: u32,
    /// When the process was started.
    born: String,
    /// Its journal's file name.
    pub journal: String,
    /// What its stage folders end with; its file bears it.
    #[serde(skip)]
    pub tag: String,
}

impl Member {
    /// This process.
    #[must_use]
    pub fn own(host: &str, journal: &Journal) -> Member {
        let process = std::process::id();
        let born = identity::born(process);
        Member {
            host: host.to_owned(),
            boot: identity::boot(),
            space: identity::space(),
            process,
            born,
            journal: journal.name(),
            tag: journal.tag().to_owned(),
        }
    }

    /// Whether this system knows for certain that it has ended.
    fn is_surely_dead(&self) -> bool {
        identity::is_here(&self.boot, &self.space) && !identity::is_alive(self.process, &self.born)
    }
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
pub enum Wish {
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
    /// Joins the round that others work on, or begins one. `plan` tells the plans of one sheet apart. A round that replaces
    /// frames is continued even when no member works on it.
    ///
    /// # Errors
    /// When the folder for claims cannot be read or written.
    pub fn join(
        state: &StateFolder,
        plan: &str,
        own: &Member,
        times: Times,
        replaces: bool,
    ) -> Result<Claims, Failure> {
        let base = state.claims().join(plan);
        let failure = |error: &std::io::Error| Failure::machine("write the claims in", &base, error);
        std::fs::create_dir_all(&base).map_err(|error| failure(&error))?;
        let (round, is_new) = loop {
            let newest = numbers(&base).map_err(|error| failure(&error))?.into_iter().max();
            let next = match newest {
                None => 1,
                Some(newest) => {
                    let round = base.join(newest.to_string());
                    let workers = workers(&round).map_err(|error| failure(&error))?;
                    let all_gone = !workers.is_empty()
                        && workers.iter().all(|(_, worker, gone, _)| *gone || worker.is_surely_dead());
                    if !round.join(OVER).exists() && (replaces || !all_gone) {
                        break (round, false);
                    }
                    newest + 1
                }
            };
            match std::fs::create_dir(base.join(next.to_string())) {
                Ok(()) => {
                    // The last round stays for those who are about to find out that it is over.
                    for old in numbers(&base).unwrap_or_default().into_iter().filter(|old| old + 1 < next) {
                        let _ = std::fs::remove_dir_all(base.join(old.to_string()));
                    }
                    break (base.join(next.to_string()), true);
                }
                Err(error) if error.kind() == ErrorKind::AlreadyExists => {}
                Err(error) => return Err(failure(&error)),
            }
        };
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

    /// Asks for a call. Whether what others hold is theirs still is looked up only where nothing else is left (`idle`).
    ///
    /// # Errors
    /// When the claim cannot be written.
    pub fn wish(&self, call: &str, idle: bool) -> Result<Wish, Failure> {
        let standing = self.seen().table.standing(call);
        let mut is_void = |generation| self.is_void(call, generation);
        let generation = match claim::step(standing, idle.then_some(&mut is_void)) {
            Step::Strike => return Ok(Wish::Over),
            Step::Leave => return Ok(Wish::Held),
            Step::Claim { generation } => generation,
        };
        let path = self.round.join("calls").join(claim::claim(call, generation));
        tracing::debug!(call, generation, "claiming");
        let made = File::options().write(true).create_new(true).open(&path);
        let made = made.and_then(|mut file| file.write_all(self.tag.as_bytes()));
        self.seen().table.claimed(call, generation);
        match made {
            Ok(()) => {
                self.held().insert(call.to_owned(), generation);
                Ok(Wish::Granted { again: generation > 1 })
            }
            Err(error) if error.kind() == ErrorKind::AlreadyExists => {
                let is_due = self.seen().listing.refused(self.since.elapsed());
                if is_due {
                    self.look()?;
                }
                Ok(Wish::Held)
            }
            Err(error) => Err(Failure::machine("write the claim", &path, &error)),
        }
    }

    /// Whether the holder of a claim has gone, or has been silent for too long.
    fn is_void(&self, call: &str, generation: u64) -> bool {
        let name = claim::claim(call, generation);
        let owner = disk::text(&self.round.join("calls").join(&name)).unwrap_or_default();
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

    /// The journals of all who work or have worked in this round, but our own.
    pub fn journals(&self) -> Vec<String> {
        let seen = self.seen();
        let others = seen.workers.iter().filter(|(tag, _)| **tag != self.tag);
        others.map(|(_, (worker, _))| worker.journal.clone()).collect()
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

/// A worker of a round that is not over, with its counter, for those who only want to know.
pub struct Other {
    /// Who it is.
    pub worker: Member,
    /// Its file.
    path: PathBuf,
}

impl Other {
    /// Its counter now; `None` once it has left or ended for certain.
    pub fn sign(&self) -> Option<String> {
        let (worker, gone, counter) = worker(&self.path)?;
        (!gone && !worker.is_surely_dead()).then_some(counter)
    }
}

/// All workers of all rounds of a sheet that are not over and have not ended for certain.
#[must_use]
pub fn others(state: &StateFolder) -> Vec<Other> {
    let plans = std::fs::read_dir(state.claims()).into_iter().flatten().filter_map(Result::ok);
    let rounds = plans.flat_map(|plan| {
        let newest = numbers(&plan.path()).unwrap_or_default().into_iter().max();
        newest.map(|newest| plan.path().join(newest.to_string())).filter(|round| !round.join(OVER).exists())
    });
    let all = rounds.flat_map(|round| {
        let files = workers(&round).unwrap_or_default().into_iter();
        files.map(move |(tag, worker, ..)| Other { worker, path: round.join("workers").join(tag) }).collect::<Vec<_>>()
    });
    all.filter(|other| other.sign().is_some()).collect()
}

fn numbers(folder: &Path) -> std::io::Result<Vec<u64>> {
    let entries = std::fs::read_dir(folder)?.collect::<std::io::Result<Vec<_>>>()?;
    Ok(entries.into_iter().filter_map(|entry| entry.file_name().to_str()?.parse().ok()).collect())
}

/// All members of a round: tag, who, whether it has left, counter.
fn workers(round: &Path) -> std::io::Result<Vec<(String, Member, bool, String)>> {
    let entries = match std::fs::read_dir(round.join("workers")) {
        // A round that is just being made has no members yet.
        Err(error) if error.kind() == ErrorKind::NotFound && round.exists() => return Ok(Vec::new()),
        entries => entries?.collect::<std::io::Result<Vec<_>>>()?,
    };
    let read = entries.into_iter().filter_map(|entry| {
        let (worker, gone, counter) = worker(&entry.path())?;
        Some((entry.file_name().to_string_lossy().into_owned(), worker, gone, counter))
    });
    Ok(read.collect())
}

fn worker(path: &Path) -> Option<(Member, bool, String)> {
    let text = disk::text(path).ok()?;
    let (head, counter) = text.split_once('\n')?;
    let counter = counter.trim().to_owned();
    Some((serde_json::from_str(head).ok()?, counter == GONE, counter))
}
