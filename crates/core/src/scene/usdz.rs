//! USD in a package, `.usdz` (OpenUSD, "Usdz File Format Specification"): a zip archive in which every file is stored as it
//! is. The first file is the scene; files that lie in the package are no outside files.

use crate::flaw::Flaw;
use std::collections::BTreeSet;
use std::io::{Cursor, Read};

use zip::{CompressionMethod, ZipArchive};

use super::{Facts, Unread, read as read_scene};

/// Layers of a package that are read.
const MOST_LAYERS: usize = 1000;

pub fn read(bytes: &[u8]) -> Result<Facts, Flaw> {
    let mut archive = ZipArchive::new(Cursor::new(bytes)).map_err(|error| Flaw::at("it is not a package", error))?;
    let names: Vec<String> = archive.file_names().map(str::to_owned).collect();
    let first = archive.by_index_raw(0).ok().map(|file| file.name().to_owned());
    let first = first.ok_or("there is no file in it")?;
    let mut facts = layer(&mut archive, &first, bytes.len())?;
    let within = |from: &str, path: &str| {
        let folder = from.rsplit_once('/').map_or("", |(folder, _)| folder);
        let path = joined(folder, path);
        names.contains(&path).then_some(path)
    };
    // What lies in the package is a part of it; what does not is somewhere else.
    let mut open: Vec<(String, String)> = facts.layers.iter().map(|path| (first.clone(), path.clone())).collect();
    let mut seen = BTreeSet::from([first.clone()]);
    let mut outside: Vec<String> =
        facts.resources.iter().filter(|path| within(&first, path).is_none()).cloned().collect();
    while let Some((from, path)) = open.pop() {
        let Some(inner) = within(&from, &path) else {
            facts.take_layer(None);
            continue;
        };
        if !seen.insert(inner.clone()) || seen.len() > MOST_LAYERS {
            continue;
        }
        let read = layer(&mut archive, &inner, bytes.len()).ok();
        for own in read.iter().flat_map(|read| &read.resources).filter(|path| within(&inner, path).is_none()) {
            if !outside.contains(own) {
                outside.push(own.clone());
            }
        }
        open.extend(read.iter().flat_map(|read| &read.layers).map(|path| (inner.clone(), path.clone())));
        facts.take_layer(read);
    }
    (facts.resources, facts.layers) = (outside, Vec::new());
    Ok(facts)
}

fn layer(archive: &mut ZipArchive<Cursor<&[u8]>>, name: &str, most: usize) -> Result<Facts, Flaw> {
    let mut file = archive.by_name(name).map_err(|error| Flaw::at(name, error))?;
    if file.compression() != CompressionMethod::Stored {
        return Err(format!("{name} is compressed, and a package stores its files as they are").into());
    }
    let mut bytes = Vec::new();
    file.by_ref().take(most as u64).read_to_end(&mut bytes).map_err(|error| Flaw::at(name, error))?;
    match read_scene(name, &bytes) {
        // A package in a package is not looked into.
        _ if name.to_ascii_lowercase().ends_with(".usdz") => {
            Err(format!("{name} is a package inside a package").into())
        }
        Ok(facts) => Ok(facts),
        Err(Unread::Damaged(why)) => Err(format!("{name}: {why}").into()),
        Err(Unread::OtherFormat) => Err(format!("{name} is not USD").into()),
    }
}

/// A path below a folder, without `.` and `..`.
fn joined(folder: &str, path: &str) -> String {
    let mut parts: Vec<&str> = folder.split('/').filter(|part| !part.is_empty()).collect();
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." => drop(parts.pop()),
            part => parts.push(part),
        }
    }
    parts.join("/")
}
