//! `whose`: which job, pass, version and frame a file belongs to, or which part of its name does not fit.

use truepath_core::whose::{Owner, localized, owner};

use crate::args::{Common, WhoseArgs};
use truepath_exec::failure::Failure;

use crate::exit_code::Exit;
use truepath_core::resolve::paths::from_system as text;

use crate::lower::Surroundings;
use crate::pipeline::{self, LoadOptions, Queue};
use crate::show;

/// Answers for every file; a file that fits nowhere makes the answer no.
pub fn run(args: &WhoseArgs, around: &Surroundings) -> Result<Exit, Failure> {
    let common = Common { sheet: args.sheet.clone(), mode: args.mode.clone(), ..Common::default() };
    let queue = pipeline::load(&common, around, LoadOptions::default())?;
    super::tell_findings(&queue, around);
    let here = text(&around.folder);
    let answers: Vec<(String, usize, Owner)> = args.files.iter().map(|file| answer(&queue, file, &here)).collect();
    if args.json {
        show::print(&show::json::text(&show::json::whose(&queue, &answers)))?;
    } else {
        show::print(&show::whose::text(&queue, &answers, around.out))?;
    }
    let all = answers.iter().all(|(_, _, owner)| matches!(owner, Owner::Series(..)));
    Ok(if all { Exit::Well } else { Exit::No })
}

/// The file's local path, the sheet that knows it best, and its owner there.
fn answer(queue: &Queue, file: &str, here: &str) -> (String, usize, Owner) {
    let of_sheet = |at: usize| {
        let sheet = &queue.sheets[at];
        let path = localized(file, &sheet.written, &sheet.plan, here);
        let owner = owner(&path, &sheet.plan);
        (path, at, owner)
    };
    let rank = |owner: &Owner| match owner {
        Owner::Series(..) => 0,
        Owner::Nobody(_, Some(_)) => 1,
        Owner::Nobody(_, None) => 2,
    };
    let answers = (0..queue.sheets.len()).map(of_sheet);
    // There is always a sheet: without one the call has ended before.
    answers
        .min_by_key(|(_, _, owner)| rank(owner))
        .unwrap_or_else(|| (file.to_owned(), 0, Owner::Nobody(String::new(), None)))
}
