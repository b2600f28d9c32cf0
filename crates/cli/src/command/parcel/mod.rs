//! `parcel`: parts of a plan for machines that share nothing with this one.

mod archive;
mod collect;
mod collected;
mod missing;
mod pack;
mod sent;

use std::path::{Path, PathBuf};

use truepath_core::parcel::{DESCRIPTION, Parcel, VERSION};
use truepath_exec::disk;
use truepath_exec::failure::Failure;

use crate::args::{Common, ParcelArgs, RenderArgs, RunArgs};
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::show;

/// The sheet of a parcel.
const SHEET: &str = "truepath.toml";
/// Most bytes of a description that are read.
const MOST: u64 = 64_000_000;

/// Packs, renders or collects.
pub fn run(args: &ParcelArgs, around: &Around) -> Result<Exit, Failure> {
    match args {
        ParcelArgs::Pack(args) => pack::run(args, around),
        ParcelArgs::Render(args) => render(args, around),
        ParcelArgs::Collect(args) => collect::run(args, around),
    }
}

/// Renders what the parcels ask for, one after another. What lies in a parcel was sent here to be run.
fn render(args: &RenderArgs, around: &Around) -> Result<Exit, Failure> {
    let (mut worst, mut all) = (Exit::Well, Vec::new());
    for given in &args.parcels {
        let folder = archive::opened(given)?;
        description(&folder)?;
        let common = Common { sheet: vec![folder.join(SHEET)], ..Common::default() };
        let run = RunArgs { workers: args.workers, ..RunArgs::of(common) };
        let exit = super::run::run(&run, around)?;
        worst = worst.max(exit);
        let outcome = match exit {
            Exit::Well => "complete",
            Exit::Interrupted => "interrupted",
            _ => "incomplete",
        };
        all.push(serde_json::json!({ "path": around.folder.join(&folder), "outcome": outcome }));
        if worst == Exit::Interrupted {
            break;
        }
        show::tell(&format!("send this back: {}\n", folder.display()));
    }
    if args.json {
        show::print_exact(&show::json::text(&serde_json::json!({ "truepath": 1, "parcels": all })))?;
    }
    Ok(worst)
}

/// What a parcel says of itself. Nothing of it is believed but its number.
fn description(folder: &Path) -> Result<Parcel, Failure> {
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
fn parcels(given: &[PathBuf]) -> Result<Vec<PathBuf>, Failure> {
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
