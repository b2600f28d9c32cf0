//! POSIX shells (XCU 2.2): single quotes keep everything but a single quote.

/// One word that any POSIX shell reads as `text`, byte for byte.
#[must_use]
pub fn word(text: &str) -> String {
    let plain = |c: u8| c.is_ascii_alphanumeric() || b"_-./:=@%+,".contains(&c);
    if !text.is_empty() && text.bytes().all(plain) && !text.starts_with('=') {
        return text.to_owned();
    }
    format!("'{}'", text.replace('\'', r"'\''"))
}

#[cfg(test)]
mod tests {
    use super::word;

    #[test]
    fn words_are_quoted_only_where_needed() {
        for (text, quoted) in [
            ("a-b_1.exr", "a-b_1.exr"),
            ("", "''"),
            ("a b", "'a b'"),
            ("it's", r"'it'\''s'"),
            ("=x", "'=x'"),
            ("$HOME`x`", "'$HOME`x`'"),
            ("~", "'~'"),
        ] {
            assert_eq!(word(text), quoted);
        }
    }
}
