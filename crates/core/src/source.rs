//! Texts and places in them. Every value of a sheet carries its place; lines and columns are worked out only when shown.

use std::ops::Range;

/// Which text of a [`Sources`] list.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct FileId(pub u16);

/// A byte range in one text.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Place {
    /// The text.
    pub file: FileId,
    /// First byte.
    pub start: u32,
    /// One past the last byte.
    pub end: u32,
}

impl Place {
    /// A place from a parser's byte range; ranges beyond 4 GiB are cut.
    #[must_use]
    pub fn new(file: FileId, range: Range<usize>) -> Place {
        let cut = |at: usize| u32::try_from(at).unwrap_or(u32::MAX);
        Place { file, start: cut(range.start), end: cut(range.end) }
    }

    /// A part of this place, `range` counted from its start.
    #[must_use]
    pub fn within(self, range: Range<usize>) -> Place {
        let start = self.start as usize;
        Place::new(self.file, start + range.start..start + range.end)
    }
}

/// A value and where it was written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Spanned<T> {
    /// The value.
    pub value: T,
    /// Where it stands.
    pub at: Place,
}

impl<T> Spanned<T> {
    /// A value at a place.
    pub fn new(value: T, at: Place) -> Spanned<T> {
        Spanned { value, at }
    }
}

/// One text: a sheet, an adapter, or what was typed on the command line.
#[derive(Clone, Debug)]
pub struct Source {
    /// How the text is called in messages: a path as the user would write it.
    pub name: String,
    /// The text itself.
    pub text: String,
    /// Where its lines start, so that a place is found without reading all before it.
    starts: Vec<usize>,
}

/// All texts of a call.
#[derive(Clone, Debug, Default)]
pub struct Sources {
    files: Vec<Source>,
}

/// Lines that are kept before and after what is asked for.
const AROUND: usize = 4;

/// Some lines of a text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Excerpt<'e> {
    /// The lines.
    pub text: &'e str,
    /// The byte at which they start in the whole.
    pub start: usize,
    /// The number of the first, from 1.
    pub line: usize,
}

/// A place as people count: lines and columns from 1, columns in characters.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LineColumn {
    /// Line, from 1.
    pub line: usize,
    /// Column, from 1.
    pub column: usize,
}

impl Sources {
    /// Takes a text in and returns its number.
    pub fn add(&mut self, name: impl Into<String>, text: impl Into<String>) -> FileId {
        let text = text.into();
        let starts = std::iter::once(0).chain(text.match_indices('\n').map(|(at, _)| at + 1)).collect();
        self.files.push(Source { name: name.into(), text, starts });
        FileId(u16::try_from(self.files.len() - 1).unwrap_or(u16::MAX))
    }

    /// How many texts there are.
    #[must_use]
    pub fn count(&self) -> u16 {
        u16::try_from(self.files.len()).unwrap_or(u16::MAX)
    }

    /// All texts, in the order in which they were read.
    pub fn all(&self) -> impl Iterator<Item = &Source> {
        self.files.iter()
    }

    /// The text with a number.
    #[must_use]
    pub fn get(&self, file: FileId) -> &Source {
        &self.files[file.0 as usize]
    }

    /// The lines from one byte to another with a few around them, so that a finding is shown without reading all before it.
    #[must_use]
    pub fn excerpt(&self, file: FileId, from: u32, to: u32) -> Excerpt<'_> {
        let source = self.get(file);
        let at = |byte: u32| source.starts.partition_point(|start| *start <= byte as usize);
        let first = at(from).saturating_sub(1 + AROUND);
        let end = source.starts.get(at(to) + AROUND).copied().unwrap_or(source.text.len());
        let start = source.starts[first];
        Excerpt { text: &source.text[start..end], start, line: first + 1 }
    }

    /// Where a place starts and ends, for people.
    #[must_use]
    pub fn lines(&self, at: Place) -> (LineColumn, LineColumn) {
        let source = self.get(at.file);
        (source.line_column(at.start as usize), source.line_column(at.end as usize))
    }

    /// `file:line`, for tables.
    #[must_use]
    pub fn short(&self, at: Place) -> String {
        format!("{}:{}", self.get(at.file).name, self.lines(at).0.line)
    }
}

impl Source {
    fn line_column(&self, at: usize) -> LineColumn {
        let mut at = at.min(self.text.len());
        while !self.text.is_char_boundary(at) {
            at -= 1;
        }
        let line = self.starts.partition_point(|start| *start <= at);
        let start = self.starts[line - 1];
        LineColumn { line, column: self.text[start..at].chars().count() + 1 }
    }
}
