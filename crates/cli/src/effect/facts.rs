//! Asking a renderer what it knows about a scene; the answer is kept by the scene's content.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::Read as _;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use truepath_core::adapter::Adapter;
use truepath_core::scene::{self, Facts};
use truepath_core::sheet::System;
use truepath_core::template::{Lookup, Value, expand_text, slug};

/// Where answers are kept and programs are at home.
pub struct Asking<'a> {
    /// The sheet's state folder.
    pub state: &'a Path,
    /// The sheet's folder.
    pub folder: &'a Path,
    /// This system.
    pub system: System,
    /// This program.
    pub own: &'a Path,
    /// Programs that the machine file knows.
    pub programs: &'a BTreeMap<String, String>,
}

/// The facts that an adapter's program tells about a scene, or why it tells none.
pub fn ask(asking: &Asking<'_>, adapter: &Adapter, scene: &Path) -> Result<Facts, String> {
    let folder = asking.state.join("facts");
    let digest = content(scene, &folder, &|_| {}).map_err(|error| error.to_string())?;
    let kept = folder.join(format!("{digest}.{}.json", slug(&adapter.name)));
    if let Ok(text) = std::fs::read_to_string(&kept) {
        return scene::told::read(&text);
    }
    let known = |name: &str| {
        if name == "scene" { Lookup::Value(Value::Text(scene.display().to_string())) } else { Lookup::Unknown }
    };
    let arguments: Vec<String> = adapter.facts.iter().filter_map(|template| expand_text(template, &known)).collect();
    let program = program(adapter, (asking.folder, asking.system), (asking.own, asking.programs))
        .map_err(|name| format!("{name} is not on this machine"))?;
    tracing::info!(program = %program.display(), scene = %scene.display(), "asking for facts");
    let output = Command::new(&program).args(arguments).current_dir(asking.folder).stdin(Stdio::null()).output();
    let output = output.map_err(|error| format!("cannot start {}: {error}", program.display()))?;
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    if !output.status.success() {
        let said = String::from_utf8_lossy(&output.stderr);
        return Err(format!(
            "{} ended with {}: {}",
            program.display(),
            output.status,
            said.lines().last().unwrap_or("")
        ));
    }
    let facts =
        scene::told::read(&text).map_err(|why| format!("what {} printed is no answer: {why}", program.display()))?;
    // An answer that cannot be kept is asked for again next time.
    let _ = std::fs::create_dir_all(&folder).and_then(|()| std::fs::write(&kept, text));
    Ok(facts)
}

/// The digest of a scene's content. That of a large scene is looked up by size, time and file number, and only worked out
/// when one of them has changed.
///
/// `told` hears of every megabyte that is read.
pub fn content(scene: &Path, folder: &Path, told: &dyn Fn(u64)) -> std::io::Result<String> {
    let known = folder.join(format!("{}.digest", &blake3::hash(stamp(scene)?.as_bytes()).to_hex()[..32]));
    if let Ok(digest) = std::fs::read_to_string(&known)
        && digest.len() == 32
    {
        return Ok(digest);
    }
    let (mut hasher, mut file) = (blake3::Hasher::new(), File::open(scene)?);
    let mut block = Vec::with_capacity(1 << 20);
    while std::io::Read::take(&mut file, 1 << 20).read_to_end(&mut block)? > 0 {
        hasher.update(&block);
        block.clear();
        told(1);
    }
    let digest = hasher.finalize().to_hex()[..32].to_owned();
    // What cannot be kept is worked out again next time.
    let _ = std::fs::create_dir_all(folder).and_then(|()| std::fs::write(&known, &digest));
    Ok(digest)
}

/// What changes with a file: where it is, its size, its file number and when it was changed.
pub fn stamp(file: &Path) -> std::io::Result<String> {
    let about = file.metadata()?;
    Ok(format!("{} {} {} {}.{}", file.display(), about.len(), about.ino(), about.mtime(), about.mtime_nsec()))
}

/// An adapter's program on this system, or its name where it is nowhere to be found: `truepath` is the running binary, one
/// with a slash starts at the sheet's folder, any other is sought in the machine file, then on the path.
pub fn program(
    adapter: &Adapter,
    (folder, system): (&Path, System),
    (own, known): (&Path, &BTreeMap<String, String>),
) -> Result<PathBuf, String> {
    let name = adapter.program_on(system).ok_or("a program for this system")?;
    let found = if name == "truepath" {
        own.to_owned()
    } else if name.contains('/') {
        PathBuf::from(truepath_core::resolve::paths::tidy(&folder.join(name).to_string_lossy()))
    } else if let Some(known) = known.get(name) {
        PathBuf::from(known)
    } else {
        crate::lower::search_path().map(|folder| folder.join(name)).find(|path| path.is_file()).ok_or(name)?
    };
    if found.is_file() { Ok(found) } else { Err(found.display().to_string()) }
}
