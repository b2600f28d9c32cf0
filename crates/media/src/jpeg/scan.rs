//! Picture data of JPEG: blocks of coefficients in entropy-coded segments, T.81 annexes A, F and G.

use super::bits::{EntropyBits, no_code};
use super::tables::Huffman;
use crate::Flaw;

/// One component of a frame.
pub struct Component {
    id: u8,
    /// How many blocks it has in an interleaved unit.
    across: usize,
    down: usize,
    /// Which table of quantisation is its own.
    pub steps: usize,
    /// Blocks that hold pixels of the picture.
    pub own: (usize, usize),
    /// Blocks of a row with those that only fill units.
    stride: usize,
    /// First coefficients of all blocks.
    first: Vec<i32>,
    /// Which of the other coefficients are not zero, a bit each.
    others: Vec<u64>,
    /// To how many bits below full precision each coefficient was sent; `None` for those that never were.
    sent: [Option<u8>; 64],
}

impl Component {
    /// The first coefficient of a block, and whether it has others.
    pub fn block(&self, x: usize, y: usize) -> (i32, bool) {
        let at = y.min(self.own.1.saturating_sub(1)) * self.stride + x.min(self.own.0.saturating_sub(1));
        (self.first[at], self.others[at] != 0)
    }
}

/// What a frame header says.
pub struct Frame {
    progressive: bool,
    pub precision: u8,
    units: (usize, usize),
    pub components: Vec<Component>,
}

/// What a scan header says.
pub struct Scan {
    progressive: bool,
    /// Components with their tables of codes for first and other coefficients.
    parts: Vec<(usize, usize, usize)>,
    /// First and last coefficient.
    band: (usize, usize),
    /// Bits below full precision: of the scan before, and of this one.
    high: u8,
    low: u8,
}

impl Frame {
    /// Reads a frame header, B.2.2.
    pub fn read(progressive: bool, body: &[u8]) -> Result<Frame, Flaw> {
        let damaged = || Flaw::from("its frame header is damaged");
        let (head, rest) = body.split_at_checked(6).ok_or_else(damaged)?;
        let (height, width) =
            (usize::from(u16::from_be_bytes([head[1], head[2]])), usize::from(u16::from_be_bytes([head[3], head[4]])));
        let count = usize::from(head[5]);
        let precision = head[0];
        if rest.len() != count * 3
            || !(1..=4).contains(&count)
            || width == 0
            || height == 0
            || ![8, 12].contains(&precision)
        {
            return Err(damaged());
        }
        let sampling = |three: &[u8]| (usize::from(three[1] >> 4), usize::from(three[1] & 15));
        let is_fit = |(across, down): (usize, usize)| (1..=4).contains(&across) && (1..=4).contains(&down);
        if !rest.chunks(3).all(|three| is_fit(sampling(three)) && three[2] < 4) {
            return Err(damaged());
        }
        let most = |of: fn((usize, usize)) -> usize| rest.chunks(3).map(|three| of(sampling(three))).max().unwrap_or(1);
        let (most_across, most_down) = (most(|sides| sides.0), most(|sides| sides.1));
        let units = (width.div_ceil(8 * most_across), height.div_ceil(8 * most_down));
        let component = |three: &[u8]| {
            let (across, down) = sampling(three);
            let own =
                ((width * across).div_ceil(most_across).div_ceil(8), (height * down).div_ceil(most_down).div_ceil(8));
            let (stride, rows) = (units.0 * across, units.1 * down);
            let first = vec![0; stride * rows];
            let others = vec![0; stride * rows];
            Component {
                id: three[0],
                across,
                down,
                steps: usize::from(three[2]),
                own,
                stride,
                first,
                others,
                sent: [None; 64],
            }
        };
        Ok(Frame { progressive, precision, units, components: rest.chunks(3).map(component).collect() })
    }

