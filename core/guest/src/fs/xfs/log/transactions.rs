//! Transactions of the log, gathered from the operations of its records, and the items that each is made of.

use std::collections::HashMap;

use reformis_disk::budget::Hold;

use super::{Log, Span, State};
use crate::{
    error::Result,
    fs::xfs::{
        Xfs,
        fields::{be16, be32, be64, byte, slice},
    },
};

/// Bytes of the head of an operation, and of a transaction.
const OPERATION: usize = 12;
const HEAD: usize = 16;
const HEAD_MAGIC: [u8; 4] = 0x5452_414e_u32.to_le_bytes();

mod flag {
    pub const START: u8 = 1;
    pub const COMMIT: u8 = 2;
    pub const CONTINUED: u8 = 8;
    pub const UNMOUNT: u8 = 0x20;
}

/// An item of a transaction: what it is about, and the bytes that go with it.
#[derive(Debug, Clone, Default)]
pub(super) struct Item {
    pub(super) regions: Vec<Vec<u8>>,
    /// Regions that it is to have.
    total: usize,
}

impl Item {
    /// What kind of item it is.
    pub(super) fn kind(&self) -> u16 {
        le16(self.region(0), 0)
    }

    /// A region; nothing where it has none.
    pub(super) fn region(&self, index: usize) -> &[u8] {
        self.regions.get(index).map_or(&[], Vec::as_slice)
    }
}

/// A transaction that was committed.
#[derive(Debug, Default)]
pub(super) struct Transaction {
    /// When it began, in the log's own time.
    pub(super) lsn: u64,
    pub(super) items: Vec<Item>,
    head: Vec<u8>,
}

/// What belongs to the processor that wrote the log is in its byte order.
pub(super) fn le16(bytes: &[u8], at: usize) -> u16 {
    be16(bytes, at).swap_bytes()
}

pub(super) fn le32(bytes: &[u8], at: usize) -> u32 {
    be32(bytes, at).swap_bytes()
}

pub(super) fn le64(bytes: &[u8], at: usize) -> u64 {
    be64(bytes, at).swap_bytes()
}

impl Transaction {
    /// Takes the next region; `false` for one that cannot be.
    fn add(&mut self, bytes: &[u8]) -> bool {
        if bytes.is_empty() {
            return true;
        }
        if self.head.len() < HEAD {
            self.head.extend(bytes);
            return self.head.len() <= HEAD && (self.head.len() < 4 || self.head.starts_with(&HEAD_MAGIC));
        }
        let is_full = self.items.last().is_none_or(|item| item.total > 0 && item.regions.len() >= item.total);
        if is_full {
            self.items.push(Item::default());
        }
        let Some(item) = self.items.last_mut() else { return false };
        if item.total == 0 {
            item.total = le16(bytes, 2).into();
            if bytes.len() < 4 || item.total == 0 {
                return false;
            }
        }
        item.regions.push(bytes.to_vec());
        true
    }

    /// Takes the rest of the last region.
    fn go_on(&mut self, bytes: &[u8]) -> bool {
        if self.head.len() < HEAD || self.items.is_empty() {
            return self.add(bytes);
        }
        let region = self.items.last_mut().and_then(|item| item.regions.last_mut());
        region.map(|region| region.extend(bytes)).is_some()
    }
}

impl Xfs {
    /// Where the log ends, of what is in it as it was written: a record among the last ones that is not was cut short.
    pub(super) fn sound_span(&self, log: Log, span: Span) -> Result<State> {
        let mut span = span;
        // Each turn ends earlier.
        'turns: loop {
            let mut at = span.tail;
            let mut left = log.distance(span.tail, span.head);
            if left == 0 {
                left = log.blocks;
            }
            while left > 0 {
                let head = self.record_head(log, at)?;
                let head = head.filter(|head| head.total() <= left);
                let head =
                    head.ok_or_else(|| self.device.damaged("the records of its log do not follow one another"))?;
                if self.record_bytes(log, &head)?.is_none() {
                    if left > log.in_flight() || at == span.tail {
                        return Err(self.device.damaged("a record of its log is not as it was written"));
                    }
                    match self.state_up_to(log, at)? {
                        State::Dirty(shorter) => span = shorter,
                        clean => return Ok(clean),
                    }
                    continue 'turns;
                }
                at = log.after(at, head.total());
                left -= head.total();
            }
            return Ok(State::Dirty(span));
        }
    }

    /// Calls `work` with each transaction that the log holds whole, in the order in which they were committed.
    pub(super) fn each_transaction(
        &self,
        log: Log,
        span: Span,
        mut work: impl FnMut(Transaction) -> Result<()>,
    ) -> Result<()> {
        let wrong = |what: &str| self.device.damaged(format!("a record of its log {what}"));
        let mut open: HashMap<u32, (Transaction, Hold)> = HashMap::new();
        let mut at = span.tail;
        loop {
            let head = self.record_head(log, at)?.ok_or_else(|| wrong("is missing"))?;
            let data = self.record_bytes(log, &head)?.ok_or_else(|| wrong("is not as it was written"))?;
            let mut rest: &[u8] = &data;
            for _ in 0..head.operations() {
                if rest.len() < OPERATION {
                    break;
                }
                let (id, len, flags) = (be32(rest, 0), be32(rest, 4) as usize, byte(rest, 9));
                rest = rest.get(OPERATION..).unwrap_or_default();
                let bytes = slice(rest, 0, len);
                if bytes.len() != len {
                    return Err(wrong("has an operation that is cut short"));
                }
                rest = rest.get(len..).unwrap_or_default();
                if flags & flag::START != 0 {
                    let hold = self.device.bench().budget().hold();
                    open.insert(id, (Transaction { lsn: head.lsn(), ..Transaction::default() }, hold));
                    continue;
                }
                if flags & flag::UNMOUNT != 0 {
                    continue;
                }
                if flags & flag::COMMIT != 0 {
                    if let Some((transaction, _hold)) = open.remove(&id) {
                        work(transaction)?;
                    }
                    continue;
                }
                // What began before the tail is in its place already.
                let Some((transaction, hold)) = open.get_mut(&id) else { continue };
                hold.grow(len as u64 + 64)?;
                let fits = if flags & flag::CONTINUED != 0 { transaction.go_on(bytes) } else { transaction.add(bytes) };
                if !fits {
                    return Err(wrong("has a transaction that cannot be"));
                }
            }
            at = log.after(at, head.total());
            if at == span.head {
                return Ok(());
            }
        }
    }
}
