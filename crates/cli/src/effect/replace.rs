//! Replacing a text file in one step: what is there is either the old text or the new one.

use std::fs::File;
use std::io::Write;
use std::path::Path;

use crate::exit_code::{Exit, Failure};

/// Puts `new` in place of `old`, with the same permissions. A file that somebody changed meanwhile is left alone.
pub fn replace(path: &Path, old: &str, new: &str) -> Result<(), Failure> {
    let failed = |error: &std::io::Error| Failure::machine("write", path, error);
    let now = std::fs::read(path).map_err(|error| failed(&error))?;
    if now != old.as_bytes() {
        let message = format!("{} was changed by somebody else in this moment", path.display());
        return Err(Failure { message, help: Some("say the same again".to_owned()), exit: Exit::Machine });
    }
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let beside = path.with_file_name(format!(".{name}.{}", std::process::id()));
    let written = File::create(&beside)
        .and_then(|mut file| {
            file.set_permissions(path.metadata()?.permissions())?;
            file.write_all(new.as_bytes())?;
            file.sync_all()
        })
        .and_then(|()| std::fs::rename(&beside, path));
    written.map_err(|error| {
        // The half-written one is of no use to anybody.
        let _ = std::fs::remove_file(&beside);
        failed(&error)
    })
}
