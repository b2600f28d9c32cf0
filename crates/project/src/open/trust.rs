//! What may be asked of programs that a folder brought along. Commands that only look start none of them before their user
//! has trusted the folder: by saying so, or by running its sheet. What is trusted is kept in the user's configuration, a
//! file for each folder, with a digest of all its adapters: one that changes is to be trusted again.

use std::collections::BTreeMap;
use std::io::Write;
use std::path::{Path, PathBuf};

use truepath_core::adapter::Adapter;
use truepath_core::plan::Adapters;
use truepath_core::source::Sources;
use truepath_exec::disk;
use truepath_exec::failure::{Cause, Failure};

use super::load;
use crate::surroundings::Surroundings;

/// The folder of adapters beside a sheet.
pub const ADAPTERS: &str = "adapters";

/// What is not asked anything, because its folder is not trusted.
#[derive(Clone, Debug)]
pub struct Untrusted {
    /// The folder that brought it along.
    pub folder: PathBuf,
    /// Something in it that belongs to somebody else, and to whom.
    pub stranger: Option<(PathBuf, String)>,
    /// The adapters whose programs would have been asked something.
    pub adapters: Vec<String>,
}

/// What one folder brought along, and whether its user trusts it.
pub struct Brought {
    folder: PathBuf,
    /// What would be trusted: its owner and its adapters.
    digest: String,
    /// Where that is written down; nowhere where this user has no configuration.
    kept: Option<PathBuf>,
    /// Something of it that belongs to somebody else, and to whom.
    stranger: Option<(PathBuf, String)>,
    /// Its adapters.
    adapters: Vec<PathBuf>,
}

impl Brought {
    /// What the folder of a sheet brought along, for one of its sheets or, where none is named, for all of them.
    pub fn of(folder: &Path, sheet: Option<&Path>, around: &Surroundings) -> Brought {
        let folder = dunce::canonicalize(folder).unwrap_or_else(|_| folder.to_owned());
        let beside = folder.join(ADAPTERS);
        let (sheets, adapters) = (load::toml_files(&folder), load::toml_files(&beside));
        let owned = |path: &PathBuf| disk::other_owner(path).map(|owner| (path.clone(), owner));
        let is_meant = |path: &PathBuf| !sheets.contains(path) || sheet.is_none_or(|sheet| sheet == path);
        let named: Vec<PathBuf> = sheet.into_iter().map(Path::to_owned).collect();
        let all = [&folder, &beside].into_iter().chain(&named).chain(&sheets).chain(&adapters);
        let strangers: BTreeMap<PathBuf, String> = all.filter_map(owned).collect();
        let stranger = strangers.iter().find(|(path, _)| is_meant(path));
        let stranger = stranger.map(|(path, owner)| (path.clone(), owner.clone()));
        let mut hasher = blake3::Hasher::new();
        for (path, owner) in &strangers {
            hasher.update(path.as_os_str().as_encoded_bytes()).update(owner.as_bytes());
        }
        for path in &adapters {
            hasher.update(path.file_name().unwrap_or_default().as_encoded_bytes());
            hasher.update(blake3::hash(&disk::read(path, disk::MOST_TEXT).unwrap_or_default()).as_bytes());
        }
        let name = blake3::hash(folder.as_os_str().as_encoded_bytes()).to_hex()[..32].to_owned();
        let kept = around.configuration.as_ref().map(|configuration| configuration.join("trusted").join(name));
        Brought { digest: hasher.finalize().to_hex().to_string(), folder, kept, stranger, adapters }
    }

    /// Whether its user has trusted it as it is now.
    pub fn is_trusted(&self) -> bool {
        let kept = self.kept.as_deref().and_then(|kept| disk::text(kept).ok());
        kept.is_some_and(|kept| kept.lines().next() == Some(self.digest.as_str()))
    }

    /// Whether there is anything to be trusted.
    pub fn is_nothing(&self) -> bool {
        self.adapters.is_empty() && self.stranger.is_none()
    }

