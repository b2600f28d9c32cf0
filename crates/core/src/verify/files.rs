//! The files of a folder, by name.

use rayon::iter::{IndexedParallelIterator, IntoParallelIterator, IntoParallelRefIterator, ParallelIterator};
use rayon::slice::ParallelSliceMut;

use crate::template::{Pattern, Piece};

/// Names and lengths of files. All names lie in one text: a million texts of their own would cost more than all else that
/// is done with them.
#[derive(Clone, Debug, Default)]
pub struct Files {
    names: String,
    rows: Vec<Row>,
}

#[derive(Clone, Copy, Debug)]
struct Row {
    start: usize,
    end: usize,
    bytes: u64,
}

impl Files {
    /// Adds a file at the end. [`merged`](Files::merged) brings all into their order.
    pub fn push(&mut self, name: &str, bytes: u64) {
        let start = self.names.len();
        self.names.push_str(name);
        self.rows.push(Row { start, end: self.names.len(), bytes });
    }

    /// All files of some lists, by name.
    #[must_use]
    pub fn merged(lists: &[Files]) -> Files {
        // Names of one folder begin alike: the bytes after that tell most of them apart at once.
        let first = lists.iter().find(|list| !list.rows.is_empty()).map_or("", |list| list.name(0));
        let alike = |name: &str| name.bytes().zip(first.bytes()).take_while(|(a, b)| a == b).count();
        let own = |list: &Files| list.iter().map(|(name, _)| alike(name)).min();
        let alike = lists.par_iter().filter_map(own).min().unwrap_or(0);
        let key = |name: &str| {
            let mut bytes = [0; 8];
            bytes.iter_mut().zip(name.bytes().skip(alike)).for_each(|(to, from)| *to = from);
            u64::from_be_bytes(bytes)
        };
        let keyed = |(at, list): (usize, &Files)| {
            list.iter().enumerate().map(|(row, (name, _))| (key(name), at, row)).collect::<Vec<_>>()
        };
        let mut order: Vec<(u64, usize, usize)> = lists.par_iter().enumerate().flat_map_iter(keyed).collect();
        let name = |at: usize, row: usize| lists[at].name(row);
        order.par_sort_unstable_by(|(a, x, i), (b, y, j)| a.cmp(b).then_with(|| name(*x, *i).cmp(name(*y, *j))));
        let mut all = Files {
            names: String::with_capacity(lists.iter().map(|list| list.names.len()).sum()),
            rows: Vec::with_capacity(order.len()),
        };
        for (_, at, row) in order {
            all.push(lists[at].name(row), lists[at].bytes(row));
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

    /// Names and lengths.
    pub fn iter(&self) -> impl Iterator<Item = (&str, u64)> {
        self.rows.iter().map(|row| (self.text(row), row.bytes))
    }

    /// The name of a file.
    ///
    /// # Panics
    /// When there are not so many.
    #[must_use]
    pub fn name(&self, row: usize) -> &str {
        self.text(&self.rows[row])
    }

    /// The length of a file in bytes.
    ///
    /// # Panics
    /// When there are not so many.
    #[must_use]
    pub fn bytes(&self, row: usize) -> u64 {
        self.rows[row].bytes
    }

    /// The length of the file of a name.
    #[must_use]
    pub fn find(&self, name: &str) -> Option<u64> {
        let row = self.rows.binary_search_by(|row| self.text(row).cmp(name)).ok()?;
        Some(self.rows[row].bytes)
    }

    /// The files whose names are of a pattern, as rows, with the numbers in their names.
    #[must_use]
    pub fn of(&self, pattern: &Pattern) -> Vec<(usize, i64)> {
        // Only names that begin as the pattern does are read.
        let head = match pattern.pieces().first() {
            Some(Piece::Text(text)) => text.as_str(),
            _ => "",
        };
        let from = self.rows.partition_point(|row| self.text(row) < head);
        let until = from + self.rows[from..].partition_point(|row| self.text(row).starts_with(head));
        (from..until).into_par_iter().filter_map(|row| Some((row, pattern.read(self.name(row))?))).collect()
    }

    fn text(&self, row: &Row) -> &str {
        &self.names[row.start..row.end]
    }
}

#[cfg(test)]
mod tests {
    use super::Files;
    use crate::template::Pattern;

    #[test]
    fn lists_become_one_by_name_and_are_read_by_pattern() {
        let names = ["a.0002.png", "b", "a.0010.png", "", "a.0001.png", "a.0001.pngx", "ä.0001.png", "a.1.png"];
        let mut lists = vec![Files::default(); 3];
        names.iter().enumerate().for_each(|(at, name)| lists[at % 3].push(name, at as u64));
        let all = Files::merged(&lists);
        let mut sorted: Vec<(&str, u64)> = names.iter().enumerate().map(|(at, name)| (*name, at as u64)).collect();
        sorted.sort_unstable();
        assert_eq!(all.iter().collect::<Vec<_>>(), sorted);
        assert!(names.iter().enumerate().all(|(at, name)| all.find(name) == Some(at as u64)));
        assert_eq!((all.find("a"), all.len()), (None, names.len()));
        let mut pattern = Pattern::default();
        pattern.push_text("a.");
        pattern.push_frame(4);
        pattern.push_text(".png");
        let of = |row: usize| all.name(row).to_owned();
        let found: Vec<(String, i64)> = all.of(&pattern).into_iter().map(|(row, number)| (of(row), number)).collect();
        let frames = [1, 2, 10].map(|frame| (pattern.name(frame), frame));
        assert_eq!(found, frames);
    }
}
