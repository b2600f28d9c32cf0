//! Placeholders for the frame as other programs spell them, and the names that `*` stands for.

use std::collections::BTreeMap;
use std::ops::Range;

use super::Pattern;

/// The first placeholder of a text and how many digits it stands for: a run of `#`, two `@` or more, `%d` or `%04d`, as C
/// spells them. What stands in braces is a token and is passed over.
#[must_use]
pub fn placeholder(text: &str) -> Option<(Range<usize>, usize)> {
    let bytes = text.as_bytes();
    let (mut at, mut inside) = (0, false);
    while at < bytes.len() {
        inside = match bytes[at] {
            b'{' => true,
            b'}' => false,
            _ => inside,
        };
        let sign = bytes[at];
        let same = bytes[at..].iter().take_while(|byte| **byte == sign).count();
        match sign {
            _ if inside => {}
            b'#' => return Some((at..at + same, same)),
            b'@' if same > 1 => return Some((at..at + same, same)),
            b'%' => {
                let digits = bytes[at + 1..].iter().take_while(|byte| byte.is_ascii_digit()).count();
                if bytes.get(at + 1 + digits) == Some(&b'd') {
                    let width = text[at + 1..at + 1 + digits].parse().unwrap_or(1);
                    return Some((at..at + digits + 2, width));
                }
            }
            _ => {}
        }
        at += if matches!(sign, b'#' | b'@') { same } else { 1 };
    }
    None
}

/// A text with `{frame:N}` in place of every placeholder.
#[must_use]
pub fn respelt(text: &str) -> String {
    let (mut out, mut rest) = (String::new(), text);
    while let Some((range, width)) = placeholder(rest) {
        out.push_str(&rest[..range.start]);
        out.push_str(&frame(width));
        rest = &rest[range.end..];
    }
    out + rest
}

/// A pattern as it is typed: with `/` between its parts, and `{frame:N}` for what other programs write, where it has no token of
/// ours for the frame.
#[must_use]
pub fn typed(text: &str) -> String {
    let text = text.replace('\\', "/");
    if text.contains("{frame") { text } else { respelt(&text) }
}

/// The token for a frame of so many digits, as it is written everywhere.
#[must_use]
pub fn frame(width: usize) -> String {
    format!("{{frame:{}}}", width.clamp(1, 18))
}

/// Where the frame number of a name stands: the last digits before the extension of the file.
#[must_use]
pub fn number(name: &str) -> Option<Range<usize>> {
    let file = name.rfind('/').map_or(0, |slash| slash + 1);
    let stem = &name[..name.rfind('.')?.max(file)];
    let end = stem.rfind(|c: char| c.is_ascii_digit()).map_or(0, |at| at + 1);
    let start = stem[..end].rfind(|c: char| !c.is_ascii_digit()).map_or(0, |at| at + 1);
    (end > file).then_some(start.max(file)..end)
}

/// The one sequence among the names that a `*` stands for, padded as its names are.
///
/// # Errors
/// Every sequence there is, where that is not one.
pub fn starred<'n>(text: &str, names: impl Iterator<Item = &'n str>) -> Result<Pattern, Vec<Pattern>> {
    let (head, tail) = text.split_once('*').unwrap_or((text, ""));
    let mut found: BTreeMap<(&str, &str), usize> = BTreeMap::new();
    let fits = |name: &&str| name.len() > head.len() + tail.len() && name.starts_with(head) && name.ends_with(tail);
    for name in names.filter(fits) {
        let Some(digits) = number(name) else { continue };
        let width = found.entry((&name[..digits.start], &name[digits.end..])).or_insert(digits.len());
        *width = digits.len().min(*width);
    }
    let mut all = found.into_iter().map(|((head, tail), width)| {
        let mut pattern = Pattern::default();
        pattern.push_text(head);
        pattern.push_frame(width);
        pattern.push_text(tail);
        pattern
    });
    match (all.next(), all.next()) {
        (Some(only), None) => Ok(only),
        (first, second) => Err(first.into_iter().chain(second).chain(all).collect()),
    }
}

#[cfg(test)]
mod tests {
    use super::{respelt, starred};

    #[test]
    fn placeholders_of_every_kind_become_the_one_token() {
        for (foreign, own) in [
            ("a/ferry.####.png", "a/ferry.{frame:4}.png"),
            ("ferry_@@@@@.exr", "ferry_{frame:5}.exr"),
            ("ferry.%04d.png", "ferry.{frame:4}.png"),
            ("ferry.%d.png", "ferry.{frame:1}.png"),
            ("ferry.%3d.png", "ferry.{frame:3}.png"),
            ("#/ferry.##.png", "{frame:1}/ferry.{frame:2}.png"),
            ("{date:%Y%m%d}/me@home/50%.png", "{date:%Y%m%d}/me@home/50%.png"),
            ("ferry.{frame:4}.png", "ferry.{frame:4}.png"),
            ("boot-über.%4d.png", "boot-über.{frame:4}.png"),
        ] {
            assert_eq!(respelt(foreign), own);
        }
    }

    #[test]
    fn a_star_stands_for_the_one_sequence_that_is_there() {
        let names = ["quay.0001.png", "quay.0012.png", "quay.10000.png", "quay.txt", "mast_7.png", "quay.png"];
        let of = |text: &str| match starred(text, names.into_iter()) {
            Ok(pattern) => pattern.typed(),
            Err(all) => format!("{:?}", all.iter().map(|pattern| pattern.typed()).collect::<Vec<_>>()),
        };
        assert_eq!(of("quay.*.png"), "quay.{frame:4}.png");
        assert_eq!(of("quay*"), "quay.{frame:4}.png");
        assert_eq!(of("*.png"), "[\"mast_{frame:1}.png\", \"quay.{frame:4}.png\"]");
        assert_eq!(of("pier.*.png"), "[]");
    }
}
