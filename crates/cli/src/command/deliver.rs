//! Files that are made for people: which names belong to the sheets around them. The guard itself is the disk's.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use truepath_core::plan::Plan;
use truepath_core::template::Pattern;
use truepath_exec::guard::{Deliveries, Kind, NamedPlace, Over, Taken};
use truepath_exec::landing::away;

use crate::args::Common;
use crate::lower::Around;
use crate::pipeline::{LoadOptions, Queue, load};

/// What a picture is that a command looks at.
pub const INPUT: &str = "one of the pictures themselves";

/// Sheets above a file that are looked into.
const MOST_SHEETS: usize = 32;

/// What a command's files are written beside: the sheets that it was given, the nearest one, and those in the folders above
/// each file.
pub struct Beside<'b> {
    /// What was typed.
    pub common: &'b Common,
    /// The sheets that were loaded for the command, where any were.
    pub queue: Option<&'b Queue>,
    /// Where we are.
    pub around: &'b Around,
}

impl Beside<'_> {
    /// The files of a command, to be written to these names. `inputs` adds the files that are looked at.
    pub fn deliveries<'o>(
        &self,
        outs: impl IntoIterator<Item = &'o Path>,
        inputs: impl FnOnce(&mut Taken),
    ) -> Deliveries {
        let mut taken = Taken::default();
        let is_plain = self.common.set.is_empty() && self.common.scale.is_none() && self.common.mode.is_empty();
        let mut known: BTreeSet<PathBuf> = BTreeSet::new();
        for loaded in self.queue.iter().flat_map(|queue| &queue.sheets) {
            if is_plain {
                known.insert(loaded.sheet.clone());
            }
        }
        self.queue.iter().for_each(|queue| self.add(&mut taken, queue));
        for sheet in self.sheets(outs) {
            taken.file(&sheet, "a sheet");
            if known.insert(sheet.clone()) {
                let common = Common { sheet: vec![sheet], ..Common::default() };
                // What cannot be read plans nothing that could be named here.
                let queue = load(&common, self.around, LoadOptions::default());
                queue.iter().for_each(|queue| self.add(&mut taken, queue));
            }
        }
        inputs(&mut taken);
        Deliveries::beside(taken)
    }

    /// The sheets whose files may be meant: those that were named, the nearest one, and those above each name.
    fn sheets<'o>(&self, outs: impl IntoIterator<Item = &'o Path>) -> BTreeSet<PathBuf> {
        let named = load::find_sheets(&self.common.sheet, &self.around.folder).unwrap_or_default();
        let mut found: BTreeSet<PathBuf> = named.into_iter().collect();
        let mut folders = BTreeSet::from([self.around.folder.clone()]);
        folders.extend(
            outs.into_iter()
                .filter_map(|out| NamedPlace::of(&self.around.folder.join(out)).ok())
                .map(|place| place.folder),
        );
        let above: BTreeSet<&Path> = folders.iter().flat_map(|folder| folder.ancestors()).collect();
        for folder in above {
            let sheets = load::toml_files(folder).into_iter().filter(|path| load::is_sheet(path));
            found.extend(sheets.filter_map(|path| dunce::canonicalize(path).ok()).take(MOST_SHEETS));
        }
        found
    }

    fn add(&self, taken: &mut Taken, queue: &Queue) {
        queue.sheets.iter().for_each(|loaded| taken.file(&loaded.sheet, "a sheet"));
        for source in queue.sources.all() {
            let path = self.around.folder.join(&source.name);
            if path.is_file() {
                taken.file(path, "a file that the sheet reads");
            }
        }
        for loaded in &queue.sheets {
            for (path, what) in loaded.needs() {
                taken.file(path, what);
            }
            add_plans(taken, loaded.rivals.iter().chain([&loaded.plan]).chain(&loaded.all_versions()));
            for place in loaded.ground.history.places() {
                let pattern = Pattern::from_spelt(&away::found(place, &loaded.plan));
                taken.pattern(pattern, "a file that True Path rendered");
            }
        }
    }
}

/// Adds all names that plans give.
pub fn add_plans<'p>(taken: &mut Taken, plans: impl IntoIterator<Item = &'p Plan>) {
    for plan in plans {
        for (_, series) in plan.outputs().filter(|(_, series)| series.is_known()) {
            taken.pattern(series.pattern.clone(), "a file that the sheet plans");
        }
    }
}

/// A name that means standard output: nothing is written to the disk.
pub fn is_standard_output(out: &Path) -> bool {
    ["-", "/dev/stdout", "/dev/fd/1"].iter().any(|name| out == Path::new(name))
}

/// How a file is written over: what was asked for, or what True Path made.
pub fn over(replace: bool, mark: &'static str) -> Over<'static> {
    if replace { Over::Asked(true) } else { Over::Marked(mark) }
}

/// How a picture or movie is written over.
pub fn asked(kind: Kind, replace: bool) -> (Kind, Over<'static>) {
    (kind, Over::Asked(replace))
}

/// The folder of a file that is to be written.
pub fn folder(out: &Path) -> &Path {
    out.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}
