//! Where the programs of adapters are on this machine.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use truepath_core::adapter::Adapter;
use truepath_core::resolve::paths::is_absolute;
use truepath_core::sheet::System;
use truepath_exec::record::answer::NoProgram;

use crate::surroundings::{Surroundings, system};

/// Where programs are sought.
#[derive(Clone, Copy)]
pub struct Places<'p> {
    /// The sheet's folder.
    pub folder: &'p Path,
    /// The system.
    pub system: System,
    /// This program.
    pub own: &'p Path,
    /// Folders in which programs are looked for.
    pub search_path: &'p [PathBuf],
    /// Programs that the machine file knows.
    pub known: &'p BTreeMap<String, String>,
}

impl Surroundings {
    /// Where the programs of adapters are looked for, for a sheet in a folder. `known` are those that the machine file names.
    #[must_use]
    pub fn places<'p>(&'p self, folder: &'p Path, known: &'p BTreeMap<String, String>) -> Places<'p> {
        Places { folder, system: self.system, own: &self.program, search_path: &self.search_path, known }
    }
}

/// An adapter's program on this system, or its name where it is nowhere to be found: `truepath` is the running binary, one
/// with a slash starts at the sheet's folder, any other is sought in the machine file, then on the path.
///
/// # Errors
/// Its name, or its path, where no such file exists.
pub fn program(adapter: &Adapter, places: &Places<'_>) -> Result<PathBuf, NoProgram> {
    let name = adapter.program_on(places.system).ok_or_else(|| NoProgram("a program for this system".to_owned()))?;
    if places.system != system() {
        // What is on another machine cannot be looked for here.
        return Ok(if name.contains('/') && !is_absolute(name) {
            places.folder.join(name)
        } else {
            PathBuf::from(name)
        });
    }
    let found = if name == "truepath" {
        places.own.to_owned()
    } else if name.contains('/') {
        PathBuf::from(truepath_core::resolve::paths::tidy(&places.folder.join(name).to_string_lossy()))
    } else if let Some(known) = places.known.get(name) {
        PathBuf::from(known)
    } else {
        on_path(name, places.search_path).ok_or_else(|| NoProgram(name.to_owned()))?
    };
    tracing::debug!(adapter = %adapter.name, program = %found.display(), "looked for");
    if found.is_file() { Ok(found) } else { Err(NoProgram(found.display().to_string())) }
}

/// Whether a command of the sheet itself can be started here: by its path from the sheet's folder, or from the search path.
pub fn is_here(name: &str, folder: &Path, search_path: &[PathBuf]) -> bool {
    if name.contains(['/', '\\']) { folder.join(name).is_file() } else { on_path(name, search_path).is_some() }
}

/// A program on the path of this system, with the extension that it has there.
fn on_path(name: &str, search_path: &[PathBuf]) -> Option<PathBuf> {
    let spellings = if cfg!(windows) {
        vec![format!("{name}.exe"), format!("{name}.bat"), name.to_owned()]
    } else {
        vec![name.to_owned()]
    };
    let mut found =
        search_path.iter().flat_map(|folder| spellings.iter().map(move |name| folder.join(name)).collect::<Vec<_>>());
    found.find(|path| path.is_file())
}
