//! What is odd about a picture that is as planned: it decodes, and is most likely not what was meant.

use super::content::{Cell, Content};
use crate::diagnostic::{Level, Slug};

/// What can be odd about a picture.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum OddKind {
    /// Every colour is zero.
    Black,
    /// Every pixel has the same colour.
    OneColour,
    /// A sample is infinite or no number.
    NotFinite,
    /// Alpha was asked for, and is the same everywhere.
    AlphaFlat,
    /// From one side on the picture is black.
    HalfBlack,
    /// The same pixels as the frame before.
    Repeated,
    /// Far from both neighbours, which are near each other.
    Jump,
    /// A patch is unlike both neighbours.
    Block,
    /// The file is far smaller or larger than both neighbours.
    FileSize,
    /// Its pixels are stored in a way that True Path cannot read.
    Unproven,
}

/// Every kind with the check that sets its level, and what its limit is where nothing is said.
const KINDS: [(OddKind, Slug, Option<f64>); 10] = [
    (OddKind::Black, Slug::PictureBlack, None),
    (OddKind::OneColour, Slug::PictureOneColour, None),
    (OddKind::NotFinite, Slug::PictureNotFinite, None),
    (OddKind::AlphaFlat, Slug::AlphaFlat, None),
    (OddKind::HalfBlack, Slug::PictureHalfBlack, Some(0.5)),
    (OddKind::Repeated, Slug::PictureRepeated, None),
    (OddKind::Jump, Slug::PictureJump, Some(6.0)),
    (OddKind::Block, Slug::PictureBlock, Some(8.0)),
    (OddKind::FileSize, Slug::FileSizeJump, Some(4.0)),
    (OddKind::Unproven, Slug::PictureUnproven, None),
];

/// The limit of a check, where it has one and nothing is said.
#[must_use]
pub fn usual_limit(check: &str) -> Option<f64> {
    KINDS.iter().find(|(_, slug, _)| *slug == *check).and_then(|(.., limit)| *limit)
}

impl OddKind {
    /// The kind whose level a check sets.
    #[must_use]
    pub fn of(check: &str) -> Option<OddKind> {
        KINDS.iter().find(|(_, slug, _)| *slug == *check).map(|(kind, ..)| *kind)
    }

    /// The check that sets its level.
    #[must_use]
    pub fn check(self) -> &'static str {
        KINDS[self as usize].1.name()
    }
}

/// Something odd.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Oddity {
    /// What.
    pub kind: OddKind,
    /// In words.
    pub why: String,
}

/// What a sheet says of odd pictures: the level of each kind (`None` leaves it unsaid) and its limit.
#[derive(Clone, Debug)]
pub struct OddPolicy {
    rules: [(Option<Level>, f64); KINDS.len()],
}

impl Default for OddPolicy {
    fn default() -> OddPolicy {
        let rule =
            |(_, slug, limit): (OddKind, Slug, Option<f64>)| (Some(slug.check().level), limit.unwrap_or_default());
        OddPolicy { rules: KINDS.map(rule) }
    }
}

impl OddPolicy {
    /// With what a sheet says of a check, if it is one of pictures.
    pub fn set(&mut self, check: &str, level: Option<Level>, limit: Option<f64>) {
        if let Some(at) = KINDS.iter().position(|(_, slug, _)| *slug == *check) {
            let rule = &mut self.rules[at];
            *rule = (level, limit.unwrap_or(rule.1));
        }
    }

    /// The level of a kind; `None` where it is not looked for.
    #[must_use]
    pub fn level(&self, kind: OddKind) -> Option<Level> {
        self.rules[kind as usize].0
    }

    fn limit(&self, kind: OddKind) -> f64 {
        self.rules[kind as usize].1
    }

    /// Some oddities as one: the kind of the gravest, and the words of all that the sheet wants to hear of.
    #[must_use]
    pub fn together(&self, mut found: Vec<Oddity>) -> Option<Oddity> {
        found.retain(|odd| self.level(odd.kind).is_some());
        found.sort_by_key(|odd| std::cmp::Reverse(self.level(odd.kind)));
        let told: Vec<String> = found.iter().map(|odd| format!("{} [{}]", odd.why, odd.kind.check())).collect();
        Some(Oddity { kind: found.first()?.kind, why: told.join("; ") })
    }
}

/// A picture with the size of its file in bytes.
#[derive(Clone, Copy, Debug)]
pub struct ShownPicture<'c> {
    /// What its pixels come to.
    pub content: &'c Content,
    /// Bytes of its file.
    pub bytes: u64,
}

