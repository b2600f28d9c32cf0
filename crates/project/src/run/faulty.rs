//! Jobs with mistakes, told apart from those without.

use std::collections::BTreeSet;

use crate::open::Queue;

/// The jobs that have errors and those that have none, by name; `None` where there are no errors, or some of no job.
#[must_use]
pub fn faulty(queue: &Queue) -> Option<(BTreeSet<String>, BTreeSet<String>)> {
    let mut faulty: BTreeSet<String> = BTreeSet::new();
    for sheet in &queue.sheets {
        faulty.extend(sheet.findings.faulty()?.into_iter().map(str::to_owned));
    }
    let all = queue.sheets.iter().flat_map(|sheet| &sheet.plan.jobs).map(|job| job.name.clone());
    let others = all.filter(|name| !faulty.contains(name)).collect();
    (!faulty.is_empty()).then_some((faulty, others))
}
