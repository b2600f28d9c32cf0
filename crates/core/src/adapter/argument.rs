//! Arguments of a program, and the conditions under which they are there.

use crate::source::Spanned;
use crate::template::{Part, Template, Token};

/// Tokens that name a pass or its file, so that an inner list with one is repeated for each pass.
pub const OF_PASS: [&str; 5] = ["pass", "word", "out", "out_folder", "out_stem"];

/// One argument, or several that stay together.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Argument {
    /// Always there.
    Always(Spanned<Template>),
    /// Left out when a token in it has no value; repeated for each pass when it names a pass. A list within it is left out
    /// alone.
    Group(Vec<Argument>),
}

impl Argument {
    /// Its templates, those of inner lists included.
    #[must_use]
    pub fn templates(&self) -> Vec<&Spanned<Template>> {
        match self {
            Argument::Always(template) => vec![template],
            Argument::Group(list) => list.iter().flat_map(Argument::templates).collect(),
        }
    }

    /// Whether it is repeated for each pass of a call.
    #[must_use]
    pub fn is_of_pass(&self) -> bool {
        matches!(self, Argument::Group(_)) && self.names_pass()
    }

    fn names_pass(&self) -> bool {
        match self {
            Argument::Always(template) => OF_PASS.iter().any(|token| template.value.has(token)),
            Argument::Group(list) => list.iter().any(Argument::names_pass),
        }
    }
}

/// The program's own word for one of our values.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Word {
    /// One word.
    Text(String),
    /// Several arguments, in place of an argument that is the token and nothing else.
    Arguments(Vec<Argument>),
}

/// What a token stands for that is an argument by itself and may become several: `None` for all other tokens.
#[must_use]
pub fn list_token(template: &Template) -> Option<&Token> {
    let [Part::Token(token)] = template.parts() else { return None };
    let is_list = ["variables", "natives"].contains(&token.name.as_str()) || token.name.starts_with("when.");
    is_list.then_some(token)
}

/// When `{when.NAME}` has a value: all of it has to hold.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Condition {
    /// Systems, by name; any where there are none.
    pub systems: Vec<String>,
    /// Tokens that must have a value.
    pub given: Vec<String>,
    /// Tokens that must have none.
    pub absent: Vec<String>,
    /// Tokens that have to have one of some values.
    pub values: Vec<(String, Vec<String>)>,
}

impl Condition {
    /// The tokens that it asks for.
    pub fn tokens(&self) -> impl Iterator<Item = &str> {
        let values = self.values.iter().map(|(token, _)| token);
        self.given.iter().chain(&self.absent).chain(values).map(String::as_str)
    }
}
