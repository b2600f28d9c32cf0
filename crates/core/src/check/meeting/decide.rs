//! Whether patterns share names, decided by laying one over the other.
//!
//! For every pair of digit counts the two patterns are laid over each other character by character. Digits that face each
//! other are the same unknown, digits that face a letter are known. What is left of both frame numbers is then linear in
//! one unknown number, and arithmetic runs tell whether it has a solution. This is exact also where the number meets
//! digits of the name, or another padding.

use std::collections::{BTreeMap, HashMap, HashSet};

use crate::frames::{FrameRun, Frames, Number};
use crate::template::{Pattern, Piece};

/// The names of one series: `at` is the caller's number for it, `frames` are as numbered in names.
#[derive(Clone, Debug)]
pub struct NamedSeries {
    /// The caller's number.
    pub at: usize,
    /// The pattern, folded where systems fold.
    pub pattern: Pattern,
    /// Frames as numbered in names.
    pub frames: Frames,
}

/// Two series on one name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Meeting {
    /// The caller's number of one series.
    pub first: usize,
    /// And of the other.
    pub second: usize,
    /// A number of the second series whose name is also one of the first.
    pub number: Number,
}

/// For every series that meets an earlier one, one such meeting. Series are compared only where their text without
/// numbers is the same, so that ten thousand unlike ones cost ten thousand look-ups. Of two
/// series numbered `own` or higher nothing is said: somebody else asks for those.
#[must_use]
pub fn meetings(names: &[NamedSeries], own: usize) -> Vec<Meeting> {
    let mut shelves: HashMap<Skeleton, ByNumbers> = HashMap::new();
    for (at, name) in names.iter().enumerate() {
        let (skeleton, structure) = structure(&name.pattern);
        shelves.entry(skeleton).or_default().entry(structure).or_default().push(at);
    }
    let mut found = Meetings { names, own, by_second: BTreeMap::new() };
    for shelf in shelves.values() {
        shelf.values().for_each(|list| sweep(list, &mut found));
        let mut masks: BTreeMap<Vec<bool>, Vec<&Structure>> = BTreeMap::new();
        for structure in shelf.keys() {
            masks.entry(structure.0.iter().map(Option::is_none).collect()).or_default().push(structure);
        }
        let masks: Vec<(&Vec<bool>, &Vec<&Structure>)> = masks.iter().collect();
        for (at, (mask, structures)) in masks.iter().enumerate() {
            for (other, others) in &masks[at + 1..] {
                let common: Vec<usize> = (0..mask.len()).filter(|run| !mask[*run] && !other[*run]).collect();
                join(shelf, (structures, others), &common, &mut found);
            }
        }
    }
    found.by_second.into_values().collect()
}

/// Compares series whose holes stand in different places: only those that agree in the numbers which both spell out.
fn join(shelf: &ByNumbers, (left, right): (&[&Structure], &[&Structure]), common: &[usize], found: &mut Meetings<'_>) {
    let spelt = |structure: &Structure| common.iter().map(|run| structure.0[*run].clone()).collect::<Vec<_>>();
    let mut by_number: HashMap<Vec<Option<String>>, Vec<&Structure>> = HashMap::new();
    for structure in right {
        by_number.entry(spelt(structure)).or_default().push(structure);
    }
    for structure in left {
        for other in by_number.get(&spelt(structure)).into_iter().flatten() {
            let pairs = shelf[*structure].iter().flat_map(|a| shelf[*other].iter().map(move |b| (*a, *b)));
            pairs.for_each(|(a, b)| found.compare(a, b));
        }
    }
}

/// Series whose text without numbers is the same, by what their numbers are.
type ByNumbers = BTreeMap<Structure, Vec<usize>>;

/// Series of one structure, by their first frames: of one pattern only those whose spans overlap are compared.
fn sweep(list: &[usize], found: &mut Meetings<'_>) {
    let names = found.names;
    let first = |at: &usize| names[*at].frames.first().unwrap_or(0);
    let mut by_first = list.to_vec();
    by_first.sort_by_key(|at| (first(at), *at));
    let mut open: Vec<usize> = Vec::new();
    for at in by_first {
        let start = first(&at);
        let alike = |other: &usize| names[*other].pattern == names[at].pattern;
        open.retain(|other| !alike(other) || names[*other].frames.last().is_some_and(|last| last >= start));
        open.iter().for_each(|other| found.compare(*other, at));
        open.push(at);
    }
}

/// The meetings found so far, by the later series.
struct Meetings<'n> {
    names: &'n [NamedSeries],
    own: usize,
    by_second: BTreeMap<usize, Meeting>,
}

