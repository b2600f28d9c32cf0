//! Parcels as single files: a tar archive (POSIX.1-2001) in one frame of Zstandard (RFC 8878). One that comes from elsewhere is
//! looked through before anything of it is written.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufReader, Read};
use std::path::{Component, Path, PathBuf};

use ruzstd::decoding::StreamingDecoder;
use ruzstd::encoding::{CompressionLevel, compress};
use truepath_core::check::bytes as told_bytes;
use truepath_core::parcel::{DESCRIPTION, Parcel};
use truepath_exec::disk;
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::guard::Scratch;

use super::MOST;

/// What such a file's name ends with.
pub(super) const ENDING: &str = ".tar.zst";
/// Bytes that a byte of an archive may come to, and bytes that are always taken. Pictures and scenes come to a few, texts to
/// a hundred.
const UNPACKED: u64 = 1_000;
const ALWAYS: u64 = 64 << 20;
/// Entries of an archive at most.
const ENTRIES: u64 = 4_000_000;

/// Whether a path is that of an archive.
pub(super) fn is_archive(path: &Path) -> bool {
    path.file_name().is_some_and(|name| name.to_string_lossy().ends_with(ENDING)) && disk::no_file(path).is_none()
}

/// Writes a folder as an archive, whole before it gets its name in `into`, where nothing of that name may be.
pub(super) fn pack(folder: &Path, into: &Path, scratch: &Scratch) -> Result<PathBuf, Failure> {
    let name = folder.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let path = into.join(format!("{name}{ENDING}"));
    let failed = |error: std::io::Error| Failure::machine("write", &path, &error);
    let (tar, whole) = (scratch.file("tar"), scratch.file("whole"));
    let mut builder = tar::Builder::new(File::create_new(&tar).map_err(failed)?);
    builder.follow_symlinks(false);
    builder.append_dir_all(&name, folder).map_err(failed)?;
    builder.into_inner().and_then(|tar| tar.sync_all()).map_err(failed)?;
    let packed = File::create_new(&whole).map_err(failed)?;
    compress(BufReader::new(File::open(&tar).map_err(failed)?), &packed, CompressionLevel::Fastest);
    packed.sync_all().map_err(failed)?;
    let whole = tempfile::TempPath::try_from_path(whole).map_err(failed)?;
    whole.persist_noclobber(&path).map_err(|error| failed(error.error))?;
    Ok(path)
}

/// The folder that an archive is unpacked to: the one of its name beside it.
pub(super) fn folder_of(archive: &Path) -> PathBuf {
    let name = archive.file_name().unwrap_or_default().to_string_lossy().into_owned();
    archive.with_file_name(name.trim_end_matches(ENDING))
}

/// The folder of a parcel that is to be rendered: of an archive, the one of its name beside it. One that is there is gone on
/// with where it is the same parcel; another parcel of its name gets a folder of its own.
///
/// # Errors
/// When it is no whole archive of a parcel, or there is no room for it.
pub fn opened(path: &Path) -> Result<PathBuf, Failure> {
    if !is_archive(path) {
        return Ok(path.to_owned());
    }
    let parent = path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let scratch = Scratch::within(parent).map_err(|error| Failure::machine("make a folder in", parent, &error))?;
    let inner = unpacked(path, &scratch)?;
    let own = super::description(&inner)?.parcel;
    let first = folder_of(path);
    let name = first.file_name().unwrap_or_default().to_string_lossy().into_owned();
    for number in 1u64.. {
        let folder = if number == 1 { first.clone() } else { first.with_file_name(format!("{name}-{number}")) };
        if folder.symlink_metadata().is_err() {
            std::fs::rename(&inner, &folder).map_err(|error| Failure::machine("unpack to", &folder, &error))?;
            return Ok(folder);
        }
        if super::description(&folder).is_ok_and(|there| there.parcel == own) {
            return Ok(folder);
        }
    }
    Ok(first)
}

