//! Files that are written before a program starts: their text, with every value a literal of their language.

use crate::adapter::{FileLine, Language, NativeKind, RepeatOver, WrittenFile};
use crate::source::{Place, Spanned};
use crate::template::{Form, Lookup, Part, Template, Token, Value, expand_text};

use super::quote::literal;
use super::scope::{ArgumentScope, Output};
use super::spread::Delivered;

/// A file with its text.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct FileText {
    /// The file to write: absolute, or with the tokens of a stage folder.
    pub path: String,
    /// All of it.
    pub text: String,
    /// The language of the literals in it.
    pub language: Language,
}

/// Tokens whose text is a number.
const NUMBERS: [&str; 4] = ["fps", "scale", "pixel_aspect", "checkpoint_every"];

/// Why a line cannot be written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Unwritable {
    /// A token in it has no value.
    NoValue(String),
    /// The value of a token cannot be written in the file's language.
    Unfit(String),
}

/// The files of a call. One that cannot be written is left out: the checks say why.
#[must_use]
pub fn texts(scope: &ArgumentScope<'_>) -> Vec<FileText> {
    let Some(output) = scope.outputs.first() else { return Vec::new() };
    let one = |(name, file): (&String, &WrittenFile)| {
        let writer = Writer { scope, language: file.language };
        let text = writer.lines(&file.lines, &LineScope::of(output)).ok()?;
        Some(FileText { path: scope.written_path(name, output)?, text, language: file.language })
    };
    scope.adapter.files.iter().filter_map(one).collect()
}

/// Adds what the files of a call bring to its program.
pub(super) fn deliver(scope: &ArgumentScope<'_>, delivered: &mut Delivered) {
    let Some(first) = scope.outputs.first() else { return };
    for file in scope.adapter.files.values() {
        let writer = Writer { scope, language: file.language };
        writer.follow(&file.lines, &LineScope::of(first), delivered);
    }
}

/// The lines of the files of a call that cannot be written: the place of each, and why.
#[must_use]
pub fn unwritable(scope: &ArgumentScope<'_>) -> Vec<(Place, Unwritable)> {
    let Some(first) = scope.outputs.first() else { return Vec::new() };
    let of_file = |file: &WrittenFile| {
        let writer = Writer { scope, language: file.language };
        writer.lines(&file.lines, &LineScope::of(first)).err()
    };
    scope.adapter.files.values().filter_map(of_file).collect()
}

/// What a line is written for.
struct LineScope<'a> {
    output: &'a Output<'a>,
    /// A variable or a native setting: its name and its value, and whether it is native.
    pair: Option<(&'a str, &'a str, bool)>,
    /// A frame, and where it stands among those of the call.
    frame: Option<(i64, i64)>,
}

impl<'a> LineScope<'a> {
    fn of(output: &'a Output<'a>) -> LineScope<'a> {
        LineScope { output, pair: None, frame: None }
    }
}

struct Writer<'w> {
    scope: &'w ArgumentScope<'w>,
    language: Language,
}