impl Meetings<'_> {
    /// Compares two series, unless the later one is known to meet another already.
    fn compare(&mut self, a: usize, b: usize) {
        let (a, b) = (&self.names[a], &self.names[b]);
        let (first, second) = if a.at < b.at { (a, b) } else { (b, a) };
        if first.at >= self.own || self.by_second.contains_key(&second.at) {
            return;
        }
        if let Some(number) = meet((&second.pattern, &second.frames), (&first.pattern, &first.frames)) {
            self.by_second.insert(second.at, Meeting { first: first.at, second: second.at, number });
        }
    }
}

/// Per run of digits, signs and holes: the digits, or nothing where there is a hole.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
struct Structure(Vec<Option<String>>);

/// The text of a pattern without its runs of digits, signs and holes, and where in it those stood.
type Skeleton = (String, Vec<usize>);

/// The text of a pattern between its runs of digits, signs and holes, and what those runs were.
fn structure(pattern: &Pattern) -> (Skeleton, Structure) {
    let (mut text, mut cuts, mut runs) = (String::new(), Vec::new(), Vec::new());
    let mut open: Option<Option<String>> = None;
    for piece in pattern.pieces() {
        match piece {
            Piece::Frame { .. } | Piece::Version => open = Some(None),
            Piece::Text(part) => {
                for c in part.chars() {
                    if c.is_ascii_digit() || c == '-' {
                        if let Some(run) = open.get_or_insert_with(|| Some(String::new())) {
                            run.push(c);
                        }
                    } else {
                        if let Some(run) = open.take() {
                            runs.push(run);
                            cuts.push(text.len());
                        }
                        text.push(c);
                    }
                }
            }
        }
    }
    if let Some(run) = open {
        runs.push(run);
        cuts.push(text.len());
    }
    ((text, cuts), Structure(runs))
}

/// A number of the first series whose name is also a name of the second.
#[must_use]
pub fn meet(a: (&Pattern, &Frames), b: (&Pattern, &Frames)) -> Option<Number> {
    if a.0 == b.0 && a.0.frame_width().is_some() {
        return a.1.intersect(b.1).first().map(Number::new);
    }
    if let Some(name) = b.0.fixed() {
        return a.0.read(&name).filter(|number| a.0.frame_width().is_none() || a.1.contains(number.value()));
    }
    if let Some(name) = a.0.fixed() {
        let read = b.0.read(&name).filter(|number| b.1.contains(number.value()));
        return read.and(a.1.first().map(Number::new));
    }
    let (forms_a, forms_b) = (forms(a.1), forms(b.1));
    forms_a.iter().flat_map(|x| forms_b.iter().map(move |y| (x, y))).find_map(|(x, y)| {
        let found = overlay(&cells(a.0, x), &cells(b.0, y), x, y)?;
        Some(Number::new(if x.negative { -found } else { found }))
    })
}

/// Frames of one sign and one number of digits, without their sign.
struct DigitForm {
    negative: bool,
    digits: usize,
    runs: Vec<FrameRun>,
}

fn forms(frames: &Frames) -> Vec<DigitForm> {
    let mut forms = Vec::new();
    for digits in 1..=16u32 {
        let (low, high) = (if digits == 1 { 0 } else { 10i64.pow(digits - 1) }, 10i64.pow(digits) - 1);
        for negative in [false, true] {
            let low = if negative { low.max(1) } else { low };
            let range = if negative { Frames::range(-high, -low) } else { Frames::range(low, high) };
            let inside = frames.intersect(&range);
            let unsigned = |run: &FrameRun| if negative { FrameRun { first: -run.last(), ..*run } } else { *run };
            if !inside.is_empty() {
                forms.push(DigitForm {
                    negative,
                    digits: digits as usize,
                    runs: inside.runs().iter().map(unsigned).collect(),
                });
            }
        }
    }
    forms
}

/// One byte of a name: known, or a digit of the frame, the highest first.
#[derive(Clone, Copy)]
enum NameByte {
    Known(u8),
    Digit(usize),
}

fn cells(pattern: &Pattern, form: &DigitForm) -> Vec<NameByte> {
    let mut cells = Vec::new();
    for piece in pattern.pieces() {
        match piece {
            Piece::Text(text) => cells.extend(text.bytes().map(NameByte::Known)),
            Piece::Version => cells.push(NameByte::Known(b'v')),
            Piece::Frame { width } => {
                cells.extend(form.negative.then_some(NameByte::Known(b'-')));
                cells.extend((form.digits..*width).map(|_| NameByte::Known(b'0')));
                cells.extend((0..form.digits).map(NameByte::Digit));
            }
        }
    }
    cells
}

/// Unknown digits of both numbers, joined where they are the same, with what is known of them.
struct Digits {
    parent: Vec<usize>,
    known: Vec<Option<u8>>,
}

impl Digits {
    fn root(&self, mut at: usize) -> usize {
        while self.parent[at] != at {
            at = self.parent[at];
        }
        at
    }

