//! Files make room: moved into a folder of the day below their root, from where they can be brought back.

use std::io::ErrorKind;
use std::path::{Path, PathBuf};

use truepath_core::frames::Number;
use truepath_core::plan::{Plan, Series};
use truepath_core::run::event::{Event, Gone, GoneBy, Landed, SeriesOf};
use truepath_core::run::history::{History, PutAway};
use truepath_core::template::Pattern;

use super::{Disk, Moves};
use crate::failure::Failure;
use crate::state::journal::Journal;

/// Where files are put that were taken away, below their root.
pub const REMOVED: &str = ".truepath/removed";

/// A folder as journals keep it: from the name of its root on, which other machines know by another path.
fn kept(path: &str, plan: &Plan) -> String {
    let below =
        |(name, root): (&str, &str)| Some(format!("{{{name}}}/{}", path.strip_prefix(root)?.strip_prefix('/')?));
    let roots = plan.roots.iter().filter_map(|root| Some((root.name.as_str(), root.path.as_deref()?)));
    roots.filter_map(below).min_by_key(String::len).unwrap_or_else(|| path.to_owned())
}

/// The path on this machine of what journals keep.
fn found(kept: &str, plan: &Plan) -> String {
    let root = kept.strip_prefix('{').and_then(|rest| rest.split_once('}'));
    let here = root.and_then(|(name, rest)| {
        let root = plan.roots.iter().find(|root| root.name == name)?.path.as_deref()?;
        Some(format!("{root}{rest}"))
    });
    here.unwrap_or_else(|| kept.to_owned())
}

/// A pattern in words, as [`truepath_core::template::Pattern::spelt`] has it, with a number.
fn named(spelt: &str, number: Number) -> String {
    let mut pattern = Pattern::default();
    let mut rest = spelt;
    while let Some((text, after)) = rest.split_once("{frame:") {
        let Some((width, after)) = after.split_once('}') else { break };
        pattern.push_text(text);
        pattern.push_frame(width.parse().unwrap_or(1));
        rest = after;
    }
    pattern.push_text(rest);
    pattern.name(number)
}

/// Moves a file, never over another.
fn moved(from: &Path, to: &Path) -> Result<Option<String>, Failure> {
    let folder = to.parent().unwrap_or(Path::new("/"));
    std::fs::create_dir_all(folder).map_err(|error| Failure::machine("make the folder", folder, &error))?;
    match Disk.rename(from, to, false) {
        Ok(()) => Ok(None),
        Err(error) if error.kind() == ErrorKind::AlreadyExists => {
            Ok(Some(format!("there is already something at {}", to.display())))
        }
        Err(error) if error.kind() == ErrorKind::CrossesDevices => {
            let help = "give a folder on the same disk with --to: files are moved, never copied";
            Err(Failure::machine("move", from, &error).help(help))
        }
        Err(error) => Err(Failure::machine("move", from, &error)),
    }
}

/// Puts a file of a plan away, to `to`. Why not, where something stands there.
///
/// # Errors
/// When it cannot be moved, or the journal cannot be written.
pub fn put_away(
    plan: &Plan,
    (series, frame): (&Series, i64),
    to: &Path,
    journal: &Journal,
) -> Result<Option<String>, Failure> {
    journal.announce(series, None)?;
    let kept = kept(&truepath_core::resolve::paths::from_system(to), plan);
    let gone = Gone { series: series.id.clone(), frame, to: kept, by: GoneBy::Clean };
    // The journal hears of it once it is so: a file that is gone without a line is only missing.
    let why = moved(Path::new(&series.name(frame)), to)?;
    if why.is_none() {
        journal.write(&Event::Gone(gone))?;
    }
    Ok(why)
}

/// Brings a file back that was put away, with its landing. Why not, where it does not exist or its name is taken. `place` is
/// where its series lies, as journals keep it: it may be one that no plan has any more.
///
/// # Errors
/// As [`put_away`].
pub fn bring_back(
    plan: &Plan,
    place: &str,
    away: &PutAway,
    history: &History,
    journal: &Journal,
) -> Result<Option<String>, Failure> {
    let from = PathBuf::from(found(&away.gone.to, plan));
    if !from.is_file() {
        return Ok(Some(format!("it is no longer at {}", from.display())));
    }
    if let Some(why) = moved(&from, Path::new(&named(&found(place, plan), away.number)))? {
        return Ok(Some(why));
    }
    // The folder of its day, and those in it, go with the last file in them.
    let folders = from.ancestors().skip(1).take_while(|folder| !folder.ends_with("removed"));
    for folder in folders {
        if std::fs::remove_dir(folder).is_err() {
            break;
        }
    }
    let (series, frame) = (away.gone.series.clone(), away.gone.frame);
    let made = away.record.map(|record| history.made(&record).to_vec()).unwrap_or_default();
    let shift = away.number.value() - frame;
    journal.write(&Event::Series(SeriesOf { series: series.clone(), pattern: place.to_owned(), shift, made }))?;
    match away.record {
        Some(record) => journal.write(&Event::Landed(Landed {
            series,
            frame,
            bytes: record.bytes,
            digest: blake3::Hash::from_bytes(record.digest).to_hex().to_string(),
            call: String::new(),
        }))?,
        None => {
            let to = String::new();
            journal.write(&Event::Gone(Gone { series, frame, to, by: GoneBy::Undo }))?;
        }
    }
    Ok(None)
}
