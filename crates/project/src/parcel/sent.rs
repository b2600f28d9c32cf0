//! A parcel that has come back: what its sender remembers of it, and what its own journals say. What it says of itself is not
//! believed, and nothing of it is read that leads out of it.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use truepath_core::check::bytes as told_bytes;
use truepath_core::parcel::{Parcel, Slice};
use truepath_core::run::event::{self, Event};
use truepath_core::run::history::{Depth, History};
use truepath_exec::disk;
use truepath_exec::failure::{Failure, Trouble};
use truepath_exec::guard::{self, Scratch};
use truepath_exec::state::{StateFolder, journal};

use super::{SHEET, archive, description};
use crate::open::Loaded;

/// Bytes of a parcel's journals that are read.
const MOST_JOURNAL: u64 = 1 << 30;

/// A parcel that has come back.
pub(super) struct SentParcel {
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

/// SHA-256 of files in hexadecimal, by series and frame.
pub(super) type FrameSums = HashMap<(String, i64), String>;

/// Whether a parcel that is there was packed from this sheet, holds the same frames and came to its end.
pub(super) fn is_packed(place: &Path, loaded: &Loaded, (name, slices): (&str, &[Slice])) -> Result<bool, Failure> {
    let there = match archive::is_archive(place) {
        true => {
            let folder = place.parent().unwrap_or(Path::new("."));
            let scratch =
                Scratch::within(folder).map_err(|error| Failure::machine("make a folder in", folder, &error))?;
            archive::unpacked(place, &scratch).and_then(|inner| description(&inner))
        }
        false => description(place),
    };
    let Ok(there) = there else { return Ok(false) };
    let kept = disk::text(&loaded.state.parcels().join(format!("{}.json", there.parcel))).ok();
    let kept = kept.and_then(|text| serde_json::from_str::<Parcel>(&text).ok());
    let plan = &loaded.plan;
    let mut wanted = Vec::new();
    for own in slices {
        wanted.extend(plan.series_of(own.job).map(|at| (&plan.series[at].place, &own.frames)));
    }
    let is_same = |kept: &Parcel| {
        let holds: Vec<_> = kept.series.iter().map(|own| (&own.place, &own.frames)).collect();
        kept.name == name && holds == wanted
    };
    Ok(kept.as_ref().is_some_and(is_same))
}

/// Opens one. An archive may have been sent again: it is unpacked anew each time, and what comes of that goes with the call.
pub(super) fn open(path: &Path, loaded: &Loaded) -> Result<SentParcel, Trouble> {
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
