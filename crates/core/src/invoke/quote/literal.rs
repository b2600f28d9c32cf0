//! Values as literals of the languages of written files. A value can end neither its literal nor its line.

use crate::adapter::Language;

/// Text as a literal; `None` where the language cannot hold it.
#[must_use]
pub fn text(language: Language, text: &str) -> Option<String> {
    match language {
        // RFC 8259, 7.
        Language::Json => serde_json::to_string(text).ok(),
        // Language reference 3, 2.4.1: a short string ends at its quote or at the end of the line.
        Language::Python => Some(escaped(text, |sign| format!("\\x{:02x}", u32::from(sign)))),
        // Reference manual 5.3, 3.1: three decimal digits stand for one byte.
        Language::Lua => Some(escaped(text, |sign| format!("\\{:03}", u32::from(sign)))),
        Language::Xml => xml(text),
        // Always between quotes, so that a path can be put in its place that needs them.
        Language::Shell => (!text.contains('\0')).then(|| format!("'{}'", text.replace('\'', r"'\''"))),
        Language::None => (!text.contains(char::is_control)).then(|| text.to_owned()),
    }
}

/// What stands between the quotes of a literal: a part of it.
#[must_use]
pub fn part(language: Language, part: &str) -> Option<String> {
    let whole = text(language, part)?;
    let quotes = usize::from(matches!(language, Language::Json | Language::Python | Language::Lua | Language::Shell));
    whole.get(quotes..whole.len() - quotes).map(str::to_owned)
}

/// A text of digits as a number, in the one spelling that all languages read; `None` where it is none.
#[must_use]
pub fn number(text: &str) -> Option<String> {
    if let Ok(whole) = text.parse::<i64>() {
        return Some(whole.to_string());
    }
    text.parse::<f64>().ok().filter(|number| number.is_finite()).map(|number| format!("{number:?}"))
}

/// True or false.
#[must_use]
pub fn flag(language: Language, flag: bool) -> &'static str {
    match (language, flag) {
        (Language::Python, true) => "True",
        (Language::Python, false) => "False",
        (_, true) => "true",
        (_, false) => "false",
    }
}

/// In double quotes, with a backslash before what would end them.
fn escaped(text: &str, control: impl Fn(char) -> String) -> String {
    let mut out = String::from("\"");
    for sign in text.chars() {
        match sign {
            '"' | '\\' => out.extend(['\\', sign]),
            sign if sign.is_ascii_control() => out.push_str(&control(sign)),
            sign => out.push(sign),
        }
    }
    out.push('"');
    out
}

/// XML 1.0, 2.2 and 2.4: text or an attribute. Most control characters cannot be written at all.
fn xml(text: &str) -> Option<String> {
    let mut out = String::new();
    for sign in text.chars() {
        match sign {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&apos;"),
            '\t' | '\n' | '\r' => out.push_str(&format!("&#{};", u32::from(sign))),
            '\0'..='\u{1f}' | '\u{fffe}' | '\u{ffff}' => return None,
            sign => out.push(sign),
        }
    }
    Some(out)
}
