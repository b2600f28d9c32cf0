//! The bits of picture data.

use super::tables::Huffman;
use crate::{Flaw, cut};

/// Words for a code that is in no table.
pub fn no_code() -> Flaw {
    "its picture data are damaged: a code is in no Huffman table".into()
}

/// Bits of an entropy-coded segment, without the noughts that are stuffed behind every 0xff.
pub struct EntropyBits<'b> {
    bytes: &'b [u8],
    at: usize,
    /// Bits that were read and not taken yet, the next highest.
    held: u64,
    count: u32,
}

impl<'b> EntropyBits<'b> {
    /// From a place in a file on.
    pub fn new(bytes: &'b [u8], at: usize) -> EntropyBits<'b> {
        EntropyBits { bytes, at, held: 0, count: 0 }
    }

    fn fill(&mut self) {
        if self.count <= 32
            && let Some(four) = self.bytes.get(self.at..self.at + 4)
            && !four.contains(&0xff)
        {
            let word = u32::from_be_bytes([four[0], four[1], four[2], four[3]]);
            self.held |= u64::from(word) << (32 - self.count);
            self.count += 32;
            self.at += 4;
            return;
        }
        while self.count <= 56 {
            let Some(byte) = self.bytes.get(self.at) else { return };
            if *byte == 0xff {
                if self.bytes.get(self.at + 1) != Some(&0) {
                    return;
                }
                self.at += 1;
            }
            self.held |= u64::from(*byte) << (56 - self.count);
            self.count += 8;
            self.at += 1;
        }
    }

    fn drop(&mut self, count: u32) -> Result<(), Flaw> {
        if count > self.count {
            return Err("the file is cut off: a segment of picture data ends too early".into());
        }
        self.held <<= count;
        self.count -= count;
        Ok(())
    }

    /// The next bits as a number; up to 16.
    pub fn take(&mut self, count: u32) -> Result<u32, Flaw> {
        if count == 0 {
            return Ok(0);
        }
        if self.count < count {
            self.fill();
        }
        let value = (self.held >> (64 - count)) as u32;
        self.drop(count)?;
        Ok(value)
    }

    /// A number of so many bits with its sign, F.2.2.1.
    pub fn signed(&mut self, size: u32) -> Result<i32, Flaw> {
        let value = self.take(size)? as i32;
        Ok(if size > 0 && value < 1 << (size - 1) { value - (1 << size) + 1 } else { value })
    }

    pub fn symbol(&mut self, table: &Huffman) -> Result<u8, Flaw> {
        if self.count < 16 {
            self.fill();
        }
        let (length, symbol) = table.symbol((self.held >> 48) as u32).ok_or_else(|| {
            if self.count < 16 {
                "the file is cut off: a segment of picture data ends too early".into()
            } else {
                no_code()
            }
        })?;
        self.drop(length)?;
        Ok(symbol)
    }

    /// A segment is over: less than a byte may be left of it. Where it ends.
    pub fn end(&mut self) -> Result<usize, Flaw> {
        if self.count >= 8 || self.bytes.get(self.at).is_some_and(|byte| *byte != 0xff) {
            return Err("its picture data are damaged: bytes are left over after its last block".into());
        }
        (self.held, self.count) = (0, 0);
        match self.bytes.get(self.at + 1) {
            None => Err(cut()),
            Some(0) => Err("its picture data are damaged: bytes are left over after its last block".into()),
            Some(_) => Ok(self.at),
        }
    }

    /// Takes the restart marker of a number.
    pub fn restart(&mut self, number: u8) -> Result<(), Flaw> {
        self.at = self.end()?;
        while self.bytes.get(self.at + 1) == Some(&0xff) {
            self.at += 1;
        }
        match self.bytes.get(self.at + 1) {
            Some(marker) if *marker == 0xd0 + number => {
                self.at += 2;
                Ok(())
            }
            Some(0xd0..=0xd7) => Err("its restart markers are out of order".into()),
            Some(_) => Err("the file is cut off: a segment of picture data ends too early".into()),
            None => Err(cut()),
        }
    }
}
