//! `clean`: room for the next render. It lists what it would take away, moves that away with `--yes`, and brings it back with
//! `--undo`. Only planned names are touched, and never what another plan or a scene needs.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use serde_json::json;
use truepath_core::check::bytes as told_bytes;
use truepath_core::frames::Frames;
use truepath_core::plan::{Plan, Series};
use truepath_core::resolve::paths;
use truepath_core::verify::State;
use truepath_exec::disk;
use truepath_exec::failure::Failure;
use truepath_exec::guard::{NamedPlace, OWN};
use truepath_exec::landing::away::{BroughtBack, bring_back, put_away, removed};
use truepath_exec::landing::moving::Mover;
use truepath_exec::landing::recover;
use truepath_exec::observe::Look;

use crate::args::{CleanArgs, Common};
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, LoadOptions, Queue};
use crate::show::{self, counted, verdicts};
use truepath_project::alone::{Alone, alone};

/// Files of one series that are to go.
struct GoingFiles {
    /// The sheet, among those of the call.
    sheet: usize,
    /// Its plan: of a mode or a version of its own.
    plan: usize,
    series: usize,
    /// Frame and bytes.
    files: Vec<(i64, u64)>,
    why: String,
}

/// Whole folders that are to go: stage folders and checkpoints of runs that are over.
struct Folder {
    sheet: usize,
    path: PathBuf,
    bytes: u64,
}

/// Everything that is to go.
#[derive(Default)]
struct List {
    /// Plans that names belong to, each with its sheet.
    queues: Vec<Queue>,
    going: Vec<GoingFiles>,
    folders: Vec<Folder>,
    /// Files that stay, and why.
    kept: Vec<String>,
}

/// Lists or moves what is to go, or brings back what went last.
pub fn run(args: &CleanArgs, around: &Around) -> Result<Exit, Failure> {
    let finals = Common { mode: Vec::new(), ..args.common.clone() };
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
    if args.common.mode.is_empty() && args.keep.is_none() && !args.left_over && !args.stage {
        let help = "give --mode NAME (files of a mode), --keep N (old versions), --left-over or --stage";
        return Err(Failure::unreadable("clean needs to know what to put away").help(help));
    }
    // The final names, and those of every mode: nothing of theirs is taken for something else's.
    let guard = pipeline::load(&finals, around, LoadOptions::default())?;
    let is_mode = args.keep.is_none() && !args.left_over && !args.stage;
    let mut list = List { queues: vec![queue], ..List::default() };
    if args.left_over {
        left_over(&mut list, around)?;
    }
    if args.stage {
        stages(&mut list);
    }
    if let Some(keep) = args.keep {
        old_versions(args, (&guard, keep), &mut list, around)?;
    }
    if is_mode {
        planned(&mut list, 0, &guard, around)?;
    }
    tell_or_do(args, &list, around)
}

/// Whether a path is none of this plan's to take: another plan names it, or a scene needs it.
fn belongs_elsewhere(path: &str, guard: &Queue, needed: &BTreeSet<String>, own: &Plan) -> Option<String> {
    for sheet in &guard.sheets {
        let others =
            sheet.rivals.iter().chain([&sheet.plan]).filter(|plan| plan.mode != own.mode || own.mode.is_none());
        if let Some(other) = others.into_iter().find(|plan| plan.is_named(path)) {
            let of = other.mode.as_ref().map_or("the finals".to_owned(), |mode| format!("mode {mode}"));
            return Some(format!("it also belongs to {of}"));
        }
    }
    needed.contains(path).then(|| "a scene needs it".to_owned())
}

/// What the work is made of, of all jobs: also of those that are not asked for.
fn inputs(queue: &Queue) -> BTreeSet<String> {
    let all = queue.sheets.iter().flat_map(|sheet| sheet.needs());
    all.map(|(path, _)| paths::tidy(&paths::from_system(&path))).collect()
}

/// Files of a series with their sizes; those that are another's are left.
fn sized(
    (plan, series): (&Plan, &Series),
    frames: impl Iterator<Item = i64>,
    other: &dyn Fn(&str) -> Option<String>,
    kept: &mut Vec<String>,
) -> Vec<(i64, u64)> {
    let mut files = Vec::new();
    for frame in frames {
        let path = series.name(frame);
        let Ok(about) = std::fs::symlink_metadata(&path) else { continue };
        match other(&path) {
            Some(why) => kept.push(format!("{}: {why}", verdicts::relative(plan, &path))),
            None if about.is_file() => files.push((frame, about.len())),
            None => {}
        }
    }
    files
}

