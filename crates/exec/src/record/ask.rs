//! Asking a renderer what it knows about a scene; the answer is kept by the scene's content.

use std::io::Read as _;
use std::path::Path;
use std::time::Duration;

use truepath_core::adapter::Adapter;
use truepath_core::scene::{self, Facts};
use truepath_core::template::{Lookup, Value, expand_text, slug};

use super::answer::{self, NoAnswer};
use crate::disk;

/// How long a program may take to tell about a scene.
const PATIENCE: Duration = Duration::from_secs(60);

/// The facts that an adapter's program tells about a scene, or why it tells none. `kept_in` keeps answers; `folder` is the
/// sheet's own; `program` is the program's full path.
///
/// # Errors
/// When the program cannot be started or answers something else.
pub fn ask(
    adapter: &Adapter,
    program: &Path,
    scene: &Path,
    (kept_in, folder): (&Path, &Path),
) -> Result<Facts, NoAnswer> {
    let digest = content(scene, kept_in, &|_| {}).map_err(NoAnswer::Scene)?;
    let kept = kept_in.join(format!("{digest}.{}.json", slug(&adapter.name)));
    // One that was cut off is asked for again.
    if let Some(facts) = disk::text(&kept).ok().and_then(|text| scene::told::read(&text).ok()) {
        return Ok(facts);
    }
    let known = |name: &str| {
        if name == "scene" { Lookup::Value(Value::Text(scene.display().to_string())) } else { Lookup::Unknown }
    };
    let arguments: Vec<String> = adapter.facts.iter().filter_map(|template| expand_text(template, &known)).collect();
    tracing::info!(program = %program.display(), scene = %scene.display(), "asking for facts");
    let said = answer::ask(program, &arguments, folder, (PATIENCE, false))?;
    let text = said.text;
    if said.code != Some(0) {
        let how = said.code.map_or("was ended by a signal".to_owned(), |code| format!("ended with {code}"));
        return Err(NoAnswer::Ended { program: program.to_owned(), how, last: said.last });
    }
    let facts = scene::told::read(&text).map_err(|source| NoAnswer::Unread { program: program.to_owned(), source })?;
    // An answer that cannot be kept is asked for again next time.
    let _ = disk::keep(&kept, &text);
    Ok(facts)
}

/// The digest of a scene's content. That of a large scene is looked up by size, time and file number, and only worked out
/// when one of them has changed.
///
/// `told` hears of every megabyte that is read.
///
/// # Errors
/// When the scene cannot be read.
pub fn content(scene: &Path, folder: &Path, told: &dyn Fn(u64)) -> std::io::Result<String> {
    let known = folder.join(format!("{}.digest", &blake3::hash(disk::identity(scene)?.as_bytes()).to_hex()[..32]));
    if let Ok(digest) = disk::text(&known)
        && digest.len() == 32
    {
        return Ok(digest);
    }
    let (mut hasher, mut file) = (blake3::Hasher::new(), disk::open(scene)?);
    let mut block = Vec::with_capacity(1 << 20);
    while std::io::Read::take(&mut file, 1 << 20).read_to_end(&mut block)? > 0 {
        hasher.update(&block);
        block.clear();
        told(1);
    }
    let digest = hasher.finalize().to_hex()[..32].to_owned();
    // What cannot be kept is worked out again next time.
    let _ = disk::keep(&known, &digest);
    Ok(digest)
}
