//! Parts of a plan for machines that share nothing with this one: packed, opened, and collected again.

mod archive;
mod collect;
mod collected;
mod pack;
mod sent;

use std::path::{Path, PathBuf};

use truepath_core::parcel::{DESCRIPTION, Parcel, VERSION};
use truepath_exec::disk;
use truepath_exec::failure::Failure;

pub use archive::opened;
pub use collect::Collection;
pub use collected::{Collected, Reasons};
pub use pack::{PackRequest, PackedParcel, pack};

/// The sheet of a parcel.
pub const SHEET: &str = "truepath.toml";
/// Most bytes of a description that are read.
const MOST: u64 = 64_000_000;

/// What a parcel says of itself. Nothing of it is believed but its number.
///
/// # Errors
/// When the folder is no parcel that is read here.
pub fn description(folder: &Path) -> Result<Parcel, Failure> {
    let path = folder.join(DESCRIPTION);
    let no_parcel = |why: String| {
        let help = "give a folder that `truepath parcel pack` wrote, or a folder that contains parcels";
        Failure::unreadable(format!("{} is not a parcel: {why}", folder.display())).help(help)
    };
    let about = path.metadata().map_err(|error| no_parcel(error.to_string()))?;
    if !about.is_file() || about.len() > MOST {
        return Err(no_parcel(format!("{DESCRIPTION} cannot be read")));
    }
    let text = disk::text(&path).map_err(|error| no_parcel(error.to_string()))?;
    let parcel: Parcel = serde_json::from_str(&text).map_err(|error| no_parcel(format!("{DESCRIPTION}: {error}")))?;
    if parcel.truepath != VERSION {
        return Err(no_parcel(format!("it has version {}, and this True Path reads {VERSION}", parcel.truepath)));
    }
    if !Parcel::is_id(&parcel.parcel) {
        return Err(no_parcel("its number cannot be read".to_owned()));
    }
    Ok(parcel)
}

/// The parcels in some folders, and archives of parcels: each one once, in the order of their names.
///
/// # Errors
/// When one of them is no parcel and has none.
pub fn parcels(given: &[PathBuf]) -> Result<Vec<PathBuf>, Failure> {
    let mut all = Vec::new();
    for path in given {
        if archive::is_archive(path) || path.join(DESCRIPTION).exists() {
            all.push(path.clone());
            continue;
        }
        if !path.is_dir() {
            return Err(Failure::unreadable(format!("{} is not a parcel and contains no parcels", path.display()))
                .help("`truepath parcel pack` has printed where they are"));
        }
        let failed = |error: std::io::Error| Failure::machine("read the folder", path, &error);
        let mut inside = std::fs::read_dir(path)
            .and_then(|entries| {
                entries.map(|entry| entry.map(|entry| entry.path())).collect::<std::io::Result<Vec<_>>>()
            })
            .map_err(failed)?;
        inside.retain(|path| archive::is_archive(path) || path.join(DESCRIPTION).exists());
        inside.sort();
        // An archive that was unpacked is there twice.
        let folders: Vec<PathBuf> = inside.iter().filter(|path| path.is_dir()).cloned().collect();
        inside.retain(|path| !archive::is_archive(path) || !folders.contains(&archive::folder_of(path)));
        if inside.is_empty() {
            return Err(description(path).err().unwrap_or_else(|| Failure::unreadable("not a parcel".to_owned())));
        }
        all.extend(inside);
    }
    Ok(all)
}
