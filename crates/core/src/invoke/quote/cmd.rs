//! Words for a batch file of cmd, which a Windows program takes apart again.
//!
//! Two readers see each word. The program's own runtime splits by the argv rules of the C runtime (Microsoft, "Parsing C
//! command-line arguments"): quotes keep blanks, `\"` is a quote, and backslashes are doubled before a quote. Before it,
//! cmd reads the line: outside of quotes, as it sees them, `& | < > ( ) ^` mean something and a caret takes that away; in
//! a batch file a percent sign is doubled everywhere. Delayed expansion is off, so that `!` means nothing.

/// One word, or nothing where cmd has no way to say it: a line break or a zero byte.
#[must_use]
pub fn word(text: &str) -> Option<String> {
    if text.contains(['\n', '\r', '\0']) {
        return None;
    }
    let plain = |c: char| c.is_ascii_alphanumeric() || "_-./:\\@+".contains(c) || !c.is_ascii();
    if !text.is_empty() && text.chars().all(plain) {
        return Some(text.to_owned());
    }
    let mut out = String::new();
    let mut quoted = false;
    quote(&mut out, &mut quoted);
    push(&mut out, &mut quoted, text);
    // Backslashes before the closing quote are doubled.
    let slashes = text.chars().rev().take_while(|c| *c == '\\').count();
    out.push_str(&"\\".repeat(slashes));
    // A quote within the word may have left cmd outside of quotes: the next word must find it there, too.
    out.push_str(if quoted { "\"" } else { "^\"" });
    Some(out)
}

/// The value in `set "NAME=VALUE"`, or nothing where cmd has no way to say it. What stands between two quotes of its own is
/// outside of quotes for cmd, and needs carets there.
#[must_use]
pub fn assigned(text: &str) -> Option<String> {
    if text.contains(['\n', '\r', '\0']) {
        return None;
    }
    let (mut out, mut quoted) = (String::new(), true);
    for c in text.chars() {
        match c {
            '"' => quote(&mut out, &mut quoted),
            '%' => out.push_str("%%"),
            c if !quoted && "&|<>()^".contains(c) => out.extend(['^', c]),
            c => out.push(c),
        }
    }
    // The closing quote has to be one for cmd, too: otherwise the caret keeps what follows from being read as text.
    Some(out)
}

fn quote(out: &mut String, quoted: &mut bool) {
    out.push('"');
    *quoted = !*quoted;
}

/// Text within a word that has been opened with a quote.
fn push(out: &mut String, quoted: &mut bool, text: &str) {
    let mut slashes = 0;
    for c in text.chars() {
        match c {
            '"' => {
                // Those before a quote are doubled, and one more makes the quote a plain one.
                out.push_str(&"\\".repeat(slashes + 1));
                quote(out, quoted);
            }
            '%' => out.push_str("%%"),
            c if !*quoted && "&|<>()^!".contains(c) => {
                out.push('^');
                out.push(c);
            }
            c => out.push(c),
        }
        slashes = if c == '\\' { slashes + 1 } else { 0 };
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::word;

    /// What cmd hands on of a line (its phases 1 and 2 as documented: percent signs, carets, quotes).
    fn after_cmd(line: &str) -> String {
        let (mut out, mut quoted) = (String::new(), false);
        let line = line.replace("%%", "%");
        let mut chars = line.chars();
        while let Some(c) = chars.next() {
            match c {
                '"' => {
                    quoted = !quoted;
                    out.push(c);
                }
                '^' if !quoted => out.extend(chars.next()),
                c => {
                    assert!(quoted || !"&|<>()".contains(c), "{c} would mean something in {line}");
                    out.push(c);
                }
            }
        }
        out
    }

    /// The arguments that the C runtime makes of a line (2n backslashes and a quote, 2n + 1 and a quote, blanks).
    fn argv(line: &str) -> Vec<String> {
        let (mut all, mut current, mut inside, mut open) = (Vec::new(), String::new(), false, false);
        let chars: Vec<char> = line.chars().collect();
        let mut at = 0;
        while at < chars.len() {
            match chars[at] {
                '\\' => {
                    let slashes = chars[at..].iter().take_while(|c| **c == '\\').count();
                    at += slashes;
                    open = true;
                    if chars.get(at) == Some(&'"') {
                        current.push_str(&"\\".repeat(slashes / 2));
                        if slashes % 2 == 1 {
                            current.push('"');
                            at += 1;
                        }
                    } else {
                        current.push_str(&"\\".repeat(slashes));
                    }
                    continue;
                }
                '"' => {
                    inside = !inside;
                    open = true;
                }
                ' ' | '\t' if !inside => {
                    if open {
                        all.push(std::mem::take(&mut current));
                    }
                    open = false;
                }
                c => {
                    current.push(c);
                    open = true;
                }
            }
            at += 1;
        }
        if open {
            all.push(current);
        }
        all
    }

    #[test]
    fn known_words_are_written_as_the_rules_say() {
        for (text, quoted) in [
            ("a-b_1.exr", "a-b_1.exr"),
            ("", "\"\""),
            ("a b", "\"a b\""),
            ("50%", "\"50%%\""),
            ("a&b", "\"a&b\""),
            ("say \"hi\" & go", "\"say \\\"hi\\\" & go\""),
            ("5\" & more", "\"5\\\" ^& more^\""),
            ("end\\ ", "\"end\\ \""),
            ("two words\\", "\"two words\\\\\""),
            ("wow!", "\"wow!\""),
        ] {
            assert_eq!(word(text).as_deref(), Some(quoted), "{text}");
        }
        assert_eq!(word("a\nb"), None);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]
        #[test]
        fn every_word_comes_back(words in prop::collection::vec("[a c\"%^&|<>()!\\\\é$`*?~=,;'/-]{0,9}", 1..5)) {
            let line: Vec<String> = words.iter().filter_map(|text| word(text)).collect();
            prop_assert_eq!(argv(&after_cmd(&line.join(" "))), words);
        }
    }
}