/// What is asked of the pictures of a series.
#[derive(Clone, Copy, Debug)]
pub struct Asked {
    /// Whether they are of colours: of data and masks only numbers that are none are odd.
    pub colour: bool,
    /// Whether the plan asks for alpha.
    pub alpha: bool,
}

/// What is odd about a picture by itself.
#[must_use]
pub fn alone(content: &Content, asked: Asked) -> Vec<Oddity> {
    let mut found = Vec::new();
    let mut say = |kind, why: String| found.push(Oddity { kind, why });
    if content.no_number || content.infinite && asked.colour {
        say(OddKind::NotFinite, "it has NaN or infinite values".to_owned());
    }
    if !asked.colour || content.samples == 0 {
        return found;
    }
    if content.colour == Some((0.0, 0.0)) {
        say(OddKind::Black, "it is black".to_owned());
    } else if content.one_colour {
        say(OddKind::OneColour, "it has one colour everywhere".to_owned());
    }
    if let Some((low, high)) = content.alpha.filter(|(low, high)| asked.alpha && low == high) {
        let _ = high;
        say(OddKind::AlphaFlat, format!("its alpha is {low} everywhere"));
    }
    found
}

/// What is odd about a picture beside those before and after it in its series.
#[must_use]
pub fn beside(
    shown: ShownPicture<'_>,
    neighbours: [Option<ShownPicture<'_>>; 2],
    asked: Asked,
    policy: &OddPolicy,
) -> Vec<Oddity> {
    let mut found = Vec::new();
    let mut say = |kind, why: String| found.push(Oddity { kind, why });
    let content = shown.content;
    let half = |shown: &ShownPicture<'_>| shown.content.black_from_a_side() >= policy.limit(OddKind::HalfBlack);
    let all_black = content.cells.iter().all(|cell| cell.black);
    // What is empty in one picture after another is the scene's, and so is what is transparent.
    let scene_is = neighbours.iter().flatten().any(half);
    let is_clear = content.alpha.is_some_and(|(low, _)| low == 0.0) && neighbours.iter().all(Option::is_none);
    if asked.colour && !all_black && !scene_is && !is_clear && half(&shown) {
        say(OddKind::HalfBlack, "half of it or more is black".to_owned());
    }
    if let [Some(before), _] = neighbours
        && asked.colour
        && content.digest().is_some_and(|digest| before.content.digest() == Some(digest))
    {
        say(OddKind::Repeated, "it is identical to the frame before, pixel by pixel".to_owned());
    }
    let [Some(before), Some(after)] = neighbours else { return found };
    let factor = policy.limit(OddKind::FileSize).max(1.0);
    let (small, large) = (before.bytes.min(after.bytes) as f64, before.bytes.max(after.bytes) as f64);
    let own = shown.bytes as f64;
    // Neighbours that are as far from each other are a change of the scene.
    if large < small * factor.sqrt().max(1.5) && small >= 1024.0 && (own * factor < small || own > large * factor) {
        let how = if own < small { "smaller" } else { "larger" };
        say(OddKind::FileSize, format!("its file is far {how} than the files before and after it"));
    }
    if !asked.colour {
        return found;
    }
    let distances =
        (content.distance(before.content), content.distance(after.content), before.content.distance(after.content));
    let (Some(to_before), Some(to_after), Some(around)) = distances else { return found };
    let near = to_before.min(to_after);
    if near >= JUMP && near >= policy.limit(OddKind::Jump) * around.max(1.5) {
        say(OddKind::Jump, "it differs far more from its neighbours than they differ from each other".to_owned());
    } else if let Some(block) = block([before.content, content, after.content], around, policy.limit(OddKind::Block)) {
        say(OddKind::Block, format!("a block of it is {block} the frames before and after it"));
    }
    found
}

/// A mean difference, 0 to 255, below which no jump is seen by anybody.
const JUMP: f64 = 6.0;
/// Of fewer patches no block can be told.
const LEAST_CELLS: usize = 48;
/// A difference of a cell that can be noise.
const NOISE: u8 = 2;

/// A block that is dead, or shows something else than both neighbours do at its place: how it stands to them.
fn block([before, own, after]: [&Content; 3], around: f64, limit: f64) -> Option<&'static str> {
    if own.cells.len() < LEAST_CELLS {
        return None;
    }
    let cells = || before.cells.iter().zip(&own.cells).zip(&after.cells).map(|((b, o), a)| (*b, *o, *a));
    let lively = |cell: Cell| !cell.flat && cell.high.abs_diff(cell.low) > 2 * NOISE;
    // Flat patches at places where both neighbours have something to show.
    let dead: Vec<bool> = cells().map(|(b, o, a)| o.flat && lively(b) && lively(a)).collect();
    if let Some(inner) = Rectangle::of(&dead, own.columns)
        && inner.is_block(own.cells.len())
    {
        return Some("empty, unlike");
    }
    let apart =
        |x: Cell, y: Cell| x.mean.abs_diff(y.mean).max(x.low.abs_diff(y.low) / 2).max(x.high.abs_diff(y.high) / 2);
    let changes: Vec<(u8, u8)> = cells().map(|(b, o, a)| (apart(o, b).min(apart(o, a)), apart(b, a))).collect();
    let is_strong = |(change, calm): &(u8, u8)| {
        f64::from(*change) >= (limit * f64::from((*calm).max(1))).max(10.0) && *calm <= NOISE
    };
    let strong: Vec<bool> = changes.iter().map(is_strong).collect();
    let changed: Vec<bool> = changes.iter().map(|(change, _)| *change > NOISE).collect();
    let (inner, outer) = (Rectangle::of(&strong, own.columns)?, Rectangle::of(&changed, own.columns)?);
    // Light fades at its rim, and what moves leaves a trace: a damaged block ends at once.
    let is_block = inner.is_block(own.cells.len()) && inner.ends_at(&outer) && around <= f64::from(NOISE);
    is_block.then_some("unlike")
}

