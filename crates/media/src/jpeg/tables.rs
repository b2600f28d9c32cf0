//! Tables of Huffman codes, T.81 annex C and F.2.2.3.

/// Bits that are looked up at once.
const FAST: u32 = 9;

/// One table of codes.
pub struct Huffman {
    /// For the next [`FAST`] bits: the length of the code that they begin with, or zero, and its symbol.
    fast: Vec<(u8, u8)>,
    /// Of codes of each length: the highest, -1 where there is none, and what has to be added to get at its symbol.
    highest: [(i32, i32); 17],
    symbols: Vec<u8>,
}

impl Huffman {
    /// Reads a table from the start of `body`; `None` where it is none. Gives back what follows it.
    pub fn read(body: &[u8]) -> Option<(Huffman, &[u8])> {
        let (counts, rest) = body.split_at_checked(16)?;
        let total: usize = counts.iter().map(|count| usize::from(*count)).sum();
        let (symbols, rest) = rest.split_at_checked(total)?;
        if total > 256 {
            return None;
        }
        let mut table = Huffman { fast: vec![(0, 0); 1 << FAST], highest: [(-1, 0); 17], symbols: symbols.to_vec() };
        let (mut code, mut at) = (0i32, 0usize);
        for (length, count) in (1u32..).zip(counts) {
            let count = usize::from(*count);
            // More codes than there are of a length.
            if code + count as i32 > 1 << length {
                return None;
            }
            table.highest[length as usize] = (if count > 0 { code + count as i32 - 1 } else { -1 }, at as i32 - code);
            for symbol in &symbols[at..at + count] {
                if length <= FAST {
                    let start = (code as usize) << (FAST - length);
                    table.fast[start..start + (1 << (FAST - length))].fill((length as u8, *symbol));
                }
                code += 1;
            }
            at += count;
            code <<= 1;
        }
        Some((table, rest))
    }

    /// The symbol that the next bits spell, with the length of its code. `next` are at least 16 bits, the first highest.
    pub fn symbol(&self, next: u32) -> Option<(u32, u8)> {
        let (length, symbol) = self.fast[(next >> (16 - FAST)) as usize & ((1 << FAST) - 1)];
        if length > 0 {
            return Some((u32::from(length), symbol));
        }
        for length in FAST + 1..=16 {
            let code = (next >> (16 - length)) as i32;
            let (highest, add) = self.highest[length as usize];
            if code <= highest {
                return self.symbols.get((code + add) as usize).map(|symbol| (length, *symbol));
            }
        }
        None
    }
}
