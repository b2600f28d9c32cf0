//! Files that were meant for a frame and bear almost its name.

use regex_lite::{Regex, RegexBuilder};

use super::Files;
use crate::frames::{Frames, Number};
use crate::plan::Series;
use crate::template::{Pattern, Piece};

/// A file whose name is almost that of a frame which is missing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Near {
    /// The frame.
    pub frame: i64,
    /// The name that it bears, in the folder of its series.
    pub from: String,
    /// The name that is planned.
    pub to: String,
    /// In what they differ.
    pub why: String,
}

/// Separators that people and programs put in each other's place.
const SEPARATORS: &[char] = &['-', '_', '.', ' '];

/// The files of a folder that were most likely meant for frames of a series that are missing. `is_other` says that a name is
/// planned or known in another way. A name that fits two frames, and a frame that two names fit, are left out.
#[must_use]
pub fn near_misses(series: &Series, files: &Files, missing: &Frames, is_other: &dyn Fn(&str) -> bool) -> Vec<Near> {
    let free = || files.iter().map(|(name, _)| name).filter(|name| !name.starts_with('.') && !is_other(name));
    if missing.is_empty() || free().next().is_none() {
        return Vec::new();
    }
    let (folder, file) = series.pattern.split_folder();
    let Some(regex) = loose(&file).filter(|_| folder.fixed().is_some()) else { return Vec::new() };
    let mut found: Vec<Near> = Vec::new();
    // Names of the series itself with other numbers, or almost so.
    let mut beyond: Vec<(i64, &str)> = Vec::new();
    for name in free() {
        let Some(number) = regex.captures(name).and_then(|found| {
            let (before, digits) = (found.get(1)?.as_str(), found.get(2)?.as_str());
            // A line alone parts the number from the name; behind another separator it is a minus.
            let minus = before.len() > 1 && before.ends_with('-');
            digits.parse::<i64>().ok().map(|number| if minus { -number } else { number })
        }) else {
            continue;
        };
        let Some(frame) = series.shift.frame(Number::new(number)) else { continue };
        if missing.contains(frame) {
            let to = file.name(series.number(frame));
            let why = differences(name, &to);
            found.push(Near { frame, from: name.to_owned(), to, why });
        } else if !series.frames.as_ref().is_some_and(|frames| frames.contains(frame)) {
            beyond.push((frame, name));
        }
    }
    if found.is_empty() && series.frames.as_ref() == Some(missing) {
        found = moved(series, &file, missing, beyond);
    }
    found.sort_by(|a, b| (a.frame, &a.from).cmp(&(b.frame, &b.from)));
    let is_alone = |at: usize| {
        let own = |other: Option<&Near>| other.is_some_and(|other| other.frame == found[at].frame);
        !own(at.checked_sub(1).and_then(|at| found.get(at))) && !own(found.get(at + 1))
    };
    let alone: Vec<bool> = (0..found.len()).map(is_alone).collect();
    let mut alone = alone.into_iter();
    found.retain(|_| alone.next() == Some(true));
    found
}

/// Where nothing of a series is there, and as many frames lie beside it in the same steps: they are counted from another
/// number.
fn moved(series: &Series, file: &Pattern, missing: &Frames, mut beyond: Vec<(i64, &str)>) -> Vec<Near> {
    beyond.sort_unstable();
    let there = Frames::from_any(beyond.iter().map(|(frame, _)| *frame).collect());
    let by = missing.first().zip(there.first()).and_then(|(first, other)| first.checked_sub(other));
    let Some(by) =
        by.filter(|by| missing.count() > 1 && there.count() == beyond.len() as i64 && there.shifted(*by) == *missing)
    else {
        return Vec::new();
    };
    let why = format!("{} instead of {missing}", there.worded());
    let one = |(frame, name): (i64, &str)| {
        let frame = frame + by;
        Near { frame, from: name.to_owned(), to: file.name(series.number(frame)), why: why.clone() }
    };
    beyond.into_iter().map(one).collect()
}

/// A rule for names that differ from a pattern by case, separators, padding, version and extension only.
fn loose(file: &Pattern) -> Option<Regex> {
    file.frame_width()?;
    let between = r"[-_. ]*";
    let mut rule = String::new();
    let pieces = file.pieces();
    for (at, piece) in pieces.iter().enumerate() {
        let Piece::Text(text) = piece else {
            rule += &format!("({between})(\\d+){between}");
            continue;
        };
        let last = at + 1 == pieces.len();
        let (text, extension) = if last { text.rsplit_once('.').unwrap_or((text, "")) } else { (text.as_str(), "") };
        let mut words = text.split(SEPARATORS).filter(|word| !word.is_empty());
        let word = |word: &str| {
            let version =
                word.strip_prefix('v').is_some_and(|rest| !rest.is_empty() && rest.bytes().all(|b| b.is_ascii_digit()));
            if version { r"v\d+".to_owned() } else { regex_lite::escape(word) }
        };
        if let Some(first) = words.next() {
            rule += between;
            rule += &word(first);
        }
        for own in words {
            rule += between;
            rule += &word(own);
        }
        if last && !extension.is_empty() {
            rule += r"\.[a-z0-9]{2,5}";
        }
    }
    RegexBuilder::new(&format!("^{rule}$")).case_insensitive(true).build().ok()
}

/// In what two names differ, in words.
fn differences(is: &str, planned: &str) -> String {
    let stem = |name: &str| {
        name.rsplit_once('.').map_or((name.to_owned(), String::new()), |(stem, end)| (stem.to_owned(), end.to_owned()))
    };
    let ((is, is_end), (planned, planned_end)) = (stem(is), stem(planned));
    let letters = |name: &str| name.chars().filter(|c| c.is_alphabetic()).collect::<String>();
    let separators = |name: &str| name.chars().filter(|c| SEPARATORS.contains(c)).collect::<String>();
    let version = |name: &str| {
        let lower = name.to_lowercase();
        let rule = Regex::new(r"(?:^|[^a-z])v(\d+)").ok();
        rule.and_then(|rule| Some(rule.captures(&lower)?.get(1)?.as_str().to_owned()))
    };
    let digits = |name: &str| {
        let numbers: Vec<String> =
            name.split(|c: char| !c.is_ascii_digit()).filter(|run| !run.is_empty()).map(str::to_owned).collect();
        numbers.last().cloned()
    };
    let mut why = Vec::new();
    if digits(&is) != digits(&planned) {
        why.push("padding");
    }
    if letters(&is) != letters(&planned) || is_end != planned_end && is_end.eq_ignore_ascii_case(&planned_end) {
        why.push("upper and lower case");
    }
    if separators(&is) != separators(&planned) {
        why.push("separator");
    }
    if version(&is) != version(&planned) {
        why.push("version");
    }
    if !is_end.eq_ignore_ascii_case(&planned_end) {
        why.push("extension");
    }
    why.join(", ")
}
