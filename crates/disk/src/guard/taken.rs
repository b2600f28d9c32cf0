//! Names that belong to somebody: planned files, and what the work is made of.

use std::cell::OnceCell;
use std::path::{Path, PathBuf};

use truepath_core::resolve::paths::{self, from_system};
use truepath_core::template::{Pattern, folded};

use super::place::NamedPlace;
use super::scratch::Scratch;

/// Names that nothing else may be written to.
#[derive(Clone, Debug, Default)]
pub struct Taken {
    patterns: Vec<(Pattern, &'static str)>,
    files: Vec<(PathBuf, &'static str)>,
}

impl Taken {
    /// All names of a pattern, with every number; `what` says in words what they are: "a file that the sheet plans".
    pub fn pattern(&mut self, pattern: Pattern, what: &'static str) {
        self.patterns.push((pattern, what));
    }

    /// One file.
    pub fn file(&mut self, path: impl Into<PathBuf>, what: &'static str) {
        self.files.push((path.into(), what));
    }

    /// What a place is, where it belongs to somebody. `scratch` is a folder beside it: wherever that is seen is the same
    /// folder, by whatever path.
    pub(super) fn owner(&self, place: &NamedPlace, scratch: &Scratch) -> Option<&'static str> {
        let seat = Seat { place, name: from_system(Path::new(&place.name)), scratch, ignores_case: OnceCell::new() };
        let pattern = self.patterns.iter().find(|(pattern, _)| seat.bears(pattern)).map(|(_, what)| *what);
        pattern.or_else(|| self.files.iter().find(|(path, _)| seat.is(path)).map(|(_, what)| *what))
    }
}

/// A place that is asked about.
struct Seat<'s> {
    place: &'s NamedPlace,
    name: String,
    scratch: &'s Scratch,
    ignores_case: OnceCell<bool>,
}

impl Seat<'_> {
    /// Whether the file system takes upper and lower case for the same: it finds the folder under another spelling.
    fn ignores_case(&self) -> bool {
        *self.ignores_case.get_or_init(|| {
            let name = self.scratch.path().file_name().unwrap_or_default().to_string_lossy().to_ascii_uppercase();
            self.place.folder.join(name).symlink_metadata().is_ok()
        })
    }

    fn has_name(&self, name: &str) -> bool {
        name == self.name || folded(name) == folded(&self.name) && self.ignores_case()
    }

    fn is_folder(&self, folder: &Path) -> bool {
        dunce::canonicalize(folder).is_ok_and(|real| real == self.place.folder)
            || self.scratch.path().file_name().is_some_and(|name| folder.join(name).symlink_metadata().is_ok())
    }

    fn is(&self, path: &Path) -> bool {
        let text = from_system(path);
        self.has_name(paths::file_name(&text)) && {
            // A file that is reached through a link is where the link leads, and the link is a name as well.
            let real = || dunce::canonicalize(path).ok();
            self.is_folder(path.parent().unwrap_or(Path::new(".")))
                || real().is_some_and(|real| real == self.place.path())
        } || path.is_symlink() && dunce::canonicalize(path).is_ok_and(|real| real == self.place.path())
    }

    /// Whether the place bears a name of a pattern.
    fn bears(&self, pattern: &Pattern) -> bool {
        let (folder, file) = pattern.split_folder();
        let number = match file.read(&self.name) {
            None if self.ignores_case() => file.folded().read(&folded(&self.name)),
            number => number,
        };
        let Some(number) = number else { return false };
        if file.frame_width().is_some() || folder.frame_width().is_none() {
            return self.is_folder(Path::new(&folder.name(number)));
        }
        // The number stands in the names of folders only: it is read from those that lie above the place.
        let parts = folder.parts();
        let own: Vec<String> = self.place.folder.iter().map(|part| from_system(Path::new(part))).collect();
        let above = parts.iter().rev().skip(1).zip(own.iter().rev());
        let numbers = above.filter(|(part, _)| part.frame_width().is_some()).filter_map(|(part, own)| part.read(own));
        numbers.into_iter().any(|number| self.is_folder(Path::new(&folder.name(number))))
    }
}
