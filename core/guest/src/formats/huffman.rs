//! Codes of Huffman whose lengths are given, as XPRESS and LZX use them: shorter ones first, and among those of one length in the
//! order of their symbols.

/// The longest code, in bits.
const MOST: usize = 16;

/// A table that tells symbols by the next bits.
pub(crate) struct Codes {
    /// Bits that the table looks at.
    bits: u32,
    /// Symbol and length of its code, by the next bits; a length of 0 is no code.
    table: Vec<(u16, u8)>,
}

impl Codes {
    /// Codes of these lengths, 0 for symbols without one; `None` when there cannot be such.
    pub(crate) fn of(lengths: &[u8]) -> Option<Self> {
        let longest = lengths.iter().copied().max().unwrap_or_default();
        if usize::from(longest) > MOST {
            return None;
        }
        let bits = u32::from(longest);
        let mut table = vec![(0, 0); 1 << bits];
        let mut at = 0;
        for length in 1..=longest {
            let share = 1_usize << (longest - length);
            for (symbol, _) in lengths.iter().enumerate().filter(|(_, known)| **known == length) {
                let places = table.get_mut(at..at + share)?;
                places.fill((u16::try_from(symbol).ok()?, length));
                at += share;
            }
        }
        Some(Self { bits, table })
    }

    /// The next symbol.
    pub(crate) fn read(&self, bits: &mut Bits<'_>) -> Option<usize> {
        let (symbol, length) = *self.table.get(bits.peek(self.bits) as usize)?;
        if length == 0 {
            return None;
        }
        bits.skip(length.into())?;
        Some(symbol.into())
    }
}

/// Bits of words of 16 bits, the highest first.
pub(crate) struct Bits<'a> {
    bytes: &'a [u8],
    /// The next word's first byte.
    at: usize,
    /// Bits that were taken out of words, in the highest places.
    held: u64,
    count: u32,
}

impl<'a> Bits<'a> {
    /// The bits of `bytes`.
    pub(crate) fn of(bytes: &'a [u8]) -> Self {
        Self { bytes, at: 0, held: 0, count: 0 }
    }

    /// The next `count` bits, of at most 17; behind the end there are zeros.
    pub(crate) fn peek(&mut self, count: u32) -> u32 {
        self.fill(count);
        if count == 0 { 0 } else { u32::try_from(self.held >> (64 - count)).unwrap_or_default() }
    }

    fn fill(&mut self, count: u32) {
        while self.count < count {
            let word =
                self.bytes.get(self.at..).and_then(|rest| rest.first_chunk()).map_or(0, |two| u16::from_le_bytes(*two));
            self.held |= u64::from(word) << (48 - self.count);
            self.count += 16;
            self.at += 2;
        }
    }

    /// Goes on by `count` bits; `None` far behind the end.
    pub(crate) fn skip(&mut self, count: u32) -> Option<()> {
        self.fill(count);
        self.held <<= count;
        self.count -= count;
        // Two words may be looked at that are not there.
        (self.at <= self.bytes.len() + 4).then_some(())
    }

    /// The next `count` bits, which are used up.
    pub(crate) fn take(&mut self, count: u32) -> Option<u32> {
        let value = self.peek(count);
        self.skip(count)?;
        Some(value)
    }

    /// Keeps at least `count` bits at hand, as XPRESS does, whose bytes lie between its words.
    pub(crate) fn keep(&mut self, count: u32) {
        self.fill(count);
    }

    /// The next byte behind the words that were taken.
    pub(crate) fn byte(&mut self) -> Option<u8> {
        let byte = self.bytes.get(self.at).copied()?;
        self.at += 1;
        Some(byte)
    }

    /// The next `len` bytes behind the word that is being read, which is left: an even place.
    pub(crate) fn bytes(&mut self, len: usize) -> Option<&'a [u8]> {
        // Words that were taken and not begun are given back.
        self.at -= 2 * (self.count / 16) as usize;
        (self.held, self.count) = (0, 0);
        let found = self.bytes.get(self.at..self.at.checked_add(len)?)?;
        self.at += len;
        Some(found)
    }
}

/// Copies `len` bytes of `out` from `distance` before `at` to there; how many, `None` where that begins before the start.
pub(crate) fn copy(out: &mut [u8], at: usize, distance: usize, len: usize) -> Option<usize> {
    let from = at.checked_sub(distance).filter(|_| distance > 0)?;
    let len = len.min(out.len().saturating_sub(at));
    for step in 0..len {
        let byte = *out.get(from + step)?;
        *out.get_mut(at + step)? = byte;
    }
    Some(len)
}
