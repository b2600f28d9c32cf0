//! Templates: text with `{tokens}`. Parsed once, expanded many times, and printed as they were spelt.

mod clock;
mod expand;
pub mod foreign;
mod listing;
mod parse;
mod pattern;
#[cfg(test)]
mod tests;
pub mod token;

use std::fmt;
use std::ops::Range;

pub use clock::Clock;
pub use expand::{Lookup, TokenTrouble, TroubleKind, Value, expand, expand_text, slug};
pub use parse::TemplateError;
pub use pattern::{Pattern, Piece, folded};

/// A parsed template. Its spelling is kept, so printing it gives the very text back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Template {
    text: String,
    parts: Vec<Part>,
}

/// A piece of a template.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Part {
    /// Text that stands for itself, doubled braces already single.
    Text(String),
    /// A token.
    Token(Token),
}

/// `{_name:form|filter}`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Token {
    /// `_`, `-`, `.` or `/`, written before the value; with no value nothing at all is written.
    pub sign: Option<char>,
    /// The token's name.
    pub name: String,
    /// What follows the colon: a width for numbers, a clock form for times.
    pub form: Form,
    /// What is done to the value.
    pub filter: Option<Filter>,
    /// The bytes of the template that the token takes, braces included.
    pub range: Range<usize>,
}

/// How a value is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Form {
    /// The usual way.
    Usual,
    /// Zero-padded to at least so many digits.
    Width(usize),
    /// Of `%Y %m %d %H %M %S %j`.
    Clock(String),
    /// A number from 0 to 100 laid onto a scale of another program: what 0 and what 100 become there.
    Onto(i64, i64),
}

/// What is done to a value before it is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Filter {
    /// Lower case.
    Lower,
    /// Upper case.
    Upper,
    /// Lower case, accents dropped, every run of other characters one `-`, trimmed.
    Slug,
}

impl Token {
    /// Its name; where several tokens are joined with `+`, the name of each, too; and of `{table.entry}` the table.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        let each = self.name.split('+').filter(|name| *name != self.name);
        let table = self.name.split_once('.').map(|(table, _)| table);
        std::iter::once(self.name.as_str()).chain(each).chain(table)
    }
}

impl Template {
    /// Reads a template.
    ///
    /// # Errors
    /// For text that is none, with the bytes at fault.
    pub fn parse(text: &str) -> Result<Template, TemplateError> {
        Ok(Template { text: text.to_owned(), parts: parse::parts(text)? })
    }

    /// A template of one token.
    #[must_use]
    pub fn of(token: Token) -> Template {
        Template { text: format!("{{{}}}", token.name), parts: vec![Part::Token(token)] }
    }

    /// Its pieces in order.
    #[must_use]
    pub fn parts(&self) -> &[Part] {
        &self.parts
    }

    /// Its tokens in order.
    pub fn tokens(&self) -> impl Iterator<Item = &Token> {
        self.parts.iter().filter_map(|part| match part {
            Part::Token(token) => Some(token),
            Part::Text(_) => None,
        })
    }

    /// Whether a token of this name is in it.
    #[must_use]
    pub fn has(&self, name: &str) -> bool {
        self.tokens().any(|token| token.names().any(|own| own == name))
    }
}

impl fmt::Display for Template {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}
