//! Files that nobody here rendered are taken for frames: those that bear the planned name already, and those that bear almost
//! the same. All of it can be undone.

use std::path::Path;

use truepath_core::plan::Series;
use truepath_core::resolve::paths;
use truepath_core::run::event::{Event, Gone, GoneBy, Landed};
use truepath_core::run::fingerprint::Fingerprint;
use truepath_core::run::history::{History, past};
use truepath_core::verify::{Picture, Seen, State, judge};

use super::forbidden;
use super::moving::{Move, Mover, recorded};
use crate::failure::Failure;

/// One file that is to be taken.
pub struct Adoption<'a> {
    /// Its series.
    pub series: &'a Series,
    /// Its frame.
    pub frame: i64,
    /// The name that it bears in the folder of its series; `None` where that is the planned one.
    pub from: Option<&'a str>,
    /// What the frames of its series would be made of now.
    pub made: Option<&'a Fingerprint>,
}

/// Takes a file into the journal, under its planned name. Why not, where it is not as planned, or its place is taken.
///
/// # Errors
/// When a file or the journal cannot be read or written.
pub fn adopt(mover: &Mover<'_>, adoption: &Adoption<'_>) -> Result<Option<String>, Failure> {
    let (plan, journal) = (mover.plan, mover.journal);
    let Adoption { series, frame, from, made } = adoption;
    let target = series.name(*frame);
    let labels = plan.labels(series);
    let planned = |picture: &Picture| is_fit(series, &labels, &Seen::Whole(picture.clone())).is_none();
    let path = from.map_or(target.clone(), |from| format!("{}/{from}", paths::parent(&target)));
    let looked = truepath_media::inspect(Path::new(&path), &planned);
    let looked = looked.map_err(|error| Failure::machine("read", &path, &error))?;
    let unproven = match judge(series, &labels, &looked.seen) {
        (State::Good, _) => None,
        (State::Unproven, why) => why,
        (_, why) => return Ok(Some(why.unwrap_or_default())),
    };
    if let Some(why) = forbidden(&looked, unproven.as_deref(), plan.asked(series), &plan.policy) {
        return Ok(Some(why));
    }
    let Some(digest) = looked.digest else { return Ok(Some("it cannot be read".to_owned())) };
    let (id, frame) = (series.id.clone(), *frame);
    journal.announce(series, *made)?;
    let digest = blake3::Hash::from_bytes(digest).to_hex().to_string();
    let before = [
        Event::Adopted { series: id.clone(), frame, from: from.unwrap_or_default().to_owned() },
        Event::Landed(Landed { series: id.clone(), frame, bytes: looked.bytes, digest, call: String::new() }),
    ];
    if from.is_none() {
        return before.iter().try_for_each(|event| journal.write(event)).map(|()| None);
    }
    // The journal would have said that it lands, and it did not.
    let otherwise = [Event::Late { series: id, frame }];
    let (from, to) = (Path::new(&path), Path::new(&target));
    recorded(mover, &Move { from, to, before: &before, otherwise: &otherwise })
}

/// Why a file is not as planned, as far as it was seen.
fn is_fit(series: &Series, labels: &[&str], seen: &Seen) -> Option<String> {
    match judge(series, labels, seen) {
        (State::Good | State::Unproven, _) => None,
        (_, why) => Some(why.unwrap_or_default()),
    }
}

/// What became of an adoption that is to be undone.
#[derive(Debug, PartialEq, Eq)]
pub enum GivenBack {
    /// It is undone.
    Now,
    /// It was undone before.
    Before,
    /// It could not be undone: why.
    Not(String),
}

/// Gives a file that was adopted its old name back, and forgets its landing.
///
/// # Errors
/// When a file cannot be moved or the journal cannot be written.
pub fn give_back(mover: &Mover<'_>, adoption: &Adoption<'_>, history: &History) -> Result<GivenBack, Failure> {
    let (series, frame, journal) = (adoption.series, adoption.frame, mover.journal);
    let from = adoption.from.unwrap_or_default();
    let target = series.name(frame);
    if from.contains(['/', '\\']) || from == ".." {
        return Ok(GivenBack::Not(format!("`{from}` is not a name in its folder")));
    }
    let old = format!("{}/{from}", paths::parent(&target));
    let bytes = std::fs::symlink_metadata(&target).map(|about| about.len());
    if bytes.is_err() && !from.is_empty() && Path::new(&old).is_file() {
        return Ok(GivenBack::Before);
    }
    let record = bytes.ok().and_then(|bytes| past(history.of(series), series.number(frame), bytes));
    let same = match record {
        Some((record, true)) => {
            let digest = truepath_media::digest(Path::new(&target));
            digest.map_err(|error| Failure::machine("read", &target, &error))?.0 == record.digest
        }
        _ => false,
    };
    if !same {
        return Ok(GivenBack::Not("it is not the file that was accepted".to_owned()));
    }
    journal.announce(series, None)?;
    let gone = |to: &str| [Event::Gone(Gone { series: series.id.clone(), frame, to: to.to_owned(), by: GoneBy::Undo })];
    if from.is_empty() {
        return gone("").iter().try_for_each(|event| journal.write(event)).map(|()| GivenBack::Now);
    }
    let otherwise = [Event::Back { series: series.id.clone(), frame }];
    let (before, from, to) = (gone(from), Path::new(&target), Path::new(&old));
    let why = recorded(mover, &Move { from, to, before: &before, otherwise: &otherwise })?;
    Ok(why.map_or(GivenBack::Now, GivenBack::Not))
}
