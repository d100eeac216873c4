//! The binary index that a system's loader of modules reads (kmod, `libkmod/libkmod-index.c`): a tree of characters whose
//! leaves are values. Numbers are big-endian.

use std::collections::BTreeMap;

const MAGIC: u32 = 0xb007_f457;
const VERSION: u32 = 0x0002_0001;
const HAS_PREFIX: u32 = 0x8000_0000;
const HAS_VALUES: u32 = 0x4000_0000;
const HAS_CHILDREN: u32 = 0x2000_0000;

/// The index of `values`, by key: keys are ASCII.
#[expect(clippy::indexing_slicing, reason = "the head of the index was written first")]
pub(super) fn index(values: &BTreeMap<String, String>) -> Vec<u8> {
    let mut bytes = Vec::new();
    for word in [MAGIC, VERSION, 0] {
        bytes.extend(word.to_be_bytes());
    }
    let entries: Vec<(&[u8], &str)> = values.iter().map(|(key, value)| (key.as_bytes(), value.as_str())).collect();
    let root = node(&mut bytes, &entries, 0);
    bytes[8..12].copy_from_slice(&root.to_be_bytes());
    bytes
}

/// Writes the node of `entries`, which are in order and share their first `depth` bytes; where it lies, with what it has.
#[expect(clippy::cast_possible_truncation, reason = "an index is built from some MiB of aliases")]
#[expect(
    clippy::indexing_slicing,
    reason = "every name of the group is longer than what it shares, for it is sorted behind the shorter ones"
)]
fn node(bytes: &mut Vec<u8>, entries: &[(&[u8], &str)], depth: usize) -> u32 {
    let (Some((first, _)), Some((last, _))) = (entries.first(), entries.last()) else {
        return bytes.len() as u32;
    };
    // What all of them share goes into the node itself.
    let shared = first[depth..].iter().zip(&last[depth..]).take_while(|(a, b)| a == b).count();
    let prefix = &first[depth..depth + shared];
    let depth = depth + shared;
    let own = entries.iter().take_while(|(key, _)| key.len() == depth).count();
    let mut children: BTreeMap<u8, u32> = BTreeMap::new();
    for group in entries[own..].chunk_by(|(a, _), (b, _)| a[depth] == b[depth]) {
        let child = node(bytes, group, depth + 1);
        children.insert(group[0].0[depth], child);
    }
    let mut offset = bytes.len() as u32;
    if !prefix.is_empty() {
        bytes.extend(prefix);
        bytes.push(0);
        offset |= HAS_PREFIX;
    }
    if let (Some((from, _)), Some((to, _))) = (children.first_key_value(), children.last_key_value()) {
        bytes.extend([*from, *to]);
        for byte in *from..=*to {
            bytes.extend(children.get(&byte).copied().unwrap_or(0).to_be_bytes());
        }
        offset |= HAS_CHILDREN;
    }
    if own > 0 {
        bytes.extend((own as u32).to_be_bytes());
        for (priority, (_, value)) in entries[..own].iter().enumerate() {
            bytes.extend((priority as u32).to_be_bytes());
            bytes.extend(value.bytes());
            bytes.push(0);
        }
        offset |= HAS_VALUES;
    }
    offset
}
