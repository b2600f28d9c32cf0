//! What looks at files have found, kept until the file changes, so that every command says the same of it.
//!
//! A finding is one line of JSON about one file. It holds until the file has another size or another time, or until a file
//! lands under its name.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use crate::frames::Number;
use crate::picture::{OddKind, Oddity};
use crate::verify::{FileFacts, Picture, Provenance, Seen};

/// What was found of a file, beside what its name and its size say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum FileFinding {
    /// It is what it should be, as far as a look at every byte tells.
    Good,
    /// The system could not read it: why.
    Unreadable(String),
    /// It does not decode: why.
    Broken(String),
    /// Its bytes are not those that landed: how so.
    Changed(String),
    /// It is as planned, and most likely not what was meant.
    Odd(Oddity),
}

impl FileFinding {
    /// What a look has found.
    #[must_use]
    pub fn of(seen: &Seen, standing: &Provenance) -> FileFinding {
        match (seen, standing) {
            (Seen::Unreadable(why), _) => FileFinding::Unreadable(why.clone()),
            (Seen::Broken(why), _) => FileFinding::Broken(why.clone()),
            (_, Provenance::Changed(why)) => FileFinding::Changed(why.clone()),
            (_, Provenance::Odd(odd)) => FileFinding::Odd(odd.clone()),
            (Seen::Whole(Picture { unproven: Some(why), .. }), _) => {
                FileFinding::Odd(Oddity { kind: OddKind::Unproven, why: why.clone() })
            }
            _ => FileFinding::Good,
        }
    }

    fn words(&self) -> (&'static str, &str) {
        match self {
            FileFinding::Good => (GOOD, ""),
            FileFinding::Unreadable(why) => (UNREADABLE, why),
            FileFinding::Broken(why) => (BROKEN, why),
            FileFinding::Changed(why) => (CHANGED, why),
            FileFinding::Odd(odd) => (odd.kind.check(), &odd.why),
        }
    }
}

/// How findings are called in their lines; an odd file has the name of its check.
const GOOD: &str = "good";
const UNREADABLE: &str = "unreadable";
const BROKEN: &str = "broken";
const CHANGED: &str = "changed";

/// A file at one of the names of a series, as it is now.
#[derive(Clone, Copy, Debug)]
pub struct FileNow<'f> {
    /// Where it lies: the pattern of its series from its root on, as [`crate::plan::Series::place`] has it.
    pub place: &'f str,
    /// The number in its name.
    pub number: Number,
    /// What its folder says of it.
    pub facts: FileFacts,
    /// The tag of the run that landed it; empty where no journal knows it.
    pub landed: &'f str,
}

/// One finding as it is written down.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FindingLine {
    /// Where the file lies: the pattern of its series from its root on, as [`crate::plan::Series::place`] has it.
    place: String,
    /// The number in its name.
    number: i64,
    /// Its bytes.
    bytes: u64,
    /// When it was written last, in milliseconds since 1970.
    changed: i64,
    /// The tag of the run that landed it; empty where no journal knows it.
    landed: String,
    /// What it is: `good`, `unreadable`, `broken`, `changed`, or the check by which it is odd.
    found: String,
    /// Why.
    why: String,
}

impl FindingLine {
    /// What was found of a file.
    #[must_use]
    pub fn new(file: &FileNow<'_>, found: &FileFinding) -> FindingLine {
        let (words, why) = found.words();
        let ((bytes, changed), number) = (file.facts, file.number);
        let (place, landed) = (file.place.to_owned(), file.landed.to_owned());
        FindingLine {
            place,
            number: number.value(),
            bytes,
            changed,
            landed,
            found: words.to_owned(),
            why: why.to_owned(),
        }
    }

    /// As it is written: a line of JSON, with its end.
    #[must_use]
    pub fn text(&self) -> String {
        let mut line = serde_json::to_string(self).unwrap_or_default();
        line.push('\n');
        line
    }

    fn found(&self) -> Option<FileFinding> {
        let why = self.why.clone();
        match self.found.as_str() {
            GOOD => Some(FileFinding::Good),
            UNREADABLE => Some(FileFinding::Unreadable(why)),
            BROKEN => Some(FileFinding::Broken(why)),
            CHANGED => Some(FileFinding::Changed(why)),
            check => Some(FileFinding::Odd(Oddity { kind: OddKind::of(check)?, why })),
        }
    }
}