    /// Reads a scan header, B.2.3, and notes what the scan sends.
    pub fn scan(&mut self, body: &[u8], steps: &[Option<u16>; 4]) -> Result<Scan, Flaw> {
        let damaged = || Flaw::from("the header of a scan is damaged");
        let count = usize::from(*body.first().ok_or_else(damaged)?);
        if !(1..=4).contains(&count) || body.len() != 4 + 2 * count {
            return Err(damaged());
        }
        let part = |two: &[u8]| {
            let at = self.components.iter().position(|component| component.id == two[0])?;
            let (first, others) = (usize::from(two[1] >> 4), usize::from(two[1] & 15));
            (first < 4 && others < 4).then_some((at, first, others))
        };
        let parts = body[1..=2 * count].chunks(2).map(part).collect::<Option<Vec<_>>>().ok_or_else(damaged)?;
        let [from, to, bits] = [body[1 + 2 * count], body[2 + 2 * count], body[3 + 2 * count]];
        let (band, high, low) = if self.progressive {
            ((usize::from(from), usize::from(to)), bits >> 4, bits & 15)
        } else {
            ((0, 63), 0, 0)
        };
        let is_fit = if self.progressive {
            band.1 < 64
                && band.0 <= band.1
                && (band.0 > 0 || band.1 == 0)
                && (band.0 == 0 || count == 1)
                && low <= 13
                && (high == 0 || high == low + 1)
        } else {
            (from, to, bits) == (0, 63, 0)
        };
        let units: usize = parts.iter().map(|(at, ..)| self.components[*at].across * self.components[*at].down).sum();
        let twice = (1..parts.len()).any(|at| parts[..at].iter().any(|(known, ..)| *known == parts[at].0));
        if !is_fit || twice || count > 1 && units > 10 {
            return Err(damaged());
        }
        for (at, ..) in &parts {
            let component = &mut self.components[*at];
            if steps[component.steps].is_none() {
                return Err("a quantisation table is missing".into());
            }
            for sent in &mut component.sent[band.0..=band.1] {
                let before = sent.replace(low);
                if before != (high > 0).then_some(high) {
                    return Err("a scan does not follow those before it".into());
                }
            }
        }
        Ok(Scan { progressive: self.progressive, parts, band, high, low })
    }

    /// Whether every coefficient that was begun was sent to its last bit, and all first ones were.
    pub fn is_whole(&self) -> bool {
        self.components.iter().all(|component| {
            component.sent[0] == Some(0) && component.sent.iter().all(|sent| sent.is_none_or(|bits| bits == 0))
        })
    }
}

/// What is needed to read the data of scans.
pub struct Coder<'c> {
    pub bytes: &'c [u8],
    /// Where the data begin.
    pub at: usize,
    pub huffman: &'c [[Option<Huffman>; 4]; 2],
    /// Units between restart markers; zero where there are none.
    pub interval: usize,
}

/// What differs from unit to unit.
#[derive(Default)]
struct Going {
    /// The last first coefficient of each component.
    before: [i32; 4],
    /// Blocks that have no more coefficients in this band.
    ended: u32,
}

/// The tables and the band with which the blocks of a component are read.
struct ScanPart<'c> {
    first: Option<&'c Huffman>,
    others: Option<&'c Huffman>,
    component: usize,
}

impl Coder<'_> {
    /// Reads the data of a scan; where they end.
    pub fn read(&self, frame: &mut Frame, scan: &Scan) -> Result<usize, Flaw> {
        let table = |class: usize, id: usize| self.huffman[class][id].as_ref();
        let part = |(at, first, others): &(usize, usize, usize)| ScanPart {
            first: table(0, *first),
            others: table(1, *others),
            component: *at,
        };
        let parts: Vec<ScanPart<'_>> = scan.parts.iter().map(part).collect();
        let needs_first = scan.band.0 == 0 && scan.high == 0;
        if parts.iter().any(|part| needs_first && part.first.is_none() || scan.band.1 > 0 && part.others.is_none()) {
            return Err("a Huffman table is missing".into());
        }
        let mut bits = EntropyBits::new(self.bytes, self.at);
        let mut going = Going::default();
        // A scan of one component has one block a unit, and no blocks that only fill units.
        let alone = parts.len() == 1;
        let units = if alone { frame.components[parts[0].component].own } else { frame.units };
        let (mut left, mut restarts) = (self.interval, 0u8);
        for unit in 0..units.0 * units.1 {
            if self.interval > 0 {
                if left == 0 {
                    bits.restart(restarts)?;
                    (left, restarts, going) = (self.interval, (restarts + 1) % 8, Going::default());
                }
                left -= 1;
            }
            let (x, y) = (unit % units.0, unit / units.0);
            for part in &parts {
                let component = &mut frame.components[part.component];
                let (across, down) = if alone { (1, 1) } else { (component.across, component.down) };
                for block in 0..across * down {
                    let at = (y * down + block / across) * component.stride + x * across + block % across;
                    let block =
                        BlockCoefficients { first: &mut component.first[at], others: &mut component.others[at] };
                    block_of(&mut bits, part, scan, &mut going, block)?;
                }
            }
        }
        bits.end()
    }
}

