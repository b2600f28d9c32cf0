//! Checkpoints of long stills: the last whole ones are kept in numbered slots, and a still continues from the newest.

use std::path::{Path, PathBuf};

use truepath_core::plan::{Call, Still};
use truepath_core::resolve::paths::from_system;
use truepath_core::run::event::{Event, Saved};
use truepath_core::sheet::Checkpoint;

use crate::disk;
use crate::failure::Failure;
use crate::guard;
use crate::landing::stage;
use crate::record::Made;
use crate::state::StateFolder;

/// Bytes of a checkpoint at most.
const MOST: u64 = 16 << 30;

/// Where a call is saved under way: a file for the renderer to write, slots beside it. The slots of frames that were made
/// of something else are of no use and are cleared.
pub fn prepare(state: &StateFolder, call: &Call, setting: Checkpoint, made: &[Made]) -> Result<Still, Failure> {
    let folder = state.checkpoints(&call.id);
    let failure = |error: &std::io::Error| Failure::machine("write", &folder, error);
    let parts = call.series.iter().filter_map(|at| made[*at].as_ref()).flat_map(|made| &made.parts);
    let text: String = parts.map(|(name, value)| format!("{name} {value}\n")).collect();
    let mark = folder.join("made");
    if disk::text(&mark).ok().as_deref() != Some(text.as_str()) {
        stage::clear(&folder)?;
        std::fs::create_dir_all(&folder).map_err(|error| failure(&error))?;
        std::fs::write(&mark, text).map_err(|error| failure(&error))?;
    }
    let newest = slots(&folder).into_iter().rev().find(|(_, path)| is_whole(path));
    let under_way = folder.join("under-way");
    // What a renderer was writing when it ended is not whole.
    let _ = std::fs::remove_file(&under_way);
    Ok(Still {
        checkpoint: from_system(&under_way),
        every: setting.every.as_secs_f64(),
        resume: newest.map(|(_, path)| from_system(&path)),
    })
}

/// Puts a whole checkpoint by as the newest of `keep` slots; what is to be told of it, where there was one.
pub fn put_by(still: &Still, written: &Path, call: &Call, keep: i64) -> Result<Option<Event>, Failure> {
    let folder = Path::new(&still.checkpoint).parent().unwrap_or(Path::new("."));
    let failure = |error: &std::io::Error| Failure::machine("write", folder, error);
    // The renderer names it: only what lies in the folder of its checkpoints is moved.
    let Ok(written) = &guard::confined(written, [folder]) else { return Ok(None) };
    if disk::no_file(written).is_some() {
        return Ok(None);
    }
    let Ok(bytes) = disk::read(written, MOST) else { return Ok(None) };
    let all = slots(folder);
    let number = all.last().map_or(1, |(number, _)| number + 1);
    let digest = blake3::hash(&bytes).to_hex().to_string();
    let slot = folder.join(number.to_string());
    std::fs::File::open(written).and_then(|file| file.sync_all()).map_err(|error| failure(&error))?;
    std::fs::write(digest_of(&slot), &digest).map_err(|error| failure(&error))?;
    std::fs::rename(written, &slot).map_err(|error| failure(&error))?;
    let keep = usize::try_from(keep).unwrap_or(1);
    for (_, old) in all.iter().take((all.len() + 1).saturating_sub(keep)) {
        for path in [old.clone(), digest_of(old)] {
            // One that stays is only in the way.
            let _ = std::fs::remove_file(path);
        }
    }
    let frame = call.frames.first().unwrap_or(0);
    let (path, bytes) = (from_system(&slot), bytes.len() as u64);
    Ok(Some(Event::Saved(Saved { call: call.id.clone(), frame, path, bytes, digest })))
}

/// The slots of a call, the newest last.
fn slots(folder: &Path) -> Vec<(u64, PathBuf)> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok).map(|entry| entry.path());
    let numbered = entries.filter_map(|path| Some((path.file_name()?.to_str()?.parse().ok()?, path.clone())));
    let mut all: Vec<(u64, PathBuf)> = numbered.collect();
    all.sort();
    all
}

fn digest_of(slot: &Path) -> PathBuf {
    slot.with_extension("digest")
}

/// Whether a slot holds what was put by.
fn is_whole(slot: &Path) -> bool {
    let digest = disk::text(&digest_of(slot));
    let bytes = disk::read(slot, MOST);
    digest.ok().zip(bytes.ok()).is_some_and(|(digest, bytes)| blake3::hash(&bytes).to_hex().as_str() == digest)
}

/// Takes the slots of a call away once its frame has landed.
pub fn clear(call: &Call) -> Result<(), Failure> {
    let folder = call.still.as_ref().and_then(|still| Path::new(&still.checkpoint).parent().map(Path::to_owned));
    folder.map_or(Ok(()), |folder| stage::clear(&folder))
}