impl Writer<'_> {
    /// All lines; the place of the first that cannot be written, and why.
    fn lines(&self, lines: &[FileLine], around: &LineScope<'_>) -> Result<String, (Place, Unwritable)> {
        let mut out = String::new();
        for line in lines {
            match line {
                FileLine::Text { template, is_optional } => match self.line(&template.value, around) {
                    Ok(text) => out.push_str(&text),
                    Err(Unwritable::NoValue(_)) if *is_optional => {}
                    Err(why) => return Err((template.at, why)),
                },
                FileLine::Each { over, join, lines } => {
                    let mut parts = Vec::new();
                    self.each(*over, around, &mut |inner| parts.push(self.lines(lines, inner)));
                    let parts = parts.into_iter().collect::<Result<Vec<String>, _>>()?;
                    let last = parts.len().saturating_sub(1);
                    for (at, part) in parts.iter().enumerate() {
                        let body = part.strip_suffix('\n').unwrap_or(part);
                        out.push_str(body);
                        out.push_str(if at < last { join } else { "" });
                        out.push_str(&part[body.len()..]);
                    }
                }
            }
        }
        Ok(out)
    }

    /// Does something for each pass, variable, native setting or frame.
    fn each(&self, over: RepeatOver, around: &LineScope<'_>, work: &mut dyn FnMut(&LineScope<'_>)) {
        match over {
            RepeatOver::Pass => self.scope.outputs.iter().for_each(|output| work(&LineScope { output, ..*around })),
            RepeatOver::Variable => {
                for (name, value) in &self.scope.job.vars {
                    work(&LineScope { pair: Some((name, value, false)), ..*around });
                }
            }
            RepeatOver::Native => {
                for (name, value) in self.scope.native_settings(around.output) {
                    work(&LineScope { pair: Some((&name, &value, true)), ..*around });
                }
            }
            RepeatOver::Frame => {
                for (at, frame) in self.scope.frames.iter().enumerate() {
                    work(&LineScope { frame: Some((frame, at as i64)), ..*around });
                }
            }
        }
    }

    fn line(&self, template: &Template, around: &LineScope<'_>) -> Result<String, Unwritable> {
        let mut out = String::new();
        for part in template.parts() {
            match part {
                Part::Text(text) => out.push_str(text),
                Part::Token(token) => out.push_str(&self.token(token, around)?),
            }
        }
        Ok(out)
    }

    /// A token as a literal.
    fn token(&self, token: &Token, around: &LineScope<'_>) -> Result<String, Unwritable> {
        let no_value = || Unwritable::NoValue(token.name.clone());
        if token.name.starts_with("when.") {
            return match self.value(&token.name, around) {
                Lookup::Value(_) => Ok(String::new()),
                _ => Err(no_value()),
            };
        }
        let found = self.value(&token.name, around);
        if !matches!(found, Lookup::Value(_)) && token.sign.is_some() {
            return literal::text(self.language, "").ok_or_else(no_value);
        }
        let written =
            expand_text(&Template::of(token.clone()), &|name| self.value(name, around)).ok_or_else(no_value)?;
        let unfit = || Unwritable::Unfit(token.name.clone());
        // What is written in a form of its own is text.
        if token.form != Form::Usual || token.filter.is_some() || token.sign.is_some() {
            return literal::text(self.language, &written).ok_or_else(unfit);
        }
        let kind = match token.name.strip_prefix("native.") {
            Some(own) => self.native_kind(own),
            None => match around.pair {
                Some((own, _, true)) if token.name == "value" => self.native_kind(own),
                _ if NUMBERS.contains(&token.name.as_str()) => NativeKind::Number,
                _ => NativeKind::Text,
            },
        };
        let plain = match (found, kind) {
            (Lookup::Value(Value::Number(number)), _) => Some(number.to_string()),
            (_, NativeKind::Flag) => written.parse().ok().map(|flag| literal::flag(self.language, flag).to_owned()),
            (_, NativeKind::Number | NativeKind::Whole) => literal::number(&written),
            _ => None,
        };
        plain.or_else(|| literal::text(self.language, &written)).ok_or_else(unfit)
    }

    fn native_kind(&self, name: &str) -> NativeKind {
        self.scope.adapter.natives.get(name).map_or(NativeKind::Text, |native| native.kind)
    }

    fn value(&self, name: &str, around: &LineScope<'_>) -> Lookup {
        let number = |value: i64| Lookup::Value(Value::Number(value));
        match (name, around.pair, around.frame) {
            ("key", Some((key, _, _)), _) => Lookup::Value(Value::Text(key.to_owned())),
            ("value", Some((_, value, _)), _) => Lookup::Value(Value::Text(value.to_owned())),
            ("frame", _, Some((frame, _))) => number(frame),
            ("index", _, Some((_, at))) => number(at),
            ("ordinal", _, Some((_, at))) => number(at + 1),
            _ => self.scope.lookup(name, around.output),
        }
    }

    /// Adds what lines bring to a program.
    fn follow(&self, lines: &[FileLine], around: &LineScope<'_>, delivered: &mut Delivered) {
        for line in lines {
            match line {
                FileLine::Text { template, is_optional } => self.arrives(template, *is_optional, (around, delivered)),
                FileLine::Each { over, lines, .. } => {
                    self.each(*over, around, &mut |inner| self.follow(lines, inner, delivered));
                }
            }
        }
    }

    fn arrives(
        &self,
        template: &Spanned<Template>,
        is_optional: bool,
        (around, delivered): (&LineScope<'_>, &mut Delivered),
    ) {
        let names = template.value.tokens().flat_map(|token| token.names()).map(str::to_owned);
        match self.line(&template.value, around) {
            // A value that cannot be written stops the plan, and is said by itself.
            Ok(_) | Err(Unwritable::Unfit(_)) => {
                // Of a native setting in a list of all, that one has arrived.
                let pair = around.pair.filter(|_| template.value.has("value"));
                let own = pair.map(|(name, _, native)| format!("{}.{name}", if native { "native" } else { "var" }));
                delivered.tokens.extend(names.chain(own));
            }
            Err(Unwritable::NoValue(token)) if !is_optional => delivered.lines.push((template.at, token)),
            Err(Unwritable::NoValue(_)) => {}
        }
    }
}
