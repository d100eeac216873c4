//! XPRESS with Huffman codes, as the system compresses files with it (\[MS-XCA\] 2.2).

use super::huffman::{Bits, Codes, copy};

/// Bytes of the lengths of codes, of four bits each.
const LENGTHS: usize = 256;

/// Unpacks `packed`, one block, into all of `out`.
///
/// # Errors
/// What breaks the rules.
pub(crate) fn unpack(packed: &[u8], out: &mut [u8]) -> Result<(), &'static str> {
    const BROKEN: &str = "a packed piece is damaged";
    let (lengths, packed) = packed.split_at_checked(LENGTHS).ok_or("a packed piece is cut short")?;
    let lengths: Vec<u8> = lengths.iter().flat_map(|byte| [byte & 15, byte >> 4]).collect();
    let codes = Codes::of(&lengths).ok_or("a packed piece has codes that cannot be")?;
    let mut bits = Bits::of(packed);
    // 32 bits are at hand at first, and never less than 16: bytes lie behind the words that were taken for that.
    bits.keep(32);
    let mut at = 0;
    while at < out.len() {
        let symbol = codes.read(&mut bits).ok_or(BROKEN)?;
        bits.keep(16);
        if let Ok(byte) = u8::try_from(symbol) {
            if let Some(place) = out.get_mut(at) {
                *place = byte;
            }
            at += 1;
            continue;
        }
        let (mut len, distance_bits) = (symbol & 15, u32::try_from(symbol >> 4 & 15).unwrap_or_default());
        if len == 15 {
            len += match bits.byte().ok_or(BROKEN)? {
                255 => {
                    let word = u16::from_le_bytes([bits.byte().ok_or(BROKEN)?, bits.byte().ok_or(BROKEN)?]);
                    usize::from(word).checked_sub(15).ok_or(BROKEN)?
                }
                more => more.into(),
            };
        }
        let distance = bits.take(distance_bits).ok_or(BROKEN)? as usize + (1 << distance_bits);
        bits.keep(16);
        at += copy(out, at, distance, len + 3).ok_or(BROKEN)?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The specification's examples ([MS-XCA] 3.2): lengths of codes by their bytes' places, and what follows.
    fn example(lengths: &[(usize, u8)], body: &[u8]) -> Vec<u8> {
        let mut packed = vec![0; LENGTHS];
        lengths.iter().for_each(|(at, byte)| packed[*at] = *byte);
        packed.extend(body);
        packed
    }

    #[test]
    fn the_specification_s_examples() {
        let mut lengths = vec![(48, 0x50), (59, 0x45), (60, 0x44), (61, 0x04), (128, 0x04)];
        lengths.extend((49..59).map(|at| (at, 0x55)));
        let body = [
            0xd8, 0x52, 0x3e, 0xd7, 0x94, 0x11, 0x5b, 0xe9, 0x19, 0x5f, 0xf9, 0xd6, 0x7c, 0xdf, 0x8d, 0x04, 0, 0, 0, 0,
        ];
        let mut out = [0; 26];
        unpack(&example(&lengths, &body), &mut out).unwrap();
        assert_eq!(&out, b"abcdefghijklmnopqrstuvwxyz");
        let lengths = [(48, 0x30), (49, 0x23), (128, 0x02), (143, 0x20)];
        let mut out = [0; 300];
        unpack(&example(&lengths, &[0xa8, 0xdc, 0, 0, 0xff, 0x26, 0x01]), &mut out).unwrap();
        assert_eq!(&out[..], "abc".repeat(100).as_bytes());
    }
}
