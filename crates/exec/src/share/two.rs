//! What two machines see of each other in a folder: tried by two processes that meet there. Nothing compares their clocks: each
//! measures how long an answer takes that the other gives once it has seen something.

use std::fs::File;
use std::io::{Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};

use super::trial;
use crate::failure::{Cause, Failure};

/// The folder in which they meet.
const MEETING: &str = ".truepath-share-test";
/// From one look to the next.
const LOOK: Duration = Duration::from_millis(20);
/// How often each thing is tried, where the first answer came within [`SOON`].
const ROUNDS: usize = 3;
const SOON: f64 = 1.0;
/// Names that both ask for at once.
const NAMES: usize = 200;

/// Longest times until an answer came, in seconds: one is seen by the other, and its answer by this one.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Lags {
    /// After a file was made, where the folder is listed.
    pub made: f64,
    /// After a file was made that the other had looked for by its name before.
    pub named: f64,
    /// After a file was written over in place.
    pub changed: f64,
    /// After a file was replaced by a rename.
    pub replaced: f64,
    /// After a file was removed.
    pub removed: f64,
}

impl Lags {
    /// The longest of them all.
    fn most(self) -> f64 {
        [self.named, self.changed, self.replaced, self.removed].into_iter().fold(self.made, f64::max)
    }

    fn longest(self, other: Lags) -> Lags {
        Lags {
            made: self.made.max(other.made),
            named: self.named.max(other.named),
            changed: self.changed.max(other.changed),
            replaced: self.replaced.max(other.replaced),
            removed: self.removed.max(other.removed),
        }
    }
}

/// What two machines saw of each other.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct ShareSeen {
    /// The other machine.
    pub other: String,
    /// The longest times of both.
    pub lags: Lags,
    /// Names that both asked for.
    pub names: usize,
    /// Names that both got: each would have rendered the same call.
    pub twice: usize,
    /// Names that neither got.
    pub lost: usize,
}

impl ShareSeen {
    /// Whether members of `run --share` can work there.
    #[must_use]
    pub fn will_do(&self) -> bool {
        self.twice == 0
    }

    /// Seconds of silence that a member needs before it takes a call over, at least: twice what the share was seen to keep.
    #[must_use]
    pub fn takeover(&self) -> f64 {
        2.0 * self.lags.most()
    }
}

/// What each tells the other at the end.
#[derive(Serialize, Deserialize)]
struct Account {
    host: String,
    lags: Lags,
    got: Vec<usize>,
}

/// Meets another process in a folder, and tries with it what sharing needs. `host` and `tag` tell this one from the other;
/// nothing waits for the other longer than `patience`. Nothing of it stays.
///
/// # Errors
/// When the folder cannot be written, cannot be shared even by one machine, or when the other does not come or does not answer.
pub fn try_with_another(folder: &Path, (host, tag): (&str, &str), patience: Duration) -> Result<ShareSeen, Failure> {
    let base = folder.join(MEETING);
    let failed = |error: &std::io::Error| Failure::machine("write into", &base, error);
    if base.is_symlink() {
        let message = format!("{} is a link", base.display());
        return Err(Failure::new(Cause::Machine, message).help("remove it"));
    }
    std::fs::create_dir_all(&base).map_err(|error| failed(&error))?;
    trial::tried(&base, tag).map_err(|why| {
        let _ = std::fs::remove_dir(&base);
        Failure::new(Cause::Machine, format!("{} cannot be shared: {why}", folder.display()))
            .help("use a folder on another file system, or `truepath parcel`")
    })?;
    let met = meet(&base, tag, patience);
    let Some((session, first)) = met.map_err(|error| failed(&error))? else {
        let _ = std::fs::remove_file(base.join(format!("{tag}.here")));
        let _ = std::fs::remove_dir(&base);
        let message = format!("no other machine was seen in {} within {} s", folder.display(), patience.as_secs());
        return Err(Failure::new(Cause::Machine, message)
            .help("start the same command on another machine at the same time; if it runs there, the two do not see the same folder"));
    };
    let pair = TwoMembers { session, first, patience };
    let seen = pair.all(host);
    pair.part(&base);
    seen.map_err(|why| match why {
        Stopped::Silent(what) => {
            let message = format!("the other machine did not answer within {} s: {what}", patience.as_secs());
            Failure::new(Cause::Machine, message)
                .help("it was ended, or this share shows such changes too late to be worked on by several machines")
        }
        Stopped::Failed(error) => failed(&error),
    })
}

