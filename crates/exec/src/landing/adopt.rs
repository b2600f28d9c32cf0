//! Files that nobody here rendered are taken for frames: those that bear the planned name already, and those that bear almost
//! the same. All of it can be undone.

use std::path::Path;

use truepath_core::plan::{Plan, Series};
use truepath_core::resolve::paths;
use truepath_core::run::event::{Event, Gone, GoneBy, Landed};
use truepath_core::run::fingerprint::Fingerprint;
use truepath_core::run::history::{History, past};
use truepath_core::verify::{Picture, Seen, State, judge};

use super::{Disk, Fate, Landing, Moves, land};
use crate::failure::{Failure, Trouble};
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
    let told =
        |from: &str| journal.write(&Event::Adopted { series: series.id.clone(), frame: *frame, from: from.to_owned() });
    let Some(from) = from else {
        let looked = truepath_media::inspect(Path::new(&target), &planned);
        let looked = looked.map_err(|error| Failure::machine("read", &target, &error))?;
        let (None, Some(digest)) = (is_fit(series, &labels, &looked.seen), looked.digest) else {
            return Ok(Some(is_fit(series, &labels, &looked.seen).unwrap_or_else(|| "it cannot be read".to_owned())));
        };
        journal.announce(series, *made)?;
        journal.write(&Event::Landed(Landed {
            series: series.id.clone(),
            frame: *frame,
            bytes: looked.bytes,
            digest: blake3::Hash::from_bytes(digest).to_hex().to_string(),
            call: String::new(),
        }))?;
        return told("").map(|()| None);
    };
    let staged = format!("{}/{from}", paths::parent(&target));
    let looked = truepath_media::inspect(Path::new(&staged), &planned);
    let looked = looked.map_err(|error| Failure::machine("read", &staged, &error))?;
    if let Some(why) = is_fit(series, &labels, &looked.seen) {
        return Ok(Some(why));
    }
    let landing = Landing {
        staged: Path::new(&staged),
        target: Path::new(&target),
        call: "",
        series,
        labels: &labels,
        frame: *frame,
        made: *made,
        over: false,
        asked: plan.asked(series),
        policy: &plan.policy,
    };
    // Landing takes a file away whose place is taken: this one is somebody's.
    if Path::new(&target).symlink_metadata().is_ok() {
        return Ok(Some(format!("something stands at {target}")));
    }
    // First in the journal: whoever is killed in between has not lost the old name.
    journal.announce(series, *made)?;
    told(from)?;
    match land(&landing, journal, &Disk) {
        Ok(Fate::Landed(_)) => Ok(None),
        Ok(Fate::Refused(why)) => Ok(Some(why)),
        Ok(Fate::Late) => Ok(Some(format!("something stands at {target}"))),
        Ok(Fate::NotThere) => Ok(Some("it is not there any more".to_owned())),
        Err(Trouble::Call(failure) | Trouble::Run(failure)) => Err(failure),
    }
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
        return Ok(Some("it is not the file that was taken".to_owned()));
    }
    journal.announce(series, None)?;
    if !from.is_empty() {
        let old = format!("{}/{from}", paths::parent(&target));
        match Disk.rename(Path::new(&target), Path::new(&old), false) {
            Ok(()) => {}
            Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => {
                return Ok(Some(format!("something stands at {old}")));
            }
            Err(error) => return Err(Failure::machine("rename", &target, &error)),
        }
    }
    let gone = Gone { series: series.id.clone(), frame, to: String::new(), by: GoneBy::Undo };
    journal.write(&Event::Gone(gone)).map(|()| None)
}
