//! The one way to move a file that somebody may want back: within the folders of its sheet, never over another file, and with
//! the journal's line first. A kill between the line and the move loses nothing: a file that is still there with
//! the bytes of its landing counts as landed, and what is still away can be brought back.

use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use truepath_core::flaw::Flaw;

use truepath_core::plan::Plan;
use truepath_core::run::event::Event;

use super::{Disk, Moves};
use crate::disk::no_file;
use crate::failure::Failure;
use crate::guard::{OWN, REMOVED, confined};
use crate::state::journal::Journal;

/// What moves files of a sheet.
pub struct Mover<'m> {
    /// The sheet's plan.
    pub plan: &'m Plan,
    /// Where every move is told first.
    pub journal: &'m Journal,
    /// The folders that files may be moved in.
    bounds: Vec<PathBuf>,
}

impl<'m> Mover<'m> {
    /// Files are moved in the sheet's own folder, in its roots, and in one that was named.
    #[must_use]
    pub fn new(plan: &'m Plan, journal: &'m Journal, named: Option<&Path>) -> Mover<'m> {
        let roots = plan.roots.iter().filter_map(|root| root.path.as_deref()).map(PathBuf::from);
        let home = PathBuf::from(&plan.home.folder);
        Mover { plan, journal, bounds: roots.chain([home]).chain(named.map(Path::to_owned)).collect() }
    }

    /// Where a path really leads; why it may not be touched, where that is outside.
    fn real(&self, path: &Path) -> Result<PathBuf, Flaw> {
        confined(path, self.bounds.iter().map(PathBuf::as_path))
            .map_err(|why| format!("{} {why}", path.display()).into())
    }
}

/// One move, with what the journal is told before it, and what if it could not be made.
pub struct Move<'m> {
    /// From where.
    pub from: &'m Path,
    /// To where; nothing may stand there.
    pub to: &'m Path,
    /// Told before.
    pub before: &'m [Event],
    /// Told when it could not be made.
    pub otherwise: &'m [Event],
}

/// Moves a file. Why not, where it or its new place is not what it should be.
///
/// # Errors
/// When the system does not let us, or the journal cannot be written.
pub fn recorded(mover: &Mover<'_>, moving: &Move<'_>) -> Result<Option<String>, Failure> {
    let journal = mover.journal;
    let ends = mover.real(moving.from).and_then(|from| Ok((from, mover.real(moving.to)?)));
    let (from, to) = match ends {
        Ok(ends) => ends,
        Err(why) => return Ok(Some(why.to_string())),
    };
    // Of True Path's own files only those that were put away are anybody's to move.
    let is_own =
        |path: &Path| path.iter().zip(path.iter().skip(1)).any(|(part, in_it)| part == OWN && in_it != REMOVED);
    if let Some(own) = [&from, &to].into_iter().find(|path| is_own(path)) {
        return Ok(Some(format!("{} is inside {OWN}, where True Path keeps its own files", own.display())));
    }
    match (no_file(&from), from.symlink_metadata()) {
        (Some(what), _) => return Ok(Some(format!("{} is {what}, not a file", from.display()))),
        (None, Err(error)) => return Ok(Some(format!("{} is not there: {error}", from.display()))),
        (None, Ok(_)) => {}
    }
    let taken = || Ok(Some(format!("there is already something at {}", to.display())));
    if to.symlink_metadata().is_ok() {
        return taken();
    }
    let folder = to.parent().unwrap_or(Path::new("/"));
    std::fs::create_dir_all(folder).map_err(|error| Failure::machine("make the folder", folder, &error))?;
    moving.before.iter().try_for_each(|event| journal.write(event))?;
    let Err(error) = Disk.rename(&from, &to, false) else { return Ok(None) };
    moving.otherwise.iter().try_for_each(|event| journal.write(event))?;
    match error.kind() {
        ErrorKind::AlreadyExists => taken(),
        ErrorKind::CrossesDevices => {
            let help = "give a folder on the same disk with --to: files are moved, never copied";
            Err(Failure::machine("move", &from, &error).help(help))
        }
        _ => Err(Failure::machine("move", &from, &error)),
    }
}