/// Waits for another process: the folder of the two, and whether this one speaks first.
fn meet(base: &Path, tag: &str, patience: Duration) -> std::io::Result<Option<(PathBuf, bool)>> {
    let since = Instant::now();
    while since.elapsed() < patience {
        // Another pair may have cleared the folder.
        std::fs::create_dir_all(base)?;
        std::fs::write(base.join(format!("{tag}.here")), "")?;
        for entry in std::fs::read_dir(base)?.filter_map(Result::ok) {
            let name = entry.file_name().to_string_lossy().into_owned();
            let Some(other) = name.strip_suffix(".here").filter(|other| *other != tag) else { continue };
            let (low, high) = if tag < other { (tag, other) } else { (other, tag) };
            let session = base.join(format!("{low}-{high}"));
            std::fs::create_dir_all(&session)?;
            std::fs::write(session.join(format!("hello-{tag}")), "")?;
            // Who left a file here and has ended does not answer.
            if names(&session)?.contains(&format!("hello-{other}")) {
                return Ok(Some((session, tag < other)));
            }
        }
        std::thread::sleep(LOOK);
    }
    Ok(None)
}

fn names(folder: &Path) -> std::io::Result<Vec<String>> {
    std::fs::read_dir(folder)?.map(|entry| Ok(entry?.file_name().to_string_lossy().into_owned())).collect()
}

/// Why a trial stopped.
enum Stopped {
    Silent(&'static str),
    Failed(std::io::Error),
}

impl From<std::io::Error> for Stopped {
    fn from(error: std::io::Error) -> Stopped {
        Stopped::Failed(error)
    }
}

/// Two processes in a folder of their own.
struct TwoMembers {
    session: PathBuf,
    /// Whether this one speaks first.
    first: bool,
    patience: Duration,
}

impl TwoMembers {
    fn all(&self, host: &str) -> Result<ShareSeen, Stopped> {
        let mut lags = Lags::default();
        for speaker in [true, false] {
            if speaker == self.first {
                lags = self.speak(speaker)?;
            } else {
                self.answer(speaker)?;
            }
        }
        let got = self.race()?;
        let told = Account { host: host.to_owned(), lags, got };
        let text = serde_json::to_string(&told).unwrap_or_default();
        self.put(&format!("told-{}", self.first), &format!("{text}\n"))?;
        let other = self.until("what it saw", || {
            let text = std::fs::read_to_string(self.at(&format!("told-{}", !self.first))).ok()?;
            // On some shares a name is there before what the file holds.
            serde_json::from_str::<Account>(text.strip_suffix('\n')?).ok()
        })?;
        let twice = told.got.iter().filter(|at| other.got.contains(at)).count();
        let lost = (0..NAMES).filter(|at| !told.got.contains(at) && !other.got.contains(at)).count();
        Ok(ShareSeen { other: other.host, lags: told.lags.longest(other.lags), names: NAMES, twice, lost })
    }

    /// Makes, changes, replaces and removes files, and measures how long the other takes to say that it has seen it.
    fn speak(&self, speaker: bool) -> Result<Lags, Stopped> {
        let mut lags = Lags::default();
        let name = |what: &str| format!("{what}-{speaker}");
        let mut rounds = ROUNDS;
        for round in 1..=ROUNDS {
            let began = Instant::now();
            self.put(&name(&format!("made{round}")), "")?;
            self.hear(&name(&format!("saw-made{round}")), "a new file was not seen")?;
            lags.made = lags.made.max(began.elapsed().as_secs_f64());
            // Where answers take long, one of each kind is enough.
            if lags.made > SOON {
                rounds = 1;
                break;
            }
        }
        self.put(&name("rounds"), &format!("{rounds}\n"))?;
        self.hear(&name("looked"), "a new file was not seen")?;
        let began = Instant::now();
        self.put(&name("looked-for"), "")?;
        self.hear(&name("saw-looked-for"), "a new file was not seen by its name")?;
        lags.named = began.elapsed().as_secs_f64();
        let path = self.at(&name("sign"));
        let mut sign = File::options().write(true).create_new(true).open(&path)?;
        sign.write_all(b"0")?;
        self.put(&name("page"), "0")?;
        self.put(&name("ready"), "")?;
        self.hear(&name("saw-ready"), "a new file was not seen")?;
        for round in 1..=rounds {
            let began = Instant::now();
            // As a member's sign of life is written: over what was there, in the same file.
            sign.seek(SeekFrom::Start(0))?;
            sign.write_all(round.to_string().as_bytes())?;
            self.hear(&name(&format!("saw-changed{round}")), "a changed file was not seen")?;
            lags.changed = lags.changed.max(began.elapsed().as_secs_f64());
            let began = Instant::now();
            self.put(&name("next"), &round.to_string())?;
            std::fs::rename(self.at(&name("next")), self.at(&name("page")))?;
            self.hear(&name(&format!("saw-replaced{round}")), "a replaced file was not seen")?;
            lags.replaced = lags.replaced.max(began.elapsed().as_secs_f64());
        }
        drop(sign);
        let began = Instant::now();
        std::fs::remove_file(&path)?;
        self.hear(&name("saw-removed"), "a removed file was still seen")?;
        lags.removed = began.elapsed().as_secs_f64();
        Ok(lags)
    }

