//! Finding and reading sheets.

use std::path::{Path, PathBuf};

use truepath_core::adapter::unsaved;
use truepath_core::diagnostic::Findings;
use truepath_core::resolve::paths::{from_system, is_absolute};
use truepath_core::scene::{self, Facts, Unread};
use truepath_core::sheet;
use truepath_core::source::FileId;

use truepath_exec::disk;
use truepath_exec::failure::Failure;

/// The name a sheet has unless another is given.
pub const SHEET: &str = "truepath.toml";

/// The sheets that a call means: those named, or the nearest `truepath.toml` from `folder` upwards. Absolute.
///
/// # Errors
/// When there is none, or one that is named cannot be read.
pub fn find_sheets(named: &[PathBuf], folder: &Path) -> Result<Vec<PathBuf>, Failure> {
    if named.is_empty() {
        let found = folder.ancestors().map(|folder| folder.join(SHEET)).find(|path| path.is_file());
        // A sheet that is reached through a link has one state folder, that beside itself.
        let real = found.map(|found| dunce::canonicalize(&found).unwrap_or(found));
        return real.map(|found| vec![found]).ok_or_else(|| {
            Failure::unreadable(format!("there is no {SHEET} in {} or any folder above it", folder.display()))
                .help("write one with `truepath new`, give one with -f FILE, or see an example with `truepath demo`")
        });
    }
    let find = |named: &PathBuf| {
        let path = if named.is_dir() { named.join(SHEET) } else { named.clone() };
        dunce::canonicalize(&path).map_err(|error| {
            Failure::unreadable(format!("cannot read the sheet {}: {error}", path.display()))
                .help("`truepath new` writes one")
        })
    };
    named.iter().map(find).collect()
}

/// A text file. Bytes that are no UTF-8 are said with their place.
///
/// # Errors
/// When it cannot be read, is larger than a text may be, or is not UTF-8.
pub fn text(path: &Path) -> Result<String, Failure> {
    let bytes = disk::read(path, disk::MOST_TEXT)
        .map_err(|error| Failure::unreadable(format!("cannot read {}: {error}", path.display())))?;
    String::from_utf8(bytes).map_err(|error| {
        let at = error.utf8_error().valid_up_to();
        let line = error.as_bytes()[..at].iter().filter(|byte| **byte == b'\n').count() + 1;
        Failure::unreadable(format!("{}:{line}: this is not UTF-8 text (byte {at})", path.display()))
            .help("save the file as UTF-8")
    })
}

/// Whether a file says of itself that it is a sheet. One that cannot be read does not.
pub fn is_sheet(path: &Path) -> bool {
    disk::read(path, disk::MOST_TEXT).is_ok_and(|bytes| sheet::looks_like_one(&String::from_utf8_lossy(&bytes)))
}

/// The scenes that fit a pattern, in the order of their names: spelt as the pattern is, from `folder` on or from the top.
/// Files about scenes are none.
pub fn scenes(folder: &Path, pattern: &str) -> Vec<String> {
    let base = folder.to_string_lossy().into_owned();
    let whole =
        if is_absolute(pattern) { pattern.to_owned() } else { format!("{}/{pattern}", glob::Pattern::escape(&base)) };
    let rules =
        glob::MatchOptions { require_literal_separator: true, require_literal_leading_dot: true, ..Default::default() };
    let found = glob::glob_with(&whole, rules).into_iter().flatten().filter_map(Result::ok);
    let found = found.filter(|path| path.is_file() && !path.to_string_lossy().ends_with(".facts.toml"));
    let spelt = |path: PathBuf| match path.strip_prefix(folder) {
        Ok(below) if !is_absolute(pattern) => from_system(below),
        _ => from_system(&path),
    };
    found.take(MOST_SCENES).map(spelt).collect()
}

/// The TOML files in a folder, by name; none where there is no such folder.
pub fn toml_files(folder: &Path) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok);
    let mut files: Vec<PathBuf> = entries
        .map(|entry| entry.path())
        .filter(|path| path.extension().is_some_and(|extension| extension == "toml"))
        .collect();
    files.sort();
    files
}

/// A path as the user would write it: relative where it lies below the current folder.
pub fn short(path: &Path, folder: &Path) -> String {
    path.strip_prefix(folder).unwrap_or(path).display().to_string()
}

/// A URI reference as a file name: percent signs decoded (RFC 3986, 2.1).
fn percent_decoded(uri: &str) -> String {
    percent_encoding::percent_decode_str(uri).decode_utf8_lossy().into_owned()
}

/// What is known about a scene, and from where.
pub struct ReadScene {
    /// The facts.
    pub facts: Facts,
    /// Where they come from, for people.
    pub source: &'static str,
    /// Why the scene could not be read.
    pub damaged: Option<String>,
    /// The facts file and its text, where there is one.
    pub beside: Option<(PathBuf, String)>,
}

