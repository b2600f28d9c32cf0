//! Regular expressions of adapters for programs that read simpler ones.

/// A regular expression as `grep -E` reads it (POSIX extended regular expressions); `None` where it has something that those
/// cannot say.
#[must_use]
pub fn extended(rule: &str) -> Option<String> {
    let mut out = String::new();
    let mut signs = rule.chars().peekable();
    while let Some(sign) = signs.next() {
        match sign {
            '\\' => match signs.next()? {
                'd' => out.push_str("[0-9]"),
                'D' => out.push_str("[^0-9]"),
                's' => out.push_str("[[:space:]]"),
                'S' => out.push_str("[^[:space:]]"),
                'w' => out.push_str("[[:alnum:]_]"),
                escaped if escaped.is_ascii_punctuation() => out.extend(['\\', escaped]),
                _ => return None,
            },
            '(' if signs.peek() == Some(&'?') => {
                signs.next();
                match (signs.next()?, signs.peek()) {
                    (':', _) => {}
                    ('<', _) | ('P', Some('<')) => drop(signs.by_ref().find(|sign| *sign == '>')?),
                    // Flags, such as the one for upper and lower case.
                    _ => return None,
                }
                out.push('(');
            }
            '[' => {
                out.push('[');
                if signs.next_if_eq(&'^').is_some() {
                    out.push('^');
                }
                loop {
                    match signs.next()? {
                        ']' if !out.ends_with(['[', '^']) => break,
                        // Escapes and nested classes are read in another way there.
                        '\\' | '[' | '&' | '^' => return None,
                        inner => out.push(inner),
                    }
                }
                out.push(']');
            }
            '*' | '+' | '?' | '}' => {
                out.push(sign);
                // What takes as little as it can cannot be said; whether a line matches does not depend on it.
                signs.next_if_eq(&'?');
            }
            sign if sign.is_control() => return None,
            sign => out.push(sign),
        }
    }
    Some(out)
}

/// A regular expression that is a plain text, perhaps at the beginning of a line and perhaps with anything behind it: the
/// text, and whether it begins the line.
#[must_use]
pub fn literal(rule: &str) -> Option<(String, bool)> {
    let (rule, begins) = rule.strip_prefix('^').map_or((rule, false), |rest| (rest, true));
    let (head, tail) = rule.split_at(rule.find("(?<").unwrap_or(rule.len()));
    let is_open = tail.is_empty() || [".+)$", ".+)", ".*)$", ".*)"].iter().any(|end| tail.ends_with(end));
    let is_plain = |sign: char| sign.is_alphanumeric() || " :,-_/'=".contains(sign);
    (is_open && !head.is_empty() && head.chars().all(is_plain)).then(|| (head.to_owned(), begins))
}

#[cfg(test)]
mod tests {
    use super::{extended, literal};

    #[test]
    fn a_rule_is_said_in_simpler_words_or_not_at_all() {
        for (rule, grep, text) in [
            ("^wrote (?<path>.+)$", Some("^wrote (.+)$"), Some(("wrote ", true))),
            ("no licen[cs]e", Some("no licen[cs]e"), None),
            (r"^frame (?P<frame>-?\d+)", Some("^frame (-?[0-9]+)"), None),
            (r"(?:a|b)+?\.c\s", Some(r"(a|b)+\.c[[:space:]]"), None),
            ("[^a]*", Some("[^a]*"), None),
            ("(?i)licence", None, None),
            (r"[\d]", None, None),
            (r"\bword", None, None),
            ("waits", Some("waits"), Some(("waits", false))),
        ] {
            assert_eq!(extended(rule).as_deref(), grep, "{rule}");
            assert_eq!(literal(rule), text.map(|(text, begins)| (text.to_owned(), begins)), "{rule}");
        }
    }
}
