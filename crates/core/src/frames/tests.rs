use std::collections::BTreeSet;

use proptest::prelude::*;

use super::{FrameExpr, Frames};

fn set(text: &str) -> Frames {
    FrameExpr::parse(text).expect(text).frames(None, None).expect("no words in it")
}

#[test]
fn expressions_print_from_the_left_in_the_longest_runs() {
    for (text, printed) in [
        ("1-96", "1-96"),
        ("7", "7"),
        ("1-96/4", "1-93/4"),
        ("1-10,11-20", "1-20"),
        ("1-9/4", "1-9/4"),
        ("3,2", "2-3"),
        ("1,5", "1,5"),
        ("1,3,5,6,7", "1-5/2,6-7"),
        ("-12--4", "-12--4"),
        ("1-96 except 40-44", "1-39,45-96"),
        ("1-10/2,2-10/2", "1-10"),
        ("1-10,5-20/5", "1-10,15,20"),
        ("1-1000000000 except 2-1000000000/2", "1-999999999/2"),
    ] {
        assert_eq!(set(text).to_string(), printed, "{text}");
    }
}

#[test]
fn mistakes_name_the_part_at_fault() {
    for (text, range, word) in [
        ("1-5,9-3", 4..7, "backwards"),
        ("1,,2", 2..2, "missing"),
        ("1-8/0", 0..5, "the step after"),
        ("1 - x", 0..5, "is not a frame"),
        ("1-1000000000000/2,1-1000000000000/3", 0..35, "overlap"),
        ("1-1000000000000000 except 1-1000000000000000/30000000", 0..53, "overlap"),
    ] {
        let error = FrameExpr::parse(text).expect_err(text);
        assert_eq!(error.range, range, "{text}: {}", error.message);
        assert!(error.message.contains(word), "{text}: {}", error.message);
    }
}

#[test]
fn words_speak_of_the_jobs_own_frames() {
    let own = set("1-10,21-30");
    let of = |text: &str| FrameExpr::parse(text).expect(text).frames(None, Some(&own)).expect(text).to_string();
    assert_eq!(of("all/8"), "1,9,27");
    assert_eq!(of("first,middle,last"), "1,10,30");
    assert_eq!(of("all except 25-30"), "1-10,21-24");
}

#[test]
fn a_billion_frames_cost_what_ten_cost() {
    let all = set("1-1000000000");
    let far = set("1000000000-2000000000");
    assert_eq!(all.intersect(&far).to_string(), "1000000000");
    assert_eq!(all.every(7).minus(&all.every(14)).count(), 71_428_571);
    assert_eq!(all.minus(&set("500000000")).to_string(), "1-499999999,500000001-1000000000");
    assert_eq!(
        all.chunks(400_000_000).map(|chunk| chunk.to_string()).collect::<Vec<_>>(),
        ["1-400000000", "400000001-800000000", "800000001-1000000000"]
    );
}

fn expression() -> impl Strategy<Value = String> {
    let part = (-60i64..60, 0i64..60, 1i64..9).prop_map(|(first, more, every)| match (more, every) {
        (0, _) => first.to_string(),
        (_, 1) => format!("{first}-{}", first + more),
        _ => format!("{first}-{}/{every}", first + more),
    });
    let list = prop::collection::vec(part, 1..5).prop_map(|parts| parts.join(","));
    (list.clone(), prop::option::of(list)).prop_map(|(taken, left_out)| match left_out {
        Some(left_out) => format!("{taken} except {left_out}"),
        None => taken,
    })
}

proptest! {
    #[test]
    fn sets_agree_with_an_oracle_of_plain_numbers(a in expression(), b in expression(), size in 1i64..9) {
        let plain = |text: &str| -> BTreeSet<i64> {
            let list = |text: &str| -> BTreeSet<i64> {
                text.split(',').flat_map(|part| {
                    let (range, every) = part.split_once('/').unwrap_or((part, "1"));
                    let dash = range.char_indices().skip(1).find(|(_, c)| *c == '-').map(|(at, _)| at);
                    let (first, last) = dash.map_or((range, range), |at| (&range[..at], &range[at + 1..]));
                    (first.parse::<i64>().unwrap()..=last.parse().unwrap()).step_by(every.parse().unwrap())
                }).collect()
            };
            let (taken, left_out) = text.split_once(" except ").map_or((text, None), |(t, l)| (t, Some(l)));
            list(taken).difference(&left_out.map_or_else(BTreeSet::new, list)).copied().collect()
        };
        let (x, y, px, py) = (set(&a), set(&b), plain(&a), plain(&b));
        let listed = |frames: &Frames| frames.iter().collect::<Vec<_>>();
        prop_assert_eq!(listed(&x), px.iter().copied().collect::<Vec<_>>());
        prop_assert_eq!(listed(&x.union(&y)), px.union(&py).copied().collect::<Vec<_>>());
        prop_assert_eq!(listed(&x.intersect(&y)), px.intersection(&py).copied().collect::<Vec<_>>());
        prop_assert_eq!(listed(&x.minus(&y)), px.difference(&py).copied().collect::<Vec<_>>());
        prop_assert_eq!(x.is_disjoint(&y), px.is_disjoint(&py));
        prop_assert_eq!(x.count(), px.len() as i64);
        prop_assert_eq!(x == y, px == py);
        prop_assert_eq!(listed(&x.every(size)), px.iter().copied().step_by(size as usize).collect::<Vec<_>>());
        prop_assert_eq!(x.middle(), px.iter().copied().nth(px.len().saturating_sub(1) / 2));
        let chunks: Vec<Frames> = x.chunks(size).collect();
        prop_assert!(chunks.iter().rev().skip(1).all(|chunk| chunk.count() == size));
        prop_assert_eq!(chunks.iter().flat_map(listed).collect::<Vec<_>>(), listed(&x));
        if !x.is_empty() {
            let printed = x.to_string();
            prop_assert_eq!(&set(&printed), &x, "printed {}", printed);
            prop_assert_eq!(set(&printed).to_string(), printed);
        }
        prop_assert_eq!(FrameExpr::parse(&FrameExpr::parse(&a).unwrap().to_string()), FrameExpr::parse(&a));
    }
}
