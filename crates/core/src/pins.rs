//! Looked-up values as data: what was pinned, so that tomorrow's run finds today's files.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::template::Clock;

/// Values that were looked up once. What is `None` is not asked for or not known.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Pins {
    /// When.
    pub clock: Option<Clock>,
    /// Who.
    pub user: Option<String>,
    /// Where.
    pub host: Option<String>,
    /// The version of each job that asked for `next` or `latest`.
    pub versions: BTreeMap<String, i64>,
}

/// What a sheet wants looked up.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Wanted {
    /// `{date}` or `{time}`.
    pub clock: bool,
    /// `{user}`.
    pub user: bool,
    /// `{host}`.
    pub host: bool,
    /// Jobs with `next` (true) or `latest` (false).
    pub versions: BTreeMap<String, bool>,
}

impl Wanted {
    /// Whether nothing is wanted.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        *self == Wanted::default()
    }

    /// What of it the pins do not hold.
    #[must_use]
    pub fn beyond(&self, pins: &Pins) -> Wanted {
        Wanted {
            clock: self.clock && pins.clock.is_none(),
            user: self.user && pins.user.is_none(),
            host: self.host && pins.host.is_none(),
            versions: self
                .versions
                .iter()
                .filter(|(job, _)| !pins.versions.contains_key(*job))
                .map(|(job, next)| (job.clone(), *next))
                .collect(),
        }
    }
}

impl Pins {
    /// These pins with what another set holds beside them.
    #[must_use]
    pub fn with(mut self, other: Pins) -> Pins {
        self.clock = self.clock.or(other.clock);
        self.user = self.user.or(other.user);
        self.host = self.host.or(other.host);
        for (job, version) in other.versions {
            self.versions.entry(job).or_insert(version);
        }
        self
    }
}
