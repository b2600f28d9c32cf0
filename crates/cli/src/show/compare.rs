//! How pictures of the same frames differ, as a table and as a document.

use serde_json::{Value, json};
use truepath_core::frames::Frames;
use truepath_pictures::pairs::{Likeness, SampleDifference, Side};

use super::verdicts::cut;
use super::{BAD, GOOD, HEAD, ODD, QUIET, counted, paint, state};
use crate::lower::Screen;

/// Frames that are named one by one.
pub const WORST: usize = 10;

/// How one frame stands on both sides.
#[derive(Clone, Debug, PartialEq)]
pub enum FrameOutcome {
    /// Both are there.
    Both(Likeness),
    /// Only one of them.
    Only(Side),
    /// None of them.
    Neither,
}

/// One frame.
#[derive(Clone, Debug)]
pub struct Compared {
    /// Its number.
    pub frame: i64,
    /// Its files, before and after.
    pub files: [String; 2],
    /// How they stand.
    pub outcome: FrameOutcome,
}

/// Two sequences.
pub struct CompareRow {
    /// What they are.
    pub label: String,
    /// Their frames in order.
    pub frames: Vec<Compared>,
}

/// All that was compared.
pub struct Comparison {
    /// What is before, and what is after.
    pub sides: [String; 2],
    /// The largest difference that passes.
    pub tolerance: f64,
    /// Each pair of sequences.
    pub rows: Vec<CompareRow>,
}

/// The kinds of outcomes in the order in which they are told, with their words.
const KINDS: [&str; 8] = [
    "identical bytes",
    "identical pixels",
    "within tolerance",
    "differing",
    "other size",
    "other channels",
    "only on one side",
    "unreadable",
];

impl Comparison {
    /// Every frame with its row.
    pub fn all(&self) -> impl Iterator<Item = (&CompareRow, &Compared)> {
        self.rows.iter().flat_map(|row| row.frames.iter().map(move |frame| (row, frame)))
    }

    /// Whether every frame that is there on any side is there on both, and nothing differs by more than the tolerance.
    pub fn is_within(&self) -> bool {
        self.all().all(|(_, frame)| match &frame.outcome {
            FrameOutcome::Both(likeness) => likeness.is_within(self.tolerance),
            FrameOutcome::Only(_) => false,
            FrameOutcome::Neither => true,
        })
    }

    /// The frames that differ most, those that cannot be compared pixel by pixel left out.
    pub fn worst(&self) -> Vec<(&CompareRow, &Compared, &SampleDifference)> {
        let differing = self.all().filter_map(|(row, frame)| match &frame.outcome {
            FrameOutcome::Both(Likeness::Differs(difference)) => Some((row, frame, difference)),
            _ => None,
        });
        let mut all: Vec<_> = differing.collect();
        all.sort_by(|a, b| b.2.largest.total_cmp(&a.2.largest).then(b.2.mean.total_cmp(&a.2.mean)));
        all.truncate(WORST);
        all
    }

    /// The kind of an outcome: an index into [`KINDS`]; none where there is nothing on any side.
    fn kind(&self, outcome: &FrameOutcome) -> Option<usize> {
        Some(match outcome {
            FrameOutcome::Neither => return None,
            FrameOutcome::Both(Likeness::SameBytes) => 0,
            FrameOutcome::Both(Likeness::SamePixels) => 1,
            FrameOutcome::Both(likeness @ Likeness::Differs(_)) => 2 + usize::from(!likeness.is_within(self.tolerance)),
            FrameOutcome::Both(Likeness::OtherSize(..)) => 4,
            FrameOutcome::Both(Likeness::OtherChannels(..)) => 5,
            FrameOutcome::Only(_) => 6,
            FrameOutcome::Both(Likeness::Unread(..)) => 7,
        })
    }
}

/// A difference as it is read: so many digits as matter.
fn number(value: f64) -> String {
    match value {
        value if !value.is_finite() => "infinite".to_owned(),
        value if value != 0.0 && value < 0.000_1 => format!("{value:.1e}"),
        value => format!("{value:.4}"),
    }
}

