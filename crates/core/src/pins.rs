//! Looked-up values as data: what was pinned, so that tomorrow's run finds today's files.
//!
//! Each job has a version of its own, and each version the moment of its own first run. Drafts are pinned apart from finals.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use crate::sheet::Version;
use crate::template::Clock;

/// Values that were looked up once.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Pins {
    /// By the job's name, with `@` and the mode where one is on that does not mean the final names.
    pub jobs: BTreeMap<String, JobPins>,
    /// What holds where nothing is pinned yet: who looks, where and when.
    #[serde(skip)]
    pub now: Moment,
    /// The versions that jobs would have where none is pinned yet.
    #[serde(skip)]
    pub open: BTreeMap<String, i64>,
}

/// What is pinned of one job.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct JobPins {
    /// Its version, where it asked for `next` or `latest`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<i64>,
    /// The moment of the first run of each of its versions, such as `v003`; of a job without version, under an empty name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub first: BTreeMap<String, Moment>,
}

/// Who, where and when. What is `None` is not asked for or not known.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Moment {
    /// When.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub clock: Option<Clock>,
    /// Who.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Where.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub host: Option<String>,
}

impl Moment {
    /// This moment, with what another has where this one has nothing.
    #[must_use]
    pub fn or(self, other: &Moment) -> Moment {
        Moment {
            clock: self.clock.or(other.clock),
            user: self.user.or_else(|| other.user.clone()),
            host: self.host.or_else(|| other.host.clone()),
        }
    }
}

/// One pinned value as it is kept, in a file of its own.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pin {
    /// The job, with its mode.
    pub job: String,
    /// The version whose moment it is; `None` where it is the job's version itself.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub of: Option<String>,
    /// The version of the job.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<i64>,
    /// The moment of a version.
    #[serde(default, flatten)]
    pub moment: Moment,
}

/// What is to be looked up anew, whatever is pinned.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Anew {
    /// The version.
    pub version: bool,
    /// Clock, user and host of the version that the job has then.
    pub clock: bool,
}

/// The name under which a job is pinned.
fn key(job: &str, mode: Option<&str>) -> String {
    mode.map_or_else(|| job.to_owned(), |mode| format!("{job}@{mode}"))
}

/// The name under which the moment of a version is pinned.
fn label(version: Option<i64>) -> String {
    version.map(|version| format!("v{version:03}")).unwrap_or_default()
}

/// What a sheet wants looked up, by job.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Wanted {
    /// By the job's name.
    pub jobs: BTreeMap<String, WantedOf>,
}

/// What one job wants looked up.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct WantedOf {
    /// `{date}` or `{time}`.
    pub clock: bool,
    /// `{user}`.
    pub user: bool,
    /// `{host}`.
    pub host: bool,
    /// `next` (true) or `latest` (false).
    pub version: Option<bool>,
    /// The version that the sheet gives.
    pub given: Option<i64>,
}

impl WantedOf {
    fn is_nothing(&self) -> bool {
        WantedOf { given: None, ..*self } == WantedOf::default()
    }
}

impl Wanted {
    /// Whether nothing is wanted.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        self.jobs.is_empty()
    }

    /// Adds what one job wants.
    pub fn add(&mut self, job: &str, wanted: WantedOf) {
        if !wanted.is_nothing() {
            self.jobs.insert(job.to_owned(), wanted);
        }
    }

    /// What of it the pins of a mode do not hold.
    #[must_use]
    pub fn beyond(&self, pins: &Pins, mode: Option<&str>) -> Wanted {
        let mut beyond = Wanted::default();
        for (job, wanted) in &self.jobs {
            let own = pins.jobs.get(&key(job, mode));
            let version = wanted.given.or(own.and_then(|own| own.version));
            // The moment of a version that is still to be looked up is not there either.
            let is_known = wanted.version.is_none() || version.is_some();
            let first = own.filter(|_| is_known).and_then(|own| own.first.get(&label(version)));
            let lacks = |is_wanted: bool, is_there: bool| is_wanted && !is_there;
            beyond.add(
                job,
                WantedOf {
                    clock: lacks(wanted.clock, first.is_some_and(|first| first.clock.is_some())),
                    user: lacks(wanted.user, first.is_some_and(|first| first.user.is_some())),
                    host: lacks(wanted.host, first.is_some_and(|first| first.host.is_some())),
                    version: wanted.version.filter(|_| own.is_none_or(|own| own.version.is_none())),
                    given: wanted.given,
                },
            );
        }
        beyond
    }
}

