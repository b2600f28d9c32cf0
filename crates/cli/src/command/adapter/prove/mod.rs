//! `adapter prove`: two tiny frames for everything that an adapter claims, in scratch, by the same way as any other job:
//! a sheet for each claim, run and looked at. Nothing of it touches a project.

mod claims;
mod encoder;
mod tried;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde_json::{Value, json};
use truepath_core::adapter::{Adapter, AdapterKind, Program, is_accepted};
use truepath_core::sheet::Key;
use truepath_exec::failure::Failure;
use truepath_exec::guard::Scratch;
use truepath_exec::record;
use truepath_understudy::harbour;

use super::KnownAdapters;
use crate::args::AdapterProve;
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::load;
use crate::pipeline::programs::program as find;
use crate::pipeline::trust::Brought;
use crate::show::{self, BAD, GOOD, state};
use claims::{claims, sheet};
use tried::{alike, ended_under_way, picture, pictures, tried, unheard};

/// A frame that every claim of passes has.
const SHOWN: &str = "0009";

/// What became of a claim: nothing, or why it failed.
type ClaimVerdict = (String, Option<String>);

/// Tries every claim and prints what held.
pub fn run(args: &AdapterProve, shelf: &KnownAdapters, around: &Around) -> Result<Exit, Failure> {
    let adapter = shelf.get(&args.of)?;
    Brought::of(&shelf.folder, None, around).started()?;
    let folder = around.temporary.last().cloned().unwrap_or_else(std::env::temp_dir);
    let made = Scratch::within(&folder).and_then(|made| std::fs::create_dir(made.file("adapters")).map(|()| made));
    let scratch = made.map_err(|error| Failure::machine("make a folder in", &folder, &error))?;
    let known = BTreeMap::new();
    let places = around.places(&shelf.folder, &known);
    find(adapter, &places).map_err(|name| Failure::unreadable(format!("the program {name} is not on this machine")))?;
    let verdicts = match adapter.kind {
        AdapterKind::Renderer => renderer(args, (adapter, shelf), scratch.path(), around)?,
        AdapterKind::Encoder => encoder::encoder((adapter, &shelf.folder), scratch.path(), around)?,
        AdapterKind::Exporter => exporter(args, (adapter, shelf), scratch.path(), around)?,
    };
    // The runs in scratch have trusted it; it is about to be gone.
    Brought::of(scratch.path(), None, around).forget();
    let held = verdicts.iter().filter(|(_, why)| why.is_none()).count();
    if args.of.json {
        let claims: Vec<Value> =
            verdicts.iter().map(|(name, why)| json!({ "claim": name, "held": why.is_none(), "why": why })).collect();
        show::print_exact(&show::json::text(&json!({ "truepath": 1, "adapter": adapter.name, "claims": claims })))?;
    } else {
        show::print(&table(&adapter.name, &verdicts, around))?;
    }
    Ok(if held == verdicts.len() { Exit::Well } else { Exit::No })
}

fn table(name: &str, verdicts: &[ClaimVerdict], around: &Around) -> String {
    let rows = grouped(verdicts);
    let widest = rows.iter().map(|(name, _)| name.chars().count()).max().unwrap_or(0);
    let mut out = String::new();
    for (claim, why) in &rows {
        let verdict = match why {
            None => state(around.out, GOOD, "held"),
            Some(why) => format!("{}  {why}", state(around.out, BAD, "failed")),
        };
        out.push_str(&format!("{claim:widest$}  {verdict}\n"));
    }
    let held = verdicts.iter().filter(|(_, why)| why.is_none()).count();
    let all = verdicts.len();
    out.push_str(&if held == all {
        format!("\n{name} does what it claims: {held} of {all}\n")
    } else {
        format!("\n{name} does not do what it claims: {} of {all} failed\n", all - held)
    });
    out
}

/// Characters of a row that groups claims at most.
const WIDEST: usize = 56;

