//! A product on disk: whether it is whole, its digest, and how it gets its name.
use std::fs::File;
use std::io::Read as _;
use std::path::Path;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use truepath_core::flaw::Flaw;
use truepath_core::invoke::command_line::Product;
use truepath_core::resolve::paths;
use truepath_core::scene::{self, Unread};

use crate::disk;
use crate::landing::stage;

/// What is written down of a product, beside it.
const ABOUT: &str = ".truepath-product.json";

/// What is known of a product.
#[derive(Serialize, Deserialize)]
struct About {
    bytes: u64,
    digest: String,
}

/// How a product stands.
enum Standing {
    /// It has the bytes that it had when it landed: its digest.
    Whole(String),
    /// It did not stay as it was, or what is known of it did not.
    Damaged,
    /// It is not there, or cannot be seen yet.
    Absent,
}

/// How often a product is looked for that another member has just named, and the pause before that: some shares show a new
/// folder late.
const LOOKS: usize = 40;
const PAUSE: Duration = Duration::from_millis(250);

/// The digest of a product that is there.
pub fn digest(product: &Product) -> Option<String> {
    match standing(product) {
        Standing::Whole(digest) => Some(digest),
        Standing::Damaged | Standing::Absent => None,
    }
}

fn standing(product: &Product) -> Standing {
    let path = Path::new(paths::parent(&product.path)).join(ABOUT);
    let about = match disk::text(&path) {
        Ok(text) => serde_json::from_str::<About>(&text),
        Err(_) if path.symlink_metadata().is_err() => return Standing::Absent,
        Err(_) => return Standing::Damaged,
    };
    match (about, truepath_media::open(Path::new(&product.path))) {
        (Ok(about), Ok((_, there))) if there == about.bytes => Standing::Whole(about.digest),
        _ => Standing::Damaged,
    }
}

/// Looks at what an exporter wrote, and names it; its digest.
///
/// # Errors
/// In words: what is wrong with it.
pub fn land(product: &Product) -> Result<String, Flaw> {
    let part = Path::new(paths::parent(&product.staged));
    let found = looked_at(Path::new(&product.staged))?;
    let text = serde_json::to_string(&found).map_err(Flaw::of)?;
    disk::keep(&part.join(ABOUT), &text).map_err(Flaw::of)?;
    let folder = Path::new(paths::parent(&product.path));
    let Err(error) = std::fs::rename(part, folder) else { return Ok(found.digest) };
    for _ in 0..LOOKS {
        match standing(product) {
            // Another one was there first.
            Standing::Whole(first) => return Ok(first),
            // It makes way, and goes with the part.
            Standing::Damaged => {
                let away = part.with_extension("damaged");
                std::fs::rename(folder, away).and_then(|()| std::fs::rename(part, folder)).map_err(Flaw::of)?;
                return Ok(found.digest);
            }
            Standing::Absent => std::thread::sleep(PAUSE),
        }
    }
    Err(format!("{} stands in its place: {error}; remove it", folder.display()).into())
}

/// Reads a product to its end, twice where its format is known.
fn looked_at(staged: &Path) -> Result<About, Flaw> {
    let (mut file, before) = truepath_media::open(staged).map_err(Flaw::of)?;
    let name = staged.file_name().unwrap_or_default().to_string_lossy();
    if let Some(why) = scene::cut(&name, &disk::head(staged, scene::HEAD).map_err(Flaw::of)?, before) {
        return Err(why.into());
    }
    if let Err(Unread::Damaged(why)) = scene::read(&name, &disk::scene_part(staged, &name).map_err(Flaw::of)?) {
        return Err(why);
    }
    let mut hash = blake3::Hasher::new();
    let bytes = read(&mut file, &mut hash).map_err(Flaw::of)?;
    if bytes == 0 {
        return Err("it is empty".into());
    }
    // Whole on disk before it has its name.
    file.sync_all().map_err(Flaw::of)?;
    if bytes != before || staged.metadata().map_err(Flaw::of)?.len() != bytes {
        return Err("something still writes to it".into());
    }
    // What lies beside it belongs to it: buffers, textures, layers.
    let part = staged.parent().unwrap_or(Path::new("."));
    let mut beside = stage::files(part);
    beside.retain(|path| path != staged);
    beside.sort();
    for path in beside {
        let (mut file, _) = truepath_media::open(&path).map_err(Flaw::of)?;
        hash.update(path.strip_prefix(part).unwrap_or(&path).as_os_str().as_encoded_bytes());
        read(&mut file, &mut hash).map_err(Flaw::of)?;
        file.sync_all().map_err(Flaw::of)?;
    }
    Ok(About { bytes, digest: hash.finalize().to_hex()[..32].to_owned() })
}

/// Reads a file to its end; its bytes.
fn read(file: &mut File, hash: &mut blake3::Hasher) -> std::io::Result<u64> {
    let mut block = Vec::with_capacity(1 << 20);
    let mut bytes = 0;
    while file.by_ref().take(1 << 20).read_to_end(&mut block)? > 0 {
        bytes += block.len() as u64;
        hash.update(&block);
        block.clear();
    }
    Ok(bytes)
}