impl Pins {
    /// The version of a job that asks for one, pinned or as it would be.
    #[must_use]
    pub fn version(&self, job: &str, mode: Option<&str>) -> Option<i64> {
        self.pinned_version(job, mode).or_else(|| self.open.get(job).copied())
    }

    /// The same, where it is pinned.
    #[must_use]
    pub fn pinned_version(&self, job: &str, mode: Option<&str>) -> Option<i64> {
        self.jobs.get(&key(job, mode))?.version
    }

    /// The moment of the first run of a version of a job, pinned or as it would be.
    #[must_use]
    pub fn moment(&self, job: &str, mode: Option<&str>, version: Option<i64>) -> Moment {
        self.pinned(job, mode, version).cloned().unwrap_or_default().or(&self.now)
    }

    /// The same, where it is pinned.
    #[must_use]
    pub fn pinned(&self, job: &str, mode: Option<&str>, version: Option<i64>) -> Option<&Moment> {
        self.jobs.get(&key(job, mode))?.first.get(&label(version))
    }

    /// The versions of a job that ever had a first run here.
    #[must_use]
    pub fn versions(&self, job: &str, mode: Option<&str>) -> BTreeSet<i64> {
        let Some(own) = self.jobs.get(&key(job, mode)) else { return BTreeSet::new() };
        let had = own.first.keys().filter_map(|label| label.strip_prefix('v')?.parse().ok());
        had.chain(own.version).collect()
    }

    /// These pins as they were when some jobs had a version.
    #[must_use]
    pub fn at<'j>(&self, version: i64, mode: Option<&str>, jobs: impl Iterator<Item = &'j str>) -> Pins {
        let mut then = self.clone();
        for job in jobs {
            then.jobs.entry(key(job, mode)).or_default().version = Some(version);
        }
        then
    }

    /// Forgets what is to be looked up anew for some jobs.
    pub fn forget(&mut self, anew: Anew, mode: Option<&str>, jobs: &BTreeMap<String, Option<Version>>) {
        for (job, version) in jobs {
            let Some(own) = self.jobs.get_mut(&key(job, mode)) else { continue };
            let given = if let Some(Version::Number(given)) = version { Some(*given) } else { None };
            // The next version has a first run of its own, and that of the one before stays.
            let is_next = anew.version && *version == Some(Version::Next);
            if anew.clock && !is_next {
                own.first.remove(&label(given.or(own.version)));
            }
            if anew.version {
                own.version = None;
            }
        }
    }

    /// What is to be pinned for the jobs that want something, as it is now.
    #[must_use]
    pub fn to_pin(&self, wanted: &Wanted, mode: Option<&str>) -> Vec<Pin> {
        let mut all = Vec::new();
        for (job, wanted) in &wanted.jobs {
            let version = self.version(job, mode).filter(|_| wanted.version.is_some());
            let job_key = key(job, mode);
            if version.is_some() {
                all.push(Pin { job: job_key.clone(), version, ..Pin::default() });
            }
            let moment = self.moment(job, mode, wanted.given.or(version));
            let moment = Moment {
                clock: moment.clock.filter(|_| wanted.clock),
                user: moment.user.filter(|_| wanted.user),
                host: moment.host.filter(|_| wanted.host),
            };
            if moment != Moment::default() {
                all.push(Pin { job: job_key, of: Some(label(wanted.given.or(version))), version: None, moment });
            }
        }
        all
    }

    /// Takes in one pin. What is already there stays.
    pub fn take(&mut self, pin: Pin) {
        let own = self.jobs.entry(pin.job).or_default();
        match pin.of {
            None => own.version = own.version.or(pin.version),
            Some(of) => {
                let first = own.first.entry(of).or_default();
                *first = std::mem::take(first).or(&pin.moment);
            }
        }
    }

    /// These pins with what another set holds beside them.
    #[must_use]
    pub fn with(mut self, other: Pins) -> Pins {
        for (job, pins) in other.jobs {
            self.take(Pin { job: job.clone(), version: pins.version, ..Pin::default() });
            for (of, moment) in pins.first {
                self.take(Pin { job: job.clone(), of: Some(of), version: None, moment });
            }
        }
        self
    }

    /// What is pinned, without what would be.
    #[must_use]
    pub fn fixed(&self) -> Pins {
        Pins { jobs: self.jobs.clone(), ..Pins::default() }
    }
}
