//! Files that were put away, and files that were adopted: what journals say of them until it is undone.

use std::collections::{BTreeMap, HashMap};

use super::{History, Reading, Record};
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
}

impl History {
    /// Takes in what a journal says of files that were put away, given back and adopted. `landed` has the landings of the
    /// journals before it, by its patterns.
    pub(super) fn put_away(&mut self, journal: &mut Reading, landed: &mut [Vec<(Number, Record)>]) {
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
        for (pattern, mut gone) in numbers {
            let own = self.gone.entry(names[pattern].to_owned()).or_default();
            let mut last: BTreeMap<Number, Record> = BTreeMap::new();
            landed[pattern].retain(|(number, record)| {
                let is_gone = gone.contains_key(number);
                if is_gone {
                    last.insert(*number, *record);
                }
                !is_gone
            });
            while let Some((number, gone)) = gone.pop_first() {
                if gone.by == GoneBy::Undo {
                    self.adopted.retain(|(series, frame, _)| (series, *frame) != (&gone.series, gone.frame));
                    own.remove(&number);
                } else {
                    own.insert(number, PutAway { record: last.remove(&number), gone, number, session });
                }
            }
        }
        if !journal.adopted.is_empty() {
            self.adopted = std::mem::take(&mut journal.adopted);
        }
    }

    /// Files of a series that were put away and have not landed since, by the numbers in their names.
    #[must_use]
    pub fn gone(&self, series: &Series) -> Option<&BTreeMap<Number, PutAway>> {
        self.gone.get(&series.place)
    }

    /// Which session put files away last, and has them still.
    #[must_use]
    pub fn last_clean(&self) -> Option<usize> {
        self.gone.values().flat_map(BTreeMap::values).map(|away| away.session).max()
    }

    /// What a session put away that is not back: the place of its series, and what is known of it.
    pub fn put_away_by(&self, session: usize) -> impl Iterator<Item = (&str, &PutAway)> {
        let all = self.gone.iter().flat_map(|(place, gone)| gone.values().map(move |away| (&**place, away)));
        all.filter(move |(_, away)| away.session == session)
    }

    /// What was adopted last and not given back: series, frame, and the name before, which is empty where it is the same.
    #[must_use]
    pub fn adopted(&self) -> &[(String, i64, String)] {
        &self.adopted
    }
}
