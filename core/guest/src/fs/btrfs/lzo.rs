//! LZO1X, as the kernel packs extents with it (Linux, `Documentation/staging/lzo.rst` for the stream, `fs/btrfs/lzo.c` for the frame around it).

/// What is packed is cut off, or leads outside.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Broken;

/// Unpacks an extent: its length, then segments, each a sector of bytes, with its own length in front. No length lies across the end of a sector
/// of the packed bytes. Gives at most `most` bytes.
pub(super) fn unpack(packed: &[u8], sector: usize, most: usize) -> Result<Vec<u8>, Broken> {
    let len = |at: usize| -> Result<usize, Broken> {
        let bytes = packed.get(at..at + 4).and_then(|bytes| bytes.try_into().ok()).ok_or(Broken)?;
        Ok(u32::from_le_bytes(bytes) as usize)
    };
    let total = len(0)?.min(packed.len());
    let (mut at, mut out) = (4, Vec::new());
    while at + 4 <= total && out.len() < most {
        let left = sector - at % sector;
        if left < 4 {
            at += left;
            continue;
        }
        let size = len(at)?;
        let segment = packed.get(at + 4..(at + 4).checked_add(size).ok_or(Broken)?).ok_or(Broken)?;
        let room = sector.min(most - out.len());
        segment_into(segment, &mut out, room)?;
        at += 4 + size;
    }
    Ok(out)
}

/// The bytes of one segment, read on and on.
struct Input<'s> {
    bytes: &'s [u8],
    at: usize,
}

impl Input<'_> {
    fn byte(&mut self) -> Result<usize, Broken> {
        let byte = self.bytes.get(self.at).ok_or(Broken)?;
        self.at += 1;
        Ok(usize::from(*byte))
    }

    /// A length that does not fit into its bits: zeros count 255 each, and what ends them is added.
    fn long(&mut self, base: usize) -> Result<usize, Broken> {
        let mut len = base;
        loop {
            match self.byte()? {
                0 => len = len.checked_add(255).filter(|len| *len <= 1 << 20).ok_or(Broken)?,
                rest => return Ok(len + rest),
            }
        }
    }

    fn pair(&mut self) -> Result<usize, Broken> {
        Ok(self.byte()? | self.byte()? << 8)
    }
}

/// Unpacks one segment behind `out`: at most `most` bytes.
fn segment_into(segment: &[u8], out: &mut Vec<u8>, most: usize) -> Result<(), Broken> {
    let (start, mut input) = (out.len(), Input { bytes: segment, at: 0 });
    let literals = |input: &mut Input<'_>, out: &mut Vec<u8>, len: usize| {
        let bytes = input.bytes.get(input.at..input.at.checked_add(len).ok_or(Broken)?).ok_or(Broken)?;
        if out.len() - start + len > most {
            return Err(Broken);
        }
        out.extend_from_slice(bytes);
        input.at += len;
        Ok(())
    };
    // How many literals came before: 0, 1 to 3, or 4 for more.
    let mut state = 0;
    let first = usize::from(*segment.first().ok_or(Broken)?);
    if first > 17 {
        input.at = 1;
        literals(&mut input, out, first - 17)?;
        state = (first - 17).min(4);
    }
    loop {
        let code = input.byte()?;
        let (len, distance, then) = match code {
            0..16 if state == 0 => {
                let len = if code == 0 { input.long(15)? + 3 } else { code + 3 };
                literals(&mut input, out, len)?;
                state = 4;
                continue;
            }
            0..16 if state == 4 => (3, (code >> 2 & 3) + (input.byte()? << 2) + 2049, code & 3),
            0..16 => (2, (code >> 2 & 3) + (input.byte()? << 2) + 1, code & 3),
            16..32 => {
                let len = if code & 7 == 0 { input.long(7)? } else { code & 7 } + 2;
                let pair = input.pair()?;
                let distance = ((code & 8) << 11) + (pair >> 2) + 16_384;
                if distance == 16_384 {
                    // The end, where nothing follows.
                    return if input.at == segment.len() { Ok(()) } else { Err(Broken) };
                }
                (len, distance, pair & 3)
            }
            32..64 => {
                let len = if code & 31 == 0 { input.long(31)? } else { code & 31 } + 2;
                let pair = input.pair()?;
                (len, (pair >> 2) + 1, pair & 3)
            }
            64..128 => ((code >> 5 & 1) + 3, (code >> 2 & 7) + (input.byte()? << 3) + 1, code & 3),
            _ => ((code >> 5 & 3) + 5, (code >> 2 & 7) + (input.byte()? << 3) + 1, code & 3),
        };
        let from = out.len().checked_sub(distance).filter(|from| *from >= start).ok_or(Broken)?;
        if out.len() - start + len > most {
            return Err(Broken);
        }
        for at in from..from + len {
            let byte = *out.get(at).ok_or(Broken)?;
            out.push(byte);
        }
        literals(&mut input, out, then)?;
        state = then;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn framed(segments: &[&[u8]]) -> Vec<u8> {
        let mut out = vec![0; 4];
        for segment in segments {
            out.extend(u32::try_from(segment.len()).unwrap().to_le_bytes());
            out.extend(*segment);
        }
        let len = u32::try_from(out.len()).unwrap();
        out[..4].copy_from_slice(&len.to_le_bytes());
        out
    }

    /// Put together by hand from the description of the stream.
    #[test]
    fn literals_and_copies() {
        // 4 literals, then 8 bytes from 4 back, and the end.
        let segment = [21, b't', b'i', b'd', b'e', 32 + 6, 3 << 2, 0, 17, 0, 0];
        assert_eq!(unpack(&framed(&[&segment]), 4096, 100).unwrap(), b"tidetidetide");
        assert_eq!(unpack(&framed(&[&segment, &segment]), 4096, 100).unwrap(), b"tidetidetidetidetidetide");
    }

    #[test]
    fn what_leads_outside_is_broken() {
        let far = [21, b't', b'i', b'd', b'e', 32 + 6, 4 << 2, 0, 17, 0, 0];
        assert_eq!(unpack(&framed(&[&far]), 4096, 100), Err(Broken));
        for end in 0..11 {
            let segment = [21, b't', b'i', b'd', b'e', 32 + 6, 3 << 2, 0, 17, 0, 0];
            assert!(unpack(&framed(&[&segment[..end]]), 4096, 100).is_err(), "{end}");
        }
        assert_eq!(unpack(&[0, 0], 4096, 100), Err(Broken));
        assert_eq!(unpack(&framed(&[&[0; 4000]]), 4096, 100), Err(Broken));
    }
}
