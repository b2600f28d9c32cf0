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
}

/// All texts of a call.
#[derive(Clone, Debug, Default)]
pub struct Sources {
    files: Vec<Source>,
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
        self.files.push(Source { name: name.into(), text: text.into() });
        FileId(u16::try_from(self.files.len() - 1).unwrap_or(u16::MAX))
    }

    /// The text with a number.
    #[must_use]
    pub fn get(&self, file: FileId) -> &Source {
        &self.files[file.0 as usize]
    }

    /// Where a place starts and ends, for people.
    #[must_use]
    pub fn lines(&self, at: Place) -> (LineColumn, LineColumn) {
        let text = &self.get(at.file).text;
        (line_column(text, at.start as usize), line_column(text, at.end as usize))
    }

    /// `file:line`, for tables.
    #[must_use]
    pub fn short(&self, at: Place) -> String {
        format!("{}:{}", self.get(at.file).name, self.lines(at).0.line)
    }
}

fn line_column(text: &str, at: usize) -> LineColumn {
    let mut at = at.min(text.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    let before = &text[..at];
    let start = before.rfind('\n').map_or(0, |newline| newline + 1);
    LineColumn { line: before.matches('\n').count() + 1, column: before[start..].chars().count() + 1 }
}
