//! The project library as a command line uses it: what was typed becomes a request, long work is counted on the terminal, and
//! what a person has to hear about trust is said.

use std::sync::atomic::{AtomicBool, Ordering};

use truepath_core::verify::Verdict;
use truepath_exec::failure::Failure;
use truepath_exec::observe::Look;
use truepath_project::{Request, Untrusted, open};

pub use truepath_project::open::{LoadOptions, Loaded, Queue, adapters, load, programs, quoted, trust};

use crate::args::Common;
use crate::lower::Around;
use crate::show;
use crate::show::told::Told;

/// Whether it was said already what is not trusted: some commands open their sheet again and again.
static TOLD: AtomicBool = AtomicBool::new(false);

/// Opens the sheets that a command line means. A mistake in what was typed ends the command before anything is shown.
pub fn load(common: &Common, around: &Around, way: LoadOptions<'_>) -> Result<Queue, Failure> {
    let queue = lenient(common, around, way)?;
    mistyped(&queue, common, around).map_or(Ok(queue), Err)
}

/// What is wrong with a command line that a queue was opened with.
pub fn mistyped(queue: &Queue, common: &Common, around: &Around) -> Option<Failure> {
    show::mistyped::failure(queue, (&around.folder, around.err), common.json)
}

/// The same for a command line that is not typed to its end: mistakes in it are findings among others.
pub fn lenient(common: &Common, around: &Around, way: LoadOptions<'_>) -> Result<Queue, Failure> {
    let queue = open(&request(common), around, way, &Told::new(around))?;
    for untrusted in &queue.untrusted {
        tell(untrusted, around);
    }
    Ok(queue)
}

/// The verdicts on all that a sheet's plan writes, movies last.
pub fn verdicts(queue: &Queue, at: usize, look: Look, around: &Around) -> Result<Vec<Verdict>, Failure> {
    queue.verdicts(at, look, &Told::new(around))
}

/// Finds out what all frames of a sheet would be made of now.
pub fn look_up_made(loaded: &mut Loaded, around: &Around) {
    loaded.look_up_made(around, &Told::new(around));
}

/// What the options of a command line ask for.
pub fn request(common: &Common) -> Request {
    let frames = common.frames.iter().map(|frames| ("--frames".to_owned(), format!("frames={}", quoted(frames))));
    let scale = common.scale.iter().map(|scale| ("--scale".to_owned(), format!("scale={scale}")));
    let named = |pair: &String| (format!("--set {}", pair.split('=').next().unwrap_or(pair)), pair.clone());
    Request {
        sheets: common.sheet.clone(),
        jobs: common.jobs.clone(),
        modes: common.mode.clone(),
        cameras: common.camera.clone(),
        passes: common.pass.clone(),
        settings: frames.chain(scale).chain(common.set.iter().map(named)).chain(common.given.iter().cloned()).collect(),
    }
}

/// Says, once, what is not asked anything before its folder is trusted.
fn tell(untrusted: &Untrusted, around: &Around) {
    if TOLD.swap(true, Ordering::Relaxed) {
        return;
    }
    if let Some((path, owner)) = &untrusted.stranger {
        show::tell(&format!("{} belongs to {owner}\n", path.display()));
    }
    if !untrusted.adapters.is_empty() {
        let folder = match untrusted.folder == around.folder {
            true => String::new(),
            false => format!(" {}", load::short(&untrusted.folder, &around.folder)),
        };
        show::tell(&format!(
            "not trusted yet: {}. It came with this folder, so True Path does not start it to ask for facts and \
             versions.\n  Read its adapter, then run: truepath trust{folder}\n",
            untrusted.adapters.join(", "),
        ));
    }
}
