//! Arguments with their tokens expanded. A word that is a list stands for several arguments.

use std::collections::BTreeSet;

use crate::adapter::{Adapter, Argument, OF_PASS, Word, list_token};
use crate::source::{Place, Spanned};
use crate::template::{Form, Lookup, Part, Template, Value, expand_text};

/// What arguments are filled with.
#[derive(Clone, Copy)]
pub struct Filling<'f> {
    /// Whose words there are.
    pub adapter: &'f Adapter,
    /// A token's value.
    pub values: &'f dyn Fn(&str) -> Lookup,
    /// The arguments that a token stands for which is an argument by itself; `None` where it stands for none.
    pub lists: &'f dyn Fn(&str) -> Option<Vec<String>>,
}

impl Filling<'_> {
    /// All arguments; lists that lack a value are left out.
    #[must_use]
    pub fn spread(&self, arguments: &[Argument]) -> Vec<String> {
        arguments.iter().flat_map(|argument| self.argument(argument).unwrap_or_default()).collect()
    }

    /// One argument, or those of a list; `None` where a value is missing.
    fn argument(&self, argument: &Argument) -> Option<Vec<String>> {
        match argument {
            Argument::Always(template) => self.one(template),
            Argument::Group(list) => {
                let own = list.iter().map(|inner| match inner {
                    Argument::Always(template) => self.one(template),
                    Argument::Group(_) => Some(self.argument(inner).unwrap_or_default()),
                });
                Some(own.collect::<Option<Vec<_>>>()?.concat())
            }
        }
    }

    /// All templates of a list, or nothing when one of them lacks a value.
    #[must_use]
    pub fn group(&self, templates: &[Spanned<Template>]) -> Vec<String> {
        let all = templates.iter().map(|template| self.one(template));
        all.collect::<Option<Vec<_>>>().unwrap_or_default().concat()
    }

    /// One template; `None` where it lacks a value.
    fn one(&self, template: &Spanned<Template>) -> Option<Vec<String>> {
        if let Some(token) = list_token(&template.value) {
            return (self.lists)(&token.name);
        }
        match self.list(template) {
            Some(list) => Some(self.spread(list)),
            None => expand_text(&template.value, self.values).map(|word| vec![word]),
        }
    }

    /// The list that stands for a template which is one token and nothing else.
    fn list(&self, template: &Spanned<Template>) -> Option<&[Argument]> {
        let [Part::Token(token)] = template.value.parts() else { return None };
        let words = self.adapter.words.get(&token.name).filter(|_| token.form == Form::Usual)?;
        let value = match (self.values)(&token.name) {
            Lookup::Value(Value::Text(value)) => value,
            Lookup::Value(Value::Number(number)) => number.to_string(),
            _ => return None,
        };
        match words.get(&value)? {
            Word::Arguments(list) => Some(list),
            Word::Text(_) => None,
        }
    }
}

/// What a command line brings to its program.
#[derive(Debug, Default)]
pub struct Delivered {
    /// Tokens whose values it has.
    pub tokens: BTreeSet<String>,
    /// Arguments that are always there and lack a value: the place, and the token.
    pub without_value: Vec<(Place, String)>,
    /// Lines of written files that are always there and lack a value: the place, and the token.
    pub lines: Vec<(Place, String)>,
    /// Lists that name a pass or its file and lack a value, so that the pass is never asked for: the place, and the token.
    pub dropped: Vec<(Place, String)>,
}

impl Delivered {
    /// Follows some arguments as [`Filling::spread`] does.
    pub fn follow(&mut self, arguments: &[Argument], filling: &Filling<'_>) {
        arguments.iter().for_each(|argument| self.argument(argument, filling));
    }

    fn argument(&mut self, argument: &Argument, filling: &Filling<'_>) {
        self.tested(argument, filling);
        match argument {
            Argument::Always(template) => self.always(template, filling),
            Argument::Group(list) if filling.argument(argument).is_some() => {
                for inner in list {
                    match inner {
                        Argument::Always(template) => self.add(template, filling),
                        Argument::Group(_) => self.argument(inner, filling),
                    }
                }
            }
            Argument::Group(list) if argument.is_of_pass() => {
                let missing = list.iter().find_map(|inner| match inner {
                    Argument::Always(template) => Some((template.at, missing(template, filling)?)),
                    Argument::Group(_) => None,
                });
                self.dropped.extend(missing);
            }
            Argument::Group(_) => {}
        }
    }

    /// A variable or native setting whose value a condition asks for has arrived without the argument too: a flag that is
    /// not there says as much as one that is.
    fn tested(&mut self, argument: &Argument, filling: &Filling<'_>) {
        if filling.adapter.conditions.is_empty() {
            return;
        }
        let templates = argument.templates();
        let names = templates.iter().flat_map(|template| template.value.tokens()).flat_map(|token| token.names());
        let conditions = names.filter_map(|name| filling.adapter.conditions.get(name.strip_prefix("when.")?));
        let asked = conditions.flat_map(|condition| &condition.values).map(|(token, _)| token);
        let is_free = |token: &&String| token.starts_with("var.") || token.starts_with("native.");
        self.tokens.extend(asked.filter(is_free).cloned());
    }

    /// Whether a pass or its file is named.
    #[must_use]
    pub fn is_asked(&self) -> bool {
        OF_PASS.iter().any(|token| self.tokens.contains(*token))
    }

    /// Follows an argument that has to have its values.
    pub fn always(&mut self, template: &Spanned<Template>, filling: &Filling<'_>) {
        match missing(template, filling) {
            None => self.add(template, filling),
            Some(token) => self.without_value.push((template.at, token)),
        }
    }

    /// Follows a template that is left out when it lacks a value.
    pub fn optional(&mut self, template: &Spanned<Template>, filling: &Filling<'_>) {
        if missing(template, filling).is_none() {
            self.add(template, filling);
        }
    }

    fn add(&mut self, template: &Spanned<Template>, filling: &Filling<'_>) {
        for name in template.value.tokens().flat_map(|token| token.names()) {
            self.tokens.insert(name.to_owned());
            // A setting that a condition asks for has arrived where the condition holds.
            let condition = name.strip_prefix("when.").and_then(|own| filling.adapter.conditions.get(own));
            self.tokens.extend(condition.into_iter().flat_map(|condition| condition.tokens()).map(str::to_owned));
        }
        if let Some(list) = filling.list(template) {
            self.follow(list, filling);
        }
    }
}

/// The first token of a template that has no value.
#[must_use]
pub fn missing(template: &Spanned<Template>, filling: &Filling<'_>) -> Option<String> {
    if list_token(&template.value).is_some() || filling.one(template).is_some() {
        return None;
    }
    let has_none =
        |token: &&crate::template::Token| expand_text(&Template::of((*token).clone()), filling.values).is_none();
    template.value.tokens().find(has_none).map(|token| token.name.clone())
}
