//! Parcels as single files: a tar archive (POSIX.1-2001) in one frame of Zstandard (RFC 8878).

use std::fs::File;
use std::io::BufReader;
use std::path::{Path, PathBuf};

use ruzstd::decoding::StreamingDecoder;
use ruzstd::encoding::{CompressionLevel, compress};
use truepath_exec::failure::Failure;

/// What such a file's name ends with.
pub const ENDING: &str = ".tar.zst";

/// Whether a path is that of an archive.
pub fn is_archive(path: &Path) -> bool {
    path.is_file() && path.file_name().is_some_and(|name| name.to_string_lossy().ends_with(ENDING))
}

/// Writes a folder into an archive beside it, and removes the folder.
pub fn pack(folder: &Path) -> Result<PathBuf, Failure> {
    let name = folder.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let path = folder.with_file_name(format!("{name}{ENDING}"));
    let failed = |error: std::io::Error| Failure::machine("write", &path, &error);
    let parent = folder.parent().unwrap_or(Path::new("."));
    let tar = tempfile::tempfile_in(parent).map_err(failed)?;
    let mut builder = tar::Builder::new(tar);
    builder.follow_symlinks(false);
    builder.append_dir_all(&name, folder).map_err(failed)?;
    let mut tar = builder.into_inner().map_err(failed)?;
    std::io::Seek::rewind(&mut tar).map_err(failed)?;
    let whole = tempfile::NamedTempFile::new_in(parent).map_err(failed)?;
    compress(BufReader::new(tar), whole.as_file(), CompressionLevel::Fastest);
    whole.as_file().sync_all().map_err(failed)?;
    whole.persist(&path).map_err(|error| failed(error.error))?;
    std::fs::remove_dir_all(folder).map_err(|error| Failure::machine("remove", folder, &error))?;
    Ok(path)
}

/// The folder that an archive is unpacked to: the one of its name beside it.
pub fn folder_of(archive: &Path) -> PathBuf {
    let name = archive.file_name().unwrap_or_default().to_string_lossy().into_owned();
    archive.with_file_name(name.trim_end_matches(ENDING))
}

/// The folder of a parcel: of an archive, the one of its name beside it, which is made where it does not exist yet.
pub fn opened(path: &Path) -> Result<PathBuf, Failure> {
    if !is_archive(path) {
        return Ok(path.to_owned());
    }
    let folder = folder_of(path);
    if folder.exists() {
        return Ok(folder);
    }
    let parent = path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let made = tempfile::tempdir_in(parent).map_err(|error| Failure::machine("make a folder in", parent, &error))?;
    unpack(path, made.path())?;
    let inner = made.path().join(folder.file_name().unwrap_or_default());
    let named = std::fs::rename(&inner, &folder);
    named.map_err(|error| {
        Failure::machine("unpack", path, &error).help("the archive must hold one folder with the archive's name")
    })?;
    Ok(folder)
}

/// Unpacks an archive. Files whose names lead out of the folder, links and devices are left out.
fn unpack(path: &Path, to: &Path) -> Result<(), Failure> {
    let cut = |error: &dyn std::fmt::Display| {
        Failure::unreadable(format!("{} cannot be unpacked: {error}", path.display()))
            .help("it is cut off or damaged; send it again")
    };
    let file = File::open(path).map_err(|error| Failure::machine("read", path, &error))?;
    let decoder = StreamingDecoder::new(BufReader::new(file)).map_err(|error| cut(&error))?;
    let mut archive = tar::Archive::new(decoder);
    for entry in archive.entries().map_err(|error| cut(&error))? {
        let mut entry = entry.map_err(|error| cut(&error))?;
        let kind = entry.header().entry_type();
        if kind.is_file() || kind.is_dir() {
            entry.unpack_in(to).map_err(|error| cut(&error))?;
        }
    }
    Ok(())
}
