//! Numbers and packed lists of a crate file, read one after another.

/// Bytes that one unpacked section may have: the most that LZ4 makes of a byte is 255.
const MOST_PER_BYTE: usize = 256;

/// A place in some bytes, which moves as they are read.
#[derive(Clone, Copy)]
pub(super) struct Cursor<'b> {
    pub bytes: &'b [u8],
    pub at: usize,
}

impl<'b> Cursor<'b> {
    pub fn take(&mut self, count: usize) -> Option<&'b [u8]> {
        let end = self.at.checked_add(count)?;
        let found = self.bytes.get(self.at..end)?;
        self.at = end;
        Some(found)
    }

    pub fn u32(&mut self) -> Option<u32> {
        Some(u32::from_le_bytes(self.take(4)?.try_into().ok()?))
    }

    pub fn u64(&mut self) -> Option<u64> {
        Some(u64::from_le_bytes(self.take(8)?.try_into().ok()?))
    }

    pub fn size(&mut self) -> Option<usize> {
        usize::try_from(self.u64()?).ok()
    }

    /// A count of things of which each takes at least one of the bytes that are left, unpacked or not.
    pub fn count(&mut self) -> Option<usize> {
        let count = self.size()?;
        (count <= self.bytes.len().saturating_mul(MOST_PER_BYTE)).then_some(count)
    }

    /// Packed bytes that become `size` at most: LZ4 blocks, the first byte telling how many (`pxr/base/tf/fastCompression`).
    pub fn unpacked(&mut self, size: usize) -> Option<Vec<u8>> {
        let packed_size = self.size()?;
        let packed = self.take(packed_size)?;
        let size = size.min(packed.len().saturating_mul(MOST_PER_BYTE));
        let (blocks, rest) = packed.split_first()?;
        if *blocks == 0 {
            return lz4_flex::block::decompress(rest, size).ok();
        }
        let (mut out, mut cursor) = (Vec::new(), Cursor { bytes: rest, at: 0 });
        for _ in 0..*blocks {
            let length = usize::try_from(cursor.u32()?).ok()?;
            let block = cursor.take(length)?;
            out.extend(lz4_flex::block::decompress(block, size.checked_sub(out.len())?).ok()?);
        }
        Some(out)
    }

    /// Whole numbers as differences (`pxr/usd/sdf/integerCoding`): the most common one, two bits for each that tell how it is
    /// written, then those that are not the common one.
    pub fn integers(&mut self, count: usize) -> Option<Vec<u32>> {
        if count == 0 {
            // Nothing is written of an empty list but the size of its packed bytes.
            let packed = self.size()?;
            self.take(packed)?;
            return Some(Vec::new());
        }
        let most = 4 + count.div_ceil(4) + count * 4;
        let coded = self.unpacked(most)?;
        let mut cursor = Cursor { bytes: &coded, at: 0 };
        let common = cursor.u32()?;
        let codes = cursor.take(count.div_ceil(4))?;
        let mut value = 0u32;
        let mut all = Vec::with_capacity(count);
        for at in 0..count {
            let step = match codes[at / 4] >> (at % 4 * 2) & 3 {
                0 => common,
                1 => i32::from(cursor.take(1)?[0] as i8) as u32,
                2 => i32::from(i16::from_le_bytes(cursor.take(2)?.try_into().ok()?)) as u32,
                _ => cursor.u32()?,
            };
            value = value.wrapping_add(step);
            all.push(value);
        }
        Some(all)
    }
}