/// What held of one file type in one row: what did not is read more easily then.
fn grouped(verdicts: &[ClaimVerdict]) -> Vec<ClaimVerdict> {
    let mut rows: Vec<ClaimVerdict> = Vec::new();
    let is_type = |word: &str| truepath_core::catalogue::by_name(word).is_some();
    for (claim, why) in verdicts {
        let (head, rest) = claim.split_once(' ').unwrap_or((claim, ""));
        let same = |(name, held): &&mut ClaimVerdict| {
            held.is_none() && name.split(' ').next() == Some(head) && name.len() + rest.len() < WIDEST
        };
        match rows.last_mut().filter(same).filter(|_| why.is_none() && is_type(head) && !rest.is_empty()) {
            Some((name, _)) => name.push_str(&format!(", {rest}")),
            None => rows.push((claim.clone(), why.clone())),
        }
    }
    rows
}

/// Every claim of a renderer.
fn renderer(
    args: &AdapterProve,
    (adapter, shelf): (&Adapter, &KnownAdapters),
    scratch: &Path,
    around: &Around,
) -> Result<Vec<ClaimVerdict>, Failure> {
    let failed = |path: &Path, error: &std::io::Error| Failure::machine("write", path, error);
    let scene = scene(args, adapter, scratch)?;
    put_adapters(shelf, scratch)?;
    let cameras = load::facts(&scene).ok().and_then(|read| read.facts.cameras).unwrap_or_default();
    let (mut verdicts, mut alone, mut last, mut whole) = (Vec::new(), None, None, None);
    for claim in claims(args, adapter, &scene, &cameras) {
        let sheet = scratch.join("truepath.toml");
        std::fs::write(&sheet, &claim.sheet).map_err(|error| failed(&sheet, &error))?;
        let _ = std::fs::remove_dir_all(scratch.join("out"));
        let why = tried(scratch, around)?;
        let out = scratch.join("out");
        let why = why.or_else(|| if claim.differ { alike(&out) } else { None });
        // Rendered alone, the first pass shows what it has to show beside another.
        if claim.name.starts_with("frame") && why.is_none() {
            alone = alone.or(picture(&out, "", SHOWN));
            last = last.or(picture(&out, "", "0011"));
            whole = whole.or_else(|| Some((claim.sheet.clone(), pictures(&out))));
        }
        let why = why.or_else(|| {
            let own = picture(&out, "", claim.alone?);
            let differs = own.is_some() && last.is_some() && own != last;
            differs.then(|| "it shows a different picture than in a call with other frames".to_owned())
        });
        let swapped = || {
            let (first, second) = (picture(&out, "beauty", SHOWN), picture(&out, "depth", SHOWN));
            let is = claim.name.starts_with("passes") && alone.is_some() && second == alone && first != alone;
            is.then(|| "the file of depth shows the picture of beauty".to_owned())
        };
        let why = why.or_else(swapped);
        verdicts.push((claim.name, why));
    }
    if let Some((text, pictures)) = whole {
        let sheet = scratch.join("truepath.toml");
        std::fs::write(&sheet, text).map_err(|error| failed(&sheet, &error))?;
        let _ = std::fs::remove_dir_all(scratch.join("out"));
        let why = ended_under_way(scratch, &pictures, around)?;
        verdicts.push(("ended under way, nothing unfinished lands".to_owned(), why));
    }
    if !adapter.version.is_empty() {
        let why = prints_no_version(adapter, scratch, around);
        verdicts.push(("prints its version".to_owned(), why));
    }
    if adapter.log.wrote.is_some() || adapter.log.progress.is_some() || adapter.log.finished.is_some() {
        let unheard = unheard(adapter, scratch);
        let why = (!unheard.is_empty()).then(|| format!("no line of any log matches {}", unheard.join(", ")));
        verdicts.push(("[log] matches what it prints".to_owned(), why));
    }
    Ok(verdicts)
}

/// What is wrong with what a program says of its version.
fn prints_no_version(adapter: &Adapter, scratch: &Path, around: &Around) -> Option<String> {
    let program = find(adapter, &around.places(scratch, &BTreeMap::new())).ok();
    let asked = Adapter { unasked: false, ..adapter.clone() };
    let version = program.and_then(|program| record::version(&asked, &program, (scratch, scratch)));
    let asked = adapter.version.join(" ");
    match version {
        None => Some(format!("{asked} prints nothing")),
        Some(said) if !said.contains(|sign: char| sign.is_ascii_digit()) => {
            Some(format!("{asked} prints no number: {said}"))
        }
        Some(_) => None,
    }
}

