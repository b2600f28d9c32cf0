//! Files that nobody here rendered are taken for frames: those that bear the planned name already, and those that bear almost
//! the same. All of it can be undone.

use std::io::ErrorKind;
use std::path::Path;

use truepath_core::plan::{Plan, Series};
use truepath_core::resolve::paths;
use truepath_core::run::event::{Event, Gone, GoneBy, Landed};
use truepath_core::run::fingerprint::Fingerprint;
use truepath_core::run::history::{History, past};
use truepath_core::verify::{Picture, Seen, State, judge};

use super::{Disk, Moves, forbidden};
use crate::failure::Failure;
use crate::state::journal::Journal;

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
pub fn adopt(plan: &Plan, adoption: &Adoption<'_>, journal: &Journal) -> Result<Option<String>, Failure> {
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
    let taken = || Ok(Some(format!("there is already something at {target}")));
    if from.is_some() && Path::new(&target).symlink_metadata().is_ok() {
        return taken();
    }
    // First in the journal: a kill in between does not lose the old name.
    let (id, frame) = (|| series.id.clone(), *frame);
    journal.announce(series, *made)?;
    journal.write(&Event::Adopted { series: id(), frame, from: from.unwrap_or_default().to_owned() })?;
    let digest = blake3::Hash::from_bytes(digest).to_hex().to_string();
    journal.write(&Event::Landed(Landed { series: id(), frame, bytes: looked.bytes, digest, call: String::new() }))?;
    if from.is_none() {
        return Ok(None);
    }
    let Err(error) = Disk.rename(Path::new(&path), Path::new(&target), false) else { return Ok(None) };
    // The journal has said that it lands, and it did not.
    journal.write(&Event::Late { series: id(), frame })?;
    if error.kind() == ErrorKind::AlreadyExists { taken() } else { Err(Failure::machine("rename", &path, &error)) }
}

/// Why a file is not as planned, as far as it was seen.
fn is_fit(series: &Series, labels: &[&str], seen: &Seen) -> Option<String> {
    match judge(series, labels, seen) {
        (State::Good | State::Unproven, _) => None,
        (_, why) => Some(why.unwrap_or_default()),
    }
}

/// Gives a file that was adopted its old name back, and forgets its landing. Why not, where it was changed or its old name is
/// taken.
///
/// # Errors
/// When a file cannot be moved or the journal cannot be written.
pub fn give_back(
    (series, frame): (&Series, i64),
    from: &str,
    history: &History,
    journal: &Journal,
) -> Result<Option<String>, Failure> {
    let target = series.name(frame);
    let bytes = std::fs::symlink_metadata(&target).map(|about| about.len());
    let record = bytes.ok().and_then(|bytes| past(history.of(series), series.number(frame), bytes));
    let same = match record {
        Some((record, true)) => {
            let digest = truepath_media::digest(Path::new(&target));
            digest.map_err(|error| Failure::machine("read", &target, &error))?.0 == record.digest
        }
        _ => false,
    };
    if !same {
        return Ok(Some("it is not the file that was accepted".to_owned()));
    }
    journal.announce(series, None)?;
    if !from.is_empty() {
        let old = format!("{}/{from}", paths::parent(&target));
        match Disk.rename(Path::new(&target), Path::new(&old), false) {
            Ok(()) => {}
            Err(error) if error.kind() == ErrorKind::AlreadyExists => {
                return Ok(Some(format!("there is already something at {old}")));
            }
            Err(error) => return Err(Failure::machine("rename", &target, &error)),
        }
    }
    let gone = Gone { series: series.id.clone(), frame, to: String::new(), by: GoneBy::Undo };
    journal.write(&Event::Gone(gone)).map(|()| None)
}