    fn fix(&mut self, at: usize, byte: u8) -> bool {
        let root = self.root(at);
        let digit = byte.wrapping_sub(b'0');
        digit <= 9 && *self.known[root].get_or_insert(digit) == digit
    }

    fn join(&mut self, a: usize, b: usize) -> bool {
        let (a, b) = (self.root(a), self.root(b));
        match self.known[b] {
            Some(digit) if a != b && self.known[a].is_some_and(|other| other != digit) => false,
            known => {
                self.parent[b] = a;
                self.known[a] = self.known[a].or(known);
                true
            }
        }
    }
}

/// Lays two names over each other; a frame number (without sign) of the first that solves it.
fn overlay(a: &[NameByte], b: &[NameByte], x: &DigitForm, y: &DigitForm) -> Option<i64> {
    if a.len() != b.len() {
        return None;
    }
    let all = x.digits + y.digits;
    let mut digits = Digits { parent: (0..all).collect(), known: vec![None; all] };
    for pair in a.iter().zip(b) {
        let agree = match pair {
            (NameByte::Known(a), NameByte::Known(b)) => a == b,
            (NameByte::Known(byte), NameByte::Digit(at)) => digits.fix(x.digits + at, *byte),
            (NameByte::Digit(at), NameByte::Known(byte)) => digits.fix(*at, *byte),
            (NameByte::Digit(a), NameByte::Digit(b)) => digits.join(*a, x.digits + b),
        };
        if !agree {
            return None;
        }
    }
    let mut free: Vec<usize> =
        (0..all).map(|at| digits.root(at)).filter(|root| digits.known[*root].is_none()).collect();
    let mut seen = HashSet::new();
    free.retain(|root| seen.insert(*root));
    let (known_a, weights_a) = linear(&digits, 0..x.digits, &free);
    let (known_b, weights_b) = linear(&digits, x.digits..all, &free);
    match (slope(&weights_a), slope(&weights_b)) {
        (Some(slope_a), Some(slope_b)) => {
            let most = 10i64.checked_pow(u32::try_from(free.len()).ok()?)? - 1;
            let solutions = |runs: &[FrameRun], slope, known| {
                runs.iter().filter_map(|run| preimage(run, slope, known, most)).collect::<Vec<_>>()
            };
            let (left, right) = (solutions(&x.runs, slope_a, known_a), solutions(&y.runs, slope_b, known_b));
            let both = left.iter().flat_map(|a| right.iter().map(move |b| (a, b))).find_map(|(a, b)| a.meet(b))?;
            Some(known_a + slope_a * both.first)
        }
        // Only patterns with several holes that lie across each other come here; their free digits are few.
        _ => {
            let side = |runs, known, weights| PatternSide { runs, known, weights };
            try_all(&side(&x.runs, known_a, &weights_a), &side(&y.runs, known_b, &weights_b))
        }
    }
}

/// A number as a known part and a weight for every free digit.
fn linear(digits: &Digits, own: std::ops::Range<usize>, free: &[usize]) -> (i64, Vec<i64>) {
    let (mut known, mut weights) = (0, vec![0; free.len()]);
    let count = own.len();
    for (at, index) in own.enumerate() {
        let (place, root) = (10i64.pow((count - 1 - at) as u32), digits.root(index));
        match (digits.known[root], free.iter().position(|f| *f == root)) {
            (Some(digit), _) => known += i64::from(digit) * place,
            (None, Some(position)) => weights[position] += place,
            (None, None) => {}
        }
    }
    (known, weights)
}

/// The common factor of weights that fall by tens, so that the free digits read as one number.
fn slope(weights: &[i64]) -> Option<i64> {
    let Some(last) = weights.last() else { return Some(1) };
    let falls =
        weights.iter().rev().enumerate().all(|(at, weight)| last.checked_mul(10i64.pow(at as u32)) == Some(*weight));
    falls.then_some(*last)
}

/// All `n` from 0 to `most` for which `known + slope * n` lies in the run.
fn preimage(run: &FrameRun, slope: i64, known: i64, most: i64) -> Option<FrameRun> {
    let step = i128::from(run.step);
    let start = i128::from(run.first) - i128::from(known);
    let end = i128::from(run.last()) - i128::from(known);
    let slope = i128::from(slope);
    let (low, high) = ((-((-start).div_euclid(slope))).max(0), end.div_euclid(slope).min(i128::from(most)));
    if low > high {
        return None;
    }
    // slope * n = start (mod step): walk at most the classes of the step's part that the slope does not share.
    let classes = step / gcd(slope, step);
    let inverse_found = FrameRun::congruent(slope, start, step)?;
    let first = low + (inverse_found - low).rem_euclid(classes);
    FrameRun::new(i64::try_from(first).ok()?, i64::try_from(high).ok()?, i64::try_from(classes).ok()?)
}