/// All files of the plans of a queue that are there and whose state can be told. `at` is the queue's place in the list.
fn planned(list: &mut List, at: usize, guard: &Queue, around: &Around) -> Result<(), Failure> {
    let needed = inputs(guard);
    let mut going = Vec::new();
    for sheet in 0..list.queues[at].sheets.len() {
        let judged = pipeline::verdicts(&list.queues[at], sheet, Look::Heads, around)?;
        let plan = &list.queues[at].sheets[sheet].plan;
        let why = plan.mode.as_ref().map_or("of an older version".to_owned(), |mode| format!("of mode {mode}"));
        for verdict in judged {
            let there = verdict.planned.minus(&verdict.in_any(&[State::Missing, State::Unreadable]));
            let series = plan.output(verdict.series);
            let other = |path: &str| belongs_elsewhere(path, guard, &needed, plan);
            let files = sized((plan, series), there.iter(), &other, &mut list.kept);
            going.push(GoingFiles { sheet, plan: at, series: verdict.series, files, why: why.clone() });
        }
    }
    list.going.extend(going);
    Ok(())
}

/// Frames on disk outside the planned range.
fn left_over(list: &mut List, around: &Around) -> Result<(), Failure> {
    let queue = &list.queues[0];
    let needed = inputs(queue);
    for at in 0..queue.sheets.len() {
        let plan = &queue.sheets[at].plan;
        for verdict in pipeline::verdicts(queue, at, Look::Heads, around)? {
            let series = plan.output(verdict.series);
            let frame = |path: &String| series.shift.frame(series.pattern.read(path)?);
            let frames: Vec<i64> = verdict.stray.iter().filter_map(frame).collect();
            let other = |path: &str| needed.contains(path).then(|| "a scene needs it".to_owned());
            let files = sized((plan, series), frames.into_iter(), &other, &mut list.kept);
            list.going.push(GoingFiles {
                sheet: at,
                plan: 0,
                series: verdict.series,
                files,
                why: "left over".to_owned(),
            });
        }
    }
    Ok(())
}

/// Stage folders and checkpoints of finished runs.
fn stages(list: &mut List) {
    for (at, sheet) in list.queues[0].sheets.iter().enumerate() {
        let sessions = &sheet.ground.history.sessions;
        let runs = sessions.iter().any(|session| session.outcome.is_none() && !recover::is_over(&session.began));
        let over = |tag: &str| {
            let session = sessions.iter().find(|session| session.began.tag == tag);
            session.is_some_and(|session| session.outcome.is_some() || recover::is_over(&session.began))
        };
        // Which run a checkpoint is of is not written on it.
        let checkpoints = std::fs::read_dir(sheet.state.checkpoints("")).into_iter().flatten().filter_map(Result::ok);
        let checkpoints = checkpoints.map(|entry| entry.path()).filter(|_| !runs);
        for path in recover::left_folders(&sheet.plan, &over).into_iter().chain(checkpoints) {
            let bytes = size_of(&path);
            list.folders.push(Folder { sheet: at, path, bytes });
        }
    }
}

/// Files of versions but the newest so many of each job.
fn old_versions(
    args: &CleanArgs,
    (queue, keep): (&Queue, usize),
    list: &mut List,
    around: &Around,
) -> Result<(), Failure> {
    let mut old: BTreeMap<i64, BTreeSet<String>> = BTreeMap::new();
    for sheet in &queue.sheets {
        for (job, versions) in sheet.versions_there() {
            for version in versions.iter().rev().skip(keep) {
                old.entry(*version).or_default().insert(job.clone());
            }
        }
    }
    for (version, jobs) in old {
        let mut common = Common { jobs: jobs.into_iter().collect(), ..args.common.clone() };
        common.set.push(format!("version={version}"));
        list.queues.push(pipeline::load(&common, around, LoadOptions::default())?);
        let before = list.going.len();
        planned(list, list.queues.len() - 1, queue, around)?;
        list.going[before..].iter_mut().for_each(|going| going.why = format!("of version {version}"));
    }
    Ok(())
}

