//! Prerequisites that a program can be asked about, before the first frame.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::time::Duration;

use truepath_core::adapter::Adapter;
use truepath_core::plan::{Adapters, Call, Plan};
use truepath_core::sheet::Key;

use super::Blocked;
use crate::failure::{Cause, Failure};
use crate::record::answer;

/// How long a command that an adapter needs may take.
const PATIENCE: Duration = Duration::from_secs(60);

/// Runs the commands that the adapters of some calls need to end with 0. `own` is this program.
#[must_use]
pub fn needs(plan: &Plan, adapters: &Adapters, calls: &[Call], own: &Path) -> Blocked {
    let jobs: BTreeSet<usize> = calls.iter().map(|call| call.job).collect();
    let mut answers: BTreeMap<&str, Option<Failure>> = BTreeMap::new();
    let mut blocked = Blocked::new();
    for job in jobs {
        let settings = &plan.jobs[job].given;
        let names = [settings.text(&Key::Adapter), settings.text(&Key::Export)];
        for name in names.into_iter().flatten() {
            let Some(adapter) = adapters.get(name) else { continue };
            let answer = answers.entry(name).or_insert_with(|| unmet(adapter, &plan.home.folder, own));
            if let Some(failure) = answer {
                blocked.entry(job).or_insert_with(|| failure.clone());
            }
        }
    }
    blocked
}

/// Why a need of an adapter is not met.
fn unmet(adapter: &Adapter, folder: &str, own: &Path) -> Option<Failure> {
    adapter.needs.run.iter().find_map(|words| {
        let (program, arguments) = words.split_first()?;
        let program = if program == "truepath" { own.as_os_str() } else { program.as_ref() };
        let said = answer::ask(Path::new(program), arguments, Path::new(folder), (PATIENCE, true));
        let why = match said {
            Ok(said) if said.code == Some(0) => return None,
            Ok(said) => said.code.map_or("a signal ended it".to_owned(), |code| format!("it ended with {code}")),
            Err(why) => why.to_string(),
        };
        let message =
            format!("{} needs the command `{}` to succeed, and it failed: {why}", adapter.name, words.join(" "));
        let help = "the adapter requires it under [needs]; no job that uses it was started";
        Some(Failure::new(Cause::Machine, message).help(help))
    })
}
