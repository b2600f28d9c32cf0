//! A parcel that has come back: what its sender remembers of it, and what its own journals say. What it says of itself is not
//! believed, and nothing of it is read that leads out of it.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use truepath_core::check::bytes as told_bytes;
use truepath_core::parcel::Parcel;
use truepath_core::run::event::{self, Event};
use truepath_core::run::history::{Depth, History};
use truepath_exec::disk;
use truepath_exec::failure::{Failure, Trouble};
use truepath_exec::guard::{self, Scratch};
use truepath_exec::state::{StateFolder, journal};

use super::{SHEET, archive, description};
use crate::pipeline::Loaded;

/// Bytes of a parcel's journals that are read.
const MOST_JOURNAL: u64 = 1 << 30;

/// A parcel that has come back.
pub struct SentParcel {
    /// Its folder.
    pub folder: PathBuf,
    /// What its sender remembers.
    pub own: Parcel,
    /// What its own journals say.
    pub history: History,
    /// SHA-256 of its files in hexadecimal, by series and frame, where a script has written it down.
    pub sums: FrameSums,
    _scratch: Option<Scratch>,
}

/// FrameSums of files, by series and frame.
pub type FrameSums = HashMap<(String, i64), String>;

/// Opens one. An archive may have been sent again: it is unpacked anew each time, and what comes of that goes with the call.
pub fn open(path: &Path, loaded: &Loaded) -> Result<SentParcel, Trouble> {
    let scratch = match archive::is_archive(path) {
        true => {
            let made = loaded.state.make().and_then(|()| Scratch::within(loaded.state.folder()));
            Some(made.map_err(|error| Trouble::Run(Failure::machine("write in", loaded.state.folder(), &error)))?)
        }
        false => None,
    };
    let folder = match &scratch {
        Some(scratch) => archive::unpacked(path, scratch).map_err(Trouble::Call)?,
        None => path.to_owned(),
    };
    let (own, history, sums) = read(&folder, path, loaded).map_err(Trouble::Call)?;
    Ok(SentParcel { folder, own, history, sums, _scratch: scratch })
}

fn read(folder: &Path, path: &Path, loaded: &Loaded) -> Result<(Parcel, History, FrameSums), Failure> {
    let id = description(folder)?.parcel;
    let kept = loaded.state.parcels().join(format!("{id}.json"));
    let own: Option<Parcel> = disk::text(&kept).ok().and_then(|text| serde_json::from_str(&text).ok());
    let Some(own) = own else {
        let message = format!("{} was not packed from this sheet, or the record of it is gone", path.display());
        let help = "collect it where it was packed; `truepath verify --adopt` can accept whole files";
        return Err(Failure::unreadable(message).help(help));
    };
    guard::own_folder(folder, &[])?;
    let state = StateFolder::of(&folder.join(SHEET))?;
    let bytes: u64 = journal::list(&state).iter().map(|(_, bytes)| bytes).sum();
    if bytes > MOST_JOURNAL {
        let message = format!("the journals of {} have {}", path.display(), told_bytes(bytes as f64));
        return Err(Failure::unreadable(message).help("look at what was sent; accept whole files with verify --adopt"));
    }
    let mut sums = FrameSums::new();
    for (name, _) in journal::list(&state) {
        let text = disk::text(&state.journals().join(&name)).unwrap_or_default();
        for event in event::read(&text) {
            if let Event::Sum { series, frame, sha256 } = event {
                sums.insert((series, frame), sha256);
            }
        }
    }
    Ok((own, journal::read(&state, Depth::Calls)?, sums))
}
