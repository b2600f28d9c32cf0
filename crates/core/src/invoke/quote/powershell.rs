//! PowerShell ("about_Quoting_Rules"): between single quotes everything stands for itself but a single quote, which is
//! doubled. The language takes four curly quotes for single ones too ("about_Special_Characters", and 2.3.5.2 of the
//! language specification: U+2018 to U+201B), so that they are doubled as well.

/// One literal that PowerShell reads as `text`, character for character.
#[must_use]
pub fn word(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + 2);
    out.push('\'');
    for sign in text.chars() {
        if is_quote(sign) {
            out.push(sign);
        }
        out.push(sign);
    }
    out.push('\'');
    out
}

/// Whether PowerShell takes a character for a single quote.
fn is_quote(sign: char) -> bool {
    sign == '\'' || ('\u{2018}'..='\u{201b}').contains(&sign)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::{is_quote, word};

    /// What the language makes of a literal, by its rules: two quotes are one, and one ends it.
    fn read(literal: &str) -> Option<String> {
        let mut signs = literal.chars().peekable();
        signs.next().filter(|sign| is_quote(*sign))?;
        let mut out = String::new();
        while let Some(sign) = signs.next() {
            if !is_quote(sign) || signs.next_if(|next| is_quote(*next)).is_some() {
                out.push(sign);
            } else {
                return signs.next().is_none().then_some(out);
            }
        }
        None
    }

    proptest! {
        #[test]
        fn every_text_comes_back(text in "[ -~'’‘‚‛`$\n\u{0}\"äあ]{0,20}") {
            prop_assert_eq!(read(&word(&text)), Some(text));
        }
    }

    #[test]
    fn nothing_in_a_literal_is_looked_at() {
        for (text, literal) in
            [("", "''"), ("it's", "'it''s'"), ("$(rm) `n \"a\"", "'$(rm) `n \"a\"'"), ("a’b", "'a’’b'")]
        {
            assert_eq!(word(text), literal);
        }
    }
}
