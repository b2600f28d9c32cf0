//! Changes to a text: several remedies at once, none of which overlap.

use super::Fix;

/// A text with remedies applied. Of two that overlap, the later in the list is left out; twins are applied once.
#[must_use]
pub fn fixed(text: &str, fixes: &[&Fix]) -> String {
    let mut taken: Vec<&Fix> = Vec::new();
    for fix in fixes {
        let apart = |other: &&Fix| {
            let (a, b) = (fix.at, other.at);
            // Two insertions at one place are two opinions about one thing.
            (a.end <= b.start || b.end <= a.start) && a.start != b.start
        };
        if taken.iter().all(apart) {
            taken.push(fix);
        }
    }
    taken.sort_by_key(|fix| fix.at.start);
    let mut out = String::with_capacity(text.len());
    let mut from = 0;
    for fix in taken {
        let (start, end) = (fix.at.start as usize, fix.at.end as usize);
        let Some(between) = text.get(from..start).filter(|_| text.is_char_boundary(end)) else { continue };
        out.push_str(between);
        // A new line ends as those that are there do.
        let ends = text.contains("\r\n") && fix.write.contains('\n');
        out.push_str(&if ends { fix.write.replace('\n', "\r\n") } else { fix.write.clone() });
        from = end;
    }
    out.push_str(&text[from..]);
    out
}

#[cfg(test)]
mod tests {
    use super::{Fix, fixed};
    use crate::source::{FileId, Place};

    #[test]
    fn remedies_are_applied_at_their_places_and_never_over_each_other() {
        let fix =
            |start: usize, end: usize, write: &str| Fix { at: Place::new(FileId(0), start..end), write: write.into() };
        let (a, b, over, twin) = (fix(0, 1, "A"), fix(3, 3, "-"), fix(0, 2, "Z"), fix(3, 3, "-"));
        assert_eq!(fixed("abcdé", &[&b, &a, &over, &twin]), "Abc-dé");
        assert_eq!(fixed("abcdé", &[]), "abcdé");
        assert_eq!(fixed("abcdé", &[&fix(4, 6, "")]), "abcd");
        assert_eq!(fixed("a\r\n", &[&fix(1, 1, "\nb")]), "a\r\nb\r\n");
        assert_eq!(fixed("abcdé", &[&fix(5, 6, "x")]), "abcdé", "half a character is no place");
    }
}