/// A difference in two lines of words.
pub fn words(difference: &SampleDifference, tolerance: f64) -> [String; 2] {
    let SampleDifference { largest, mean, psnr, beyond, channel, at: (x, y), .. } = difference;
    [
        format!("largest {} ({channel} at {x},{y}), mean {}", number(*largest), number(*mean)),
        format!("PSNR {}, {} of pixels beyond {tolerance}", decibels(*psnr), share(*beyond)),
    ]
}

fn decibels(psnr: f64) -> String {
    if psnr.is_finite() { format!("{psnr:.1} dB") } else { "none".to_owned() }
}

fn share(share: f64) -> String {
    match share * 100.0 {
        percent if percent > 0.0 && percent < 0.01 => "under 0.01 %".to_owned(),
        percent => format!("{percent:.2} %"),
    }
}

/// All of it as a table: a line for every kind of outcome of each row, then the worst frames, then one word on all.
pub fn text(comparison: &Comparison, screen: Screen) -> String {
    let [before, after] = &comparison.sides;
    let mut out = format!("before  {before}\nafter   {after}\n\n");
    for row in &comparison.rows {
        let there = row.frames.iter().filter(|frame| frame.outcome != FrameOutcome::Neither).count();
        let count = counted(i64::try_from(there).unwrap_or(i64::MAX), "frame");
        out.push_str(&format!("{}  {count}\n", paint(screen, HEAD, &row.label)));
        for (kind, name) in KINDS.iter().enumerate() {
            let own: Vec<&Compared> =
                row.frames.iter().filter(|frame| comparison.kind(&frame.outcome) == Some(kind)).collect();
            if !own.is_empty() {
                out.push_str(&line(comparison, (kind, name), &own, screen));
            }
        }
        let neither = row.frames.iter().filter(|frame| frame.outcome == FrameOutcome::Neither).map(|frame| frame.frame);
        let neither = Frames::from_any(neither.collect());
        if !neither.is_empty() {
            let line = format!("  {:17} {}\n", "on no side", cut(&neither.to_string()));
            out.push_str(&paint(screen, QUIET, line));
        }
    }
    let worst = comparison.worst();
    if worst.len() > 1 {
        let name = |row: &CompareRow, frame: &Compared| format!("{} {}", row.label, frame.frame);
        let widest = worst.iter().map(|(row, frame, _)| super::width(&name(row, frame))).max().unwrap_or(0).max(12);
        let head =
            format!("{:widest$}  {:>10}  {:>10}  {:>8}  {:>8}", "worst frames", "largest", "mean", "PSNR", "beyond");
        out.push_str(&format!("\n{}\n", paint(screen, HEAD, head)));
        for (row, frame, own) in &worst {
            let (largest, mean) = (number(own.largest), number(own.mean));
            let (psnr, beyond) = (decibels(own.psnr), share(own.beyond));
            let name = super::pad(&name(row, frame), widest);
            out.push_str(&format!("{name}  {largest:>10}  {mean:>10}  {psnr:>8}  {beyond:>8}\n"));
        }
    }
    out.push_str(&closing(comparison, screen));
    out
}