/// The columns and rows between which some patches lie, first and last, and how many they are.
struct Rectangle {
    columns: (usize, usize),
    rows: (usize, usize),
    count: usize,
}

impl Rectangle {
    /// Around the patches that are marked; `None` where none is.
    fn of(marked: &[bool], columns: usize) -> Option<Rectangle> {
        let mut found: Option<Rectangle> = None;
        for at in (0..marked.len()).filter(|at| marked[*at]) {
            let (column, row) = (at % columns.max(1), at / columns.max(1));
            let own = found.get_or_insert(Rectangle { columns: (column, column), rows: (row, row), count: 0 });
            own.columns = (own.columns.0.min(column), own.columns.1.max(column));
            own.rows = (own.rows.0.min(row), own.rows.1.max(row));
            own.count += 1;
        }
        found
    }

    /// Whether most of it is marked, it is more than a spot, and far less than the picture of so many patches.
    fn is_block(&self, all: usize) -> bool {
        let (across, down) = (self.columns.1 - self.columns.0 + 1, self.rows.1 - self.rows.0 + 1);
        across > 1 && down > 1 && self.count * 5 >= across * down * 3 && across * down < all / 2
    }

    /// Whether it reaches to within one patch of the sides of another.
    fn ends_at(&self, outer: &Rectangle) -> bool {
        let near = |inner: (usize, usize), outer: (usize, usize)| outer.0 + 1 >= inner.0 && inner.1 + 1 >= outer.1;
        near(self.columns, outer.columns) && near(self.rows, outer.rows)
    }
}

/// A picture of a row, by whatever it is known by.
#[derive(Clone, Debug)]
pub struct Placed<K> {
    /// What it is known by.
    pub key: K,
    /// What its pixels come to.
    pub content: Content,
    /// Bytes of its file.
    pub bytes: u64,
}

impl<K> Placed<K> {
    fn shown(&self) -> ShownPicture<'_> {
        ShownPicture { content: &self.content, bytes: self.bytes }
    }
}

/// Judges pictures one after the other, each beside its neighbours; no more than two are kept.
pub struct OddRow<'p, K> {
    asked: Asked,
    policy: &'p OddPolicy,
    before: Option<Placed<K>>,
    own: Option<Placed<K>>,
}

impl<'p, K: Copy> OddRow<'p, K> {
    /// A row without pictures.
    #[must_use]
    pub fn new(asked: Asked, policy: &'p OddPolicy) -> OddRow<'p, K> {
        OddRow { asked, policy, before: None, own: None }
    }

    /// The next picture is there, or none where that of a frame is not whole, or at the end: what is odd about the one before
    /// it.
    pub fn next(&mut self, after: Option<Placed<K>>) -> Option<(K, Oddity)> {
        let found = self.own.as_ref().and_then(|own| {
            let neighbours = [self.before.as_ref().map(Placed::shown), after.as_ref().map(Placed::shown)];
            let mut odd = alone(&own.content, self.asked);
            odd.extend(beside(own.shown(), neighbours, self.asked, self.policy));
            Some((own.key, self.policy.together(odd)?))
        });
        self.before = std::mem::replace(&mut self.own, after);
        found
    }
}
