//! Replacing a text file in one step: what is there is either the old text or the new one.

use std::fs::File;
use std::io::Write;
use std::path::Path;

use truepath_exec::failure::{Cause, Failure};

/// Puts `new` in place of `old`, with the same permissions. A file that somebody changed meanwhile is left alone.
pub fn replace(path: &Path, old: &str, new: &str) -> Result<(), Failure> {
    let failed = |error: &std::io::Error| Failure::machine("write", path, error);
    let now = truepath_exec::disk::read(path, truepath_exec::disk::MOST_TEXT).map_err(|error| failed(&error))?;
    if now != old.as_bytes() {
        let message = format!("{} was changed by another program at the same time", path.display());
        return Err(Failure::new(Cause::Machine, message).help("run the same command again"));
    }
    let folder = path.parent().unwrap_or(Path::new("."));
    // What is not put in place goes by itself.
    let mut beside = tempfile::Builder::new()
        .prefix(".truepath-")
        .make_in(folder, |path| File::create_new(path))
        .map_err(|error| failed(&error))?;
    let written = path
        .metadata()
        .and_then(|about| beside.as_file().set_permissions(about.permissions()))
        .and_then(|()| beside.write_all(new.as_bytes()))
        .and_then(|()| beside.as_file().sync_all());
    written.map_err(|error| failed(&error))?;
    beside.persist(path).map(drop).map_err(|error| failed(&error.error))
}
