//! What a folder must do to be shared, tried before anything is claimed there.
use std::fs::File;
use std::io::Write;
use std::path::Path;

use truepath_core::flaw::Flaw;

/// Tries a folder with two small files that bear this member's name: whether a file can be created only where there is none,
/// and whether a rename replaces. Nothing of them stays.
///
/// # Errors
/// In words: what the folder does not do.
pub(super) fn tried(folder: &Path, tag: &str) -> Result<(), Flaw> {
    let [one, other] = ["a", "b"].map(|name| folder.join(format!("trial-{tag}-{name}")));
    let found = outcome(&one, &other);
    for path in [one, other] {
        // What stays is only in the way.
        let _ = std::fs::remove_file(path);
    }
    found
}

fn outcome(one: &Path, other: &Path) -> Result<(), Flaw> {
    let create = |path: &Path, text: &str| {
        let made = File::options().write(true).create_new(true).open(path);
        made.and_then(|mut file| file.write_all(text.as_bytes()))
    };
    create(one, "one").map_err(|error| Flaw::at("no file can be created", error))?;
    if create(one, "another").is_ok() {
        return Err("a file can be created where there is one: two members would have the same call".into());
    }
    create(other, "other").map_err(|error| Flaw::at("no file can be created", error))?;
    std::fs::rename(other, one).map_err(|error| Flaw::at("a rename does not replace a file", error))?;
    match std::fs::read_to_string(one) {
        Ok(text) if text == "other" => Ok(()),
        Ok(_) => Err("a rename leaves the old content in place".into()),
        Err(error) => Err(Flaw::at("what was written cannot be read", error)),
    }
}

#[cfg(test)]
mod tests {
    use super::tried;

    #[test]
    fn an_ordinary_folder_will_do_and_nothing_stays() {
        let folder = tempfile::tempdir().expect("a folder");
        assert_eq!(tried(folder.path(), "mark"), Ok(()));
        assert_eq!(std::fs::read_dir(folder.path()).expect("the folder").count(), 0);
        assert!(tried(&folder.path().join("nowhere"), "mark").is_err());
    }
}
