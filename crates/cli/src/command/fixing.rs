//! `check --fix`: remedies that are safe and certain, applied to the sheets of the call.
//!
//! A remedy is taken when, with it, its finding is gone and no other has come; this is tried out on the text before
//! anything is written.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use similar::TextDiff;
use truepath_core::diagnostic::fix::fixed;
use truepath_core::diagnostic::{Finding, Fix};
use truepath_core::plan::{Plan, Series};
use truepath_core::template::Pattern;

use crate::args::Common;
use crate::lower::Around;
use crate::pipeline::{self, LoadOptions, Queue};
use crate::show;
use truepath_exec::failure::Failure;
use truepath_exec::guard::{Deliveries, Kind, Over};
use truepath_exec::typed;

/// More rounds than any sheet needs: each of them fixes what the one before has uncovered.
const ROUNDS: usize = 20;

/// Texts of sheets that have been fixed, by path.
type Texts = BTreeMap<PathBuf, String>;

/// What was fixed.
pub struct Fixed {
    /// The change of each sheet as a unified diff.
    pub diff: String,
    /// How many remedies were applied.
    pub count: usize,
    /// Remedies that were left alone, since names of files that are there would change: what each says, and how many files.
    pub left: Vec<(Finding, u64)>,
    /// The sheets as they are now.
    pub queue: Queue,
}

/// Fixes the sheets of a call and writes them.
pub fn fix(common: &Common, around: &Around, offline: bool) -> Result<Fixed, Failure> {
    let mut call = Fixing { common, around, offline, refused: BTreeSet::new(), left: Vec::new() };
    let mut state = MendState { queue: call.load(&Texts::new())?, texts: Texts::new(), count: 0 };
    let first = originals(&state.queue);
    loop {
        let wanted = call.candidates(&state.queue);
        let all: Vec<&Remedy> = wanted.iter().collect();
        if let Trial::Better(better) = call.tried(&state, &all)? {
            state = *better;
            continue;
        }
        // Together they bring something new: each is tried alone.
        let mut better = None;
        for one in &wanted {
            match call.tried(&state, &[one])? {
                Trial::Better(own) => {
                    better = Some(*own);
                    break;
                }
                Trial::Orphans(files) => call.left.push((one.finding.clone(), files)),
                Trial::Worse => {}
            }
            call.refused.insert((one.finding.message.clone(), one.fix.write.clone()));
        }
        match better {
            Some(better) => state = better,
            None => break,
        }
    }
    let mut diff = String::new();
    for (path, new) in &state.texts {
        let old = &first[path];
        let name = pipeline::load::short(path, &around.folder);
        diff.push_str(&TextDiff::from_lines(old, new).unified_diff().header(&name, &name).to_string());
        // A sheet is nobody's to plan; only the text that was read is replaced.
        Deliveries::default().open(path, (Kind::Text, Over::Text(old)))?.write(new.as_bytes())?;
    }
    Ok(Fixed { diff, count: state.count, left: call.left, queue: state.queue })
}

/// A remedy that may be applied.
struct Remedy {
    sheet: PathBuf,
    finding: Finding,
    fix: Fix,
}

/// Texts that have been fixed so far, and what is found in them.
struct MendState {
    texts: Texts,
    queue: Queue,
    count: usize,
}

/// What comes of trying some remedies.
enum Trial {
    /// Their findings are gone, and nothing new has come.
    Better(Box<MendState>),
    /// So many files that are there would not be found any more.
    Orphans(u64),
    /// Something new is found, or nothing was to be tried.
    Worse,
}

struct Fixing<'m> {
    common: &'m Common,
    around: &'m Around,
    offline: bool,
    /// Remedies that bring something new, by what they say and what they write.
    refused: BTreeSet<(String, String)>,
    /// Remedies under which files that are there would not be found any more, and how many.
    left: Vec<(Finding, u64)>,
}

