//! What is odd about pictures, and which names are almost right: invariants over generated rows and folders.

use std::collections::BTreeMap;

use crate::support::planned;
use proptest::prelude::*;
use truepath_core::diagnostic::Level;
use truepath_core::frames::Frames;
use truepath_core::picture::{Asked, Cell, Content, OddKind, OddPolicy, OddRow, Oddity, Placed};
use truepath_core::plan::Series;
use truepath_core::threads::OneByOne;
use truepath_core::verify::{Files, near_misses};

const COLUMNS: usize = 12;
const ROWS: usize = 10;

/// A picture with a slope and some texture; `grain` moves every mean by up to one step.
fn picture(grain: u64, change: &dyn Fn(usize, usize, Cell) -> Cell) -> Content {
    let cell = |at: usize| {
        let (x, y) = (at % COLUMNS, at / COLUMNS);
        let mean = (60 + x * 8 + y * 3) as u8 + (grain.wrapping_mul(at as u64 + 1) >> 7 & 1) as u8;
        change(x, y, Cell { mean, low: mean - 20, high: mean + 20, flat: false, black: false })
    };
    Content {
        samples: 1000,
        colour: Some((1.0, 250.0)),
        columns: COLUMNS,
        cells: (0..COLUMNS * ROWS).map(cell).collect(),
        sum: grain,
        ..Content::default()
    }
}

fn plain(grain: u64) -> Content {
    picture(grain, &|_, _, cell| cell)
}

const ASKED: Asked = Asked { colour: true, alpha: false };

/// What is odd in a row of pictures with the sizes of their files, by place.
fn judged(row: &[(Content, u64)], policy: &OddPolicy) -> BTreeMap<usize, Oddity> {
    let mut rows = OddRow::new(ASKED, policy);
    let next =
        |(key, (content, bytes)): (usize, &(Content, u64))| Placed { key, content: content.clone(), bytes: *bytes };
    let mut found: BTreeMap<usize, Oddity> =
        row.iter().enumerate().filter_map(|one| rows.next(Some(next(one)))).collect();
    found.extend(rows.next(None));
    found
}