/// All findings, by place and number: of each file the last one.
#[derive(Clone, Debug, Default)]
pub struct LookedFiles {
    all: HashMap<String, HashMap<i64, FindingLine>>,
}

/// How closely a look has come to a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Close {
    /// Its head, or nothing of it.
    Head,
    /// Its bytes were compared with those that landed.
    Bytes,
    /// It was decoded.
    Decoded,
}

impl FileFinding {
    /// Whether this is to be written down, where `known` is what was known of the same file before.
    #[must_use]
    pub fn is_news(&self, known: Option<&FileFinding>, close: Close) -> bool {
        match (self, known) {
            (FileFinding::Good, None | Some(FileFinding::Good)) => false,
            // It could be read to its end; more is not known.
            (FileFinding::Good, Some(FileFinding::Unreadable(_))) => true,
            (FileFinding::Good, Some(FileFinding::Changed(_))) => close != Close::Head,
            (FileFinding::Good, Some(FileFinding::Broken(_) | FileFinding::Odd(_))) => close == Close::Decoded,
            (found, known) => known != Some(found),
        }
    }
}

impl LookedFiles {
    /// Takes in the lines of one file; those that are torn or foreign are left out. Later lines count.
    pub fn read(&mut self, text: &str) {
        for line in text.lines().filter_map(|line| serde_json::from_str::<FindingLine>(line).ok()) {
            self.all.entry(line.place.clone()).or_default().insert(line.number, line);
        }
    }

    /// Whether anything was found of files at a place.
    #[must_use]
    pub fn has(&self, place: &str) -> bool {
        self.all.contains_key(place)
    }

    /// What was found of a file, if it is still the same: its bytes, its time, and the run that landed it.
    #[must_use]
    pub fn of(&self, file: &FileNow<'_>) -> Option<FileFinding> {
        let line = self.all.get(file.place)?.get(&file.number.value())?;
        let (bytes, changed) = file.facts;
        let same = line.bytes == bytes && is_same_time(line.changed, changed) && line.landed == file.landed;
        line.found().filter(|_| same)
    }
}

/// Whether two times of a file are the same: some shares tell whole seconds only.
fn is_same_time(a: i64, b: i64) -> bool {
    let whole = |time: i64| time.rem_euclid(1000) == 0;
    a == b || a.div_euclid(1000) == b.div_euclid(1000) && (whole(a) || whole(b))
}

#[cfg(test)]
mod tests {
    use super::{FileFinding, FileNow, FindingLine, LookedFiles};
    use crate::frames::Number;
    use crate::picture::{OddKind, Oddity};

    #[test]
    fn a_finding_speaks_of_one_file_until_that_changes() {
        let file = |facts: (u64, i64), landed: &'static str| FileNow {
            place: "{renders}/a.{frame:4}.png",
            number: Number::new(-3),
            facts,
            landed,
        };
        let odd = Oddity { kind: OddKind::of("picture-black").expect("a check"), why: "it is black".to_owned() };
        let all = [
            FileFinding::Unreadable("it cannot be read: \"EIO\"".to_owned()),
            FileFinding::Broken("cut off\nafter 7 bytes".to_owned()),
            FileFinding::Changed(String::new()),
            FileFinding::Odd(odd),
            FileFinding::Good,
        ];
        let mut looked = LookedFiles::default();
        for found in all {
            looked.read(&FindingLine::new(&file((70, 1_500), "tag"), &found).text());
            looked.read("{\"place\":\"{renders}/a.{frame:4}.png\",\"num\n\u{0}{}\n");
            let of = |facts, tag| looked.of(&file(facts, tag));
            assert_eq!(of((70, 1_500), "tag"), Some(found.clone()));
            // A share that tells whole seconds.
            assert_eq!(of((70, 1_000), "tag"), Some(found));
            for other in [of((71, 1_500), "tag"), of((70, 1_501), "tag"), of((70, 2_000), "tag"), of((70, 1_500), "")] {
                assert_eq!(other, None);
            }
            let known = file((70, 1_500), "tag");
            assert_eq!(looked.of(&FileNow { number: Number::new(3), ..known }), None);
            assert_eq!(looked.of(&FileNow { place: "", ..known }), None);
        }
    }
}