    /// Says what is seen of what the other does.
    fn answer(&self, speaker: bool) -> Result<(), Stopped> {
        let name = |what: &str| format!("{what}-{speaker}");
        let read = |what: &str| std::fs::read_to_string(self.at(&name(what))).ok();
        let mut round = 1;
        let rounds = loop {
            let made = name(&format!("made{round}"));
            let found = self.until("a new file was not seen", || {
                let names = names(&self.session).ok()?;
                let told = || read("rounds")?.strip_suffix('\n')?.parse::<usize>().ok();
                if names.contains(&made) { Some(None) } else { told().map(Some) }
            })?;
            if let Some(rounds) = found {
                break rounds;
            }
            self.put(&name(&format!("saw-made{round}")), "")?;
            round += 1;
        };
        let is_there = |what: &str| self.at(&name(what)).exists().then_some(());
        let _ = is_there("looked-for");
        self.put(&name("looked"), "")?;
        self.until("a new file was not seen by its name", || is_there("looked-for"))?;
        self.put(&name("saw-looked-for"), "")?;
        self.hear(&name("ready"), "a new file was not seen")?;
        // What a cache would keep is read once.
        let _ = (read("sign"), read("page"));
        self.put(&name("saw-ready"), "")?;
        for round in 1..=rounds {
            let is_now = |what: &str| (read(what)? == round.to_string()).then_some(());
            self.until("a changed file was not seen", || is_now("sign"))?;
            self.put(&name(&format!("saw-changed{round}")), "")?;
            self.until("a replaced file was not seen", || is_now("page"))?;
            self.put(&name(&format!("saw-replaced{round}")), "")?;
        }
        self.until("a removed file was still seen", || (!self.at(&name("sign")).exists()).then_some(()))?;
        Ok(self.put(&name("saw-removed"), "")?)
    }

    /// Asks for the same names as the other at the same time: those that it got.
    fn race(&self) -> Result<Vec<usize>, Stopped> {
        self.put(&format!("race-{}", self.first), "")?;
        self.hear(&format!("race-{}", !self.first), "a new file was not seen")?;
        let mut got = Vec::new();
        for at in 0..NAMES {
            // Half of them at the same moment, and half of them the other way round: then one has stood for a while.
            let at = if at < NAMES / 2 || self.first { at } else { NAMES + NAMES / 2 - 1 - at };
            if File::options().write(true).create_new(true).open(self.at(&format!("name-{at}"))).is_ok() {
                got.push(at);
            }
        }
        Ok(got)
    }

    fn at(&self, name: &str) -> PathBuf {
        self.session.join(name)
    }

    fn put(&self, name: &str, text: &str) -> std::io::Result<()> {
        File::options().write(true).create_new(true).open(self.at(name))?.write_all(text.as_bytes())
    }

    fn hear(&self, name: &str, what: &'static str) -> Result<(), Stopped> {
        self.until(what, || names(&self.session).ok()?.iter().any(|own| own == name).then_some(()))
    }

    fn until<T>(&self, what: &'static str, look: impl Fn() -> Option<T>) -> Result<T, Stopped> {
        let since = Instant::now();
        loop {
            if let Some(found) = look() {
                return Ok(found);
            }
            if since.elapsed() >= self.patience {
                return Err(Stopped::Silent(what));
            }
            std::thread::sleep(LOOK);
        }
    }

    /// The one who spoke first clears up, once the other has read all.
    fn part(&self, base: &Path) {
        let _ = self.put(&format!("bye-{}", self.first), "");
        if self.first {
            let _ = self.hear("bye-false", "");
            // What stays is only in the way.
            let _ = std::fs::remove_dir_all(base);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::try_with_another;
    use std::time::Duration;

    #[test]
    fn two_see_all_of_each_other_and_nothing_stays() {
        let folder = tempfile::tempdir().expect("a folder");
        let trial = |tag: &'static str| try_with_another(folder.path(), (tag, tag), Duration::from_secs(120));
        let (one, other) = std::thread::scope(|scope| {
            let other = scope.spawn(|| trial("b"));
            (trial("a"), other.join().expect("the other"))
        });
        let (one, other) = (one.expect("the first"), other.expect("the second"));
        assert_eq!((one.other.as_str(), other.other.as_str()), ("b", "a"));
        assert_eq!((one.lags, one.names, one.twice, one.lost), (other.lags, other.names, 0, 0));
        assert!(one.will_do() && std::fs::read_dir(folder.path()).expect("the folder").count() == 0);
        assert!(try_with_another(folder.path(), ("a", "a"), Duration::ZERO).is_err());
        assert_eq!(std::fs::read_dir(folder.path()).expect("the folder").count(), 0);
    }
}
