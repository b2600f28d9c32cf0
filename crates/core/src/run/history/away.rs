//! Files that were put away, and files that were adopted: what journals say of them until it is undone.

use std::collections::{BTreeMap, HashMap};

use super::{History, JournalReading, Record};
use crate::frames::Number;
use crate::plan::Series;
use crate::run::event::{Gone, GoneBy};

/// A file that was put away.
#[derive(Clone, Debug)]
pub struct PutAway {
    /// Its last landing, where it had one.
    pub record: Option<Record>,
    /// What the journal says.
    pub gone: Gone,
    /// The number in its name.
    pub number: Number,
    /// Which session put it away.
    pub session: usize,
    /// Whether somebody was about to bring it back.
    pub back: bool,
}

impl History {
    /// Takes in what a journal says of files that were put away, given back and adopted. `landed` has the landings of the
    /// journals before it, by its patterns.
    pub(super) fn put_away(&mut self, journal: &mut JournalReading, landed: &mut [Vec<(Number, Record)>]) {
        let session = self.sessions.len();
        let mut names: Vec<&str> = vec![""; landed.len()];
        journal.patterns.iter().for_each(|(pattern, at)| names[*at] = pattern);
        // What landed again is there again.
        for (pattern, number, _) in &journal.landed {
            if let Some(gone) = self.gone.get_mut(names[*pattern]) {
                gone.remove(number);
            }
        }
        let mut numbers: HashMap<usize, BTreeMap<Number, Gone>> = HashMap::new();
        for (pattern, number, gone) in std::mem::take(&mut journal.gone) {
            numbers.entry(pattern).or_default().insert(number, gone);
        }
        for (pattern, gone) in numbers {
            let own = self.gone.entry(names[pattern].to_owned()).or_default();
            let mut last: BTreeMap<Number, Record> = BTreeMap::new();
            landed[pattern].retain_mut(|(number, record)| {
                let Some(gone) = gone.get(number) else { return true };
                last.insert(*number, *record);
                record.gone = true;
                // Nobody vouches any more for what stays where it is.
                !gone.to.is_empty()
            });
            for (number, gone) in gone {
                if gone.by == GoneBy::Undo {
                    if gone.to.is_empty() {
                        self.adopted.remove(&(gone.series, gone.frame));
                    }
                    own.remove(&number);
                } else {
                    own.insert(number, PutAway { record: last.remove(&number), gone, number, session, back: false });
                }
            }
        }
        for (pattern, number) in std::mem::take(&mut journal.back) {
            if let Some(away) = self.gone.get_mut(names[pattern]).and_then(|gone| gone.get_mut(&number)) {
                away.back = true;
            }
            let own = landed[pattern].iter_mut().filter(|(own, _)| *own == number);
            own.for_each(|(_, record)| record.gone = false);
        }
        if !journal.adopted.is_empty() {
            self.adopted = std::mem::take(&mut journal.adopted);
        }
    }

    /// A landing is told of a frame: the adoption of it is over, unless it is the adoption's own.
    pub(super) fn is_adopted_no_more(&mut self, journal: &mut JournalReading, series: &str, frame: i64) {
        let is_own = journal.adopting.take().is_some_and(|own| own.0 == series && own.1 == frame);
        if !(is_own || self.adopted.is_empty() && journal.adopted.is_empty()) {
            let key = (series.to_owned(), frame);
            self.adopted.remove(&key);
            journal.adopted.remove(&key);
        }
    }

    /// Files of a series that were put away and have not landed since, by the numbers in their names.
    #[must_use]
    pub fn gone(&self, series: &Series) -> Option<&BTreeMap<Number, PutAway>> {
        self.gone.get(&series.place)
    }

    /// All that was put away and has not landed since: the place of its series, and what is known of it. Sessions that put
    /// files away later come first.
    #[must_use]
    pub fn all_put_away(&self) -> Vec<(&str, &PutAway)> {
        let all = self.gone.iter().flat_map(|(place, gone)| gone.values().map(move |away| (&**place, away)));
        let mut all: Vec<(&str, &PutAway)> = all.collect();
        all.sort_by_key(|(place, away)| (std::cmp::Reverse(away.session), *place, away.number));
        all
    }

    /// What was adopted last and is not known to be given back: series and frame, and the name before, which is empty where
    /// it is the same.
    #[must_use]
    pub fn adopted(&self) -> &BTreeMap<(String, i64), String> {
        &self.adopted
    }
}
