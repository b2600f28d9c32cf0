//! Files that are made for people: written beside their name and given it in one step, never over a frame.

use std::fs::File;
use std::io::Write;
use std::path::Path;

use truepath_core::plan::Plan;
use truepath_core::resolve::paths::from_system;
use truepath_exec::failure::{Cause, Failure};

use crate::lower::Surroundings;

/// Refuses a name at which something stands, unless it is to be replaced, and always the name of a planned file.
pub fn may_write<'p>(
    (out, replace): (&Path, bool),
    plans: impl IntoIterator<Item = &'p Plan>,
    around: &Surroundings,
) -> Result<(), Failure> {
    let whole = from_system(&around.folder.join(out));
    if plans.into_iter().any(|plan| plan.is_named(&whole)) {
        let message = format!("{} is a file that the sheet plans", out.display());
        return Err(Failure::new(Cause::Refused, message).help("choose another name"));
    }
    if out.is_dir() {
        return Err(Failure::new(Cause::Refused, format!("{} is a folder", out.display())).help("name a file in it"));
    }
    if !replace && out.symlink_metadata().is_ok() {
        return Err(
            Failure::new(Cause::Refused, format!("{} already exists", out.display())).help("--replace overwrites it")
        );
    }
    match folder(out).is_dir() {
        true => Ok(()),
        false => Err(Failure::new(Cause::Refused, format!("there is no folder {}", folder(out).display()))
            .help("create the folder, or choose another one")),
    }
}

/// Refuses the name of a file that is looked at, whatever it is to be replaced with.
pub fn is_no_input<'f>(
    out: &Path,
    files: impl IntoIterator<Item = &'f str>,
    around: &Surroundings,
) -> Result<(), Failure> {
    let whole = |path: &Path| from_system(&around.folder.join(path));
    let own = whole(out);
    match files.into_iter().any(|file| whole(Path::new(file)) == own) {
        true => Err(Failure::new(Cause::Refused, format!("{} is one of the pictures themselves", out.display()))
            .help("choose another name")),
        false => Ok(()),
    }
}

/// The folder of a file that is to be written.
pub fn folder(out: &Path) -> &Path {
    out.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// Writes a file as a whole: a reader sees the old one or the new one, and what fails leaves the old one.
pub fn write(out: &Path, bytes: &[u8], over: bool) -> Result<(), Failure> {
    let failed = |error: &std::io::Error| Failure::machine("write", out, error);
    let mut beside = tempfile::Builder::new()
        .prefix(".truepath-")
        .make_in(folder(out), |path| File::create_new(path))
        .map_err(|error| failed(&error))?;
    beside.write_all(bytes).and_then(|()| beside.as_file().sync_all()).map_err(|error| failed(&error))?;
    let kept = if over { beside.persist(out) } else { beside.persist_noclobber(out) };
    kept.map(drop).map_err(|error| failed(&error.error))
}
