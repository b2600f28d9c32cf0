//! What comes before the first frame: prerequisites, and exports of scenes. What goes wrong concerns the jobs that need it,
//! and no other.
//!
//! A product lies in a folder that is named by all that it was made from, and nothing there is ever replaced: all that
//! read it read one and the same file. It is written in a folder of the run's own, looked at, and gets its name in one step.
//! Members of a shared run claim an export as they claim calls.

mod made;
mod needs;
mod product;

use std::collections::BTreeMap;
use std::time::Instant;

use truepath_core::invoke::command_line::{CommandLine, PART, Product};
use truepath_core::plan::{Call, marked};
use truepath_core::resolve::paths;

use crate::Project;
use crate::failure::Failure;
use crate::landing::stage;
use crate::process::Programs;
use crate::share::{Agreed, ClaimWish, Claims, EXPORTS, Member, Times};
use crate::state::StateFolder;
use crate::state::journal::Journal;

pub use needs::needs;

/// Jobs that cannot be rendered, by their place in the plan, and why.
pub type Blocked = BTreeMap<usize, Failure>;

/// What was exported.
#[derive(Debug, Default)]
pub struct Exported {
    /// The digest of the product that a job's calls read, by its place in the plan.
    pub digests: BTreeMap<usize, String>,
    /// Jobs whose scenes could not be exported.
    pub blocked: Blocked,
}

/// What exporting needs.
#[derive(Clone, Copy)]
pub struct Making<'m> {
    /// The plan with all that running it needs to know.
    pub project: Project<'m>,
    /// Where events are written down.
    pub journal: &'m Journal,
    /// What can start programs.
    pub programs: &'m dyn Programs,
    /// The name that a product's folder has for what it would be made from now; by the place of the export.
    pub named: &'m (dyn Fn(usize) -> String + Sync),
    /// Who makes it, where members share the work.
    pub member: Option<(&'m Member, Times)>,
    /// Hears in words what happens.
    pub told: &'m (dyn Fn(&str) + Sync),
}

/// How one export stands.
enum ExportState {
    /// Its product is there; its digest.
    There(String),
    /// It cannot be made.
    Failed(Failure),
    /// Somebody else makes it.
    Waits,
}

/// Makes the products that some calls need and that are not there.
///
/// # Errors
/// When the journal or the claims cannot be written.
pub fn make(making: Making<'_>, calls: &[Call]) -> Result<Exported, Failure> {
    let lines = making.project.command_lines;
    let steps = lines.exports(calls, making.journal.tag());
    let (mut ended, mut left) = (Vec::new(), Vec::new());
    for step in &steps {
        let Some(product) = &step.product else { continue };
        match product::digest(product) {
            Some(digest) => ended.push((step, ExportState::There(digest))),
            None => left.push((step, product)),
        }
    }
    if !left.is_empty() {
        match making.member {
            None => {
                for (step, product) in left {
                    ended.push((step, made::made(&making, step, product)?));
                }
            }
            Some((member, times)) => ended.extend(shared(&making, left, (member, times))?),
        }
        // What stays is cleared by the next run.
        let _ = stage::clear(&making.project.state.exports().join(marked(PART, making.journal.tag())));
    }
    let mut exported = Exported::default();
    for (step, how) in ended {
        let jobs = calls.iter().map(|call| call.job).filter(|job| lines.export_of(*job) == Some(&step.id));
        match how {
            ExportState::There(digest) => exported.digests.extend(jobs.map(|job| (job, digest.clone()))),
            ExportState::Failed(failure) => exported.blocked.extend(jobs.map(|job| (job, failure.clone()))),
            ExportState::Waits => {}
        }
    }
    Ok(exported)
}

/// Makes products together with others: one member claims it, and the others wait.
fn shared<'s>(
    making: &Making<'_>,
    mut left: Vec<(&'s CommandLine, &'s Product)>,
    (member, times): (&Member, Times),
) -> Result<Vec<(&'s CommandLine, ExportState)>, Failure> {
    let claims = Claims::join(making.project.state, Agreed { name: EXPORTS, meant: None }, member, times, false)?;
    let mut ended = Vec::new();
    std::thread::scope(|scope| {
        scope.spawn(|| claims.live());
        let mut turn = || {
            let (mut unseen, mut told) = (Instant::now(), false);
            while !left.is_empty() {
                claims.look()?;
                let mut waiting = Vec::new();
                for (step, product) in left.drain(..) {
                    match claimed(making, (step, product), &claims, unseen.elapsed() >= times.takeover)? {
                        ExportState::Waits => waiting.push((step, product)),
                        how => {
                            ended.push((step, how));
                            unseen = Instant::now();
                        }
                    }
                }
                left = waiting;
                if let Some((step, _)) = left.first() {
                    if !told {
                        (making.told)(&format!("waiting for {}, which another member makes", step.id));
                    }
                    told = true;
                    std::thread::sleep(claims.patience());
                }
            }
            Ok(())
        };
        let turned: Result<(), Failure> = turn();
        claims.leave();
        turned
    })?;
    Ok(ended)
}

/// Claims one export and makes it. If its claim says that it is over and its product does not appear (`is_due`), it is made
/// again; the first of two equal products is kept.
fn claimed(
    making: &Making<'_>,
    (step, product): (&CommandLine, &Product),
    claims: &Claims,
    is_due: bool,
) -> Result<ExportState, Failure> {
    if let Some(digest) = product::digest(product) {
        return Ok(ExportState::There(digest));
    }
    let call = paths::file_name(paths::parent(&product.path));
    match claims.wish(call, &Vec::new(), true)? {
        ClaimWish::Granted { .. } => {
            let made = made::made(making, step, product)?;
            // Another member may have what this one lacks: a claim that came to nothing is free once this one leaves.
            if matches!(made, ExportState::There(_)) {
                claims.done(call, "")?;
            }
            Ok(made)
        }
        ClaimWish::Over if is_due => made::made(making, step, product),
        ClaimWish::Held | ClaimWish::Over => Ok(ExportState::Waits),
    }
}

/// Removes what runs that have ended for certain left half exported. `mine` tells by its tag whether one has.
///
/// # Errors
/// When it cannot be removed.
pub fn clear(state: &StateFolder, mine: &dyn Fn(&str) -> bool) -> Result<(), Failure> {
    for entry in std::fs::read_dir(state.exports()).into_iter().flatten().filter_map(Result::ok) {
        let name = entry.file_name().to_string_lossy().into_owned();
        if name.strip_prefix(PART).and_then(|rest| rest.strip_prefix('~')).is_some_and(mine) {
            stage::clear(&entry.path())?;
        }
    }
    Ok(())
}
