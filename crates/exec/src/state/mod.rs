//! The state folder of a sheet, `.truepath/<sheet>/` beside it: the one place that knows its layout, and the kernel lock on
//! it, which is gone with the process, whatever ends it.

pub mod journal;
pub mod looked;
pub mod pins;

use std::fs::File;
use std::io::{ErrorKind, Read, Seek, Write};
use std::path::{Path, PathBuf};
use truepath_core::invoke::script::cluster::Cluster;

use crate::disk;
use crate::failure::{Cause, Failure};
use crate::guard::own_folder;

/// The version of the layout that is read and written here.
const VERSION: &str = "2";
/// The file that holds the mark of the sheet, and the mark's length.
const ID: &str = "id";
const MARK: usize = 8;
/// Folders in it; none of them may be a link.
const OWN_FOLDERS: [&str; 10] =
    ["journal", "looked", "pins", "logs", "parcels", "exports", "facts", "claims", "checkpoints", "after"];
/// How the names of notes on recoveries begin.
const RECOVERING: &str = "recovering-";

/// The state folder of one sheet. It need not be there.
#[derive(Clone, Debug)]
pub struct StateFolder {
    folder: PathBuf,
    mark: String,
}

impl StateFolder {
    /// The state of a sheet.
    ///
    /// # Errors
    /// When the folder was written by a True Path with another layout, or a part of it is a link.
    pub fn of(sheet: &Path) -> Result<StateFolder, Failure> {
        let name = sheet.file_stem().unwrap_or_default();
        let beside = sheet.parent().unwrap_or(Path::new("."));
        let name = name.to_string_lossy();
        let folder = own_folder(beside, &[&name])?;
        for own in OWN_FOLDERS {
            own_folder(beside, &[&name, own])?;
        }
        // Machines see the sheet under different paths, so the first one writes a mark that all others use.
        let own = || blake3::hash(sheet.as_os_str().as_encoded_bytes()).to_hex()[..MARK].to_owned();
        let kept = disk::text(&folder.join(ID)).ok().map(|text| text.trim().to_owned());
        let is_mark = |mark: &String| mark.len() == MARK && mark.bytes().all(|byte| byte.is_ascii_hexdigit());
        let state = StateFolder { mark: kept.filter(is_mark).unwrap_or_else(own), folder };
        match disk::text(&state.version()) {
            Ok(text) if text.trim() != VERSION => Err(Failure::unreadable(format!(
                "the state folder {} has version `{}`, and this True Path reads version {VERSION}",
                state.folder.display(),
                text.trim()
            ))
            .help("use the True Path that wrote it, or move the folder away; existing files then count as foreign")),
            _ => Ok(state),
        }
    }

    /// What tells this sheet from others of its name on one root, on every machine alike.
    #[must_use]
    pub fn mark(&self) -> &str {
        &self.mark
    }

    /// The folder itself.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// The file that holds the version of this layout.
    fn version(&self) -> PathBuf {
        self.folder.join("version")
    }

    /// Looked-up values, a file for each.
    #[must_use]
    pub fn pins(&self) -> PathBuf {
        self.folder.join("pins")
    }

    /// Journals, one for each process that ran the sheet.
    #[must_use]
    pub fn journals(&self) -> PathBuf {
        self.folder.join("journal")
    }

    /// What looks at files have found.
    #[must_use]
    pub fn looked(&self) -> PathBuf {
        self.folder.join("looked")
    }

    /// What programs said, a file for each call.
    #[must_use]
    pub fn logs(&self) -> PathBuf {
        self.folder.join("logs")
    }

    /// Where the tasks of a cluster write what they say; there since the plan was first handed to its scheduler.
    #[must_use]
    pub fn tasks(&self, cluster: &dyn Cluster) -> PathBuf {
        self.logs().join(cluster.folder())
    }

    /// The numbers of all jobs that were submitted to a cluster's scheduler, as the submissions wrote them down.
    #[must_use]
    pub fn submitted(&self, cluster: &dyn Cluster) -> Vec<u64> {
        let entries = std::fs::read_dir(self.tasks(cluster)).into_iter().flatten().filter_map(Result::ok);
        let lists = entries.map(|entry| entry.path()).filter(|path| path.extension().is_some_and(|own| own == "jobs"));
        let texts = lists.filter_map(|path| disk::text(&path).ok());
        texts.flat_map(|text| text.lines().filter_map(|line| line.parse().ok()).collect::<Vec<u64>>()).collect()
    }

    /// What was packed into each parcel, by its number.
    #[must_use]
    pub fn parcels(&self) -> PathBuf {
        self.folder.join("parcels")
    }

    /// What exporters made of scenes.
    #[must_use]
    pub fn exports(&self) -> PathBuf {
        self.folder.join("exports")
    }

    /// Digests of scenes, and what programs said of them.
    #[must_use]
    pub fn facts(&self) -> PathBuf {
        self.folder.join("facts")
    }

    /// Of which ends of plans the commands were run that come after.
    #[must_use]
    pub fn after(&self) -> PathBuf {
        self.folder.join("after")
    }

