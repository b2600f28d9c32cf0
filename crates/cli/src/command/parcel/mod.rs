//! `parcel`: parts of a plan for machines that share nothing with this one.

mod collect;
mod collected;
mod missing;
mod pack;

use truepath_exec::failure::Failure;
use truepath_project::parcel;

use crate::args::{Common, ParcelArgs, RenderArgs, RunArgs};
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::show;

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
        let folder = parcel::opened(given)?;
        parcel::description(&folder)?;
        let common = Common { sheet: vec![folder.join(parcel::SHEET)], ..Common::default() };
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
