//! Command lines to scripts.

pub mod sh;

use crate::frames::Frames;
use crate::plan::{Invocation, Plan, Series, next_to_each_other};
use crate::resolve::paths;
use crate::template::slug;

/// One command line of a plan with everything around it.
#[derive(Clone, Debug)]
pub struct Step {
    /// The invocation's name.
    pub id: String,
    /// The combination.
    pub job: String,
    /// Its passes.
    pub passes: Vec<String>,
    /// Frames it is given.
    pub frames: Frames,
    /// Full path of the program.
    pub program: String,
    /// Arguments.
    pub arguments: Vec<String>,
    /// Environment on top of the given one.
    pub env: Vec<(String, String)>,
    /// Where its output is written down.
    pub log: String,
    /// What it writes: stage folder and series.
    pub writes: Vec<Write>,
}

/// One series of a step.
#[derive(Clone, Debug)]
pub struct Write {
    /// The series.
    pub series: usize,
    /// Where the program writes.
    pub stage: String,
}

/// The folder below a root in which a sheet's stage folders stand: `<root>/.truepath/stage/<sheet>`, so that a rename
/// suffices to land. Roots outside the sheet's folder may be shared with sheets of the same name.
#[must_use]
pub fn stage_base(plan: &Plan, root: &str) -> String {
    let mark = if paths::is_below(root, &plan.home.folder) { String::new() } else { format!("-{}", plan.home.mark) };
    format!("{root}/.truepath/stage/{}{mark}", plan.home.sheet)
}

/// The stage folder of a series of an invocation. Files of one name in different folders are kept apart by pass.
#[must_use]
pub fn stage_folder(plan: &Plan, invocation: &Invocation, series: &Series) -> String {
    let root = series.root.and_then(|root| plan.roots[root].path.as_deref()).unwrap_or(&plan.home.folder);
    let stage = format!("{}/{}", stage_base(plan, root), invocation.id);
    if next_to_each_other(plan, &invocation.series) {
        return stage;
    }
    format!("{stage}/{}", slug(&plan.jobs[series.job].passes[series.passes[0]].label))
}
