//! Arguments with their tokens expanded. A word that is a list stands for several arguments.

use std::collections::BTreeSet;

use crate::adapter::{Adapter, Argument, Word};
use crate::source::{Place, Spanned};
use crate::template::{Form, Lookup, Part, Template, Value, expand_text};

/// A token's value.
type Values<'v> = &'v dyn Fn(&str) -> Lookup;

/// All arguments; lists that lack a value are left out.
pub fn spread(arguments: &[Argument], adapter: &Adapter, values: Values<'_>) -> Vec<String> {
    let of = |argument: &Argument| match argument {
        Argument::Always(template) => one(template, adapter, values).unwrap_or_default(),
        Argument::Group(templates) => group(templates, adapter, values),
    };
    arguments.iter().flat_map(of).collect()
}

/// All templates of a list, or nothing when one of them lacks a value.
pub fn group(templates: &[Spanned<Template>], adapter: &Adapter, values: Values<'_>) -> Vec<String> {
    let all = templates.iter().map(|template| one(template, adapter, values));
    all.collect::<Option<Vec<_>>>().unwrap_or_default().concat()
}

/// One template; `None` where it lacks a value.
pub fn one(template: &Spanned<Template>, adapter: &Adapter, values: Values<'_>) -> Option<Vec<String>> {
    match list(template, adapter, values) {
        Some(list) => Some(spread(list, adapter, values)),
        None => expand_text(&template.value, values).map(|word| vec![word]),
    }
}

/// The list that stands for a template which is one token and nothing else.
fn list<'a>(template: &Spanned<Template>, adapter: &'a Adapter, values: Values<'_>) -> Option<&'a [Argument]> {
    let [Part::Token(token)] = template.value.parts() else { return None };
    let words = adapter.words.get(&token.name).filter(|_| token.form == Form::Usual)?;
    let value = match values(&token.name) {
        Lookup::Value(Value::Text(value)) => value,
        Lookup::Value(Value::Number(number)) => number.to_string(),
        _ => return None,
    };
    match words.get(&value)? {
        Word::Arguments(list) => Some(list),
        Word::Text(_) => None,
    }
}

/// What a command line brings to its program.
#[derive(Debug, Default)]
pub struct Delivered {
    /// Tokens whose values it has.
    pub tokens: BTreeSet<String>,
    /// Arguments that are always there and lack a value: the place, and the token.
    pub without_value: Vec<(Place, String)>,
}

impl Delivered {
    /// Follows some arguments as [`spread`] does.
    pub fn follow(&mut self, arguments: &[Argument], adapter: &Adapter, values: Values<'_>) {
        for argument in arguments {
            match argument {
                Argument::Always(template) => {
                    if one(template, adapter, values).is_some() {
                        self.add(template, adapter, values);
                    } else {
                        let has_none = |token: &&crate::template::Token| {
                            expand_text(&Template::of((*token).clone()), values).is_none()
                        };
                        let token = template.value.tokens().find(has_none).map(|token| token.name.clone());
                        self.without_value.extend(token.map(|token| (template.at, token)));
                    }
                }
                Argument::Group(templates) => self.group(templates, adapter, values),
            }
        }
    }

    /// Follows a list that is left out when it lacks a value.
    pub fn group(&mut self, templates: &[Spanned<Template>], adapter: &Adapter, values: Values<'_>) {
        if templates.iter().all(|template| one(template, adapter, values).is_some()) {
            templates.iter().for_each(|template| self.add(template, adapter, values));
        }
    }

    fn add(&mut self, template: &Spanned<Template>, adapter: &Adapter, values: Values<'_>) {
        self.tokens.extend(template.value.tokens().map(|token| token.name.clone()));
        if let Some(list) = list(template, adapter, values) {
            self.follow(list, adapter, values);
        }
    }
}
