//! Where a path really leads.
use std::ffi::OsString;
use std::io::{Error, ErrorKind};
use std::path::{Component, Path, PathBuf};

use truepath_core::flaw::Flaw;

use super::OWN;
use crate::disk;
use crate::failure::{Cause, Failure};

/// A name in a real folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NamedPlace {
    /// The folder, without links; it need not be there.
    pub folder: PathBuf,
    /// The name in it.
    pub name: OsString,
}

impl NamedPlace {
    /// The place that a path leads to. Links above the name are followed, the name itself is not.
    ///
    /// # Errors
    /// When it ends with no name, or a folder above it cannot be looked at.
    pub fn of(path: &Path) -> std::io::Result<NamedPlace> {
        let name = path.file_name().ok_or_else(|| Error::new(ErrorKind::InvalidInput, "it names no file"))?;
        let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
        Ok(NamedPlace { folder: real(folder)?, name: name.to_owned() })
    }

    /// Refuses a place among the files that True Path keeps for itself; `shown` is how it was written.
    ///
    /// # Errors
    /// When it is one.
    pub fn is_anybodys(&self, shown: &Path) -> Result<(), Failure> {
        if !self.path().iter().any(|part| part == OWN) {
            return Ok(());
        }
        let message = format!("{} is inside {OWN}, where True Path keeps its own files", shown.display());
        Err(Failure::new(Cause::Refused, message).help("choose another folder"))
    }

    /// The path of the place.
    #[must_use]
    pub fn path(&self) -> PathBuf {
        self.folder.join(&self.name)
    }
}

/// A folder without links, as far as it is there. What is not there has no links.
fn real(folder: &Path) -> std::io::Result<PathBuf> {
    let (mut there, mut rest) = (folder.to_owned(), Vec::new());
    let mut real = loop {
        match dunce::canonicalize(&there) {
            Ok(real) => break real,
            // A link that leads nowhere is there all the same: what is made below it would be made elsewhere.
            Err(error) if error.kind() == ErrorKind::NotFound && there.symlink_metadata().is_err() => {}
            Err(error) => return Err(error),
        }
        match there.components().next_back() {
            Some(part) => rest.push(part.as_os_str().to_owned()),
            None => break std::path::absolute(".")?,
        }
        there = match there.parent() {
            Some(above) if !above.as_os_str().is_empty() => above.to_owned(),
            Some(_) => PathBuf::from("."),
            None => return Err(ErrorKind::NotFound.into()),
        };
    };
    for part in rest.into_iter().rev() {
        match Path::new(&part).components().next() {
            Some(Component::ParentDir) => drop(real.pop()),
            Some(Component::CurDir) | None => {}
            Some(_) => real.push(part),
        }
    }
    Ok(real)
}

/// Where a path that somebody else wrote down leads, if that is below one of some folders: its folder without links, and its
/// name. Why not, in words that follow the path.
///
/// # Errors
/// When it leads out of them, or cannot be looked at.
pub fn confined<'f>(path: &Path, folders: impl IntoIterator<Item = &'f Path>) -> Result<PathBuf, Flaw> {
    if path.components().any(|part| part == Component::ParentDir) {
        return Err("leads out of its folder with `..`".into());
    }
    let place = NamedPlace::of(path).map_err(|error| Flaw::at("cannot be looked at", error))?;
    let is_below = |folder: &Path| {
        // A folder at the end of a link is where the link leads.
        let folder = dunce::canonicalize(folder).unwrap_or_else(|_| folder.to_owned());
        place.folder.starts_with(folder)
    };
    match folders.into_iter().any(is_below) {
        true => Ok(place.path()),
        false => {
            Err(format!("leads to {}, which is outside the folder that it belongs to", place.folder.display()).into())
        }
    }
}

/// The bytes of a regular file that somebody else names, no more than `most`, if it really lies below a folder.
///
/// # Errors
/// As [`disk::read`], and `PermissionDenied` where it leads out of the folder or is a link.
pub fn read_confined(path: &Path, folder: &Path, most: u64) -> std::io::Result<Vec<u8>> {
    let refused = |why: Flaw| Error::new(ErrorKind::PermissionDenied, why);
    let path = confined(path, [folder]).map_err(refused)?;
    match disk::no_file(&path) {
        Some(what) => Err(refused(format!("this is {what}, not a file").into())),
        None => disk::read(&path, most),
    }
}

/// Whether a path really lies where programs write before their files are looked at: in a stage folder.
#[must_use]
pub fn is_staged(path: &Path) -> bool {
    NamedPlace::of(path).is_ok_and(|place| {
        let parts = place.folder.iter().zip(place.folder.iter().skip(1));
        parts.into_iter().any(|(part, in_it)| part == OWN && in_it == "stage")
    })
}

/// A folder that True Path keeps below another one: `.truepath`, or what lies in it. It need not be there.
///
/// # Errors
/// When a part of it is a link: nothing is written, moved or removed through it.
pub fn own_folder(base: &Path, below: &[&str]) -> Result<PathBuf, Failure> {
    let mut folder = base.join(OWN);
    for part in std::iter::once(None).chain(below.iter().map(Some)) {
        folder.extend(part);
        if folder.is_symlink() {
            let message = format!("{} is a link; True Path keeps its own files only in real folders", folder.display());
            let help = "remove the link, or move the folder that it leads to to this place";
            return Err(Failure::new(Cause::Refused, message).help(help));
        }
    }
    Ok(folder)
}
