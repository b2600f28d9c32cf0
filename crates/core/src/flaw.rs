//! What is wrong with a file, an answer or a value: words that follow its name, and the error that they come from.

use std::cmp::Ordering;
use std::error::Error;
use std::fmt;
use std::sync::Arc;

/// What is wrong with something, as whoever read it found out. Nobody tells one from another but people; what programs have to tell
/// apart has a type of its own.
#[derive(Clone, Debug)]
pub struct Flaw {
    why: String,
    source: Option<Arc<dyn Error + Send + Sync>>,
}

impl Flaw {
    /// In words.
    pub fn new(why: impl Into<String>) -> Flaw {
        Flaw { why: why.into(), source: None }
    }

    /// Another's error, in its own words.
    pub fn of(source: impl Error + Send + Sync + 'static) -> Flaw {
        Flaw { why: source.to_string(), source: Some(Arc::new(source)) }
    }

    /// Another's error behind some words of ours: `what: error`.
    pub fn at(what: impl fmt::Display, source: impl Error + Send + Sync + 'static) -> Flaw {
        Flaw { why: format!("{what}: {source}"), source: Some(Arc::new(source)) }
    }
}

impl fmt::Display for Flaw {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.why)
    }
}

impl Error for Flaw {
    fn source(&self) -> Option<&(dyn Error + 'static)> {
        self.source.as_deref().map(|source| source as _)
    }
}

impl From<String> for Flaw {
    fn from(why: String) -> Flaw {
        Flaw::new(why)
    }
}

impl From<&str> for Flaw {
    fn from(why: &str) -> Flaw {
        Flaw::new(why)
    }
}

impl Eq for Flaw {}

impl Ord for Flaw {
    fn cmp(&self, other: &Flaw) -> Ordering {
        self.why.cmp(&other.why)
    }
}

impl PartialOrd for Flaw {
    fn partial_cmp(&self, other: &Flaw) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for Flaw {
    fn eq(&self, other: &Flaw) -> bool {
        self.why == other.why
    }
}
