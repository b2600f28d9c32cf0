//! `explain`: what a check looks for, why it matters, an example that fails and one that passes.

use truepath_core::diagnostic::{CHECKS, find, nearest};

use crate::args::ExplainArgs;
use truepath_exec::failure::Failure;

use crate::exit_code::Exit;
use crate::show;

/// Prints a check's page, or the list of all checks.
pub fn run(args: &ExplainArgs) -> Result<Exit, Failure> {
    let Some(name) = &args.check else {
        let widest = CHECKS.iter().map(|check| check.slug.len()).max().unwrap_or(0);
        let lines: String = CHECKS
            .iter()
            .map(|check| {
                let mark = if check.mends {
                    "fix"
                } else if check.of_files {
                    "file"
                } else if check.asks_machine {
                    "disk"
                } else {
                    ""
                };
                format!("{:widest$}  {:7}  {mark:4}  {}\n", check.slug, check.level.name(), check.summary)
            })
            .collect();
        let legend = "fix: `truepath check --fix` mends it. disk: it asks this machine, and `--offline` leaves it out.\n\
             file: it looks into rendered pictures; `truepath verify --deep` and `truepath run` find it.\n";
        show::print(&format!("{lines}\n{legend}"))?;
        return Ok(Exit::Well);
    };
    let Some(check) = find(name) else {
        let near = nearest(name, CHECKS.iter().map(|check| check.slug));
        let help = near.map_or("`truepath explain` lists them all".to_owned(), |near| format!("write {near}"));
        return Err(Failure::unreadable(format!("there is no check `{name}`")).help(help));
    };
    show::print(check.page)?;
    Ok(Exit::Well)
}