    /// Writes down that it is trusted.
    ///
    /// # Errors
    /// When this user has no configuration folder, or it cannot be written to.
    pub fn trust(&self) -> Result<(), Failure> {
        let Some(kept) = &self.kept else {
            return Err(Failure::new(Cause::Machine, "this user has no configuration folder")
                .help("set HOME or XDG_CONFIG_HOME"));
        };
        let folder = kept.parent().unwrap_or(Path::new("."));
        let failed = |error: &std::io::Error| Failure::machine("write", kept, error);
        std::fs::create_dir_all(folder).map_err(|error| failed(&error))?;
        let mut file = tempfile::NamedTempFile::new_in(folder).map_err(|error| failed(&error))?;
        writeln!(file, "{}\n{}", self.digest, self.folder.display()).map_err(|error| failed(&error))?;
        file.persist(kept).map_err(|error| failed(&error.error))?;
        Ok(())
    }

    /// Forgets that it is trusted; whether it was.
    pub fn forget(&self) -> bool {
        self.kept.as_deref().is_some_and(|kept| std::fs::remove_file(kept).is_ok())
    }

    /// What is trusted with it, in words.
    pub fn words(&self) -> String {
        let names: Vec<String> = self
            .adapters
            .iter()
            .map(|path| path.file_stem().unwrap_or_default().to_string_lossy().into_owned())
            .collect();
        let own = match names.len() {
            0 => "no adapters of its own".to_owned(),
            1 => format!("the adapter {}", names[0]),
            _ => format!("the adapters {}", names.join(", ")),
        };
        let owner = self.stranger.as_ref().map(|(_, owner)| format!(", owned by {owner}")).unwrap_or_default();
        format!("{} with {own}{owner}", self.folder.display())
    }

    /// A run trusts what it starts, and writes that down; but nobody else's.
    ///
    /// # Errors
    /// When it belongs to somebody else and is not trusted, or when trust cannot be written down.
    pub fn started(&self) -> Result<(), Failure> {
        if self.is_nothing() || self.is_trusted() {
            return Ok(());
        }
        self.refuse_strangers()?;
        // A user without a configuration can run all the same.
        if self.kept.is_some() { self.trust() } else { Ok(()) }
    }

    /// What belongs to somebody else is not used before the user has trusted it.
    ///
    /// # Errors
    /// When it belongs to somebody else and is not trusted.
    pub fn refuse_strangers(&self) -> Result<(), Failure> {
        match &self.stranger {
            Some((path, owner)) if !self.is_trusted() => {
                let words = format!(
                    "{} belongs to {owner}, and its adapters decide which programs are started",
                    path.display()
                );
                Err(Failure::new(Cause::Machine, words).help(format!(
                    "read the sheet and its adapters, then run: truepath trust {}",
                    self.folder.display()
                )))
            }
            _ => Ok(()),
        }
    }

    /// Keeps adapters that are not trusted from being asked anything; what is to be said of that.
    pub fn quieten(&self, adapters: &mut Adapters, sources: &Sources, around: &Surroundings) -> Option<Untrusted> {
        if self.is_nothing() || self.is_trusted() {
            return None;
        }
        let own: Vec<String> = self.adapters.iter().map(|path| load::short(path, &around.folder)).collect();
        let is_own = |adapter: &&mut Adapter| adapter.layers.iter().any(|file| own.contains(&sources.get(*file).name));
        let mut quiet = Vec::new();
        for adapter in adapters.values_mut().filter(is_own) {
            adapter.unasked = true;
            let asks = [&adapter.version, &adapter.encoders].iter().any(|words| !words.is_empty());
            // A variant is a part of its adapter.
            if (asks || !adapter.facts.is_empty()) && !adapter.name.contains('@') {
                quiet.push(adapter.name.clone());
            }
        }
        Some(Untrusted { folder: self.folder.clone(), stranger: self.stranger.clone(), adapters: quiet })
    }
}
