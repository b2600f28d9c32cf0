//! What was most likely meant by what stands in a sheet: keys in the wrong table, values without their quotes, frames and sizes that
//! are spelt as they are elsewhere.

use toml::de::DeValue;

use crate::diagnostic::nearest;
use crate::frames::FrameExpr;

use super::entries::MOVIE_KEYS;
use super::read::{Raw, integer};
use super::setting::KEYS;
use super::tables::{POLICY_KEYS, RUN_KEYS, format_keys};
use super::{Key, Size};

/// The table of a sheet in which a key belongs.
pub(super) fn place_of(key: &str) -> Option<&'static str> {
    let has = |keys: &[(&str, &str)]| keys.iter().any(|(name, _)| *name == key);
    let is_setting = KEYS.iter().any(|(name, _)| *name == key) || ["vars", "env", "native", "leave"].contains(&key);
    let places = [
        (is_setting, "[defaults] or a [[job]]"),
        (has(&format_keys()), "a [formats.NAME]"),
        (has(&RUN_KEYS), "[run]"),
        (POLICY_KEYS.contains(&key), "[policy]"),
        (["like", "each"].contains(&key), "a [[job]]"),
        (key != "name" && has(&MOVIE_KEYS), "a [[movie]]"),
        (has(&super::cluster::KEYS), "[run.cluster]"),
    ];
    places.iter().find(|(is_there, _)| *is_there).map(|(_, place)| *place)
}

/// The kind of entry whose heading is on the line of a byte: those are lists, and one bracket too few makes them clash.
pub(super) fn entry_at(text: &str, at: usize) -> Option<&'static str> {
    let start = text.get(..at)?.rfind('\n').map_or(0, |end| end + 1);
    let heading = text[start..].lines().next()?.split('#').next()?.trim().trim_matches(['[', ']']);
    ["job", "movie", "allow"].into_iter().find(|name| *name == heading)
}

/// The key and the value on the line of a byte, where the value is a text that lacks its quotes, such as `frames = 1-96`.
pub(super) fn unquoted(text: &str, at: usize) -> Option<(&str, &str)> {
    let start = text.get(..at)?.rfind('\n').map_or(0, |end| end + 1);
    let line = text[start..].lines().next()?.split('#').next()?;
    let (key, value) = line.split_once('=')?;
    let (key, value) = (key.trim(), value.trim());
    let is_bare =
        !value.is_empty() && !value.contains(['"', '\'', '[', '{', '=']) && !value.contains(char::is_whitespace);
    (is_bare && Key::parse(key).is_some()).then_some((key, value))
}

/// Frames that are clearly meant: with another sign between the first and the last, or backwards.
pub(super) fn ascending(text: &str) -> Option<(String, FrameExpr)> {
    let joined =
        ["...", "..", ":", " to ", "–", "—"].iter().fold(text.to_owned(), |text, sign| text.replace(sign, "-"));
    let turned = joined.split_once('-').and_then(|(first, last)| {
        let (first, last) = (first.trim().parse::<i64>().ok()?, last.trim().parse::<i64>().ok()?);
        (first > last).then(|| format!("{last}-{first}"))
    });
    let words: Vec<&str> = crate::frames::words().collect();
    let mend = |part: &str| {
        let word: String = part.chars().take_while(|c| c.is_alphabetic()).collect();
        let near = nearest(&word, words.iter().copied()).filter(|_| !word.is_empty());
        near.map_or(part.to_owned(), |near| format!("{near}{}", &part[word.len()..]))
    };
    let joined = joined.split(',').map(|part| mend(part.trim())).collect::<Vec<_>>().join(",");
    let meant = turned.unwrap_or(joined);
    Some((meant.clone(), FrameExpr::parse(&meant).ok()?))
}

/// A size that is clearly meant and spelt in another way: `1280*720`, `1280 X 720`, `[1280, 720]`.
pub(super) fn sides(raw: &Raw<'_>) -> Option<Size> {
    let (width, height) = match raw.get_ref() {
        DeValue::Array(list) => match list.iter().collect::<Vec<_>>()[..] {
            [width, height] => (integer(width)?.to_string(), integer(height)?.to_string()),
            _ => return None,
        },
        DeValue::String(text) => {
            let (width, height) = text.split_once(['*', 'X', '×', ',', ':', '/'])?;
            (width.trim().to_owned(), height.trim().to_owned())
        }
        _ => return None,
    };
    let side = |text: String| text.parse::<u32>().ok().filter(|side| *side > 0);
    Some(Size { width: side(width)?, height: side(height)? })
}
