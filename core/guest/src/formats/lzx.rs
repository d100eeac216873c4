//! LZX, as the system compresses files with it: pieces of 32 KiB, each by itself (\[MS-PATCH\] for the code; block headers and the
//! translation of calls as in Windows images).

use super::huffman::{Bits, Codes, copy};

/// Bytes of a piece, and of the window.
const PIECE: usize = 32 << 10;
/// Classes of distances for that window.
const SLOTS: usize = 30;
/// Symbols of the main code: bytes, and classes of distances with lengths.
const MAIN: usize = 256 + 8 * SLOTS;
/// Symbols of the code of lengths.
const LENGTHS: usize = 249;
/// What calls are translated within.
const CALLS: i32 = 12_000_000;

const BROKEN: &str = "a packed piece is damaged";

/// Unpacks `packed`, one piece, into all of `out`.
///
/// # Errors
/// What breaks the rules.
pub(crate) fn unpack(packed: &[u8], out: &mut [u8]) -> Result<(), &'static str> {
    if out.len() > PIECE {
        return Err("a packed piece is too long");
    }
    let mut unpacking = Unpacking { bits: Bits::of(packed), main: [0; MAIN], lengths: [0; LENGTHS], recent: [1; 3] };
    let mut at = 0;
    while at < out.len() {
        at = unpacking.block(out, at).ok_or(BROKEN)?;
    }
    restore_calls(out);
    Ok(())
}

struct Unpacking<'a> {
    bits: Bits<'a>,
    /// Lengths of codes of the block before, to which those of the next one are told as differences.
    main: [u8; MAIN],
    lengths: [u8; LENGTHS],
    /// The distances of the last copies.
    recent: [usize; 3],
}

/// First distance of a class, and the bits that are added.
fn slot(number: usize) -> (usize, u32) {
    match number {
        0..4 => (number, 0),
        _ => {
            let bits = u32::try_from(number / 2 - 1).unwrap_or_default();
            ((2 + number % 2) << bits, bits)
        }
    }
}

impl Unpacking<'_> {
    /// Unpacks a block into `out` from `at` on; where it ends.
    fn block(&mut self, out: &mut [u8], at: usize) -> Option<usize> {
        let kind = self.bits.take(3)?;
        let size = if self.bits.take(1)? == 1 { PIECE } else { self.bits.take(16)? as usize };
        let end = at.checked_add(size).filter(|end| size > 0 && *end <= PIECE)?.min(out.len());
        match kind {
            1 | 2 => self.packed(out, at, end, kind == 2),
            3 => {
                // The rest of the word is left; a whole one, when nothing of it was used.
                if self.bits.take(1).is_some() {
                    let recent = self.bits.bytes(12)?.as_chunks::<4>().0;
                    for (known, bytes) in self.recent.iter_mut().zip(recent) {
                        *known = u32::from_le_bytes(*bytes) as usize;
                    }
                }
                let stored = self.bits.bytes(end - at)?;
                out.get_mut(at..end)?.copy_from_slice(stored);
                if size % 2 == 1 {
                    self.bits.bytes(1);
                }
                Some(end)
            }
            _ => None,
        }
    }

    fn packed(&mut self, out: &mut [u8], mut at: usize, end: usize, is_aligned: bool) -> Option<usize> {
        let aligned = match is_aligned {
            true => {
                let mut lengths = [0; 8];
                for length in &mut lengths {
                    *length = u8::try_from(self.bits.take(3)?).ok()?;
                }
                Some(Codes::of(&lengths)?)
            }
            false => None,
        };
        let (bytes, copies) = self.main.split_at_mut(256);
        read_lengths(&mut self.bits, bytes)?;
        read_lengths(&mut self.bits, copies)?;
        read_lengths(&mut self.bits, &mut self.lengths)?;
        let (main, lengths) = (Codes::of(&self.main)?, Codes::of(&self.lengths)?);
        while at < end {
            let symbol = main.read(&mut self.bits)?;
            if let Ok(byte) = u8::try_from(symbol) {
                *out.get_mut(at)? = byte;
                at += 1;
                continue;
            }
            let (class, head) = ((symbol - 256) / 8, symbol % 8);
            let len = 2 + if head == 7 { 7 + lengths.read(&mut self.bits)? } else { head };
            let distance = match class {
                0..3 => {
                    self.recent.swap(0, class);
                    self.recent[0]
                }
                _ => {
                    let (first, count) = slot(class);
                    let more = match &aligned {
                        Some(aligned) if count >= 3 => {
                            (self.bits.take(count - 3)? as usize) << 3 | aligned.read(&mut self.bits)?
                        }
                        _ => self.bits.take(count)? as usize,
                    };
                    let distance = first + more - 2;
                    self.recent = [distance, self.recent[0], self.recent[1]];
                    distance
                }
            };
            at += copy(out.get_mut(..end)?, at, distance, len)?;
        }
        Some(at)
    }
}

