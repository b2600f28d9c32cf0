//! Landing: a staged file bears its final name only once it is whole and as planned.

pub mod adopt;
pub mod away;
pub mod moving;
mod odd;
pub mod recover;
pub mod stage;

use std::fs::File;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};

use tempfile::TempPath;
use truepath_core::diagnostic::Level;
use truepath_core::picture::{self, Asked, Content, OddKind, OddPolicy, Oddity};
use truepath_core::plan::{Series, SeriesKind};
use truepath_core::run::event::{Event, Landed};
use truepath_core::run::fingerprint::Fingerprint;
use truepath_core::verify::{Picture, Seen, State, judge};
use truepath_media::Looked;

pub use odd::Watcher;

use crate::disk::{Stamp, no_file, stamp};
use crate::failure::{Failure, Trouble};
use crate::state::journal::Journal;

/// One staged file and where it is to go.
pub struct Landing<'l> {
    /// Where the renderer wrote it.
    pub staged: &'l Path,
    /// Its final name.
    pub target: &'l Path,
    /// The call that wrote it.
    pub call: &'l str,
    /// Its series.
    pub series: &'l Series,
    /// Labels of the series' passes.
    pub labels: &'l [&'l str],
    /// Its frame.
    pub frame: i64,
    /// What it is made of, where that is known.
    pub made: Option<&'l Fingerprint>,
    /// Whether what stands there may be replaced.
    pub over: bool,
    /// What is asked of its pictures.
    pub asked: Asked,
    /// What the sheet says of odd ones.
    pub policy: &'l OddPolicy,
}

/// What became of a staged file.
#[derive(Debug, PartialEq)]
pub enum Fate {
    /// It bears its final name.
    Landed(Box<Down>),
    /// It is not there (yet).
    NotThere,
    /// It is not fit: why.
    Refused(String),
    /// Another file was there first, and stays.
    Late,
}

/// A file that has landed.
#[derive(Debug, PartialEq)]
pub struct Down {
    /// What the journal says of it.
    pub event: Event,
    /// What it looked like before it was read.
    pub before: Stamp,
    /// Its bytes.
    pub bytes: u64,
    /// What its pixels come to.
    pub content: Content,
    /// Why they could not be unpacked.
    pub unproven: Option<String>,
}

/// The steps of landing that a file system can refuse. The real ones are [`Disk`]'s.
pub trait Moves: Sync {
    /// Renames; without `over` only where nothing stands.
    ///
    /// # Errors
    /// As the system says; `AlreadyExists` where something stands.
    fn rename(&self, from: &Path, to: &Path, over: bool) -> std::io::Result<()>;
    /// Copies all bytes to a new file, and waits until the disk has them.
    ///
    /// # Errors
    /// As the system says.
    fn copy(&self, from: &Path, to: &Path) -> std::io::Result<()>;
    /// Waits until the disk has a file's bytes.
    ///
    /// # Errors
    /// As the system says.
    fn sync(&self, file: &File) -> std::io::Result<()>;
}

/// The file systems of this machine.
pub struct Disk;

impl Moves for Disk {
    fn rename(&self, from: &Path, to: &Path, over: bool) -> std::io::Result<()> {
        // A path that is dropped without that is a file that is removed.
        let path = TempPath::try_from_path(from)?;
        let moved = if over { path.persist(to) } else { path.persist_noclobber(to) };
        moved.or_else(|failed| failed.path.keep().map_err(|kept| kept.error).and(Err(failed.error)))
    }

    fn copy(&self, from: &Path, to: &Path) -> std::io::Result<()> {
        std::fs::copy(from, to)?;
        File::options().write(true).open(to)?.sync_all()
    }

    fn sync(&self, file: &File) -> std::io::Result<()> {
        file.sync_all()
    }
}

