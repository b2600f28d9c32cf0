//! Templates to patterns: every token but the frame is given its value.

use std::ops::Range;

use unicode_normalization::UnicodeNormalization;
use unicode_normalization::char::is_combining_mark;

use super::{Clock, Filter, Form, Part, Pattern, Template, Token};

/// A token's value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Value {
    /// Text that must fit into one part of a path.
    Text(String),
    /// A folder: separators and a drive's colon are its own.
    Folder(String),
    /// A number, padded on demand.
    Number(i64),
    /// A version: `v` and at least three digits.
    Version(i64),
    /// A moment, and the form it usually has.
    Clock(Clock, &'static str),
    /// The frame: a hole in the pattern.
    Frame,
    /// A version that is being looked for: a hole in the pattern.
    AnyVersion,
}

/// What is known of a token's name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Lookup {
    /// It has a value.
    Value(Value),
    /// It is known and has no value here.
    NoValue,
    /// Nobody knows it.
    Unknown,
}

/// Why a token could not be expanded.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TokenTrouble {
    /// What is wrong.
    pub kind: TroubleKind,
    /// The token's name.
    pub token: String,
    /// The bytes of the template.
    pub range: Range<usize>,
}

/// What can be wrong with a token.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TroubleKind {
    /// No such token.
    Unknown,
    /// It has no value here, and no sign that allows for that.
    NoValue,
    /// Its value cannot stand in a path: the value, and what is wrong with it.
    Unfit(String, &'static str),
    /// A form that this kind of value does not have.
    Form,
}

/// Expands a path template. With troubles, the pattern holds what could be expanded.
pub fn expand(template: &Template, lookup: &dyn Fn(&str) -> Lookup) -> (Pattern, Vec<TokenTrouble>) {
    let (mut pattern, mut troubles) = (Pattern::default(), Vec::new());
    for part in template.parts() {
        match part {
            Part::Text(text) => pattern.push_text(text),
            Part::Token(token) => {
                if let Err(kind) = expand_token(token, lookup(&token.name), &mut pattern) {
                    troubles.push(TokenTrouble { kind, token: token.name.clone(), range: token.range.clone() });
                }
            }
        }
    }
    (pattern, troubles)
}

/// Expands a template of an argument: any text may stand in it. `None` when a token in it has no value.
pub fn expand_text(template: &Template, lookup: &dyn Fn(&str) -> Lookup) -> Option<String> {
    let mut out = String::new();
    for part in template.parts() {
        match part {
            Part::Text(text) => out.push_str(text),
            Part::Token(token) => {
                let value = match lookup(&token.name) {
                    Lookup::Value(value) => written(token, &value).ok()?,
                    Lookup::NoValue | Lookup::Unknown if token.sign.is_some() => continue,
                    Lookup::NoValue | Lookup::Unknown => return None,
                };
                out.extend(token.sign);
                out.push_str(&value);
            }
        }
    }
    Some(out)
}

fn expand_token(token: &Token, lookup: Lookup, pattern: &mut Pattern) -> Result<(), TroubleKind> {
    let value = match lookup {
        Lookup::Value(value) => value,
        Lookup::NoValue if token.sign.is_some() => return Ok(()),
        Lookup::NoValue => return Err(TroubleKind::NoValue),
        Lookup::Unknown => return Err(TroubleKind::Unknown),
    };
    let sign = token.sign.map(String::from).unwrap_or_default();
    if value == Value::Frame {
        pattern.push_text(&sign);
        match token.form {
            Form::Usual => pattern.push_frame(4),
            Form::Width(width) => pattern.push_frame(width),
            Form::Clock(_) | Form::Onto(..) => return Err(TroubleKind::Form),
        }
        return Ok(());
    }
    if value == Value::AnyVersion {
        pattern.push_text(&sign);
        pattern.push_version();
        return Ok(());
    }
    let text = written(token, &value)?;
    if let (Value::Text(_) | Value::Clock(..), Some(why)) = (&value, unfit(&text)) {
        return Err(TroubleKind::Unfit(text, why));
    }
    pattern.push_text(&sign);
    pattern.push_text(&text);
    Ok(())
}

fn written(token: &Token, value: &Value) -> Result<String, TroubleKind> {
    let text = match (value, &token.form) {
        (Value::Text(text) | Value::Folder(text), Form::Usual) => text.clone(),
        (Value::Number(number), Form::Usual) => number.to_string(),
        (Value::Number(number), Form::Width(width)) => padded(*number, *width),
        (Value::Number(number), Form::Onto(zero, hundred)) => {
            let onto = *zero as f64 + (*hundred - *zero) as f64 * *number as f64 / 100.0;
            onto.round().to_string()
        }
        (Value::Version(version), Form::Usual) => format!("v{}", padded(*version, 3)),
        (Value::Version(version), Form::Width(width)) => format!("v{}", padded(*version, *width)),
        (Value::Clock(clock, usual), Form::Usual) => clock.written(usual),
        (Value::Clock(clock, _), Form::Clock(form)) => clock.written(form),
        _ => return Err(TroubleKind::Form),
    };
    Ok(match token.filter {
        None => text,
        Some(Filter::Lower) => text.to_lowercase(),
        Some(Filter::Upper) => text.to_uppercase(),
        Some(Filter::Slug) => slug(&text),
    })
}

fn padded(number: i64, width: usize) -> String {
    format!("{}{:0width$}", if number < 0 { "-" } else { "" }, number.unsigned_abs())
}

fn unfit(text: &str) -> Option<&'static str> {
    if text.is_empty() {
        Some("is empty")
    } else if text.contains(['/', '\\']) {
        Some("contains a slash or backslash")
    } else if text.contains(':') {
        Some("contains a colon")
    } else if text.chars().any(char::is_control) {
        Some("contains a control character")
    } else if text.starts_with(char::is_whitespace) || text.ends_with(char::is_whitespace) {
        Some("begins or ends with a space")
    } else if text.starts_with('.') || text.ends_with('.') {
        Some("begins or ends with a dot")
    } else {
        None
    }
}

/// Lower case, accents dropped, every run of other characters one `-`, trimmed.
#[must_use]
pub fn slug(text: &str) -> String {
    let mut slug = String::new();
    for c in text.nfd().filter(|c| !is_combining_mark(*c)).flat_map(char::to_lowercase) {
        if c.is_ascii_alphanumeric() {
            slug.push(c);
        } else if !slug.is_empty() && !slug.ends_with('-') {
            slug.push('-');
        }
    }
    slug.trim_end_matches('-').to_owned()
}
