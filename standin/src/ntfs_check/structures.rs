//! What the check takes out of structures, and keeps.

use std::collections::BTreeMap;

pub(super) const REFERENCE: u64 = (1 << 48) - 1;

pub(super) type Outcome<T> = Result<T, String>;

pub(super) fn word(b: &[u8], at: usize) -> Outcome<u64> {
    number(b, at, 2)
}

pub(super) fn long(b: &[u8], at: usize) -> Outcome<u64> {
    number(b, at, 4)
}

pub(super) fn wide(b: &[u8], at: usize) -> Outcome<u64> {
    number(b, at, 8)
}

pub(super) fn number(b: &[u8], at: usize, bytes: usize) -> Outcome<u64> {
    let part = b.get(at..at + bytes).ok_or_else(|| format!("byte {at} is outside a structure"))?;
    Ok(part.iter().rev().fold(0, |sum, byte| sum << 8 | u64::from(*byte)))
}

pub(super) fn units(b: &[u8]) -> Vec<u16> {
    b.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect()
}

pub(super) fn slice(b: &[u8], at: usize, len: usize) -> Outcome<&[u8]> {
    b.get(at..at + len).ok_or_else(|| format!("{len} bytes at {at} are outside a structure"))
}

/// A run: first cluster, or a hole, and how many.
pub(super) type Run = (Option<u64>, u64);

#[derive(Clone)]
pub(super) enum Value {
    Here(Vec<u8>),
    There { runs: Vec<Run>, allocated: u64, size: u64, initialized: u64 },
}

#[derive(Clone)]
pub(super) struct Attribute {
    pub(super) kind: u64,
    pub(super) name: Vec<u16>,
    pub(super) flags: u64,
    pub(super) id: u64,
    pub(super) value: Value,
}

/// The attributes of a file by kind and name, its pieces put together; names of files aside.
#[derive(Default)]
pub(super) struct Whole {
    pub(super) parts: BTreeMap<(u64, Vec<u16>), Attribute>,
    pub(super) names: Vec<Vec<u8>>,
}

pub(super) struct Check<'a> {
    pub(super) image: &'a [u8],
    pub(super) cluster: usize,
    pub(super) clusters: u64,
    pub(super) record: usize,
    pub(super) sectors_end: usize,
    pub(super) mft: usize,
    pub(super) raw: Vec<u8>,
    pub(super) records: BTreeMap<u64, Vec<u8>>,
    pub(super) attributes: BTreeMap<u64, Vec<Attribute>>,
    pub(super) files: BTreeMap<u64, Whole>,
    pub(super) capitals: Vec<u16>,
    pub(super) wrong: Vec<String>,
}

pub(super) fn key(name: &str) -> Vec<u16> {
    name.encode_utf16().collect()
}

/// Takes the update sequence out.
pub(super) fn unfix(bytes: &[u8], signature: &[u8], what: &str) -> Outcome<Vec<u8>> {
    let mut out = bytes.to_vec();
    if bytes.get(..4) != Some(signature) {
        return Err(format!("{what}: another signature"));
    }
    let (at, count) = (word(bytes, 4)? as usize, word(bytes, 6)? as usize);
    if count != bytes.len() / 512 + 1 || at + 2 * count > 510 {
        return Err(format!("{what}: update sequence at {at} of {count}"));
    }
    for index in 1..count {
        let end = index * 512;
        if bytes[end - 2..end] != bytes[at..at + 2] {
            return Err(format!("{what}: sector {} was not written with the others", index - 1));
        }
        out[end - 2..end].copy_from_slice(&bytes[at + 2 * index..at + 2 * index + 2]);
    }
    Ok(out)
}

pub(super) fn runs(b: &[u8], what: &str) -> Outcome<Vec<Run>> {
    let (mut at, mut cluster, mut found) = (0, 0_i64, Vec::new());
    loop {
        let head = usize::from(*b.get(at).ok_or_else(|| format!("{what}: run list without an end"))?);
        if head == 0 {
            return Ok(found);
        }
        let (len, step) = (head & 15, head >> 4);
        if len == 0 || len > 8 || step > 8 {
            return Err(format!("{what}: head of a run"));
        }
        let count = number(b, at + 1, len)?;
        if step > 0 {
            let raw = number(b, at + 1 + len, step)?;
            let shift = 64 - 8 * step as u32;
            cluster += (raw << shift).cast_signed() >> shift;
        }
        found.push(((step > 0).then_some(cluster.cast_unsigned()), count));
        at += 1 + len + step;
    }
}
