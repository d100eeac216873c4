//! LZNT1, the compression of NTFS (\[MS-XCA\] 2.5).

/// Bytes that a chunk becomes.
const CHUNK: usize = 4096;

/// Unpacks `packed` into `out`, as far as it goes; what is left of `out` is as it was. Gives the number of bytes.
///
/// # Errors
/// What breaks the rules.
pub(crate) fn unpack(packed: &[u8], out: &mut [u8]) -> Result<usize, &'static str> {
    let mut rest = packed;
    let mut done = 0;
    for chunk in out.chunks_mut(CHUNK) {
        let Some((head, after)) = rest.split_first_chunk::<2>() else { break };
        let head = u16::from_le_bytes(*head);
        if head == 0 {
            break;
        }
        let len = usize::from(head & 0x0fff) + 1;
        let (body, after) = after.split_at_checked(len).ok_or("a chunk goes on behind the end")?;
        rest = after;
        let filled = if head & 0x8000 == 0 { store(body, chunk)? } else { unpack_chunk(body, chunk)? };
        // A chunk that is short is followed by zeros.
        if let Some(rest) = chunk.get_mut(filled..) {
            rest.fill(0);
        }
        done += chunk.len();
    }
    Ok(done)
}

fn store(body: &[u8], out: &mut [u8]) -> Result<usize, &'static str> {
    // The last one may be cut by the end of what is wanted.
    let len = body.len().min(out.len());
    let (Some(to), Some(from)) = (out.get_mut(..len), body.get(..len)) else { return Err("a chunk is too long") };
    to.copy_from_slice(from);
    Ok(len)
}

fn unpack_chunk(body: &[u8], out: &mut [u8]) -> Result<usize, &'static str> {
    let mut rest = body.iter();
    let mut at = 0;
    'all: while let Some(flags) = rest.next() {
        for bit in 0..8 {
            if at == out.len() {
                break 'all;
            }
            if flags >> bit & 1 == 0 {
                let Some(byte) = rest.next() else { break 'all };
                if let Some(place) = out.get_mut(at) {
                    *place = *byte;
                }
                at += 1;
                continue;
            }
            let (Some(low), Some(high)) = (rest.next(), rest.next()) else { break 'all };
            let pair = usize::from(u16::from_le_bytes([*low, *high]));
            if at == 0 {
                return Err("a chunk begins with a copy");
            }
            // The further into the chunk, the more bits the distance has, and the fewer the length.
            let bits = (usize::BITS - (at - 1).leading_zeros()).clamp(4, 12);
            let (distance, len) = ((pair >> (16 - bits)) + 1, (pair & (0xffff >> bits)) + 3);
            let from = at.checked_sub(distance).ok_or("a copy begins before its chunk")?;
            for step in 0..len.min(out.len() - at) {
                let byte = out.get(from + step).copied().unwrap_or_default();
                if let Some(place) = out.get_mut(at + step) {
                    *place = byte;
                }
            }
            at += len.min(out.len() - at);
        }
    }
    Ok(at)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_specification_s_example() {
        // [MS-XCA] 3.3: the text that is packed there, by its own rules.
        let packed: &[u8] = &[
            0x38, 0xb0, 0x88, 0x46, 0x23, 0x20, 0x00, 0x20, 0x47, 0x20, 0x41, 0x00, 0x10, 0xa2, 0x47, 0x01, 0xa0, 0x45,
            0x20, 0x44, 0x00, 0x08, 0x45, 0x01, 0x50, 0x79, 0x00, 0xc0, 0x45, 0x20, 0x05, 0x24, 0x13, 0x88, 0x05, 0xb4,
            0x02, 0x4a, 0x44, 0xef, 0x03, 0x58, 0x02, 0x8c, 0x09, 0x16, 0x01, 0x48, 0x45, 0x00, 0xbe, 0x00, 0x9e, 0x00,
            0x04, 0x01, 0x18, 0x90, 0x00,
        ];
        let mut out = [0; 142];
        assert_eq!(unpack(packed, &mut out), Ok(142));
        let text = "F# F# G A A G F# E D D E F# F# E E F# F# G A A G F# E D D E F# E D D E E F# D E F# G F# D E F# G F# E D E A F# F# G A A G F# E D D E F# E D D";
        assert_eq!(String::from_utf8_lossy(out.get(..141).unwrap()), text);
    }

    #[test]
    fn what_is_broken_is_refused_or_ends() {
        assert!(unpack(&[0x03, 0xb0, 0x01, 0, 0, 0], &mut [0; 64]).is_err());
        assert!(unpack(&[0xff, 0xbf, 0], &mut [0; 64]).is_err());
        assert!(unpack(&[0x04, 0xb0, 0x02, 7, 0xff, 0xff, 0], &mut [0; 64]).is_err());
        assert_eq!(unpack(&[], &mut [0; 64]), Ok(0));
    }
}
