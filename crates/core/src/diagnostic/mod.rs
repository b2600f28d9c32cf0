//! Findings as plain data: what a check has to say, where, and what to write instead. How they look is decided elsewhere.

pub mod code;
pub mod fix;

use std::collections::{BTreeSet, HashSet};

use crate::source::{Place, Spanned};
pub use code::{CHECKS, Check, Level, Slug, find};

/// A text that would fix the finding, put in place of what stands at `at`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fix {
    /// What is replaced; an empty range inserts.
    pub at: Place,
    /// What is written there.
    pub write: String,
}

/// One thing that a check has to say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// The check that found it.
    pub check: Slug,
    /// How grave it is here.
    pub level: Level,
    /// One sentence.
    pub message: String,
    /// Where, and what the place is about.
    pub at: Option<Spanned<String>>,
    /// Other places that belong to it.
    pub also: Vec<Spanned<String>>,
    /// What to write or do.
    pub help: Option<String>,
    /// The change that fixes it, where one is certain.
    pub fix: Option<Fix>,
    /// The job it is about.
    pub job: Option<String>,
    /// How many more jobs the same cause hits.
    pub more: usize,
    /// Why the sheet allows it; such a finding is kept and not counted.
    pub allowed: Option<String>,
}

/// The words of a finding, before its level is known.
#[derive(Clone, Debug, Default)]
pub struct Words {
    /// One sentence.
    pub message: String,
    /// What stands under the marked characters.
    pub label: String,
    /// What to write or do.
    pub help: Option<String>,
    /// Other places.
    pub also: Vec<Spanned<String>>,
    /// The change that fixes it.
    pub fix: Option<Fix>,
}

impl Words {
    /// A message with a label under the place it is about.
    pub fn new(message: impl Into<String>, label: impl Into<String>) -> Words {
        Words { message: message.into(), label: label.into(), ..Words::default() }
    }

    /// Adds what to do about it.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Words {
        self.help = Some(help.into());
        self
    }

    /// Adds a change that fixes it.
    #[must_use]
    pub fn fix(mut self, at: Place, write: impl Into<String>) -> Words {
        self.fix = Some(Fix { at, write: write.into() });
        self
    }

    /// Adds a second place.
    #[must_use]
    pub fn also(mut self, at: Place, label: impl Into<String>) -> Words {
        self.also.push(Spanned::new(label.into(), at));
        self
    }
}

/// Collects findings; the one place where a finding gets its level.
#[derive(Clone, Debug, Default)]
pub struct Findings {
    list: Vec<Finding>,
}

impl Findings {
    /// Sets the level of a check, also for what was found already; `None` turns it off.
    pub fn set_level(&mut self, check: &str, level: Option<Level>) {
        match level {
            Some(level) => self.list.iter_mut().filter(|found| found.check == check).for_each(|f| f.level = level),
            None => self.list.retain(|found| found.check != check),
        }
    }

    /// Marks the findings that are allowed, each with the reason that `why` gives.
    pub fn allow(&mut self, mut why: impl FnMut(&Finding) -> Option<String>) {
        for finding in &mut self.list {
            finding.allowed = why(finding);
        }
    }

    /// Leaves out what is said at some places of jobs that are not asked for.
    pub fn forget_jobs(&mut self, is_there: impl Fn(Place) -> bool, is_asked: impl Fn(&str) -> bool) {
        self.list.retain(|found| {
            let there = found.at.as_ref().is_some_and(|at| is_there(at.at));
            !there || found.job.as_deref().is_none_or(&is_asked)
        });
    }

    /// Leaves out all that was found by asking the machine.
    pub fn forget_machine(&mut self) {
        self.list.retain(|found| !found.check.check().asks_machine);
    }

    /// Takes a finding of `check` in, at its usual level.
    pub fn add(&mut self, check: Slug, at: Option<Place>, job: Option<&str>, words: Words) {
        self.list.push(Finding {
            check,
            level: check.check().level,
            message: words.message,
            at: at.map(|at| Spanned::new(words.label, at)),
            also: words.also,
            help: words.help,
            fix: words.fix,
            job: job.map(str::to_owned),
            more: 0,
            allowed: None,
        });
    }

    /// Takes all of another list in.
    pub fn append(&mut self, other: Findings) {
        self.list.extend(other.list);
    }

    /// Keeps only the findings of one check.
    pub fn keep_only(&mut self, check: Slug) {
        self.list.retain(|finding| finding.check == check);
    }

    /// The jobs that have errors; `None` where an error is of no job, so that it is in the way of all of them.
    #[must_use]
    pub fn faulty(&self) -> Option<BTreeSet<&str>> {
        let errors = self.list.iter().filter(|found| found.level == Level::Error && found.allowed.is_none());
        errors.map(|found| found.job.as_deref()).collect()
    }

    /// Whether any of them is an error.
    #[must_use]
    pub fn has_errors(&self) -> bool {
        self.list.iter().any(|finding| finding.level == Level::Error && finding.allowed.is_none())
    }