/// One kind of outcome of a row: its frames, and what is known of them.
fn line(comparison: &Comparison, (kind, name): (usize, &str), own: &[&Compared], screen: Screen) -> String {
    let frames = cut(&Frames::from_any(own.iter().map(|frame| frame.frame).collect()).to_string());
    let style = [GOOD, GOOD, GOOD, BAD, BAD, BAD, BAD, ODD][kind];
    let word = super::pad(&state(screen, style, name), 19);
    let mut out = format!("  {word} {frames}\n");
    let mut note = |text: String| out.push_str(&format!("  {:19} {}\n", "", paint(screen, QUIET, text)));
    let mut differences = own.iter().filter_map(|frame| match &frame.outcome {
        FrameOutcome::Both(Likeness::Differs(difference)) => Some((frame.frame, difference)),
        _ => None,
    });
    if let Some(first) = differences.next() {
        let (frame, worst) =
            differences.fold(first, |worst, next| if next.1.largest > worst.1.largest { next } else { worst });
        if own.len() > 1 {
            note(format!("at worst, in frame {frame}:"));
        }
        words(worst, comparison.tolerance).into_iter().for_each(&mut note);
        if !worst.layers.is_empty() {
            note(format!("in the layers {}", worst.layers.join(", ")));
        }
    }
    match &own[0].outcome {
        FrameOutcome::Both(Likeness::OtherSize(before, after)) => {
            note(format!("{}x{} before, {}x{} after", before.0, before.1, after.0, after.1));
        }
        FrameOutcome::Both(Likeness::OtherChannels(before, after)) => {
            let only = |names: &[String], side: &str| match names {
                [] => None,
                names => Some(format!("{} only {side}", names.join(", "))),
            };
            let both: Vec<String> = only(before, "before").into_iter().chain(only(after, "after")).collect();
            note(both.join("; "));
        }
        FrameOutcome::Both(Likeness::Unread(side, why)) => note(format!("{}: {why}", side_name(*side))),
        FrameOutcome::Only(_) => {
            for side in [Side::Before, Side::After] {
                let own = own.iter().filter(|frame| frame.outcome == FrameOutcome::Only(side)).map(|frame| frame.frame);
                let frames = Frames::from_any(own.collect());
                if !frames.is_empty() {
                    note(format!("{} only: {}", side_name(side), cut(&frames.to_string())));
                }
            }
        }
        _ => {}
    }
    out
}

fn side_name(side: Side) -> &'static str {
    match side {
        Side::Before => "before",
        Side::After => "after",
    }
}

fn closing(comparison: &Comparison, screen: Screen) -> String {
    let count =
        |kind: usize| comparison.all().filter(|(_, frame)| comparison.kind(&frame.outcome) == Some(kind)).count();
    let parts: Vec<String> = KINDS
        .iter()
        .enumerate()
        .filter(|(kind, _)| count(*kind) > 0)
        .map(|(kind, name)| format!("{} {name}", count(kind)))
        .collect();
    let (style, word) = if comparison.is_within() { (GOOD, "no differences") } else { (BAD, "different") };
    format!("\n{}: {}\n", state(screen, style, word), parts.join(", "))
}

/// `compare --json`.
pub fn json(comparison: &Comparison) -> Value {
    let finite = |value: f64| value.is_finite().then_some(value);
    let frame = |frame: &Compared| {
        let kind = comparison.kind(&frame.outcome).map_or("on no side", |kind| KINDS[kind]);
        // A frame that one side does not plan has no file there.
        let file = |side: usize| Some(&frame.files[side]).filter(|path| !path.is_empty());
        let mut one = json!({ "frame": frame.frame, "before": file(0), "after": file(1), "outcome": kind });
        match &frame.outcome {
            FrameOutcome::Both(Likeness::Differs(own)) => {
                one["largest"] = json!(finite(own.largest));
                one["mean"] = json!(finite(own.mean));
                one["psnr"] = json!(finite(own.psnr));
                one["beyond"] = json!(own.beyond);
                one["channel"] = json!(own.channel);
                one["at"] = json!([own.at.0, own.at.1]);
                one["layers"] = json!(own.layers);
            }
            FrameOutcome::Both(Likeness::OtherSize(before, after)) => {
                one["sizes"] = json!([[before.0, before.1], [after.0, after.1]]);
            }
            FrameOutcome::Both(Likeness::OtherChannels(before, after)) => one["only"] = json!([before, after]),
            FrameOutcome::Both(Likeness::Unread(side, why)) => {
                (one["side"], one["why"]) = (json!(side_name(*side)), json!(why.to_string()));
            }
            FrameOutcome::Only(side) => one["side"] = json!(side_name(*side)),
            _ => {}
        }
        one
    };
    let row =
        |row: &CompareRow| json!({ "series": row.label, "frames": row.frames.iter().map(frame).collect::<Vec<_>>() });
    json!({
        "truepath": 1, "before": comparison.sides[0], "after": comparison.sides[1], "tolerance": comparison.tolerance,
        "within_tolerance": comparison.is_within(), "rows": comparison.rows.iter().map(row).collect::<Vec<_>>(),
    })
}