/// Reads lengths of codes, which are told as differences to those of the block before.
fn read_lengths(bits: &mut Bits<'_>, lengths: &mut [u8]) -> Option<()> {
    let mut own = [0; 20];
    for length in &mut own {
        *length = u8::try_from(bits.take(4)?).ok()?;
    }
    let codes = Codes::of(&own)?;
    let less = |before: u8, by: usize| u8::try_from((usize::from(before) + 17 - by) % 17).unwrap_or_default();
    let mut at = 0;
    while at < lengths.len() {
        let symbol = codes.read(bits)?;
        let (run, value) = match symbol {
            17 => (4 + bits.take(4)? as usize, 0),
            18 => (20 + bits.take(5)? as usize, 0),
            19 => {
                let run = 4 + bits.take(1)? as usize;
                let by = codes.read(bits).filter(|by| *by < 17)?;
                (run, less(*lengths.get(at)?, by))
            }
            by => (1, less(*lengths.get(at)?, by)),
        };
        // A run may say more than there is.
        for length in lengths.iter_mut().skip(at).take(run) {
            *length = value;
        }
        at += run;
    }
    Some(())
}

/// Calls in programs were made absolute before they were packed: makes them relative again.
fn restore_calls(out: &mut [u8]) {
    let mut at = 0;
    while at + 10 < out.len() {
        if out.get(at) != Some(&0xe8) {
            at += 1;
            continue;
        }
        let place = i32::try_from(at).unwrap_or_default();
        if let Some(target) = out.get_mut(at + 1..).and_then(|rest| rest.first_chunk_mut::<4>()) {
            let absolute = i32::from_le_bytes(*target);
            if (-place..CALLS).contains(&absolute) {
                let relative = if absolute >= 0 { absolute - place } else { absolute + CALLS };
                *target = relative.to_le_bytes();
            }
        }
        at += 5;
    }
}

#[cfg(test)]
mod tests {
    use std::process::Command;

    use proptest::prelude::*;
    use reformis_standin::lzx::{Block, Form, cabinet, pack};

    use super::*;

    /// Data that repeats, with calls in it.
    fn data() -> impl Strategy<Value = Vec<u8>> {
        let part = prop_oneof![
            prop::collection::vec(any::<u8>(), 1..80),
            (1..400_usize, any::<u8>()).prop_map(|(len, byte)| vec![byte; len]),
            (0..20_000_i32).prop_map(|to| [&[0xe8][..], &to.to_le_bytes(), b"tide"].concat()),
            Just(b"the gauge at the sluice reads four metres ".to_vec()),
        ];
        let cut = |parts: Vec<Vec<u8>>| parts.concat().into_iter().take(PIECE).collect::<Vec<u8>>();
        prop_oneof![prop::collection::vec(part, 1..120).prop_map(cut), Just(vec![7; PIECE])]
    }

    proptest! {
        #[test]
        fn what_was_packed_is_unpacked(data in data()) {
            for block in [Block::Verbatim, Block::Aligned, Block::Stored] {
                let mut out = vec![0; data.len()];
                prop_assert_eq!(unpack(&pack(&data, Form::Image, block), &mut out), Ok(()), "{:?}", block);
                prop_assert!(out == data, "{block:?}");
            }
        }

        #[test]
        fn any_bytes_end(bytes in prop::collection::vec(any::<u8>(), 0..300), len in 1..PIECE) {
            let _ = unpack(&bytes, &mut vec![0; len]);
        }
    }

    /// Our packer speaks the language that others do: what it packs for a cabinet, another program unpacks.
    #[test]
    fn another_program_unpacks_what_the_packer_packs() {
        let path = std::env::var_os("PATH").unwrap_or_default();
        if !std::env::split_paths(&path).any(|folder| folder.join("7zz").is_file()) {
            let line = b"SKIPPED another_program_unpacks_what_the_packer_packs: there is no 7zz\n";
            return std::io::Write::write_all(&mut std::io::stderr(), line).unwrap();
        }
        let data: Vec<u8> =
            (0..30_000_u32).flat_map(|at| [b"tide"[at as usize % 4], (at / 97) as u8]).take(30_001).collect();
        for block in [Block::Verbatim, Block::Aligned, Block::Stored] {
            let folder = tempfile::tempdir().unwrap();
            let file = folder.path().join("a.cab");
            std::fs::write(&file, cabinet("tide.bin", data.len(), &pack(&data, Form::Cabinet, block))).unwrap();
            let output = Command::new("7zz").args(["x", "-so"]).arg(&file).output().unwrap();
            assert!(output.status.success(), "{block:?} {}", String::from_utf8_lossy(&output.stderr));
            assert!(output.stdout == data, "{block:?}");
        }
    }
}