    /// The findings, the gravest first, then in the order of their places, those without one last. What one cause does at
    /// one place is one finding that counts the other jobs.
    #[must_use]
    pub fn sorted(mut self) -> Vec<Finding> {
        let place =
            |finding: &Finding| finding.at.as_ref().map_or((1, None), |at| (0, Some((at.at, at.value.clone()))));
        self.list.sort_by(|a, b| {
            b.level.cmp(&a.level).then_with(|| place(a).cmp(&place(b))).then_with(|| a.check.name().cmp(b.check.name()))
        });
        let mut sorted: Vec<Finding> = Vec::new();
        let mut jobs: HashSet<Option<String>> = HashSet::new();
        for finding in self.list {
            match sorted.last_mut() {
                Some(kept)
                    if kept.check == finding.check
                        && kept.allowed == finding.allowed
                        && (kept.job != finding.job || kept.message == finding.message)
                        && place(kept) == place(&finding)
                        && (kept.at.is_some() || kept.message == finding.message) =>
                {
                    kept.more += usize::from(jobs.insert(finding.job));
                }
                _ => {
                    jobs = HashSet::from([finding.job.clone()]);
                    sorted.push(finding);
                }
            }
        }
        sorted
    }

    /// The findings as they came.
    pub fn iter(&self) -> impl Iterator<Item = &Finding> {
        self.list.iter()
    }
}

impl Finding {
    /// Points at the place of its job instead: for a finding about one job whose cause is in a sheet that many jobs share.
    /// The cause is kept as a second place.
    pub fn point_at(&mut self, job: Place) {
        if let Some(cause) = self.at.replace(Spanned::new("in this job".to_owned(), job)) {
            self.also.insert(0, cause);
        }
    }
}

/// `1 frame`, `2 frames`.
#[must_use]
pub fn counted(count: impl Into<i64>, one: &str) -> String {
    let count = count.into();
    if count == 1 { format!("1 {one}") } else { format!("{count} {one}{}", if one.ends_with('s') { "" } else { "s" }) }
}

/// The candidate most like `word`, when it is like enough to have been meant, and no other is as much.
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    nearest_of(word, &mut candidates.into_iter())
}

/// What people write who come from elsewhere, and what it is called here. Spellings that several programs use, or that a standard
/// does.
const USUAL: &[(&str, &str)] = &[
    ("framerate", "fps"),
    ("frame_rate", "fps"),
    ("rate", "fps"),
    ("resolution", "size"),
    ("res", "size"),
    ("dimensions", "size"),
    ("color", "colour"),
    ("output", "path"),
    ("out", "path"),
    ("filename", "path"),
    ("range", "frames"),
    ("frame_range", "frames"),
    ("cam", "camera"),
    ("renderer", "adapter"),
    ("depth", "bits"),
    ("bit_depth", "bits"),
    ("extension", "type"),
    ("ext", "type"),
    ("license", "licences"),
    ("licenses", "licences"),
    ("folder", "path"),
    ("h265", "hevc"),
    ("h.265", "hevc"),
    ("x265", "hevc"),
    ("avc", "h264"),
    ("h.264", "h264"),
    ("x264", "h264"),
    ("jpg", "jpeg"),
    ("tif", "tiff"),
    ("openexr", "exr"),
    ("quicktime", "mov"),
    ("matroska", "mkv"),
    ("alpha", "rgba"),
    ("mono", "grey"),
    ("gray", "grey"),
    ("y", "grey"),
    ("ya", "grey-alpha"),
    ("16f", "half"),
    ("float16", "half"),
    ("half-float", "half"),
    ("32f", "float"),
    ("float32", "float"),
    ("8bit", "8"),
    ("16bit", "16"),
    ("uncompressed", "none"),
    ("srgb", "display"),
    ("sequence", "job"),
    ("shot", "job"),
    ("output_path", "path"),
];

/// The candidate that is `word` in other case, or what `word` is elsewhere.
#[must_use]
pub fn usual<'a>(word: &str, candidates: &[&'a str]) -> Option<&'a str> {
    let lower = word.to_lowercase();
    let foreign = |own: &str| {
        USUAL.iter().any(|(foreign, here)| *here == own && (*foreign == lower || *foreign == lower.replace('-', "_")))
    };
    let same = candidates.iter().find(|own| own.to_lowercase() == lower);
    same.or_else(|| candidates.iter().find(|own| foreign(own))).copied()
}

fn nearest_of<'a>(word: &str, candidates: &mut dyn Iterator<Item = &'a str>) -> Option<&'a str> {
    let candidates: Vec<&str> = candidates.collect();
    if let Some(meant) = usual(word, &candidates) {
        return Some(meant);
    }
    let scored = || candidates.iter().map(|candidate| (strsim::damerau_levenshtein(word, candidate), *candidate));
    let (distance, candidate) = scored().min()?;
    // Of two that are as near, nobody knows which was meant.
    let alone = scored().filter(|(own, other)| *own == distance && *other != candidate).count() == 0;
    (alone && distance <= 1.max(word.chars().count() / 3)).then_some(candidate)
}