/// Reads what is known about a scene: from the scene itself, and from `<scene>.facts.toml` beside it, which has the last
/// word.
///
/// # Errors
/// When the scene cannot be opened.
pub fn facts(scene: &Path) -> std::io::Result<ReadScene> {
    let name = scene.file_name().unwrap_or_default().to_string_lossy();
    let bytes = disk::scene_part(scene, &name)?;
    let (own, mut source, damaged) = match scene::read(&name, &bytes) {
        Ok(mut facts) => {
            follow(scene, &mut facts);
            (facts, "read from the scene", None)
        }
        Err(Unread::Damaged(why)) => (Facts::default(), "", Some(why.to_string())),
        Err(Unread::OtherFormat) => {
            (Facts::default(), "this scene type cannot be read, and there is no facts file", None)
        }
    };
    let path = scene.with_file_name(format!("{name}.facts.toml"));
    let beside = disk::text(&path).ok().map(|text| (path, text));
    let mut facts = own;
    if let Some((_, text)) = &beside {
        let mut quiet = Findings::default();
        facts = scene::beside::read(FileId(0), text, &mut quiet).or(facts);
        source = if source.starts_with("read") {
            "read from the scene and its facts file"
        } else {
            "read from its facts file"
        };
    }
    Ok(ReadScene { facts, source, damaged, beside })
}

/// Scenes that one pattern may stand for.
const MOST_SCENES: usize = 50_000;
/// How deep layers may lie in one another.
const DEEPEST: usize = 16;
/// Bytes of a scene in text, or of a layer of one, that are read at most.
pub const MOST_LAYER: u64 = 1 << 30;

/// Takes in the cameras of all layers of a scene, and of theirs. Of a layer that is no text, or is not there, nothing is
/// known.
fn follow(scene: &Path, facts: &mut Facts) {
    let mut open: Vec<(PathBuf, String, usize)> =
        facts.layers.iter().map(|layer| (scene.to_owned(), layer.clone(), 0)).collect();
    let mut seen = std::collections::BTreeSet::from([scene.to_owned()]);
    while let Some((from, layer, depth)) = open.pop() {
        let Some(path) = resource(&from, &layer).and_then(|path| dunce::canonicalize(path).ok()) else {
            facts.take_layer(None);
            continue;
        };
        if depth > DEEPEST || !seen.insert(path.clone()) {
            continue;
        }
        // What a layer is tells its content: it may bear any of the extensions.
        let read = disk::read(&path, MOST_LAYER).ok().and_then(|bytes| scene::read("layer.usd", &bytes).ok());
        let folder = scene.parent().unwrap_or(Path::new("."));
        for name in read.iter().flat_map(|read| &read.resources) {
            // One that is there is named from the scene's own place; one that is not, as its layer spells it.
            let there = resource(&path, name).and_then(|found| dunce::canonicalize(found).ok());
            let here = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
            let base = dunce::canonicalize(here).unwrap_or_else(|_| folder.to_owned());
            let named = match &there {
                Some(found) => found.strip_prefix(&base).map_or_else(|_| from_system(found), from_system),
                None => from_system(&path.parent().unwrap_or(folder).join(name)),
            };
            if !facts.nested.contains(&named) && !facts.resources.contains(&named) {
                facts.nested.push(named);
            }
        }
        open.extend(read.iter().flat_map(|read| &read.layers).map(|layer| (path.clone(), layer.clone(), depth + 1)));
        facts.take_layer(read);
    }
}

/// Where an outside file of a scene lies, if it is there.
pub fn resource(scene: &Path, name: &str) -> Option<PathBuf> {
    let folder = scene.parent().unwrap_or(Path::new("."));
    [folder.join(name), folder.join(percent_decoded(name))].into_iter().find(|path| path.exists())
}

/// The outside files of a scene that are not there, as the scene spells them.
pub fn missing(scene: &Path, facts: &Facts) -> Vec<String> {
    facts.files().filter(|name| resource(scene, name).is_none()).cloned().collect()
}

/// An unsaved copy beside a scene, by the names that an adapter declares, that is newer than the scene.
pub fn newer(scene: &Path, names: &[String]) -> Option<PathBuf> {
    let changed = |path: &Path| path.metadata().and_then(|about| about.modified()).ok();
    let name = scene.file_name()?.to_string_lossy().into_owned();
    let saved = changed(scene)?;
    let is_newer = |copy: &PathBuf| changed(copy).is_some_and(|copied| copied > saved);
    let copies = |pattern: &String| -> Vec<PathBuf> {
        if !pattern.contains('*') {
            return vec![scene.with_file_name(unsaved::of_scene(pattern, &name))];
        }
        let entries = scene.parent().and_then(|folder| folder.read_dir().ok());
        let entries = entries.into_iter().flatten().filter_map(Result::ok).map(|entry| entry.path());
        let fits =
            |path: &PathBuf| path.file_name().is_some_and(|own| unsaved::fits(pattern, &name, &own.to_string_lossy()));
        entries.filter(fits).collect()
    };
    names.iter().flat_map(copies).find(is_newer)
}

/// The file in the same folder whose name is most like that of one that is not there.
pub fn almost(path: &Path) -> Option<PathBuf> {
    let files = disk::files(path.parent()?).ok()?;
    let name = path.file_name()?.to_string_lossy().into_owned();
    let near = truepath_core::diagnostic::nearest(&name, files.iter().map(|(name, _)| name))?;
    Some(path.with_file_name(near))
}
