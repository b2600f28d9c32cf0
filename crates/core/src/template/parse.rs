//! Template text to parts.

use std::ops::Range;

use super::{Filter, Form, Part, Token};

/// Why a template cannot be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TemplateError {
    /// One sentence.
    pub message: String,
    /// What to write.
    pub help: String,
    /// The bytes at fault.
    pub range: Range<usize>,
}

pub(super) fn parts(text: &str) -> Result<Vec<Part>, TemplateError> {
    let mut parts = Vec::new();
    let mut plain = String::new();
    let mut at = 0;
    while let Some(next) = text[at..].find(['{', '}']).map(|found| at + found) {
        plain.push_str(&text[at..next]);
        let sign = &text[next..=next];
        if text[next + 1..].starts_with(sign) {
            plain.push_str(sign);
            at = next + 2;
        } else if sign == "}" {
            return Err(error("this closing brace has no opening brace", "write }} for a plain brace", next..next + 1));
        } else {
            let end = text[next..].find('}').map(|found| next + found);
            let end = end.ok_or_else(|| {
                error(
                    "this brace is not closed",
                    "close the token with }, or write {{ for a plain brace",
                    next..next + 1,
                )
            })?;
            if !plain.is_empty() {
                parts.push(Part::Text(std::mem::take(&mut plain)));
            }
            parts.push(Part::Token(token(&text[next + 1..end], next..end + 1)?));
            at = end + 1;
        }
    }
    plain.push_str(&text[at..]);
    if !plain.is_empty() {
        parts.push(Part::Text(plain));
    }
    Ok(parts)
}

fn error(message: impl Into<String>, help: impl Into<String>, range: Range<usize>) -> TemplateError {
    TemplateError { message: message.into(), help: help.into(), range }
}

fn token(body: &str, range: Range<usize>) -> Result<Token, TemplateError> {
    let sign = body.chars().next().filter(|c| "_-./".contains(*c));
    let rest = &body[sign.map_or(0, char::len_utf8)..];
    let (rest, filter) = match rest.split_once('|') {
        Some((rest, filter)) => (rest, Some(read_filter(filter, &range)?)),
        None => (rest, None),
    };
    let (name, form) = match rest.split_once(':') {
        Some((name, form)) => (name, read_form(form, &range)?),
        None => (rest, Form::Usual),
    };
    let legal = |c: char| c.is_alphanumeric() || c == '_' || c == '-' || c == '.' || c == '+';
    if name.is_empty() || !name.chars().all(legal) {
        return Err(error(
            format!("'{{{body}}}' is not a token"),
            "a token is a name in braces, such as {camera}, {frame:4} or {_camera}",
            range,
        ));
    }
    Ok(Token { sign, name: name.to_owned(), form, filter, range })
}

fn read_filter(text: &str, range: &Range<usize>) -> Result<Filter, TemplateError> {
    match text {
        "lower" => Ok(Filter::Lower),
        "upper" => Ok(Filter::Upper),
        "slug" => Ok(Filter::Slug),
        _ => Err(error(format!("there is no filter '{text}'"), "the filters are lower, upper and slug", range.clone())),
    }
}

fn read_form(text: &str, range: &Range<usize>) -> Result<Form, TemplateError> {
    if text.contains('%') {
        let mut rest = text.chars();
        while let Some(c) = rest.next() {
            if c == '%' && !rest.next().is_some_and(|c| "YmdHMSj".contains(c)) {
                return Err(error(
                    format!("'{text}' is not a time form"),
                    "the time forms are %Y %m %d %H %M %S %j",
                    range.clone(),
                ));
            }
        }
        return Ok(Form::Clock(text.to_owned()));
    }
    if let Some((zero, hundred)) = text.split_once("..") {
        let onto = zero.parse().ok().zip(hundred.parse().ok()).map(|(zero, hundred)| Form::Onto(zero, hundred));
        return onto.ok_or_else(|| {
            error(
                format!("'{text}' is not a scale"),
                "a scale gives the values for quality 0 and 100, such as 51..0",
                range.clone(),
            )
        });
    }
    let width = text.parse().ok().filter(|width| (1..=18).contains(width) && !text.starts_with('0'));
    width.map(Form::Width).ok_or_else(|| {
        error(
            format!("'{text}' is not a width"),
            "the number after the colon is the least count of digits, 1 to 18",
            range.clone(),
        )
    })
}
