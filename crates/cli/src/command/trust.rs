//! `trust`: lets the programs of a folder's adapters be asked for facts and versions by commands that only look.

use std::path::Path;

use truepath_exec::failure::Failure;

use crate::args::TrustArgs;
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::load::SHEET;
use crate::pipeline::trust::Brought;
use crate::show;

/// Writes down that a folder is trusted, or that it is no longer.
pub fn run(args: &TrustArgs, around: &Around) -> Result<Exit, Failure> {
    let named = around.folder.join(args.folder.as_deref().unwrap_or(Path::new(".")));
    let is_sheet = named.is_file();
    let folder = if is_sheet { named.parent().unwrap_or(&named) } else { &named };
    if !folder.is_dir() {
        return Err(Failure::unreadable(format!("there is no folder {}", folder.display())));
    }
    // Without a name, the project that this folder lies in is meant.
    let above = || folder.ancestors().find(|folder| folder.join(SHEET).is_file());
    let folder = if args.folder.is_none() { above().unwrap_or(folder) } else { folder };
    let brought = Brought::of(folder, is_sheet.then_some(named.as_path()), around);
    if args.forget {
        let was = brought.forget();
        show::print(&format!(
            "{}: {}\n",
            if was { "no longer trusted" } else { "it was not trusted" },
            brought.words()
        ))?;
        return Ok(Exit::Well);
    }
    if brought.is_nothing() {
        show::print(&format!("nothing to trust: {}\n", brought.words()))?;
        return Ok(Exit::Well);
    }
    brought.trust()?;
    show::print(&format!("trusted: {}\nafter a change to an adapter, trust it again\n", brought.words()))?;
    Ok(Exit::Well)
}