/// The coefficients of one block, as far as they are kept.
struct BlockCoefficients<'b> {
    first: &'b mut i32,
    others: &'b mut u64,
}

/// Reads one block.
fn block_of(
    bits: &mut EntropyBits<'_>,
    part: &ScanPart<'_>,
    scan: &Scan,
    going: &mut Going,
    block: BlockCoefficients<'_>,
) -> Result<(), Flaw> {
    let BlockCoefficients { first, others } = block;
    let damaged = || Flaw::from("its picture data are damaged: a block has more than 64 coefficients");
    if scan.band.0 == 0 {
        if scan.high > 0 {
            *first |= (bits.take(1)? as i32) << scan.low;
        } else {
            let size = u32::from(bits.symbol(part.first.ok_or_else(no_code)?)?);
            if size > 15 {
                return Err(no_code());
            }
            let before = &mut going.before[part.component];
            *before = before.wrapping_add(bits.signed(size)?);
            *first = before.wrapping_shl(u32::from(scan.low));
        }
    }
    if scan.band.1 == 0 {
        return Ok(());
    }
    let table = part.others.ok_or_else(no_code)?;
    let (mut at, last) = (scan.band.0.max(1), scan.band.1);
    if scan.high > 0 {
        return refine(bits, table, scan, &mut going.ended, others);
    }
    if going.ended > 0 {
        going.ended -= 1;
        return Ok(());
    }
    while at <= last {
        let symbol = bits.symbol(table)?;
        let (run, size) = (usize::from(symbol >> 4), u32::from(symbol & 15));
        if size == 0 {
            if run < 15 {
                // Only progressive pictures say of how many blocks this is the end.
                going.ended = if scan.progressive { (1 << run) + bits.take(run as u32)? - 1 } else { 0 };
                break;
            }
            at += 16;
            continue;
        }
        at += run;
        if at > last {
            return Err(damaged());
        }
        bits.take(size)?;
        *others |= 1 << at;
        at += 1;
    }
    if at > 64 && !scan.progressive { Err(damaged()) } else { Ok(()) }
}

/// Reads one more bit of the other coefficients of a block, G.1.2.3.
fn refine(
    bits: &mut EntropyBits<'_>,
    table: &Huffman,
    scan: &Scan,
    ended: &mut u32,
    others: &mut u64,
) -> Result<(), Flaw> {
    let (mut at, last) = (scan.band.0.max(1), scan.band.1);
    if *ended == 0 {
        while at <= last {
            let symbol = bits.symbol(table)?;
            let (mut run, size) = (usize::from(symbol >> 4), symbol & 15);
            if size > 1 {
                return Err(no_code());
            }
            if size == 0 && run < 15 {
                *ended = (1 << run) + bits.take(run as u32)?;
                break;
            }
            if size == 1 {
                bits.take(1)?;
            }
            while at <= last {
                if *others >> at & 1 == 1 {
                    bits.take(1)?;
                } else if run == 0 {
                    break;
                } else {
                    run -= 1;
                }
                at += 1;
            }
            if size == 1 {
                if at > last {
                    return Err("its picture data are damaged: a block has more than 64 coefficients".into());
                }
                *others |= 1 << at;
            }
            at += 1;
        }
    }
    if *ended > 0 {
        let known = (at..=last).filter(|at| *others >> at & 1 == 1).count();
        for _ in 0..known {
            bits.take(1)?;
        }
        *ended -= 1;
    }
    Ok(())
}