fn alike(count: usize) -> Vec<(Content, u64)> {
    (0..count).map(|at| (plain(at as u64 * 977 + 3), 50_000 + at as u64 * 10)).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]
    #[test]
    fn one_strange_picture_is_found_and_no_other(count in 3usize..9, at in 0usize..9, kind in 0usize..6) {
        let policy = OddPolicy::default();
        let mut row = alike(count);
        prop_assert!(judged(&row, &policy).is_empty(), "{:?}", judged(&row, &policy));
        let at = 1 + at % (count - 2);
        let own = &mut row[at];
        let grain = own.0.sum;
        let inside = |x: usize, y: usize| (3..7).contains(&x) && (2..6).contains(&y);
        let kind = match kind {
            0 => {
                own.0 = picture(grain, &|_, _, cell| Cell { mean: cell.mean / 3, low: cell.low / 3, high: cell.high / 3, ..cell });
                OddKind::Jump
            }
            1 => {
                own.0 = picture(grain, &|x, y, cell| if inside(x, y) { Cell { mean: 90, low: 90, high: 90, flat: true, black: false } } else { cell });
                OddKind::Block
            }
            2 => {
                own.0 = picture(grain, &|x, y, cell| if inside(x, y) { Cell { mean: cell.mean.wrapping_add(60), ..cell } } else { cell });
                OddKind::Block
            }
            3 => {
                own.1 /= 6;
                OddKind::FileSize
            }
            4 => {
                own.0.no_number = true;
                OddKind::NotFinite
            }
            _ => {
                own.0 = picture(grain, &|_, y, cell| if y >= ROWS / 2 { Cell { flat: true, black: true, ..Cell::default() } } else { cell });
                OddKind::HalfBlack
            }
        };
        let found = judged(&row, &policy);
        prop_assert_eq!(found.keys().copied().collect::<Vec<_>>(), vec![at], "{:?}: {:?}", kind, found);
        prop_assert!(found[&at].why.contains(&format!("[{}]", kind.check())), "{:?}", found);
        // What a sheet does not want to hear of is not said.
        let mut quiet = policy.clone();
        quiet.set(kind.check(), None, None);
        prop_assert!(judged(&row, &quiet).get(&at).is_none_or(|odd| !odd.why.contains(kind.check())));
        let mut grave = policy;
        grave.set(kind.check(), Some(Level::Error), None);
        prop_assert_eq!(judged(&row, &grave)[&at].kind, kind);
    }

    #[test]
    fn a_change_that_stays_a_light_that_fades_and_a_cut_are_not_odd(count in 4usize..9, from in 1usize..8, dim in 2u8..6) {
        let policy = OddPolicy::default();
        let from = 1 + from % (count - 1);
        // From some frame on everything is darker: a cut.
        let mut row = alike(count);
        for (content, _) in &mut row[from..] {
            let grain = content.sum;
            *content = picture(grain, &|_, _, cell| Cell { mean: cell.mean / dim, low: cell.low / dim, high: cell.high / dim, ..cell });
        }
        let found = judged(&row, &policy);
        prop_assert!(found.len() <= usize::from(from + 1 == count), "{from} of {count}: {found:?}");
        // A light at one place that fades at its rim, in one frame.
        let mut row = alike(count);
        let at = from.min(count - 2);
        let grain = row[at].0.sum;
        row[at].0 = picture(grain, &|x, y, cell| {
            let far = x.abs_diff(5) + y.abs_diff(5);
            Cell { mean: cell.mean.saturating_add(60u8.saturating_sub(far as u8 * 12)), ..cell }
        });
        prop_assert!(judged(&row, &policy).is_empty(), "{:?}", judged(&row, &policy));
    }

    #[test]
    fn names_that_were_meant_are_found_whatever_was_done_to_them(
        frames in prop::collection::btree_set(1i64..60, 1..20), ways in prop::collection::vec(0usize..7, 20), kept in 0usize..20,
    ) {
        let series = series();
        let all: Vec<i64> = frames.into_iter().collect();
        let missing: Vec<i64> = all.iter().copied().take(all.len() - kept.min(all.len() - 1)).collect();
        let planned = |frame: i64| format!("ferry-night_beauty_v002.{frame:04}.exr");
        let mut files = Files::default();
        let mut meant: BTreeMap<i64, String> = BTreeMap::new();
        let mut names: Vec<String> = all.iter().filter(|frame| !missing.contains(frame)).map(|frame| planned(*frame)).collect();
        for (frame, way) in missing.iter().zip(&ways) {
            let name = match way {
                0 => format!("ferry-night_beauty_v002.{frame}.exr"),
                1 => format!("Ferry-Night_Beauty_v002.{frame:04}.EXR"),
                2 => format!("ferry_night-beauty v002_{frame:04}.exr"),
                3 => format!("ferry-night_beauty_v002.{frame:06}.exr"),
                4 => format!("ferry-night_beauty_v001.{frame:04}.exr"),
                5 => format!("ferry-night_beauty_v002.{frame:04}.tif"),
                // Another pass, and a note: nobody's.
                _ => format!("ferry-night_depth_v002.{frame:04}.exr"),
            };
            if *way < 6 {
                meant.insert(*frame, name.clone());
            }
            names.push(name);
        }
        names.extend(["notes.txt".to_owned(), ".ferry-night_beauty_v002.0001.exr.part".to_owned()]);
        names.sort();
        names.iter().for_each(|name| files.push(name, (10, 0)));
        let files = Files::merged(&[files], &OneByOne);
        let missing = Frames::from_any(missing);
        let is_planned = |name: &str| all.iter().any(|frame| planned(*frame) == name);
        let found = near_misses(&series, &files, &missing, &is_planned);
        let told: BTreeMap<i64, String> = found.iter().map(|near| (near.frame, near.from.clone())).collect();
        prop_assert_eq!(&told, &meant);
        for near in &found {
            prop_assert_eq!(&near.to, &planned(near.frame));
            prop_assert!(!near.why.is_empty() && missing.contains(near.frame));
        }
        // Where nothing is missing nothing is meant; a second file for a frame makes both doubtful.
        prop_assert!(near_misses(&series, &files, &Frames::none(), &is_planned).is_empty());
        if let Some(frame) = meant.keys().next() {
            let twin = format!("FERRY-NIGHT_BEAUTY_V002-{frame:05}.exr");
            let mut both: Vec<String> = names.iter().cloned().chain([twin]).collect();
            both.sort();
            let mut files = Files::default();
            both.iter().for_each(|name| files.push(name, (10, 0)));
            let found = near_misses(&series, &Files::merged(&[files], &OneByOne), &missing, &is_planned);
            prop_assert!(found.iter().all(|near| near.frame != *frame));
        }
    }

    #[test]
    fn a_sequence_that_is_counted_from_another_number_is_moved_as_a_whole(count in 2i64..40, first in -20i64..2000, lost in 0i64..40) {
        let series = series();
        let series = Series { frames: Some(Frames::range(1, count)), ..series };
        let mut files = Files::default();
        let mut names: Vec<String> = (first..first + count).map(|number| series.pattern.name(truepath_core::frames::Number::new(number))).map(|path| path.rsplit('/').next().unwrap().to_owned()).collect();
        names.sort();
        names.iter().for_each(|name| files.push(name, (10, 0)));
        let files = Files::merged(&[files], &OneByOne);
        let missing = Frames::range(1, count);
        let overlaps = first <= count && first + count > 1;
        // Names that are planned are nobody's near misses.
        let is_other = |name: &str| (1..=count).any(|frame| name.ends_with(&format!("v002.{frame:04}.exr")));
        let found = near_misses(&series, &files, &missing, &is_other);
        if overlaps {
            prop_assert!(found.is_empty());
        } else {
            let by: Vec<i64> = found.iter().map(|near| near.frame).collect();
            prop_assert_eq!(by, (1..=count).collect::<Vec<_>>());
        }
        // With a gap it is another sequence.
        if lost > 0 && lost < count - 1 && !overlaps && count > 2 {
            let mut fewer = Files::default();
            names.iter().enumerate().filter(|(at, _)| *at as i64 != lost).for_each(|(_, name)| fewer.push(name, (10, 0)));
            prop_assert!(near_misses(&series, &Files::merged(&[fewer], &OneByOne), &missing, &is_other).is_empty());
        }
    }
}

fn series() -> Series {
    let (plan, _) = planned(
        "sheet = 1\n[roots]\nrenders = \"renders\"\n[formats.master]\ntype = \"exr\"\n\
         [[job]]\nname = \"night\"\nscene = \"a.gltf\"\nframes = \"1-60\"\nformat = \"master\"\nsize = \"64x36\"\nversion = 2\n\
         path = \"{renders}/{job}/ferry-{job}_{pass}_{version}.{frame:4}.{ext}\"\n",
    );
    plan.series[0].clone()
}
