//! The one way to write a file for people: judged before it is made, made beside its place, and put there in one step.

use std::collections::HashMap;
use std::fs::File;
use std::io::{ErrorKind, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use super::Taken;
use super::kind::{Kind, head};
use super::place::NamedPlace;
use super::scratch::Scratch;
use crate::disk;
use crate::failure::{Cause, Failure};

/// What may be replaced.
#[derive(Clone, Copy, Debug)]
pub enum Over<'o> {
    /// Nothing.
    Never,
    /// A file of the same kind, where somebody has asked for that with `--replace`.
    Asked(bool),
    /// What True Path made before: a file with this text in its first bytes.
    Marked(&'o str),
    /// A file with just this text: the one that was read.
    Text(&'o str),
}

/// The files that one command writes for people.
#[derive(Debug, Default)]
pub struct Deliveries {
    taken: Taken,
    /// A folder to work in for each folder that is written to.
    scratches: Mutex<HashMap<PathBuf, Arc<Scratch>>>,
}

impl Deliveries {
    /// Files that must have none of the names that are taken.
    #[must_use]
    pub fn beside(taken: Taken) -> Deliveries {
        Deliveries { taken, ..Deliveries::default() }
    }

    /// Judges a name before the work for it begins.
    ///
    /// # Errors
    /// As [`Deliveries::open`].
    pub fn judge(&self, out: &Path, how: (Kind, Over<'_>)) -> Result<(), Failure> {
        let judged = self.open(out, how).map(drop);
        // Somebody may end the work: nothing stays behind.
        self.scratches.lock().unwrap_or_else(PoisonError::into_inner).clear();
        judged
    }

    /// Judges a name alone, whatever file stands there.
    ///
    /// # Errors
    /// When the name is taken or is none of a file, or its folder cannot be written.
    pub fn judge_name(&self, out: &Path) -> Result<(), Failure> {
        let judged = self.placed(out).map(drop);
        self.scratches.lock().unwrap_or_else(PoisonError::into_inner).clear();
        judged
    }

    /// Judges a name that a file of some kind is to get. Nothing is at that name before [`Delivery::put`].
    ///
    /// # Errors
    /// When the name is taken, or something stands there that may not be replaced, or its folder cannot be written.
    pub fn open(&self, out: &Path, how: (Kind, Over<'_>)) -> Result<Delivery, Failure> {
        let mut delivery = self.placed(out)?;
        delivery.replaces = delivery.may_replace(how)?;
        Ok(delivery)
    }

    fn placed(&self, out: &Path) -> Result<Delivery, Failure> {
        let refused = |message: String, help: &str| Err(Failure::new(Cause::Refused, message).help(help));
        let shown = out.display();
        if let Some(what) = disk::no_file(out) {
            let help = if what == "a folder" { "name a file in it" } else { "choose the name of a regular file" };
            return refused(format!("{shown} is {what}"), help);
        }
        let folder = folder_of(out);
        if !folder.is_dir() {
            let message = format!("there is no folder {}", folder.display());
            return refused(message, "create the folder, or choose another one");
        }
        let failed = |error: std::io::Error| Failure::machine("write", out, &error);
        let place = NamedPlace::of(out).map_err(failed)?;
        place.is_anybodys(out)?;
        let scratch = self.scratch(&place.folder).map_err(failed)?;
        if let Some(what) = self.taken.owner(&place, &scratch) {
            return refused(format!("{shown} is {what}"), "choose another name");
        }
        let staged = scratch.file(&place.name);
        Ok(Delivery { out: out.to_owned(), place, replaces: false, staged, _scratch: scratch })
    }

    /// Removes what was made so far and has no name yet. This process is about to end.
    pub fn leave(&self) {
        for folder in self.scratches.lock().unwrap_or_else(PoisonError::into_inner).values() {
            // A program that still writes there makes a second try worth it.
            let _ = std::fs::remove_dir_all(folder.path()).or_else(|_| std::fs::remove_dir_all(folder.path()));
        }
    }

    fn scratch(&self, folder: &Path) -> std::io::Result<Arc<Scratch>> {
        let mut open = self.scratches.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(scratch) = open.get(folder) {
            return Ok(scratch.clone());
        }
        let scratch = Arc::new(Scratch::within(folder)?);
        open.insert(folder.to_owned(), scratch.clone());
        Ok(scratch)
    }
}

/// A file for people on its way. What is dropped leaves nothing.
#[derive(Debug)]
pub struct Delivery {
    out: PathBuf,
    place: NamedPlace,
    replaces: bool,
    staged: PathBuf,
    _scratch: Arc<Scratch>,
}

impl Delivery {
    /// Whether something is there that is replaced.
    fn may_replace(&self, (kind, over): (Kind, Over<'_>)) -> Result<bool, Failure> {
        let path = self.place.path();
        let shown = self.out.display();
        if path.symlink_metadata().is_err() {
            return Ok(false);
        }
        let refused = |message: String, help: &str| Err(Failure::new(Cause::Refused, message).help(help));
        let head = head(&path).map_err(|error| Failure::machine("read", &self.out, &error))?;
        match over {
            Over::Never => refused(format!("{shown} already exists"), "choose another name"),
            Over::Asked(false) => refused(format!("{shown} already exists"), "--replace overwrites it"),
            Over::Marked(mark) if !contains(&head, mark) => {
                let message = format!("{shown} already exists, and True Path did not make it");
                refused(message, "choose another name, or overwrite it with --replace")
            }
            Over::Asked(true) if is_worth_more(&head, kind) => {
                let is = Kind::of(&head).map_or("a file of another kind", Kind::words);
                let message = format!("{shown} is {is}, and {} would replace it", kind.words());
                refused(message, "choose another name, or move it away")
            }
            Over::Text(text) if !disk::read(&path, disk::MOST_TEXT).is_ok_and(|now| now == text.as_bytes()) => {
                let message = format!("{shown} was changed by another program at the same time");
                Err(Failure::new(Cause::Machine, message).help("run the same command again"))
            }
            _ if disk::is_protected(&path) => {
                refused(format!("{shown} is write-protected, and was not changed"), "choose another name")
            }
            Over::Asked(true) | Over::Marked(_) | Over::Text(_) => Ok(true),
        }
    }

    /// Where the file is to be made, under its own name, in a folder of its own.
    #[must_use]
    pub fn staged(&self) -> &Path {
        &self.staged
    }

    /// Writes the whole file, and puts it in its place.
    ///
    /// # Errors
    /// As [`Delivery::put`].
    pub fn write(self, bytes: &[u8]) -> Result<(), Failure> {
        let written = File::create_new(&self.staged).and_then(|mut file| file.write_all(bytes));
        written.map_err(|error| Failure::machine("write", &self.out, &error))?;
        self.put()
    }

    /// As [`Delivery::write`], of a program that can be started.
    ///
    /// # Errors
    /// As [`Delivery::put`].
    pub fn write_program(self, bytes: &[u8]) -> Result<(), Failure> {
        let written = File::create_new(&self.staged)
            .and_then(|mut file| file.write_all(bytes))
            .and_then(|()| disk::make_executable(&self.staged));
        written.map_err(|error| Failure::machine("write", &self.out, &error))?;
        self.put()
    }

    /// Gives the finished file its name. A reader sees the old file or the new one; what is replaced keeps its permissions.
    ///
    /// # Errors
    /// When it cannot be put there, or something has come to stand there meanwhile. Then what is there stays.
    pub fn put(self) -> Result<(), Failure> {
        let failed = |error: std::io::Error| Failure::machine("write", &self.out, &error);
        let target = self.place.path();
        let about = target.symlink_metadata().ok();
        // Some systems sync only what is open for writing.
        let file = File::options().read(true).write(true).open(&self.staged).map_err(failed)?;
        if let Some(about) = about.as_ref().filter(|_| self.replaces) {
            if !about.is_file() {
                let message = format!("{} is no file any more, and was not changed", self.out.display());
                return Err(Failure::new(Cause::Machine, message).help("run the same command again"));
            }
            file.set_permissions(about.permissions()).map_err(failed)?;
        }
        file.sync_all().map_err(failed)?;
        drop(file);
        let staged = tempfile::TempPath::try_from_path(&self.staged).map_err(failed)?;
        let put = if self.replaces { staged.persist(&target) } else { staged.persist_noclobber(&target) };
        put.map_err(|error| match error.error.kind() {
            ErrorKind::AlreadyExists => {
                let message = format!("{} was made by another program at the same time", self.out.display());
                Failure::new(Cause::Refused, message).help("look at it, then run the same command again")
            }
            _ => failed(error.error),
        })
    }
}

/// Whether what is there is no earlier try of the same file: of another kind, and not only damaged or some text.
fn is_worth_more(head: &[u8], kind: Kind) -> bool {
    Kind::of(head).is_some_and(|there| there != kind && there != Kind::Text)
}

/// The folder of a file that is to be written.
fn folder_of(out: &Path) -> &Path {
    out.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

fn contains(head: &[u8], mark: &str) -> bool {
    head.windows(mark.len().max(1)).any(|part| part == mark.as_bytes())
}
