//! The files of a folder, by name.

use std::collections::BTreeSet;

use crate::frames::Number;
use crate::template::{Pattern, Piece};
use crate::threads::{Threads, map};

/// What a folder says of a file: its length in bytes, and when it was last written, in milliseconds
/// since 1970.
pub type FileFacts = (u64, i64);

/// Names and lengths of files. All names lie in one text: a million texts of their own would cost more than all else that
/// is done with them.
#[derive(Clone, Debug, Default)]
pub struct Files {
    names: String,
    rows: Vec<FileRow>,
    /// Names of what is no regular file: folders, links, pipes, devices.
    others: BTreeSet<String>,
}

#[derive(Clone, Copy, Debug)]
struct FileRow {
    start: usize,
    end: usize,
    bytes: u64,
    changed: i64,
}

impl Files {
    /// Adds a file at the end. [`merged`](Files::merged) brings all into their order.
    pub fn push(&mut self, name: &str, (bytes, changed): FileFacts) {
        let start = self.names.len();
        self.names.push_str(name);
        self.rows.push(FileRow { start, end: self.names.len(), bytes, changed });
    }

    /// Adds the name of something that is no regular file.
    pub fn push_other(&mut self, name: &str) {
        self.others.insert(name.to_owned());
    }

    /// Names of what is no regular file.
    #[must_use]
    pub fn others(&self) -> &BTreeSet<String> {
        &self.others
    }

    /// All files of some lists, by name.
    #[must_use]
    pub fn merged(lists: &[Files], threads: &dyn Threads) -> Files {
        // Names of one folder begin alike: the bytes after that tell most of them apart at once.
        let first = lists.iter().find(|list| !list.rows.is_empty()).map_or("", |list| list.name(0));
        let alike = |name: &str| name.bytes().zip(first.bytes()).take_while(|(a, b)| a == b).count();
        let own = map(threads, lists, |list| list.iter().map(|(name, _)| alike(name)).min());
        let alike = own.into_iter().flatten().min().unwrap_or(0);
        let key = |name: &str| {
            let mut bytes = [0; 8];
            bytes.iter_mut().zip(name.bytes().skip(alike)).for_each(|(to, from)| *to = from);
            u64::from_be_bytes(bytes)
        };
        type Place = (u64, usize, usize);
        let name = |place: &Place| lists[place.1].name(place.2);
        let by_name = |a: &Place, b: &Place| a.0.cmp(&b.0).then_with(|| name(a).cmp(name(b)));
        let numbered: Vec<(usize, &Files)> = lists.iter().enumerate().collect();
        let sorted = map(threads, &numbered, |(at, list)| {
            let mut own: Vec<Place> = list.iter().enumerate().map(|(row, (name, _))| (key(name), *at, row)).collect();
            own.sort_unstable_by(by_name);
            own
        });
        let mut order = sorted.concat();
        // Stable, since that one takes runs that are in order as they are.
        order.sort_by(by_name);
        let mut all = Files {
            names: String::with_capacity(lists.iter().map(|list| list.names.len()).sum()),
            rows: Vec::with_capacity(order.len()),
            others: lists.iter().flat_map(|list| list.others.iter().cloned()).collect(),
        };
        for place in &order {
            all.push(name(place), lists[place.1].facts(place.2));
        }
        all
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// Names and what is known of the files.
    pub fn iter(&self) -> impl Iterator<Item = (&str, FileFacts)> {
        self.rows.iter().map(|row| (self.text(row), (row.bytes, row.changed)))
    }

    /// The name of a file.
    ///
    /// # Panics
    /// When there are not so many.
    #[must_use]
    pub fn name(&self, row: usize) -> &str {
        self.text(&self.rows[row])
    }

    /// What is known of a file.
    ///
    /// # Panics
    /// When there are not so many.
    #[must_use]
    pub fn facts(&self, row: usize) -> FileFacts {
        (self.rows[row].bytes, self.rows[row].changed)
    }

    /// What is known of the file of a name.
    #[must_use]
    pub fn find(&self, name: &str) -> Option<FileFacts> {
        let row = self.rows.binary_search_by(|row| self.text(row).cmp(name)).ok()?;
        Some(self.facts(row))
    }

    /// The files whose names are of a pattern, as rows, with the numbers in their names.
    #[must_use]
    pub fn of(&self, pattern: &Pattern, threads: &dyn Threads) -> Vec<(usize, Number)> {
        // Only names that begin as the pattern does are read.
        let head = match pattern.pieces().first() {
            Some(Piece::Text(text)) => text.as_str(),
            _ => "",
        };
        let from = self.rows.partition_point(|row| self.text(row) < head);
        let until = from + self.rows[from..].partition_point(|row| self.text(row).starts_with(head));
        let rows: Vec<usize> = (from..until).collect();
        let read = map(threads, &rows, |row| Some((*row, pattern.read(self.name(*row))?)));
        read.into_iter().flatten().collect()
    }

    fn text(&self, row: &FileRow) -> &str {
        &self.names[row.start..row.end]
    }
}

#[cfg(test)]
mod tests {
    use super::{FileFacts, Files, Number};
    use crate::template::Pattern;
    use crate::threads::OneByOne;

    #[test]
    fn lists_become_one_by_name_and_are_read_by_pattern() {
        let names = ["a.0002.png", "b", "a.0010.png", "", "a.0001.png", "a.0001.pngx", "ä.0001.png", "a.1.png"];
        let mut lists = vec![Files::default(); 3];
        names.iter().enumerate().for_each(|(at, name)| lists[at % 3].push(name, (at as u64, 7)));
        let all = Files::merged(&lists, &OneByOne);
        let mut sorted: Vec<(&str, FileFacts)> =
            names.iter().enumerate().map(|(at, name)| (*name, (at as u64, 7))).collect();
        sorted.sort_unstable();
        assert_eq!(all.iter().collect::<Vec<_>>(), sorted);
        assert!(names.iter().enumerate().all(|(at, name)| all.find(name) == Some((at as u64, 7))));
        assert_eq!((all.find("a"), all.len()), (None, names.len()));
        let mut pattern = Pattern::default();
        pattern.push_text("a.");
        pattern.push_frame(4);
        pattern.push_text(".png");
        let of = |row: usize| all.name(row).to_owned();
        let found: Vec<(String, Number)> =
            all.of(&pattern, &OneByOne).into_iter().map(|(row, number)| (of(row), number)).collect();
        let frames = [1, 2, 10].map(Number::new).map(|frame| (pattern.name(frame), frame));
        assert_eq!(found, frames);
    }
}
