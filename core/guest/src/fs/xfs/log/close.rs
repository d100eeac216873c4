//! Closing a log that was replayed: a last record says that the volume was unmounted, as its own kernel writes it.

use super::{BLOCK, Log, MAGIC, Span, head::cycle_of, record};
use crate::{
    error::Result,
    fs::xfs::{
        Xfs,
        fields::{be32, low32, put, put32, put64, slice},
    },
};

/// Bytes of a record that one block of a head says the rounds of.
const PER_HEAD: u64 = 32 << 10;
/// Marks the operation, and the system's own transactions.
const UNMOUNT: [u8; 4] = [0xaa, 0x20, 0, 0];
const UNMOUNT_KIND: u16 = 0x556e;

impl Xfs {
    /// Writes the last record, and makes sure that nothing behind it is taken for a part of the log.
    pub(super) fn close_log(&mut self, log: Log, span: Span) -> Result<()> {
        // Records of a log with a stripe unit are as long as it, or as several of them.
        let unit = u64::from(self.sb.sb_logsunit.get()) / BLOCK as u64;
        let total = if log.v2 { unit.max(2) } else { 2 };
        let size = if log.v2 { (total * BLOCK as u64).max(PER_HEAD) } else { PER_HEAD };
        let heads = if log.v2 { size.div_ceil(PER_HEAD) } else { 1 };
        if total <= heads || total > 512 || total >= log.blocks / 4 {
            return Err(self.device.unreadable(format!("its log has a stripe unit of {unit} blocks of 512 bytes")));
        }
        let (at, cycle) = (span.head, span.cycle);
        let len = (total - heads) * BLOCK as u64;
        let mut data = vec![0; reformis_disk::to_usize(len)];
        put32(&mut data, 0, 1);
        put32(&mut data, 4, 8);
        put(&mut data, 8, &UNMOUNT);
        put(&mut data, 12, &UNMOUNT_KIND.to_le_bytes());
        let lsn = u64::from(cycle) << 32 | at;
        let mut head = vec![0; reformis_disk::to_usize(heads) * BLOCK];
        put32(&mut head, 0, MAGIC);
        put32(&mut head, 4, cycle);
        put32(&mut head, 8, if log.v2 { 2 } else { 1 });
        put32(&mut head, 12, low32(len));
        put64(&mut head, 16, lsn);
        put64(&mut head, 24, lsn);
        put32(&mut head, 36, low32(span.last));
        put32(&mut head, 40, 1);
        put32(&mut head, 300, 1);
        put(&mut head, 304, &self.sb.sb_uuid);
        put32(&mut head, 320, low32(size));
        // The round that each block is written in: what goes on at the ring's start is of the next one.
        let cycle_at = |block: u64| if at + block < log.blocks { cycle } else { cycle.wrapping_add(1) };
        for extension in 1..heads {
            put32(&mut head, reformis_disk::to_usize(extension) * BLOCK, cycle_at(extension));
        }
        for (number, block) in (0u64..).zip(data.chunks_mut(BLOCK)) {
            let (extension, place) = (number / 64, reformis_disk::to_usize(number % 64));
            let kept = if extension == 0 {
                44 + place * 4
            } else {
                reformis_disk::to_usize(extension) * BLOCK + 4 + place * 4
            };
            put(&mut head, kept, slice(block, 0, 4));
            put32(block, 0, cycle_at(heads + number));
        }
        if self.sb.is_v5() {
            let sum = record::checksum(&head, &data, record::HEAD_SIZES[0]);
            put(&mut head, 32, &sum.to_le_bytes());
        }
        head.extend(data);
        for (number, block) in (0u64..).zip(head.chunks(BLOCK)) {
            self.device.write(log.start + log.after(at, number) * BLOCK as u64, block)?;
        }
        self.blank_rest(log, span, total)
    }

    /// Blanks what was on its way to the disk behind the end when the volume was left: it is of the same round.
    fn blank_rest(&self, log: Log, span: Span, total: u64) -> Result<()> {
        let first = log.after(span.head, total);
        let len = log.in_flight().min(log.blocks - total - 1);
        let blocks = self.log_blocks(log, first, len)?;
        for (number, block) in (0u64..).zip(blocks.chunks(BLOCK)) {
            let at = log.after(first, number);
            // Before the ring's end the round before is what is there, behind it the same as at the end.
            let cycle = if at >= span.head { span.cycle.wrapping_sub(1) } else { span.cycle };
            if be32(block, 0) == 0 || cycle_of(block) == cycle {
                continue;
            }
            let lsn = u64::from(cycle) << 32 | at;
            let mut blank = vec![0; BLOCK];
            put32(&mut blank, 0, MAGIC);
            put32(&mut blank, 4, cycle);
            put32(&mut blank, 8, if log.v2 { 2 } else { 1 });
            put64(&mut blank, 16, lsn);
            put64(&mut blank, 24, lsn);
            put32(&mut blank, 300, 1);
            put(&mut blank, 304, &self.sb.sb_uuid);
            self.device.write(log.start + at * BLOCK as u64, &blank)?;
        }
        Ok(())
    }
}
