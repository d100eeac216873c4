//! Files that the system compressed: their bytes lie in a stream of their own, in pieces behind a table of where each ends as
//! files in Windows images are (\[MS-FSCC\] 2.3.53 names the methods).

use reformis_disk::to_usize;

use super::{
    Ntfs, WOF_STREAM,
    file::File,
    record::{Attribute, kind},
};
use crate::{
    error::{Error, Result},
    formats::{lzx, xpress},
};

/// How a file is packed: bytes of a piece, and whether it is LZX.
fn method(number: u32) -> Option<(u64, bool)> {
    match number {
        0 => Some((4 << 10, false)),
        1 => Some((32 << 10, true)),
        2 => Some((8 << 10, false)),
        3 => Some((16 << 10, false)),
        _ => None,
    }
}

impl Ntfs {
    /// Fills `buf` from `offset` of the file whose unpacked length is that of `data`, as far as it goes.
    ///
    /// # Errors
    /// [`Error::Damaged`]; [`Error::Unsupported`] for methods that are not known.
    #[expect(clippy::indexing_slicing, reason = "ranges are cut to the piece and to the buffer")]
    pub(super) fn read_packed(
        &self,
        file: &File,
        data: &Attribute,
        number: u32,
        offset: u64,
        buf: &mut [u8],
    ) -> Result<usize> {
        let (piece, is_lzx) = method(number)
            .ok_or_else(|| self.device.unreadable(format!("the system packed a file by method {number}")))?;
        let damaged = |what: &str| self.device.damaged(format!("the packed file of record {}: {what}", file.number));
        let name: Vec<u16> = WOF_STREAM.encode_utf16().collect();
        let stream = file.find(kind::DATA, &name).ok_or_else(|| damaged("its stream is not there"))?;
        let size = data.size();
        let len = to_usize(size.saturating_sub(offset).min(buf.len() as u64));
        let pieces = size.div_ceil(piece);
        // Where each piece but the first begins, behind the table.
        let width = if size >= 1 << 32 { 8 } else { 4 };
        let table = pieces.saturating_sub(1) * width;
        let mut out = vec![0; to_usize(piece)];
        let mut done = 0;
        while done < len {
            let at = offset + done as u64;
            let index = at / piece;
            let (start, end) = (
                self.boundary(stream, index, width)?,
                if index + 1 == pieces {
                    stream.size().saturating_sub(table)
                } else {
                    self.boundary(stream, index + 1, width)?
                },
            );
            let whole = to_usize((size - index * piece).min(piece));
            let packed_len = end.checked_sub(start).filter(|len| (1..=whole as u64).contains(len));
            let packed_len = to_usize(packed_len.ok_or_else(|| damaged("a piece has a wrong length"))?);
            let mut packed = vec![0; packed_len];
            if self.read_value(stream, table + start, &mut packed)? != packed_len {
                return Err(damaged("its stream is cut short"));
            }
            let filled = &mut out[..whole];
            if packed_len == whole {
                filled.copy_from_slice(&packed);
            } else if is_lzx {
                lzx::unpack(&packed, filled).map_err(damaged)?;
            } else {
                xpress::unpack(&packed, filled).map_err(damaged)?;
            }
            let inside = to_usize(at - index * piece);
            let now = (whole - inside).min(len - done);
            buf[done..done + now].copy_from_slice(&filled[inside..inside + now]);
            done += now;
        }
        Ok(len)
    }

    /// Where piece `index` begins, behind the table.
    fn boundary(&self, stream: &Attribute, index: u64, width: u64) -> Result<u64> {
        let Some(before) = index.checked_sub(1) else { return Ok(0) };
        let mut entry = [0; 8];
        let entry_len = to_usize(width);
        let read = self.read_value(stream, before * width, entry.get_mut(..entry_len).unwrap_or_default())?;
        if read != entry_len {
            return Err(Error::Damaged {
                volume: self.device.name().into(),
                what: "the table of a packed file is cut short".into(),
            });
        }
        Ok(u64::from_le_bytes(entry))
    }
}