fn gcd(a: i128, b: i128) -> i128 {
    if b == 0 { a } else { gcd(b, a % b) }
}

/// One pattern's numbers, what is known of one, and what each free digit adds to it.
struct PatternSide<'s> {
    runs: &'s [FrameRun],
    known: i64,
    weights: &'s [i64],
}

fn try_all(a: &PatternSide<'_>, b: &PatternSide<'_>) -> Option<i64> {
    let total = 10u64.checked_pow(u32::try_from(a.weights.len()).ok()?)?;
    (0..total).find_map(|mut n| {
        let (mut left, mut right) = (a.known, b.known);
        for (wa, wb) in a.weights.iter().zip(b.weights) {
            let digit = i64::try_from(n % 10).unwrap_or(0);
            (left, right, n) = (left + wa * digit, right + wb * digit, n / 10);
        }
        let among = |side: &PatternSide<'_>, number| side.runs.iter().any(|run| run.contains(number));
        (among(a, left) && among(b, right)).then_some(left)
    })
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::{NamedSeries, meet, meetings};
    use crate::frames::{FrameExpr, Frames, Number};
    use crate::template::Pattern;

    fn pattern(text: &str) -> Pattern {
        let mut pattern = Pattern::default();
        for (at, piece) in text.split('#').enumerate() {
            let (width, rest) = if at == 0 { (None, piece) } else { (piece[..1].parse().ok(), &piece[1..]) };
            width.into_iter().for_each(|width| pattern.push_frame(width));
            pattern.push_text(rest);
        }
        pattern
    }

    fn frames(text: &str) -> Frames {
        FrameExpr::parse(text).expect(text).frames(None, None).expect(text)
    }

    #[test]
    fn one_frame_in_a_billion_is_found() {
        let (a, b) = (frames("1-1000000000"), frames("1000000000-2000000000"));
        let name = pattern("/r/x.#4.exr");
        assert_eq!(meet((&name, &a), (&name, &b)), Some(Number::new(1_000_000_000)));
        assert_eq!(meet((&name, &frames("1-999999999/2")), (&name, &frames("2-1000000000/2"))), None);
        let short = frames("1-99999999");
        assert_eq!(
            meet((&pattern("x1#4"), &short), (&pattern("x#5"), &b)),
            None,
            "x1 and eight digits are a digit short of a billion"
        );
        assert_eq!(
            meet((&pattern("x1#4"), &frames("1-999999999")), (&pattern("x#4"), &frames("1000000007-1999999999/9"))),
            Some(Number::new(100_000_006))
        );
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(3000))]
        #[test]
        fn deciding_agrees_with_listing(
            parts in prop::collection::vec(("[ab]?[0-2-]{0,2}", 1usize..4, "[0-2-]{0,2}[ab]?", -30i64..130, 0i64..140, 1i64..8, any::<bool>()), 2..5)
        ) {
            let names: Vec<NamedSeries> = parts.iter().enumerate().map(|(at, (head, width, tail, first, more, step, hole))| NamedSeries {
                at,
                pattern: pattern(&if *hole { format!("{head}#{width}{tail}") } else { format!("{head}{tail}") }),
                frames: if *hole { frames(&format!("{first}-{}/{step}", first + more)) } else { frames("1") },
            }).collect();
            let listed: Vec<BTreeSet<String>> = names.iter().map(|n| n.frames.iter().map(|f| n.pattern.name(Number::new(f))).collect()).collect();
            let mut expected = Vec::new();
            for second in 0..names.len() {
                expected.extend((0..second).find(|first| !listed[*first].is_disjoint(&listed[second])).map(|first| (first, second)));
            }
            let found = meetings(&names, names.len());
            prop_assert_eq!(found.iter().map(|m| m.second).collect::<Vec<_>>(), expected.iter().map(|(_, second)| *second).collect::<Vec<_>>());
            for meeting in found {
                let name = names[meeting.second].pattern.name(meeting.number);
                prop_assert!(listed[meeting.second].contains(&name) && listed[meeting.first].contains(&name));
            }
        }

        #[test]
        fn two_holes_are_decided_too(widths in prop::array::uniform4(1usize..4), last in 1i64..300, middle in "[0-9]{0,1}x?") {
            let (a, b) = (format!("#{}{middle}#{}", widths[0], widths[1]), format!("#{}{middle}#{}", widths[2], widths[3]));
            let (a, b) = (pattern(&a), pattern(&b));
            let all = frames(&format!("1-{last}/3"));
            let other = frames(&format!("2-{}", last + 2));
            let names: BTreeSet<String> = all.iter().map(|f| a.name(Number::new(f))).collect();
            let expected = other.iter().any(|f| names.contains(&b.name(Number::new(f))));
            prop_assert_eq!(meet((&a, &all), (&b, &other)).is_some(), expected);
        }
    }
}
