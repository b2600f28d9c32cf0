//! Plans beside the one that was asked for.

use std::sync::Arc;

use crate::diagnostic::Findings;
use crate::resolve::{self, Job};
use crate::scene::Facts;
use crate::sheet::Settings;

use super::{Plan, PlanInput, Selection, plan};

/// Plans of all modes that have names of their own, and of no mode, but for those that are called themselves.
#[must_use]
pub fn others(
    ground: PlanInput<'_>,
    facts: &dyn Fn(&str) -> Option<Arc<Facts>>,
    (jobs, called): (&[Arc<Job>], &[String]),
    typed: &Settings,
) -> Vec<Plan> {
    let called: Vec<String> = called.iter().filter(|name| !ground.sheet.is_final(name)).cloned().collect();
    let mut plans = rivals(PlanInput { modes: &called, ..ground }, facts, (jobs, &called), typed);
    // The first is that of those that are called.
    plans.remove(0);
    plans
}

/// Plans whose names must not be met: all enabled jobs without a mode, and with each mode alone. A mode that means the
/// final names shares them with no mode at all.
#[must_use]
pub fn rivals(
    ground: PlanInput<'_>,
    facts: &dyn Fn(&str) -> Option<Arc<Facts>>,
    (jobs, called): (&[Arc<Job>], &[String]),
    typed: &Settings,
) -> Vec<Plan> {
    let is_final = |name: &String| ground.sheet.is_final(name);
    let all = Selection::default();
    let own = plan(ground, jobs, &all);
    if called.iter().any(is_final) {
        return vec![own];
    }
    let none: Vec<String> = Vec::new();
    let alone =
        ground.sheet.modes.iter().map(|mode| vec![mode.name.value.clone()]).filter(|modes| !modes.iter().any(is_final));
    let mut plans = vec![own];
    for modes in std::iter::once(none).chain(alone).filter(|modes| modes != called) {
        // What is wrong with a mode is said when it is called, or by the check of the sheet itself.
        let mut quiet = Findings::default();
        let stacked = resolve::stack(ground.sheet, &modes, typed, &mut quiet);
        let jobs = resolve::resolve(ground.sheet, &stacked, facts, ground.home, &mut quiet);
        plans.push(plan(PlanInput { modes: &modes, ..ground }, &jobs, &all));
    }
    plans
}
