//! One name, one file: what is decided from patterns against what is found by listing every name, on many small sheets.

use std::collections::HashMap;

use crate::support::checked;
use truepath_core::plan::Plan;
use unicode_normalization::UnicodeNormalization;

/// How many sheets; each takes a fraction of a millisecond.
const SHEETS: u64 = 20_000;

/// Numbers that are the same in every run (splitmix).
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (mixed ^ (mixed >> 31)) % sides
    }

    fn pick<'p>(&mut self, list: &[&'p str]) -> &'p str {
        list[usize::try_from(self.roll(list.len() as u64)).unwrap()]
    }
}

/// A path of a few pieces that easily meets another: digits, holes of several widths, letters in two cases and two
/// spellings.
fn path(dice: &mut Dice) -> String {
    let pieces = [
        "{frame:1}",
        "{frame:2}",
        "{frame:3}",
        "{frame}",
        "1",
        "0",
        "10",
        "-",
        "a",
        "A",
        "\u{e9}",
        "e\u{301}",
        "/",
        "{pass}",
        "{job}",
        "{v}",
        "",
        "",
    ];
    let mut path = "{r}/x".to_owned();
    for _ in 0..2 + dice.roll(3) {
        path.push_str(dice.pick(&pieces));
    }
    // Without an extension a file may stand where another series needs a folder.
    path.push_str(dice.pick(&[".png", ".png", ""]));
    path
}

fn sheet(dice: &mut Dice) -> String {
    let systems = dice.pick(&["\"linux\"", "\"linux\", \"macos\"", "\"windows\""]);
    let mut text = format!(
        "[roots]\nr = \"/r\"\n[policy]\nsystems = [{systems}]\n[defaults]\nscene = \"a\"\nvars.v = \"1\"\npasses = {}\npath = \"{}\"\n",
        dice.pick(&["[\"beauty\"]", "[\"beauty\", \"depth\"]"]),
        path(dice),
    );
    for job in 0..2 + dice.roll(2) {
        let first = dice.roll(24) as i64 - 12;
        let (last, step) = (first + dice.roll(14) as i64, 1 + dice.roll(4));
        text.push_str(&format!("[[job]]\nname = \"j{job}\"\nframes = \"{first}-{last}/{step}\"\n"));
        if dice.roll(2) == 0 {
            text.push_str(&format!("path = \"{}\"\n", path(dice)));
        }
        if dice.roll(4) == 0 {
            text.push_str(&format!("shift = {}\n", dice.roll(120) as i64 - 20));
        }
        if dice.roll(3) == 0 {
            text.push_str("each = { v = [\"1\", \"10\"] }\n");
        }
    }
    if dice.roll(2) == 0 {
        text.push_str(&format!("[[movie]]\nname = \"m\"\nof = \"j0\"\npath = \"{}\"\n", path(dice)));
    }
    text
}

/// What one person would see with all names in a list: how many series of each job share a name with an earlier one, and
/// how many files stand where a folder is needed.
fn listed(plan: &Plan, text: &str) -> (HashMap<String, usize>, bool) {
    let fold = !text.contains("systems = [\"linux\"]\n");
    let seen_as = |name: String| {
        if fold { name.nfc().flat_map(char::to_lowercase).nfc().collect() } else { name }
    };
    let mut owner: HashMap<String, usize> = HashMap::new();
    let mut met = HashMap::new();
    let mut folders: Vec<String> = Vec::new();
    for (at, series) in plan.series.iter().chain(&plan.movies).enumerate().filter(|(_, series)| series.is_known()) {
        let own: Vec<String> = if series.pattern.frame_width().is_none() {
            vec![series.pattern.fixed().unwrap()]
        } else {
            series.files().map(|(_, name)| name).collect()
        };
        let mut shares = false;
        for name in own.into_iter().map(seen_as) {
            folders.extend(name.match_indices('/').map(|(at, _)| name[..at].to_owned()));
            shares |= *owner.entry(name).or_insert(at) != at;
        }
        if shares {
            *met.entry(plan.jobs[series.job].name.clone()).or_insert(0) += 1;
        }
    }
    (met, folders.iter().any(|folder| owner.contains_key(folder)))
}

fn compare(seeds: std::ops::Range<u64>) -> (usize, usize) {
    let mut hits = (0, 0);
    for seed in seeds {
        let text = sheet(&mut Dice(seed));
        let (plan, findings) = checked(&text);
        let mut found: HashMap<String, usize> = HashMap::new();
        for finding in findings.iter().filter(|finding| finding.check == "names-meet") {
            *found.entry(finding.job.clone().unwrap()).or_insert(0) += 1;
        }
        let (expected, blocked) = listed(&plan, &text);
        assert_eq!(found, expected, "seed {seed}\n{text}");
        let folder = findings.iter().any(|finding| finding.check == "folder-wanted");
        assert_eq!(folder, blocked, "a file in a folder's place, seed {seed}\n{text}");
        hits = (hits.0 + usize::from(!expected.is_empty()), hits.1 + usize::from(blocked));
    }
    hits
}

#[test]
fn deciding_agrees_with_listing_on_twenty_thousand_sheets() {
    let workers = std::thread::available_parallelism().map_or(2, std::num::NonZero::get) as u64;
    let (met, blocked) = std::thread::scope(|scope| {
        let share = |worker: u64| SHEETS * worker / workers..SHEETS * (worker + 1) / workers;
        let workers: Vec<_> = (0..workers).map(|worker| scope.spawn(move || compare(share(worker)))).collect();
        workers.into_iter().map(|worker| worker.join().unwrap()).fold((0, 0), |sum, one| (sum.0 + one.0, sum.1 + one.1))
    });
    // Both answers are common, so that neither side can be right by always saying the same.
    let (all, met) = (usize::try_from(SHEETS).unwrap(), met);
    assert!(met > all / 10 && met < all * 9 / 10, "{met} sheets with names that meet");
    assert!(blocked > all / 2000 && blocked < all / 2, "{blocked} sheets with a file in a folder's place");
}
