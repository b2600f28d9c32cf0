//! Frames that are rendered only to be measured: under names of their own, and thrown away.

use crate::plan::{Plan, Series};
use crate::template::Pattern;

/// What the series of a trial is called: that of the plan, and a mark.
const MEASURED: &str = "~measured";

/// The series of the plan that a name in a journal is of, also where it was rendered only to be measured.
#[must_use]
pub fn plain(name: &str) -> &str {
    name.strip_suffix(MEASURED).unwrap_or(name)
}

/// The same plan without its movies, with all files in folders of their own.
#[must_use]
pub fn plan(plan: &Plan) -> Plan {
    let series = (0..plan.series.len()).map(|at| series(plan, at)).collect();
    Plan { series, movies: Vec::new(), ..plan.clone() }
}

/// One series as a trial has it.
#[must_use]
pub fn series(plan: &Plan, at: usize) -> Series {
    let own = &plan.series[at];
    let root = own.root.map(|root| &plan.roots[root]);
    let (path, name) = root.map_or((plan.home.folder.clone(), plan.home.folder.clone()), |root| {
        (root.path.clone().unwrap_or_default(), format!("{{{}}}", root.name))
    });
    let folder = format!("/.truepath/measured/{}-{}/{at}/", plan.home.sheet, plan.home.mark);
    let mut pattern = Pattern::default();
    pattern.push_text(&format!("{path}{folder}"));
    let (_, file) = own.pattern.split_folder();
    let place = format!("{name}{folder}{}", file.spelt());
    pattern.extend(&file);
    Series { id: format!("{}{MEASURED}", own.id), pattern, place, ..own.clone() }
}

/// The folders of a trial: nothing else is in them.
#[must_use]
pub fn folders(trial: &Plan) -> Vec<String> {
    let of = |own: &Series| own.pattern.folder()?.fixed()?.rsplit_once('/').map(|(folder, _)| folder.to_owned());
    let mut all: Vec<String> = trial.series.iter().filter_map(of).collect();
    all.sort();
    all.dedup();
    all
}
