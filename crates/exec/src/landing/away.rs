//! Files make room: moved into a folder of the day below their root, from where they can be brought back.

use std::path::{Path, PathBuf};

use truepath_core::frames::Number;
use truepath_core::plan::{Plan, Series};
use truepath_core::resolve::paths::from_system;
use truepath_core::run::event::{Event, Gone, GoneBy, SeriesOf};
use truepath_core::run::history::{History, PutAway};
use truepath_core::template::Pattern;

use super::moving::{Move, Mover, recorded};
use crate::failure::Failure;
use crate::guard::{REMOVED, own_folder};

/// The folder for files that were put away, below a root.
///
/// # Errors
/// When a part of it is a link or a file.
pub fn removed(root: &Path) -> Result<PathBuf, Failure> {
    own_folder(root, &[REMOVED])
}

/// A folder as journals keep it: from the name of its root on, which other machines know by another path.
fn kept(path: &str, plan: &Plan) -> String {
    let below =
        |(name, root): (&str, &str)| Some(format!("{{{name}}}/{}", path.strip_prefix(root)?.strip_prefix('/')?));
    let roots = plan.roots.iter().filter_map(|root| Some((root.name.as_str(), root.path.as_deref()?)));
    roots.filter_map(below).min_by_key(String::len).unwrap_or_else(|| path.to_owned())
}

/// The path on this machine of what journals keep.
#[must_use]
pub fn found(kept: &str, plan: &Plan) -> String {
    let root = kept.strip_prefix('{').and_then(|rest| rest.split_once('}'));
    let here = root.and_then(|(name, rest)| {
        let root = plan.roots.iter().find(|root| root.name == name)?.path.as_deref()?;
        Some(format!("{root}{rest}"))
    });
    here.unwrap_or_else(|| kept.to_owned())
}

/// Puts a file of a plan away, to `to`. Why not, where something stands there, or it would leave the sheet's folders.
///
/// # Errors
/// When it cannot be moved, or the journal cannot be written.
pub fn put_away(mover: &Mover<'_>, (series, frame): (&Series, i64), to: &Path) -> Result<Option<String>, Failure> {
    mover.journal.announce(series, None)?;
    let id = series.id.clone();
    let gone = Gone { series: id.clone(), frame, to: kept(&from_system(to), mover.plan), by: GoneBy::Clean };
    let (from, before, otherwise) = (series.name(frame), [Event::Gone(gone)], [Event::Back { series: id, frame }]);
    recorded(mover, &Move { from: Path::new(&from), to, before: &before, otherwise: &otherwise })
}

/// What became of a file that is to be brought back.
#[derive(Debug, PartialEq, Eq)]
pub enum BroughtBack {
    /// It bears its name again.
    Now,
    /// It bore its name already: it never left, or somebody has moved it back.
    Before,
    /// It could not be brought back: why.
    Not(String),
}

/// Brings a file back that was put away; its landing speaks of it again. `place` is where its series lies, as journals keep
/// it: it may be one that no plan has any more.
///
/// # Errors
/// As [`put_away`].
pub fn bring_back(
    mover: &Mover<'_>,
    (place, away): (&str, &PutAway),
    history: &History,
) -> Result<BroughtBack, Failure> {
    let plan = mover.plan;
    let from = PathBuf::from(found(&away.gone.to, plan));
    let target = named(place, plan, away.number);
    if from.symlink_metadata().is_err() {
        let is_there = Path::new(&target).is_file();
        return Ok(match is_there || away.back {
            true => BroughtBack::Before,
            false => BroughtBack::Not(format!("it is no longer at {}", from.display())),
        });
    }
    let (series, frame) = (away.gone.series.clone(), away.gone.frame);
    let made = away.record.map(|record| history.made(&record).to_vec()).unwrap_or_default();
    let shift = away.number.value() - frame;
    let before = [
        Event::Series(SeriesOf { series: series.clone(), pattern: place.to_owned(), shift, made }),
        Event::Back { series: series.clone(), frame },
    ];
    let otherwise = [Event::Gone(Gone { series, frame, ..away.gone.clone() })];
    let moving = Move { from: &from, to: Path::new(&target), before: &before, otherwise: &otherwise };
    if let Some(why) = recorded(mover, &moving)? {
        return Ok(BroughtBack::Not(why));
    }
    // The folder of its day, and those in it, go with the last file in them.
    for folder in from.ancestors().skip(1).take_while(|folder| !folder.ends_with(REMOVED)) {
        if std::fs::remove_dir(folder).is_err() {
            break;
        }
    }
    Ok(BroughtBack::Now)
}

/// The path on this machine of a file whose series journals know by its place.
fn named(place: &str, plan: &Plan, number: Number) -> String {
    Pattern::from_spelt(&found(place, plan)).name(number)
}
