//! One block of a tree: keys that lead to other blocks, or a leaf of keys with their items (Linux, `btrfs_header`, `btrfs_item`,
//! `btrfs_key_ptr`).

use super::bytes::{put, put_u32, put_u64, u8_at, u32_at, u64_at};

/// Bytes of a block in front of its keys.
pub(super) const HEADER: usize = 101;
/// Bytes of a key with the place of its item, and of one with the place of its block.
pub(super) const ITEM: usize = 25;
pub(super) const POINTER: usize = 33;
/// No tree is higher.
pub(super) const MOST_LEVEL: u8 = 8;

/// What an item is found by: object, kind, offset.
pub(super) type Key = (u64, u8, u64);
/// The first block of a tree, or any block of one: where it is, its level and its generation.
pub(super) type Root = (u64, u8, u64);
/// A key with its item.
pub(super) type Item = (Key, Vec<u8>);
/// A key with the place and the generation of the block that it leads to.
pub(super) type Pointer = (Key, u64, u64);

fn key_at(bytes: &[u8], at: usize) -> Key {
    (u64_at(bytes, at), u8_at(bytes, at + 8), u64_at(bytes, at + 9))
}

/// The key that a structure begins with.
pub(super) fn key_of(bytes: &[u8]) -> Key {
    key_at(bytes, 0)
}

/// A key as it is stored.
pub(super) fn key_bytes(key: Key) -> [u8; 17] {
    let mut bytes = [0; 17];
    put_u64(&mut bytes, 0, key.0);
    put(&mut bytes, 8, &[key.1]);
    put_u64(&mut bytes, 9, key.2);
    bytes
}

/// What a new block says of itself.
#[derive(Debug, Clone, Copy)]
pub(super) struct Head {
    pub(super) fsid: [u8; 16],
    pub(super) chunk_tree: [u8; 16],
    pub(super) at: u64,
    pub(super) generation: u64,
    /// The tree that it was made for.
    pub(super) owner: u64,
}

/// A block, whose sum and place are right.
#[derive(Debug)]
pub(super) struct Block {
    pub(super) bytes: Vec<u8>,
    pub(super) level: u8,
    pub(super) count: usize,
}

impl Block {
    /// The block in `bytes`, whose keys fit in it.
    pub(super) fn new(bytes: Vec<u8>) -> Self {
        Self { level: u8_at(&bytes, 100), count: u32_at(&bytes, 96) as usize, bytes }
    }

    fn step(&self) -> usize {
        if self.level == 0 { ITEM } else { POINTER }
    }

    pub(super) fn key(&self, number: usize) -> Key {
        key_at(&self.bytes, HEADER + number * self.step())
    }

    /// The item of this number, in a leaf.
    pub(super) fn item(&self, number: usize) -> Option<&[u8]> {
        let at = HEADER + number * ITEM + 17;
        let (start, len) = (u32_at(&self.bytes, at) as usize, u32_at(&self.bytes, at + 4) as usize);
        let start = HEADER.checked_add(start)?;
        self.bytes.get(start..start.checked_add(len)?)
    }

    /// The block that the key of this number leads to, above the leaves.
    pub(super) fn child(&self, number: usize) -> Root {
        let at = HEADER + number * POINTER + 17;
        (u64_at(&self.bytes, at), self.level.saturating_sub(1), u64_at(&self.bytes, at + 8))
    }

    /// The last key that is not behind `key`; the first where all are.
    pub(super) fn floor(&self, key: Key) -> usize {
        let (mut from, mut to) = (0, self.count);
        while from < to {
            let middle = from + (to - from) / 2;
            if self.key(middle) <= key {
                from = middle + 1;
            } else {
                to = middle;
            }
        }
        from.saturating_sub(1)
    }

    /// The tree that it was made for.
    pub(super) fn owner(&self) -> u64 {
        u64_at(&self.bytes, 88)
    }

    /// The UUID of the tree of chunks, which every block has.
    pub(super) fn chunk_tree(&self) -> [u8; 16] {
        super::bytes::uuid_at(&self.bytes, 64)
    }

    /// All items of a leaf; `None` where one leads out of it.
    pub(super) fn items(&self) -> Option<Vec<Item>> {
        (0..self.count).map(|number| Some((self.key(number), self.item(number)?.to_vec()))).collect()
    }

    /// All that a block above the leaves leads to.
    pub(super) fn pointers(&self) -> Vec<Pointer> {
        let pointer = |number| {
            let (at, _, generation) = self.child(number);
            (self.key(number), at, generation)
        };
        (0..self.count).map(pointer).collect()
    }

    fn empty(size: usize, head: Head, level: u8, count: usize) -> Vec<u8> {
        let mut bytes = vec![0; size];
        put(&mut bytes, 32, &head.fsid);
        put_u64(&mut bytes, 48, head.at);
        // It is written, and its references are of the second kind (`BTRFS_MIXED_BACKREF_REV`).
        put_u64(&mut bytes, 56, 1 << 56 | 1);
        put(&mut bytes, 64, &head.chunk_tree);
        put_u64(&mut bytes, 80, head.generation);
        put_u64(&mut bytes, 88, head.owner);
        put_u32(&mut bytes, 96, count);
        put(&mut bytes, 100, &[level]);
        bytes
    }

    /// A leaf of `size` bytes with these items, which fit in it.
    pub(super) fn of_items(size: usize, head: Head, items: &[Item]) -> Self {
        let mut bytes = Self::empty(size, head, 0, items.len());
        let mut end = size;
        for (number, (key, item)) in items.iter().enumerate() {
            let at = HEADER + number * ITEM;
            end = end.saturating_sub(item.len());
            put(&mut bytes, at, &key_bytes(*key));
            put_u32(&mut bytes, at + 17, end.saturating_sub(HEADER));
            put_u32(&mut bytes, at + 21, item.len());
            put(&mut bytes, end, item);
        }
        Self::new(bytes)
    }

    /// A block above the leaves.
    pub(super) fn of_pointers(size: usize, head: Head, level: u8, pointers: &[Pointer]) -> Self {
        let mut bytes = Self::empty(size, head, level, pointers.len());
        for (number, (key, child, generation)) in pointers.iter().enumerate() {
            let at = HEADER + number * POINTER;
            put(&mut bytes, at, &key_bytes(*key));
            put_u64(&mut bytes, at + 17, *child);
            put_u64(&mut bytes, at + 25, *generation);
        }
        Self::new(bytes)
    }
}
