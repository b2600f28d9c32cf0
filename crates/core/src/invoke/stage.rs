//! Stage folders: where programs write before anything bears its final name.

use crate::plan::{Call, Plan, Series, next_to_each_other};
use crate::template::slug;

/// The folder below a root in which a sheet's stage folders stand: `<root>/.truepath/stage/<sheet>-<mark>`, so that a rename
/// suffices to land, and sheets of one name on one root keep apart.
#[must_use]
pub fn stage_base(plan: &Plan, root: &str) -> String {
    format!("{root}/.truepath/stage/{}-{}", plan.home.sheet, plan.home.mark)
}

/// The stage folder of a series of a call. Files of one name in different folders are kept apart by pass.
#[must_use]
pub fn stage_folder(plan: &Plan, call: &Call, series: &Series) -> String {
    let root = series.root.and_then(|root| plan.roots[root].path.as_deref()).unwrap_or(&plan.home.folder);
    let stage = format!("{}/{}", stage_base(plan, root), call.marked());
    if call.is_movie(plan) || next_to_each_other(plan, &call.series) {
        return stage;
    }
    format!("{stage}/{}", slug(&plan.jobs[series.job].passes[series.passes[0]].label))
}