/// The scene to render: the one named, or our own where the adapter reads that format.
fn scene(args: &AdapterProve, adapter: &Adapter, scratch: &Path) -> Result<PathBuf, Failure> {
    if let Some(scene) = &args.scene {
        return dunce::canonicalize(scene)
            .map_err(|error| Failure::unreadable(format!("cannot read {}: {error}", scene.display())));
    }
    if !adapter.carries(&Key::Scene) && adapter.kind == AdapterKind::Renderer {
        return Ok(scratch.join("no scene"));
    }
    if !is_accepted(&adapter.accepts.scenes, "gltf") {
        return Err(Failure::unreadable(format!("{} reads {}", adapter.name, adapter.accepts.scenes.join(", ")))
            .help("give a scene: --scene FILE"));
    }
    for (name, bytes) in harbour::scenes() {
        let path = scratch.join("scenes").join(name);
        let made = path.parent().map_or(Ok(()), std::fs::create_dir_all).and_then(|()| std::fs::write(&path, bytes));
        made.map_err(|error| Failure::machine("write", &path, &error))?;
    }
    Ok(scratch.join("scenes/crossing.gltf"))
}

/// All adapters that can be named here, with what their programs need of the sheet's folder: an exporter may come first.
fn put_adapters(shelf: &KnownAdapters, scratch: &Path) -> Result<(), Failure> {
    // A variant is a part of its adapter's file.
    for (name, adapter) in shelf.adapters.iter().filter(|(name, _)| !name.contains('@')) {
        let path = scratch.join(format!("adapters/{name}.toml"));
        let text = &shelf.sources.get(adapter.file).text;
        std::fs::write(&path, text).map_err(|error| Failure::machine("write", &path, &error))?;
        link_program(adapter, &shelf.folder, scratch);
    }
    Ok(())
}

/// A program relative to the sheet's folder is found from scratch, too.
fn link_program(adapter: &Adapter, folder: &Path, scratch: &Path) {
    let names: Vec<&String> = match &adapter.program {
        Program::Same(name) => vec![name],
        Program::BySystem(names) => names.iter().map(|(_, name)| name).collect(),
    };
    for name in names.into_iter().filter(|name| name.contains('/') && !name.starts_with('/')) {
        let top = name.trim_start_matches("./").split('/').next().unwrap_or(name);
        // Without the link the program is not found, and the first claim says so.
        #[cfg(unix)]
        let _ = std::os::unix::fs::symlink(folder.join(top), scratch.join(top));
        #[cfg(windows)]
        let _ = std::os::windows::fs::symlink_dir(folder.join(top), scratch.join(top));
    }
}

/// An exporter is proved by the file it makes of a scene.
fn exporter(
    args: &AdapterProve,
    (adapter, shelf): (&Adapter, &KnownAdapters),
    scratch: &Path,
    around: &Around,
) -> Result<Vec<ClaimVerdict>, Failure> {
    let scene = scene(args, adapter, scratch)?;
    put_adapters(shelf, scratch)?;
    let renderer = adapter_for_export(args);
    let sheet = sheet(args, &renderer, &scene, ("type = \"png\"\n", "frames = \"1-2\"")).replace(
        &format!("adapter = \"{0}\"", args.of.name),
        &format!("adapter = \"understudy\"\nexport = \"{0}\"", args.of.name),
    );
    let path = scratch.join("truepath.toml");
    std::fs::write(&path, sheet).map_err(|error| Failure::machine("write", &path, &error))?;
    // What is rendered of the product is another adapter's claim.
    let why = tried(scratch, around)?.filter(|why| why.contains("the export of"));
    let made = adapter.writes.first().map_or("a file".to_owned(), |template| template.value.to_string());
    Ok(vec![(format!("makes {made}"), why)])
}

/// The claims of an adapter that is only there to receive an export.
fn adapter_for_export(args: &AdapterProve) -> Adapter {
    Adapter { name: args.of.name.clone(), ..Adapter::default() }
}