/// Unpacks an archive into a folder of `scratch`, and says where the parcel lies in it. What would not fit, and what is no
/// parcel, is refused before anything is written.
pub(super) fn unpacked(path: &Path, scratch: &Scratch) -> Result<PathBuf, Failure> {
    let top = looked_through(path, scratch)?;
    let to = scratch.file("parcel");
    std::fs::create_dir(&to).map_err(|error| Failure::machine("make the folder", &to, &error))?;
    let mut archive = tar::Archive::new(decoder(path)?);
    for entry in archive.entries().map_err(|error| cut(path, &error))? {
        let mut entry = entry.map_err(|error| cut(path, &error))?;
        let kind = entry.header().entry_type();
        // Links and devices are left out, and what leads out of the folder.
        if kind.is_file() || kind.is_dir() {
            entry.unpack_in(&to).map_err(|error| cut(path, &error))?;
        }
    }
    Ok(to.join(top))
}

/// Reads an archive to its end and writes nothing: the one folder in it.
fn looked_through(path: &Path, scratch: &Scratch) -> Result<String, Failure> {
    let foreign = |why: String| {
        Failure::unreadable(format!("{} is not a parcel: {why}", path.display()))
            .help("give an archive that `truepath parcel pack --archive` wrote, or that holds such a folder")
    };
    let length = path.metadata().map_err(|error| cut(path, &error))?.len();
    let free = disk::ground(scratch.path()).free.unwrap_or(u64::MAX);
    let (mut all, mut count) = (0u64, 0u64);
    let mut tops: BTreeMap<String, Option<Parcel>> = BTreeMap::new();
    let mut archive = tar::Archive::new(decoder(path)?);
    for entry in archive.entries().map_err(|error| cut(path, &error))? {
        let mut entry = entry.map_err(|error| cut(path, &error))?;
        all = all.saturating_add(entry.size());
        count += 1;
        if all > length.saturating_mul(UNPACKED).saturating_add(ALWAYS) || count > ENTRIES {
            return Err(foreign(format!("{length} bytes would come to more than {}", told_bytes(all as f64))));
        }
        if all > free {
            let message = format!("there is no room to unpack {}: it holds {}", path.display(), told_bytes(all as f64));
            return Err(Failure::new(Cause::Machine, message).help("free some, or unpack it elsewhere"));
        }
        let name = entry.path().map_err(|error| cut(path, &error))?.into_owned();
        let mut parts = name.components().filter(|part| *part != Component::CurDir);
        let Some(Component::Normal(top)) = parts.next() else {
            return Err(foreign(format!("`{}` leads out of it", name.display())));
        };
        let top = top.to_string_lossy().into_owned();
        let is_description = parts.next() == Some(Component::Normal(DESCRIPTION.as_ref())) && parts.next().is_none();
        let own = tops.entry(top).or_default();
        if is_description && entry.size() <= MOST {
            let mut text = String::new();
            let read = entry.by_ref().take(MOST).read_to_string(&mut text);
            read.map_err(|error| cut(path, &error))?;
            *own = serde_json::from_str(&text).ok();
        }
    }
    match tops.iter().next() {
        Some((top, Some(_))) if tops.len() == 1 => Ok(top.clone()),
        Some((top, None)) if tops.len() == 1 => Err(foreign(format!("its folder {top} has no {DESCRIPTION}"))),
        _ => Err(foreign(format!("it holds {} files and folders where a parcel is one folder", tops.len()))),
    }
}

fn decoder(path: &Path) -> Result<impl Read + use<>, Failure> {
    let file = disk::open(path).map_err(|error| Failure::machine("read", path, &error))?;
    StreamingDecoder::new(BufReader::new(file)).map_err(|error| cut(path, &error))
}

fn cut(path: &Path, error: &dyn std::fmt::Display) -> Failure {
    Failure::unreadable(format!("{} cannot be unpacked: {error}", path.display()))
        .help("it is cut off or damaged; send it again")
}
