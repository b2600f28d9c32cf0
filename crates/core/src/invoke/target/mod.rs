//! Command lines to scripts.

pub mod cmd;
pub mod sh;

use std::collections::{BTreeMap, HashMap};

use crate::frames::{Frames, Run};
use crate::invoke::written::Expected;
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
    /// What an exporter makes, instead of pictures.
    pub product: Option<Product>,
    /// Steps that have to be over before.
    pub needs: Vec<String>,
}

/// A file that an exporter makes of a scene.
#[derive(Clone, Debug)]
pub struct Product {
    /// Where it writes it.
    pub staged: String,
    /// Where renderers find it.
    pub path: String,
}

/// How a script behaves.
#[derive(Clone, Copy, Debug, Default)]
pub struct Script {
    /// Go on after a call that failed.
    pub keep_going: bool,
    /// Wait for a key at the end, so that a window opened by a double-click stays (cmd only).
    pub pause: bool,
}

/// A folder or a program that a script names at its head and nowhere else.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Base {
    /// The variable.
    pub name: String,
    /// The path.
    pub path: String,
}

/// A piece of a word: text, or a base folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Body<'b> {
    /// Text.
    Text(&'b str),
    /// A base.
    Base(&'b Base),
}

/// The frames of one job's steps, by their passes.
type ByPasses<'s> = BTreeMap<&'s [String], Vec<Run>>;

/// What stands at the head of a script: what made it, and for which frames.
#[must_use]
pub fn head(plan: &Plan, steps: &[Step]) -> Vec<String> {
    // Chunks of one set of passes share no frame, so that their runs can simply be gathered.
    let mut jobs: Vec<(&str, ByPasses<'_>)> = Vec::new();
    let mut known: HashMap<&str, usize> = HashMap::new();
    for step in steps.iter().filter(|step| step.product.is_none()) {
        let at = *known.entry(&step.job).or_insert_with(|| {
            jobs.push((&step.job, BTreeMap::new()));
            jobs.len() - 1
        });
        jobs[at].1.entry(&step.passes).or_default().extend(step.frames.runs());
    }
    let together = |by_pass: &ByPasses<'_>| {
        let mut all = by_pass.values().map(|runs| runs.iter().copied().collect::<Frames>());
        let first = all.next().unwrap_or_default();
        all.fold(first, |sum, frames| if sum == frames { sum } else { sum.union(&frames) })
    };
    let mode = plan.mode.as_ref().map(|mode| format!(", mode {mode}")).unwrap_or_default();
    let mut lines =
        vec![format!("Made by True Path {} from the sheet {}{mode}.", env!("CARGO_PKG_VERSION"), plan.home.sheet)];
    lines.extend(jobs.iter().map(|(name, by_pass)| format!("{name}: frames {}", together(by_pass))));
    lines.push(format!("{} calls", steps.len()));
    lines
}

/// The folders and programs of a script: the sheet's folder, roots with their stage folders, programs.
#[must_use]
pub fn bases(plan: &Plan, steps: &[Step]) -> Vec<Base> {
    let base = |name: String, path: &str| Base { name, path: path.to_owned() };
    let mut all = vec![base("home".to_owned(), &plan.home.folder)];
    for (at, root) in plan.roots.iter().enumerate() {
        let Some(path) = root.path.as_deref() else { continue };
        all.push(base(format!("root_{}", at + 1), path));
        all.push(base(format!("stage_{}", at + 1), &stage_base(plan, path)));
    }
    let programs: std::collections::BTreeSet<&str> = steps.iter().map(|step| step.program.as_str()).collect();
    all.extend(programs.iter().enumerate().map(|(at, path)| base(format!("program_{}", at + 1), path)));
    all
}

/// A word with every base folder in it found, the longest first.
#[must_use]
pub fn in_pieces<'b>(text: &'b str, bases: &'b [Base]) -> Vec<Body<'b>> {
    let (mut pieces, mut rest) = (Vec::new(), text);
    while !rest.is_empty() {
        let found = bases
            .iter()
            .filter_map(|base| {
                let at = rest.find(base.path.as_str())?;
                let after = &rest[at + base.path.len()..];
                (after.is_empty() || after.starts_with('/')).then_some((at, base))
            })
            .min_by_key(|(at, base)| (*at, std::cmp::Reverse(base.path.len())));
        let Some((at, base)) = found else {
            pieces.push(Body::Text(rest));
            break;
        };
        if at > 0 {
            pieces.push(Body::Text(&rest[..at]));
        }
        pieces.push(Body::Base(base));
        rest = &rest[at + base.path.len()..];
    }
    pieces
}

/// The folders that a step needs: for its log, its stage, its files.
#[must_use]
pub fn folders(plan: &Plan, step: &Step) -> Vec<String> {
    let mut folders: Vec<String> = vec![paths::parent(&step.log).to_owned()];
    for write in &step.writes {
        folders.push(write.stage.clone());
        let series = &plan.series[write.series];
        match series.pattern.folder().filter(|folder| folder.frame_width().is_none()) {
            Some(folder) => folders.push(folder.name(0)),
            None => folders.extend(step.frames.iter().map(|frame| paths::parent(&series.name(frame)).to_owned())),
        }
    }
    if let Some(product) = &step.product {
        folders.extend([&product.staged, &product.path].map(|path| paths::parent(path).to_owned()));
    }
    folders.sort();
    folders.dedup();
    folders
}

/// One series of a step.
#[derive(Clone, Debug)]
pub struct Write {
    /// The series.
    pub series: usize,
    /// Where the program writes.
    pub stage: String,
    /// The names under which its files come out there.
    pub expected: Expected,
}

impl Step {
    /// The series and the frame of a staged file; `None` where it is none that this step may write.
    #[must_use]
    pub fn place(&self, path: &str) -> Option<(usize, i64)> {
        self.writes.iter().find_map(|write| {
            let relative = path.strip_prefix(write.stage.as_str())?.strip_prefix('/')?;
            let frame = write.expected.frame(relative)?;
            self.frames.contains(frame).then_some((write.series, frame))
        })
    }
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
