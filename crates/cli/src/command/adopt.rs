//! `verify --adopt`: files that nobody here rendered are taken for frames, and `--undo` gives them back.

use truepath_exec::failure::Failure;
use truepath_project::adopt::{adopt_all, give_all_back};

use crate::args::VerifyArgs;
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::Queue;
use crate::show::told::Told;
use crate::show::{self, counted};

/// Files that are named before the rest is only counted.
const MOST_LINES: usize = 20;

/// Takes files, or gives them back.
pub fn run(args: &VerifyArgs, queue: &mut Queue, around: &Around) -> Result<Exit, Failure> {
    let (verb, own) = match args.undo {
        true => ("given back", give_all_back(queue, around)?),
        false => ("taken", adopt_all(queue, around, &Told::new(around))?),
    };
    let mut out = String::new();
    for line in own.done.iter().take(MOST_LINES) {
        out.push_str(&format!("  {line}\n"));
    }
    if own.done.len() > MOST_LINES {
        out.push_str(&format!("  and {} more\n", own.done.len() - MOST_LINES));
    }
    for (line, why) in &own.left {
        out.push_str(&format!("  left  {line}: {why}\n"));
    }
    out.push_str(&format!("{} {verb}\n", counted(own.done.len() as i64, "file")));
    if !own.done.is_empty() && !args.undo {
        let undo = super::again("verify --adopt --undo", &args.common);
        out.push_str(&format!("Verify them: {}. Undo: {undo}\n", super::again("verify", &args.common)));
    }
    show::print(&out)?;
    Ok(if own.left.is_empty() { Exit::Well } else { Exit::No })
}