/// Lands one file: decoded to its end, compared with the plan, on the disk for good, in the journal, and only then under
/// its name, in one step.
///
/// # Errors
/// When the file or its target cannot be read or written, or the journal cannot be.
pub fn land(landing: &Landing<'_>, journal: &Journal, moves: &dyn Moves) -> Result<Fate, Trouble> {
    let failure = |what: &str, path: &Path, error: &std::io::Error| Trouble::Call(Failure::machine(what, path, error));
    if let Some(what) = no_file(landing.staged) {
        return Ok(Fate::Refused(format!("the renderer left {what}, not a file")));
    }
    if let Some(what) = no_file(landing.target) {
        return Ok(Fate::Refused(format!("{what} is at {}, and was not changed", landing.target.display())));
    }
    let before = stamp(landing.staged).unwrap_or_default();
    let looked = looked_at(landing.staged, landing.series, landing.labels);
    let (looked, judged) = looked.map_err(|error| failure("read", landing.staged, &error))?;
    let unproven = match judged {
        (State::Missing, _) => return Ok(Fate::NotThere),
        (State::Good, _) => None,
        (State::Unproven, why) => why,
        (_, why) => return Ok(Fate::Refused(why.unwrap_or_default())),
    };
    if let Some(why) = forbidden(&looked, unproven.as_deref(), landing.asked, landing.policy) {
        return Ok(Fate::Refused(why));
    }
    let protected = |about: std::fs::Metadata| about.is_file() && about.permissions().readonly();
    if landing.over && landing.target.symlink_metadata().is_ok_and(protected) {
        return Ok(Fate::Refused(format!("{} is write-protected, and was not changed", landing.target.display())));
    }
    // Some systems sync only what is open for writing.
    let file = match File::options().read(true).write(cfg!(windows)).open(landing.staged) {
        Ok(file) => file,
        // Somebody else who clears up has just landed it.
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(Fate::NotThere),
        Err(error) => return Err(failure("read", landing.staged, &error)),
    };
    let (digest, bytes) = match looked.digest {
        Some(digest) => (digest, looked.bytes),
        None => truepath_media::digest(landing.staged).map_err(|error| failure("read", landing.staged, &error))?,
    };
    moves.sync(&file).map_err(|error| failure("write", landing.staged, &error))?;
    drop(file);
    let folder = landing.target.parent().unwrap_or(Path::new("/"));
    if !folder.is_dir() {
        std::fs::create_dir_all(folder).map_err(|error| failure("make the folder", folder, &error))?;
    }
    journal.announce(landing.series, landing.made).map_err(Trouble::Run)?;
    let event = Event::Landed(Landed {
        series: landing.series.id.clone(),
        frame: landing.frame,
        bytes,
        digest: blake3::Hash::from_bytes(digest).to_hex().to_string(),
        call: landing.call.to_owned(),
    });
    journal.write(&event).map_err(Trouble::Run)?;
    let fate = match put(landing, journal, moves) {
        Ok(Put::There) => {
            return Ok(Fate::Landed(Box::new(Down { event, before, bytes, content: looked.content, unproven })));
        }
        Ok(Put::Late) => Ok(Fate::Late),
        Ok(Put::Gone) => Ok(Fate::NotThere),
        Err(trouble) => Err(trouble),
    };
    // The journal has said that it lands, and it did not.
    journal.write(&Event::Late { series: landing.series.id.clone(), frame: landing.frame }).map_err(Trouble::Run)?;
    fate
}

/// What became of a file that was to bear its final name.
enum Put {
    /// It does.
    There,
    /// Another file was there first.
    Late,
    /// It is not there any more, and nobody has landed it.
    Gone,
}

/// Every byte of a file that may become a frame or a movie, and how it stands to what is planned.
///
/// # Errors
/// When it cannot be read.
pub fn looked_at(
    staged: &Path,
    series: &Series,
    labels: &[&str],
) -> std::io::Result<(Looked, (State, Option<String>))> {
    let planned = |picture: &Picture| judge(series, labels, &Seen::Whole(picture.clone())).0 == State::Good;
    let looked = match series.kind {
        SeriesKind::Movie => truepath_media::movie::probe(staged).map(Looked::from),
        _ => truepath_media::inspect(staged, &planned),
    }?;
    let judged = judge(series, labels, &looked.seen);
    Ok((looked, judged))
}

/// Why the sheet does not let a file land that is as planned.
fn forbidden(looked: &Looked, unproven: Option<&str>, asked: Asked, policy: &OddPolicy) -> Option<String> {
    let unproven = unproven.map(|why| Oddity { kind: OddKind::Unproven, why: why.to_owned() });
    let odd = policy.together(picture::alone(&looked.content, asked).into_iter().chain(unproven).collect())?;
    (policy.level(odd.kind) == Some(Level::Error)).then_some(odd.why)
}

/// Where a file is copied to before it bears its final name; a later run knows it by the tag of the run.
#[must_use]
pub fn beside(target: &Path, tag: &str) -> PathBuf {
    let name = target.file_name().unwrap_or_default().to_string_lossy();
    target.with_file_name(format!(".{name}.{tag}.part"))
}

/// Gives a file its final name in one step. Across file systems it is copied beside its target first.
fn put(landing: &Landing<'_>, journal: &Journal, moves: &dyn Moves) -> Result<Put, Trouble> {
    let (staged, target, over) = (landing.staged, landing.target, landing.over);
    let failed = |path: &Path, error: &std::io::Error| Trouble::Call(Failure::machine("write", path, error));
    match moves.rename(staged, target, over) {
        Ok(()) => Ok(Put::There),
        // Somebody else who clears up may just have landed it.
        Err(error) if error.kind() == ErrorKind::NotFound && !staged.exists() => {
            Ok(if target.exists() { Put::Late } else { Put::Gone })
        }
        Err(error) if error.kind() == ErrorKind::AlreadyExists => {
            stage::remove(staged).map_err(Trouble::Call)?;
            Ok(Put::Late)
        }
        Err(error) if error.kind() == ErrorKind::CrossesDevices => {
            // Its name is recorded first, so that a later run that cleans up finds it.
            let (series, frame) = (landing.series.id.clone(), landing.frame);
            journal.write(&Event::Copying { series, frame }).map_err(Trouble::Run)?;
            let path = beside(target, journal.tag());
            let copy = TempPath::try_from_path(&path).map_err(|error| failed(&path, &error))?;
            moves.copy(staged, &copy).map_err(|error| failed(&path, &error))?;
            match moves.rename(&copy, target, over) {
                Ok(()) => {
                    // It bears another name now: nothing is left to be removed.
                    let _ = copy.keep();
                    stage::remove(staged).map_err(Trouble::Call)?;
                    Ok(Put::There)
                }
                Err(error) if error.kind() == ErrorKind::AlreadyExists => {
                    stage::remove(staged).map_err(Trouble::Call)?;
                    Ok(Put::Late)
                }
                Err(error) => Err(failed(target, &error)),
            }
        }
        Err(error) => Err(failed(target, &error)),
    }
}
