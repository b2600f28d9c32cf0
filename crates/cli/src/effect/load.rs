//! Finding and reading sheets.

use std::path::{Path, PathBuf};

use crate::exit_code::Failure;

/// The name a sheet has unless another is given.
pub const SHEET: &str = "truepath.toml";

/// The sheet that a call means: the one named, or the nearest `truepath.toml` from `folder` upwards. Absolute.
pub fn find_sheet(named: Option<&Path>, folder: &Path) -> Result<PathBuf, Failure> {
    if let Some(named) = named {
        let path = if named.is_dir() { named.join(SHEET) } else { named.to_owned() };
        return std::path::absolute(&path).and_then(std::fs::canonicalize).map_err(|error| {
            Failure::unreadable(format!("cannot read the sheet {}: {error}", path.display()))
                .help("`truepath new` writes one")
        });
    }
    let found = folder.ancestors().map(|folder| folder.join(SHEET)).find(|path| path.is_file());
    found.ok_or_else(|| {
        Failure::unreadable(format!("there is no {SHEET} in {} or above", folder.display()))
            .help("`truepath new` writes one, -f FILE names one, `truepath demo` shows the whole way")
    })
}

/// A text file. Bytes that are no UTF-8 are said with their place.
pub fn text(path: &Path) -> Result<String, Failure> {
    let bytes =
        std::fs::read(path).map_err(|error| Failure::unreadable(format!("cannot read {}: {error}", path.display())))?;
    String::from_utf8(bytes).map_err(|error| {
        let at = error.utf8_error().valid_up_to();
        let line = error.as_bytes()[..at].iter().filter(|byte| **byte == b'\n').count() + 1;
        Failure::unreadable(format!("{}:{line}: this is not UTF-8 text (byte {at})", path.display()))
            .help("save the file as UTF-8")
    })
}

/// A path as the user would write it: relative where it lies below the current folder.
pub fn short(path: &Path, folder: &Path) -> String {
    path.strip_prefix(folder).unwrap_or(path).display().to_string()
}

/// A URI reference as a file name: percent signs decoded (RFC 3986, 2.1).
pub fn percent_decoded(uri: &str) -> String {
    percent_encoding::percent_decode_str(uri).decode_utf8_lossy().into_owned()
}