/// Bytes of a file, or of all files in a folder.
fn size_of(path: &Path) -> u64 {
    match std::fs::symlink_metadata(path) {
        Ok(about) if about.is_dir() => std::fs::read_dir(path)
            .into_iter()
            .flatten()
            .filter_map(Result::ok)
            .map(|entry| size_of(&entry.path()))
            .sum(),
        Ok(about) => about.len(),
        Err(_) => 0,
    }
}

fn tell_or_do(args: &CleanArgs, list: &List, around: &Around) -> Result<Exit, Failure> {
    let going: Vec<&GoingFiles> = list.going.iter().filter(|going| !going.files.is_empty()).collect();
    let files: usize = going.iter().map(|going| going.files.len()).sum();
    let all = going.iter().flat_map(|going| &going.files).map(|(_, bytes)| bytes).sum::<u64>()
        + list.folders.iter().map(|folder| folder.bytes).sum::<u64>();
    let of = |going: &GoingFiles| list.queues[going.plan].sheets[going.sheet].plan.output(going.series);
    if args.common.json {
        let row = |going: &&GoingFiles| {
            let frames: Vec<i64> = going.files.iter().map(|(frame, _)| *frame).collect();
            let bytes: u64 = going.files.iter().map(|(_, bytes)| bytes).sum();
            let series = of(going);
            json!({ "series": series.id, "pattern": series.pattern.typed(), "frames": Frames::from_any(frames), "bytes": bytes, "why": going.why })
        };
        let folders = list
            .folders
            .iter()
            .map(|folder| json!({ "path": folder.path.display().to_string(), "bytes": folder.bytes }));
        let document = json!({
            "truepath": 1, "files": going.iter().map(row).collect::<Vec<_>>(), "folders": folders.collect::<Vec<_>>(),
            "kept": list.kept, "bytes": all, "done": args.yes,
        });
        show::print_exact(&show::json::text(&document))?;
    } else {
        let mut out = String::new();
        for own in &going {
            let frames = Frames::from_any(own.files.iter().map(|(frame, _)| *frame).collect());
            let bytes: u64 = own.files.iter().map(|(_, bytes)| bytes).sum();
            let series = of(own);
            let which =
                if own.files.len() > 1 { format!("  {}", verdicts::cut(&frames.to_string())) } else { String::new() };
            let plan = &list.queues[own.plan].sheets[own.sheet].plan;
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
        for line in &list.kept {
            out.push_str(&format!("  kept  {line}\n"));
        }
        show::print(&out)?;
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
    let left = put_all_away(args, list, around)?;
    for line in &left {
        show::tell(&format!("left  {line}\n"));
    }
    let (undo, free) =
        (super::again("clean --undo", &args.common), super::again("clean --removed --yes", &args.common));
    show::tell(&format!("{what}, {size} put away. Bring them back: {undo}. Delete them for good: {free}\n"));
    Ok(if left.is_empty() { Exit::Well } else { Exit::No })
}

/// Moves everything; what could not be moved, and why.
fn put_all_away(args: &CleanArgs, list: &List, around: &Around) -> Result<Vec<String>, Failure> {
    let mut left = Vec::new();
    for (at, sheet) in list.queues[0].sheets.iter().enumerate() {
        let held = alone(sheet, around)?;
        let named = named_folder(args, &sheet.plan);
        for going in list.going.iter().filter(|going| going.sheet == at) {
            let plan = &list.queues[going.plan].sheets[at].plan;
            let mover = Mover::new(plan, &held.journal, named.as_deref());
            let series = plan.output(going.series);
            for (frame, _) in &going.files {
                let path = series.name(*frame);
                let to = place_for(args, plan, series, (&path, &held))?;
                if let Some(why) = put_away(&mover, (series, *frame), &to)? {
                    left.push(format!("{}: {why}", verdicts::relative(plan, &path)));
                }
            }
        }
        for folder in list.folders.iter().filter(|folder| folder.sheet == at) {
            let name = folder.path.file_name().unwrap_or_default();
            // Beside where it is: what is on another disk is not copied.
            let own = folder.path.ancestors().find(|path| path.ends_with(OWN));
            let Some(root) = own.and_then(Path::parent) else { continue };
            let to = removed(root)?.join(&held.stamp).join("stage").join(name);
            let failed = |error: &std::io::Error| Failure::machine("move", &folder.path, error);
            std::fs::create_dir_all(to.parent().unwrap_or(root)).map_err(|error| failed(&error))?;
            std::fs::rename(&folder.path, &to).map_err(|error| failed(&error))?;
        }
        recover::remove_empty_bases(&sheet.plan);
    }
    Ok(left)
}

/// The folder that was named to move files into.
fn named_folder(args: &CleanArgs, plan: &Plan) -> Option<PathBuf> {
    let to = args.into.as_ref().map(|to| Path::new(&plan.home.folder).join(to))?;
    // As it really leads: it may be typed with `..`.
    Some(NamedPlace::of(&to.join("x")).map_or(to, |place| place.folder))
}

/// Where a file is put: below its root or in the folder that was named, in a folder of this moment, by its own path.
fn place_for(args: &CleanArgs, plan: &Plan, series: &Series, (path, held): (&str, &Alone)) -> Result<PathBuf, Failure> {
    let root = series.root.and_then(|root| plan.roots[root].path.as_deref()).unwrap_or(&plan.home.folder);
    let rest = path.strip_prefix(root).unwrap_or(path).trim_start_matches('/').replace(':', "_");
    let base = match named_folder(args, plan) {
        Some(to) => to,
        None => removed(Path::new(root))?,
    };
    Ok(base.join(&held.stamp).join(rest))
}

/// Brings back what was put away last.
fn undo(args: &CleanArgs, queue: &Queue, around: &Around) -> Result<Exit, Failure> {
    let (mut back, mut left) = (0, Vec::new());
    for sheet in &queue.sheets {
        let held = alone(sheet, around)?;
        let (history, plan) = (&sheet.ground.history, &sheet.plan);
        let named = named_folder(args, plan);
        let mover = Mover::new(plan, &held.journal, named.as_deref());
        let mut last = None;
        for (place, away) in history.all_put_away() {
            // What was put away earlier is brought back by the next call.
            if last.is_some_and(|last| last != away.session) {
                break;
            }
            match bring_back(&mover, (place, away), history)? {
                BroughtBack::Now => back += 1,
                BroughtBack::Before => continue,
                BroughtBack::Not(why) => {
                    left.push(format!("{} frame {}: {why}", away.gone.series, away.gone.frame));
                }
            }
            last = Some(away.session);
        }
    }
    for line in &left {
        show::tell(&format!("left  {line}\n"));
    }
    show::tell(&format!("{} brought back\n", counted(back, "file")));
    Ok(if left.is_empty() { Exit::Well } else { Exit::No })
}

/// Lists what was put away, and frees its room for good with `--yes`.
fn all_removed(args: &CleanArgs, queue: &Queue, around: &Around) -> Result<Exit, Failure> {
    let mut folders: Vec<(PathBuf, u64)> = Vec::new();
    for sheet in &queue.sheets {
        let roots = sheet.plan.roots.iter().filter_map(|root| root.path.as_deref());
        for root in roots.chain([sheet.plan.home.folder.as_str()]).collect::<BTreeSet<&str>>() {
            let days = std::fs::read_dir(removed(Path::new(root))?).into_iter().flatten().filter_map(Result::ok);
            let days = days.map(|entry| entry.path()).filter(|path| disk::no_file(path) == Some("a folder"));
            folders.extend(days.map(|path| (path.clone(), size_of(&path))));
        }
    }
    folders.sort();
    folders.dedup();
    let all: u64 = folders.iter().map(|(_, bytes)| bytes).sum();
    let lines = folders.iter().map(|(path, bytes)| format!("  {}  {}\n", path.display(), told_bytes(*bytes as f64)));
    show::print(&lines.collect::<String>())?;
    let size = told_bytes(all as f64);
    if folders.is_empty() {
        show::tell("nothing was put away\n");
    } else if args.yes {
        let _held = queue.sheets.iter().map(|sheet| alone(sheet, around)).collect::<Result<Vec<_>, Failure>>()?;
        for (path, _) in &folders {
            std::fs::remove_dir_all(path).map_err(|error| Failure::machine("remove", path, &error))?;
        }
        show::tell(&format!("{size} deleted for good\n"));
    } else {
        show::tell(&format!("{size}. Nothing was changed; run it again with --yes to delete them for good\n"));
    }
    Ok(Exit::Well)
}