impl Fixing<'_> {
    fn load(&self, texts: &Texts) -> Result<Queue, Failure> {
        let way = LoadOptions { offline: self.offline, texts: Some(texts), ..LoadOptions::default() };
        pipeline::load(self.common, self.around, way)
    }

    /// Remedies that may be applied: certain ones, in the sheets of the call themselves. What lies below them may belong
    /// to others.
    fn candidates(&self, queue: &Queue) -> Vec<Remedy> {
        let mut all: Vec<Remedy> = Vec::new();
        for sheet in &queue.sheets {
            for finding in sheet.findings.iter().filter(|finding| finding.allowed.is_none()) {
                let certain = finding.check.check().fixes;
                let own = finding.fix.clone().filter(|fix| certain && fix.at.file == sheet.written.file);
                let Some(fix) = own else { continue };
                let known = all.iter().any(|other| other.sheet == sheet.sheet && other.fix == fix);
                if !known && !self.refused.contains(&(finding.message.clone(), fix.write.clone())) {
                    all.push(Remedy { sheet: sheet.sheet.clone(), finding: finding.clone(), fix });
                }
            }
        }
        all
    }

    /// What comes of some remedies, and of all those that they make room for.
    fn tried(&self, before: &MendState, wanted: &[&Remedy]) -> Result<Trial, Failure> {
        if wanted.is_empty() {
            return Ok(Trial::Worse);
        }
        let texts = apply(&before.queue, &before.texts, wanted);
        let mut state = MendState { queue: self.load(&texts)?, texts, count: before.count + wanted.len() };
        for _ in 0..ROUNDS {
            let more = self.candidates(&state.queue);
            if more.is_empty() || better(&before.queue, &state.queue, wanted) {
                break;
            }
            let texts = apply(&state.queue, &state.texts, &more.iter().collect::<Vec<_>>());
            state = MendState { queue: self.load(&texts)?, texts, count: state.count + more.len() };
        }
        // Files under the old name are themselves a new finding: they are asked about before it counts as worse.
        Ok(match orphaned(&before.queue, &state.queue) {
            0 if better(&before.queue, &state.queue, wanted) => Trial::Better(Box::new(state)),
            0 => Trial::Worse,
            files => Trial::Orphans(files),
        })
    }
}

/// How many files are there under names that one queue plans and another does not.
fn orphaned(before: &Queue, after: &Queue) -> u64 {
    let kept: BTreeSet<&Pattern> = after.plans().flat_map(Plan::outputs).map(|(_, series)| &series.pattern).collect();
    let mut lost: BTreeMap<&Pattern, &Series> = BTreeMap::new();
    lost.extend(before.plans().flat_map(Plan::outputs).map(|(_, series)| (&series.pattern, series)));
    lost.values().filter(|series| !kept.contains(&series.pattern)).map(|series| typed::there(series)).sum()
}

fn originals(queue: &Queue) -> Texts {
    let text = |sheet: &pipeline::Loaded| queue.sources.get(sheet.written.file).text.clone();
    queue.sheets.iter().map(|sheet| (sheet.sheet.clone(), text(sheet))).collect()
}

fn apply(queue: &Queue, texts: &Texts, wanted: &[&Remedy]) -> Texts {
    let mut texts = texts.clone();
    for sheet in &queue.sheets {
        let own: Vec<&Fix> = wanted.iter().filter(|one| one.sheet == sheet.sheet).map(|one| &one.fix).collect();
        if !own.is_empty() {
            texts.insert(sheet.sheet.clone(), fixed(&queue.sources.get(sheet.written.file).text, &own));
        }
    }
    texts
}

/// Whether the findings of the remedies are gone and no other has come.
fn better(before: &Queue, after: &Queue, wanted: &[&Remedy]) -> bool {
    let (before, after) = (counted(before), counted(after));
    let fewer = |key: &DocumentKey| {
        let fixed = wanted.iter().filter(|one| key_of(&one.finding) == *key).count();
        after.get(key).copied().unwrap_or(0) + fixed <= before.get(key).copied().unwrap_or(0)
    };
    after.keys().all(fewer) && wanted.iter().all(|one| fewer(&key_of(&one.finding)))
}

/// What makes a finding the same one after its place and its words have changed.
type DocumentKey = (&'static str, Option<String>);

fn key_of(finding: &Finding) -> DocumentKey {
    (finding.check.name(), finding.job.clone())
}

fn counted(queue: &Queue) -> BTreeMap<DocumentKey, usize> {
    let mut counts = BTreeMap::new();
    for finding in
        queue.sheets.iter().flat_map(|sheet| sheet.findings.iter()).filter(|finding| finding.allowed.is_none())
    {
        *counts.entry(key_of(finding)).or_default() += 1;
    }
    counts
}

/// The change, and a line that counts it.
pub fn told(fixed: &Fixed, screen: crate::lower::Screen) -> String {
    let mut out = String::new();
    for (finding, files) in &fixed.left {
        let files = show::counted(i64::try_from(*files).unwrap_or(i64::MAX), "file");
        let help = finding.help.as_ref().map(|help| format!(" ({help})")).unwrap_or_default();
        out.push_str(&format!(
            "{}: {}{help}\n  not changed: {files} that are there would no longer be found under their names\n",
            show::paint(screen, show::HEAD, finding.check.name()),
            finding.message
        ));
    }
    if fixed.count == 0 && fixed.left.is_empty() {
        return "no finding has a certain fix\n\n".to_owned();
    }
    for line in fixed.diff.lines() {
        let style = match line.as_bytes().first() {
            Some(b'+') => show::GOOD,
            Some(b'-') => show::BAD,
            _ => show::QUIET,
        };
        out.push_str(&format!("{}\n", show::paint(screen, style, line)));
    }
    let applied = match fixed.count {
        0 => "nothing applied; move or remove those files first, or change the sheet by hand".to_owned(),
        1 => "1 fix applied".to_owned(),
        count => format!("{count} fixes applied"),
    };
    out.push_str(&format!("\n{applied}\n\n"));
    out
}
