//! `clean`: room for the next render. It lists what it would take away, moves that away with `--yes`, and brings it back with
//! `--undo`.

use serde_json::json;
use truepath_core::check::bytes as told_bytes;
use truepath_core::frames::Frames;
use truepath_exec::failure::Failure;
use truepath_project::clean::{self, CleanList, CleanScope, GoingFiles};

use crate::args::CleanArgs;
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, LoadOptions, Queue};
use crate::show::told::Told;
use crate::show::{self, counted, verdicts};

/// Lists or moves what is to go, or brings back what went last.
pub fn run(args: &CleanArgs, around: &Around) -> Result<Exit, Failure> {
    let queue = pipeline::load(&args.common, around, LoadOptions::default())?;
    if let Some(exit) = super::not_to_be_judged(&queue, around) {
        return Ok(exit);
    }
    if args.undo {
        return undo(args, &queue, around);
    }
    if args.removed {
        return all_removed(args, &queue, around);
    }
    let scopes = scopes(args)?;
    let request = pipeline::request(&args.common);
    let list = CleanList::of((queue, &request), &scopes, around, &Told::new(around))?;
    tell_or_do(args, &list, around)
}

/// What is to go.
fn scopes(args: &CleanArgs) -> Result<Vec<CleanScope>, Failure> {
    let leftovers = CleanScope::Leftovers { frames: args.left_over, stages: args.stage };
    let mut scopes = Vec::from_iter((args.left_over || args.stage).then_some(leftovers));
    scopes.extend(args.keep.map(CleanScope::OldVersions));
    if scopes.is_empty() {
        if args.common.mode.is_empty() {
            let help = "give --mode NAME (files of a mode), --keep N (old versions), --left-over or --stage";
            return Err(Failure::unreadable("clean needs to know what to put away").help(help));
        }
        scopes.push(CleanScope::Modes);
    }
    Ok(scopes)
}

fn tell_or_do(args: &CleanArgs, list: &CleanList, around: &Around) -> Result<Exit, Failure> {
    let going: Vec<&GoingFiles> = list.going.iter().filter(|going| !going.files.is_empty()).collect();
    let files: usize = going.iter().map(|going| going.files.len()).sum();
    let all = going.iter().flat_map(|going| &going.files).map(|(_, bytes)| bytes).sum::<u64>()
        + list.folders.iter().map(|folder| folder.bytes).sum::<u64>();
    match args.common.json {
        true => show::print_exact(&show::json::text(&document(args, list, (&going, all))))?,
        false => show::print(&listed(list, &going))?,
    }
    let what = counted(files as i64, "file")
        + &match list.folders.len() {
            0 => String::new(),
            count => format!(" and {}", counted(count as i64, "folder")),
        };
    let size = told_bytes(all as f64);
    if files + list.folders.len() == 0 {
        show::tell("nothing to put away\n");
        return Ok(Exit::Well);
    }
    if !args.yes {
        show::tell(&format!("{what}, {size}. Nothing was changed; run it again with --yes to put them away\n"));
        return Ok(Exit::Well);
    }
    let left = list.put_away(args.into.as_deref(), around)?;
    tell_left(&left);
    let (undo, free) =
        (super::again("clean --undo", &args.common), super::again("clean --removed --yes", &args.common));
    show::tell(&format!("{what}, {size} put away. Bring them back: {undo}. Delete them for good: {free}\n"));
    Ok(if left.is_empty() { Exit::Well } else { Exit::No })
}

/// What is to go, as a document.
fn document(args: &CleanArgs, list: &CleanList, (going, all): (&[&GoingFiles], u64)) -> serde_json::Value {
    let row = |going: &&GoingFiles| {
        let frames: Vec<i64> = going.files.iter().map(|(frame, _)| *frame).collect();
        let bytes: u64 = going.files.iter().map(|(_, bytes)| bytes).sum();
        let (_, series) = list.of_files(going);
        json!({ "series": series.id, "pattern": series.pattern.typed(), "frames": Frames::from_any(frames), "bytes": bytes, "why": going.why })
    };
    let folders =
        list.folders.iter().map(|folder| json!({ "path": folder.path.display().to_string(), "bytes": folder.bytes }));
    let kept: Vec<String> = list.kept.iter().map(|(path, why)| format!("{path}: {why}")).collect();
    json!({
        "truepath": 1, "files": going.iter().map(row).collect::<Vec<_>>(), "folders": folders.collect::<Vec<_>>(),
        "kept": kept, "bytes": all, "done": args.yes,
    })
}

/// The same for people.
fn listed(list: &CleanList, going: &[&GoingFiles]) -> String {
    let mut out = String::new();
    for own in going {
        let frames = Frames::from_any(own.files.iter().map(|(frame, _)| *frame).collect());
        let bytes: u64 = own.files.iter().map(|(_, bytes)| bytes).sum();
        let (plan, series) = list.of_files(own);
        let which =
            if own.files.len() > 1 { format!("  {}", verdicts::cut(&frames.to_string())) } else { String::new() };
        let path = match own.files.as_slice() {
            [(frame, _)] => series.name(*frame),
            _ => series.pattern.typed(),
        };
        let size = told_bytes(bytes as f64);
        out.push_str(&format!(
            "  {}{which}\n      {}, {size}, {}\n",
            verdicts::relative(plan, &path),
            counted(own.files.len() as i64, "file"),
            own.why
        ));
    }
    for folder in &list.folders {
        let path = folder.path.display();
        out.push_str(&format!("  {path}\n      {}, of a finished run\n", told_bytes(folder.bytes as f64)));
    }
    for (path, why) in &list.kept {
        out.push_str(&format!("  kept  {path}: {why}\n"));
    }
    out
}

fn tell_left(left: &[(String, String)]) {
    for (path, why) in left {
        show::tell(&format!("left  {path}: {why}\n"));
    }
}

/// Brings back what was put away last.
fn undo(args: &CleanArgs, queue: &Queue, around: &Around) -> Result<Exit, Failure> {
    let back = clean::undo(queue, args.into.as_deref(), around)?;
    tell_left(&back.left);
    show::tell(&format!("{} brought back\n", counted(back.count, "file")));
    Ok(if back.left.is_empty() { Exit::Well } else { Exit::No })
}

/// Lists what was put away, and frees its room for good with `--yes`.
fn all_removed(args: &CleanArgs, queue: &Queue, around: &Around) -> Result<Exit, Failure> {
    let folders = clean::put_away_before(queue)?;
    let all: u64 = folders.iter().map(|(_, bytes)| bytes).sum();
    let lines = folders.iter().map(|(path, bytes)| format!("  {}  {}\n", path.display(), told_bytes(*bytes as f64)));
    show::print(&lines.collect::<String>())?;
    let size = told_bytes(all as f64);
    if folders.is_empty() {
        show::tell("nothing was put away\n");
    } else if args.yes {
        clean::remove(queue, &folders, around)?;
        show::tell(&format!("{size} deleted for good\n"));
    } else {
        show::tell(&format!("{size}. Nothing was changed; run it again with --yes to delete them for good\n"));
    }
    Ok(Exit::Well)
}
