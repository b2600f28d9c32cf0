//! `parcel collect`: what came out of parcels, checked and landed.

use serde_json::json;
use truepath_exec::failure::{Failure, Trouble};
use truepath_project::parcel::{self, Collected, Collection};

use super::collected;
use super::missing::missing;
use crate::args::{CollectArgs, Common};
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, LoadOptions};
use crate::show;

/// Collects parcels in any order, as often as anybody likes.
pub fn run(args: &CollectArgs, around: &Around) -> Result<Exit, Failure> {
    let common = Common {
        sheet: args.sheet.iter().cloned().collect(),
        mode: args.mode.clone(),
        set: args.set.clone(),
        scale: args.scale.clone(),
        json: args.json,
        ..Common::default()
    };
    let mut queue = pipeline::load(&common, around, LoadOptions::default())?;
    if let Some(stop) = queue.stopped() {
        super::super::tell_findings(&queue, around);
        return Ok(stop.into());
    }
    let given = parcel::parcels(&args.parcels)?;
    let Some(loaded) = queue.sheets.first_mut() else { return Ok(Exit::Well) };
    pipeline::look_up_made(loaded, around);
    let loaded = &*loaded;
    let collection = Collection::begin(loaded, around)?;
    let (mut bad, mut all) = (false, Vec::new());
    for path in &given {
        let told = match collection.one(path) {
            Ok(told) => told,
            // One bad parcel does not keep the others from being collected.
            Err(Trouble::Call(failure)) => {
                show::failure(&failure);
                let nothing = Collected::default();
                all.push(collected::json(&nothing, &around.folder.join(path), Some(&failure.message)));
                bad = true;
                continue;
            }
            Err(Trouble::Run(failure)) => return Err(failure),
        };
        bad |= !told.left.is_empty();
        match args.json {
            true => all.push(collected::json(&told, &around.folder.join(path), None)),
            false => show::print(&collected::text(&told, path))?,
        }
    }
    let after = collection.end()?;
    if args.json {
        let fixes = crate::command::fixes(&queue, [after.as_slice()], &common);
        let plans = queue.sheets.iter().map(|loaded| &loaded.plan).zip([&after]);
        let mut document = show::json::verify(plans, &fixes);
        document["parcels"] = json!(all);
        show::print_exact(&show::json::text(&document))?;
    } else {
        show::print(&missing(loaded, &after, &common))?;
    }
    let complete = after.iter().filter(|verdict| !verdict.is_movie).all(|verdict| !verdict.is_incomplete());
    Ok(if bad || !complete { Exit::No } else { Exit::Well })
}