    /// Takes the end of a plan: true for the first caller, false for all later ones. What is known of earlier ends of the same
    /// plan is removed.
    ///
    /// # Errors
    /// When it cannot be written down.
    pub fn takes_end(&self, plan: &str, how: &str) -> Result<bool, Failure> {
        let (folder, own) = (self.after(), format!("{plan}-{how}"));
        let path = folder.join(&own);
        let failure = |error: &std::io::Error| Failure::machine("write", &path, error);
        std::fs::create_dir_all(&folder).map_err(|error| failure(&error))?;
        match File::options().write(true).create_new(true).open(&path) {
            Ok(_) => {}
            Err(_) if path.exists() => return Ok(false),
            Err(error) => return Err(failure(&error)),
        }
        for entry in std::fs::read_dir(&folder).into_iter().flatten().filter_map(std::io::Result::ok) {
            let name = entry.file_name().to_string_lossy().into_owned();
            if name.starts_with(plan) && name != own {
                // What stays is only in the way.
                let _ = std::fs::remove_file(entry.path());
            }
        }
        Ok(true)
    }

    /// Who works on what, where members share the sheet.
    #[must_use]
    pub fn claims(&self) -> PathBuf {
        self.folder.join("claims")
    }

    /// Which staged file the recovery of a run is looking at.
    #[must_use]
    pub fn recovering(&self, tag: &str) -> PathBuf {
        self.folder.join(format!("{RECOVERING}{tag}"))
    }

    /// The recoveries that broke off, or are under way: the tag of the run, and its note.
    #[must_use]
    pub fn recoveries(&self) -> Vec<(String, PathBuf)> {
        let entries = std::fs::read_dir(&self.folder).into_iter().flatten().filter_map(Result::ok);
        let note = |name: String| Some((name.strip_prefix(RECOVERING)?.to_owned(), self.folder.join(&name)));
        entries.filter_map(|entry| note(entry.file_name().to_string_lossy().into_owned())).collect()
    }

    /// Half-rendered stills of one call.
    #[must_use]
    pub fn checkpoints(&self, call: &str) -> PathBuf {
        self.folder.join("checkpoints").join(call)
    }

    /// Makes the folder with its version.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn make(&self) -> std::io::Result<()> {
        std::fs::create_dir_all(&self.folder)?;
        for (path, text) in [(self.folder.join(ID), &*self.mark), (self.version(), VERSION)] {
            if path.exists() {
                continue;
            }
            match self.put(&path, &format!("{text}\n"), false) {
                // Somebody else made the folder at the same time.
                Err(error) if error.kind() == ErrorKind::AlreadyExists => {}
                made => made?,
            }
        }
        Ok(())
    }

    /// Writes a file of the folder whole beside its place, then puts it there: nobody ever reads half of it.
    fn put(&self, path: &Path, text: &str, over: bool) -> std::io::Result<()> {
        let mut beside =
            tempfile::Builder::new().prefix(".new-").make_in(&self.folder, |path| File::create_new(path))?;
        beside.write_all(text.as_bytes())?;
        // A name that outlives a power cut must not stand over nothing.
        beside.as_file().sync_all()?;
        let put = if over { beside.persist(path) } else { beside.persist_noclobber(path) };
        put.map(drop).map_err(|error| error.error)
    }

    /// Takes the lock, or says who holds it. Members that share the sheet hold it together.
    ///
    /// # Errors
    /// When somebody else renders the sheet, or the folder cannot be written.
    pub fn lock(&self, host: &str, share: bool) -> Result<Lock, Failure> {
        let failure = |error: &std::io::Error| {
            Failure::machine("write the state folder", &self.folder, error)
                .help("the state is kept beside the sheet: give this user permission to write there")
        };
        self.make().map_err(|error| failure(&error))?;
        let open = |name: &str| {
            let mut how = File::options();
            how.read(true).write(true).create(true).truncate(false).open(self.folder.join(name))
        };
        let file = open("lock").map_err(|error| failure(&error))?;
        // A file of its own: some systems let nobody read what somebody has locked.
        let mut holder = open("holder").map_err(|error| failure(&error))?;
        match if share { file.try_lock_shared() } else { file.try_lock() } {
            Ok(()) => {}
            Err(std::fs::TryLockError::WouldBlock) => {
                let mut name = String::new();
                // The name of the holder is a courtesy; the lock itself is the kernel's word.
                let _ = holder.read_to_string(&mut name);
                let who = if name.trim().is_empty() { "another run" } else { name.trim() };
                return Err(Failure::new(Cause::Machine, format!("this sheet is already being rendered by {who}"))
                    .help("wait for it, or end it; a run can always be continued"));
            }
            Err(std::fs::TryLockError::Error(error)) => return Err(failure(&error)),
        }
        let written = holder
            .set_len(0)
            .and_then(|()| holder.rewind())
            .and_then(|()| writeln!(holder, "process {} on {host}", std::process::id()));
        written.map_err(|error| failure(&error))?;
        Ok(Lock { _file: file })
    }
}

/// Holds the state folder for this process, as long as it lives.
pub struct Lock {
    _file: File,
}
