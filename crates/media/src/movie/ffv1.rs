//! FFV1 (RFC 9043): its configuration record is coded by its own range coder. Only what says how samples are stored is read.

use truepath_core::catalogue::Chroma;

/// The coder's state (3.8.1.1).
struct Range<'r> {
    bytes: std::slice::Iter<'r, u8>,
    low: u32,
    range: u32,
    one: [u8; 256],
    zero: [u8; 256],
}

impl<'r> Range<'r> {
    fn new(record: &'r [u8]) -> Option<Range<'r>> {
        let mut one = [0u8; 256];
        // 3.8.1.4: the default state transitions, as the specification computes them.
        const FACTOR: u64 = (0.05 * 4_294_967_296.0) as u64;
        let (mut last, mut probability) = (0u64, 1u64 << 31);
        for _ in 0..128 {
            let mut next = (256 * probability + (1 << 31)) >> 32;
            if next <= last {
                next = last + 1;
            }
            if last != 0 && last < 256 && next <= 248 {
                one[last as usize] = next as u8;
            }
            probability += (((1u64 << 32) - probability) * FACTOR + (1 << 31)) >> 32;
            last = next;
        }
        for at in 8..=248u64 {
            if one[at as usize] != 0 {
                continue;
            }
            let mut probability = (at * (1 << 32) + 128) >> 8;
            probability += (((1u64 << 32) - probability) * FACTOR + (1 << 31)) >> 32;
            let next = ((256 * probability + (1 << 31)) >> 32).max(at + 1).min(248);
            one[at as usize] = next as u8;
        }
        let mut zero = [0u8; 256];
        for at in 1..256usize {
            zero[at] = (256u16 - u16::from(one[256 - at])) as u8;
        }
        let mut bytes = record.iter();
        let low = u32::from(*bytes.next()?) << 8 | u32::from(*bytes.next()?);
        Some(Range { bytes, low, range: 0xff00, one, zero })
    }

    fn bit(&mut self, state: &mut u8) -> bool {
        let below = (self.range * u32::from(*state)) >> 8;
        self.range -= below;
        let bit = self.low >= self.range;
        if bit {
            self.low -= self.range;
            self.range = below;
            *state = self.one[usize::from(*state)];
        } else {
            *state = self.zero[usize::from(*state)];
        }
        if self.range < 0x100 {
            self.range <<= 8;
            self.low = self.low << 8 | self.bytes.next().map_or(0, |byte| u32::from(*byte));
        }
        bit
    }

    /// A symbol (3.8.1.2); those that have none are told no sign.
    fn symbol(&mut self, states: &mut [u8; 32], signed: bool) -> Option<i64> {
        if self.bit(&mut states[0]) {
            return Some(0);
        }
        let mut exponent = 0;
        while self.bit(&mut states[1 + exponent.min(9)]) {
            exponent += 1;
            if exponent > 31 {
                return None;
            }
        }
        let rest = (0..exponent).rev();
        let value = rest.fold(1, |value, at| value << 1 | i64::from(self.bit(&mut states[22 + at.min(9)])));
        Some(if signed && self.bit(&mut states[11 + exponent.min(10)]) { -value } else { value })
    }
}

/// Chroma layout, bits of a sample and whether there is alpha (4.2).
pub fn read(record: &[u8]) -> Option<(Option<Chroma>, u8, bool)> {
    let mut range = Range::new(record)?;
    let mut states = [128u8; 32];
    let version = range.symbol(&mut states, false)?;
    if version > 2 {
        range.symbol(&mut states, false)?;
    }
    let coder = range.symbol(&mut states, false)?;
    if coder > 1 {
        for _ in 1..256 {
            range.symbol(&mut states, true)?;
        }
    }
    let space = range.symbol(&mut states, false)?;
    let bits = u8::try_from(range.symbol(&mut states, false)?).ok()?;
    let chroma = range.bit(&mut states[0]);
    let across = range.symbol(&mut states, false)?;
    let down = range.symbol(&mut states, false)?;
    let alpha = range.bit(&mut states[0]);
    let layout = match (space, chroma, across, down) {
        (1, ..) | (_, true, 0, 0) => Some(Chroma::C444),
        (_, true, 1, 0) => Some(Chroma::C422),
        (_, true, 1, 1) => Some(Chroma::C420),
        _ => None,
    };
    Some((layout, if bits == 0 { 8 } else { bits }, alpha))
}
