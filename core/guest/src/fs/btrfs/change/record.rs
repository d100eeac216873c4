//! What the tree of extents says of an extent: how many refer to it, and who (Linux, `btrfs_extent_item`, `btrfs_extent_inline_ref`).

use super::super::bytes::{put, put_u32, put_u64, u8_at, u32_at, u64_at};

/// What an extent is (`BTRFS_EXTENT_FLAG_*`, `BTRFS_BLOCK_FLAG_FULL_BACKREF`).
pub(super) const DATA: u64 = 1;
pub(super) const BLOCK: u64 = 2;
pub(super) const FULL: u64 = 0x100;

/// Kinds of references.
pub(super) const TREE_REF: u8 = 176;
pub(super) const DATA_REF: u8 = 178;
pub(super) const SHARED_TREE_REF: u8 = 182;
pub(super) const SHARED_DATA_REF: u8 = 184;

/// Bytes in front of the references, and of the first key and the level of a block behind that.
const HEAD: usize = 24;
const INFO: usize = 18;

/// One that refers to an extent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Ref {
    /// A tree, to a block of it.
    Tree(u64),
    /// A file of a tree, from where in it the extent would begin.
    Data { root: u64, inode: u64, offset: u64 },
    /// A block of a tree that several have, to a block below it.
    SharedTree(u64),
    /// The same, to bytes of a file.
    SharedData(u64),
}

impl Ref {
    /// How a block of this level, at `at`, refers to what is below it.
    pub(super) fn below(level: u8, at: u64) -> Self {
        if level == 0 { Self::SharedData(at) } else { Self::SharedTree(at) }
    }

    /// How a tree refers to what is below a block of this level.
    pub(super) fn of_tree(level: u8, tree: u64) -> Self {
        if level == 0 { Self::Data { root: tree, inode: 0, offset: 0 } } else { Self::Tree(tree) }
    }
}

/// An extent with the references that are noted with it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Record {
    pub(super) refs: u64,
    pub(super) generation: u64,
    pub(super) flags: u64,
    /// First key and level of a block, where its own key does not have the level.
    pub(super) info: Vec<u8>,
    /// Who refers to it, and how often.
    pub(super) inline: Vec<(Ref, u32)>,
}

impl Ref {
    pub(super) fn kind(self) -> u8 {
        match self {
            Self::Tree(_) => TREE_REF,
            Self::Data { .. } => DATA_REF,
            Self::SharedTree(_) => SHARED_TREE_REF,
            Self::SharedData(_) => SHARED_DATA_REF,
        }
    }

    /// What it is found by among those of its kind (`hash_extent_data_ref` for files).
    pub(super) fn sequence(self) -> u64 {
        match self {
            Self::Tree(number) | Self::SharedTree(number) | Self::SharedData(number) => number,
            Self::Data { root, inode, offset } => {
                let high = !crc32c::crc32c(&root.to_le_bytes());
                let low = !crc32c::crc32c(&[inode.to_le_bytes(), offset.to_le_bytes()].concat());
                u64::from(high) << 31 ^ u64::from(low)
            }
        }
    }

    /// Bytes of an item of its own.
    pub(super) fn own_item(self, count: u32) -> Vec<u8> {
        match self {
            Self::Tree(_) | Self::SharedTree(_) => Vec::new(),
            Self::SharedData(_) => count.to_le_bytes().to_vec(),
            Self::Data { root, inode, offset } => {
                let numbers = [root.to_le_bytes(), inode.to_le_bytes(), offset.to_le_bytes()].concat();
                [&numbers[..], &count.to_le_bytes()].concat()
            }
        }
    }

    /// The reference in an item of its own, and how often it refers.
    pub(super) fn of_own_item(kind: u8, offset: u64, item: &[u8]) -> Option<(Self, u32)> {
        match kind {
            TREE_REF => Some((Self::Tree(offset), 1)),
            SHARED_TREE_REF => Some((Self::SharedTree(offset), 1)),
            SHARED_DATA_REF if item.len() >= 4 => Some((Self::SharedData(offset), u32_at(item, 0))),
            DATA_REF if item.len() >= 28 => Some((Self::data_at(item, 0), u32_at(item, 24))),
            _ => None,
        }
    }

    fn data_at(bytes: &[u8], at: usize) -> Self {
        Self::Data { root: u64_at(bytes, at), inode: u64_at(bytes, at + 8), offset: u64_at(bytes, at + 16) }
    }

    /// Bytes among others in an extent's own item.
    fn inline_len(self) -> usize {
        match self {
            Self::Tree(_) | Self::SharedTree(_) => 9,
            Self::Data { .. } => 29,
            Self::SharedData(_) => 13,
        }
    }
}

impl Record {
    /// The record in `item`; `has_level` where its key has the level of a block. `None` for what is not known here.
    pub(super) fn parse(item: &[u8], has_level: bool) -> Option<Self> {
        let flags = u64_at(item, 16);
        let info = if flags & BLOCK != 0 && !has_level { INFO } else { 0 };
        let mut at = HEAD + info;
        let mut inline = Vec::new();
        while at < item.len() {
            let (one, count) = match u8_at(item, at) {
                TREE_REF => (Ref::Tree(u64_at(item, at + 1)), 1),
                SHARED_TREE_REF => (Ref::SharedTree(u64_at(item, at + 1)), 1),
                SHARED_DATA_REF => (Ref::SharedData(u64_at(item, at + 1)), u32_at(item, at + 9)),
                DATA_REF => (Ref::data_at(item, at + 1), u32_at(item, at + 25)),
                _ => return None,
            };
            at += one.inline_len();
            inline.push((one, count));
        }
        let info = item.get(HEAD..HEAD + info)?.to_vec();
        (at == item.len()).then(|| Self { refs: u64_at(item, 0), generation: u64_at(item, 8), flags, info, inline })
    }

    /// Its bytes: kinds ascend, and those of a kind descend.
    pub(super) fn encode(&self) -> Vec<u8> {
        let mut inline = self.inline.clone();
        inline.sort_by_key(|(one, _)| (one.kind(), std::cmp::Reverse(one.sequence())));
        let mut bytes = vec![0; HEAD];
        put_u64(&mut bytes, 0, self.refs);
        put_u64(&mut bytes, 8, self.generation);
        put_u64(&mut bytes, 16, self.flags);
        bytes.extend(&self.info);
        for (one, count) in inline {
            let at = bytes.len();
            bytes.resize(at + one.inline_len(), 0);
            put(&mut bytes, at, &[one.kind()]);
            let count = count as usize;
            match one {
                Ref::Tree(number) | Ref::SharedTree(number) => put_u64(&mut bytes, at + 1, number),
                Ref::SharedData(number) => {
                    put_u64(&mut bytes, at + 1, number);
                    put_u32(&mut bytes, at + 9, count);
                }
                Ref::Data { root, inode, offset } => {
                    put_u64(&mut bytes, at + 1, root);
                    put_u64(&mut bytes, at + 9, inode);
                    put_u64(&mut bytes, at + 17, offset);
                    put_u32(&mut bytes, at + 25, count);
                }
            }
        }
        bytes
    }

    /// Whether one more reference has room among the others of an extent; the rest have items of their own.
    pub(super) fn takes(&self, one: Ref, most: usize) -> bool {
        self.encode().len() + one.inline_len() <= most
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn one() -> impl Strategy<Value = (Ref, u32)> {
        let number = 1..u64::MAX;
        prop_oneof![
            number.clone().prop_map(|root| (Ref::Tree(root), 1)),
            number.clone().prop_map(|parent| (Ref::SharedTree(parent), 1)),
            (number.clone(), 1..9_u32).prop_map(|(parent, count)| (Ref::SharedData(parent), count)),
            (number.clone(), number, any::<u64>(), 1..9_u32)
                .prop_map(|(root, inode, offset, count)| (Ref::Data { root, inode, offset }, count)),
        ]
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// What is written is read again, in the order that the kernel's own checks ask for; cut anywhere, it is nothing or fewer of them.
        #[test]
        fn records_are_read_as_they_were_written(
            inline in prop::collection::vec(one(), 0..12),
            is_block in any::<bool>(),
            has_level in any::<bool>(),
            cut in 0..400_usize,
        ) {
            let flags = if is_block { BLOCK } else { DATA };
            let info = if is_block && !has_level { vec![7; INFO] } else { Vec::new() };
            let record = Record { refs: 3, generation: 9, flags, info, inline: inline.clone() };
            let bytes = record.encode();
            let read = Record::parse(&bytes, has_level).unwrap();
            let keys: Vec<_> = read.inline.iter().map(|(one, _)| (one.kind(), std::cmp::Reverse(one.sequence()))).collect();
            prop_assert!(keys.is_sorted());
            prop_assert_eq!(read.encode(), bytes.clone());
            let sorted = |mut all: Vec<(Ref, u32)>| { all.sort(); all };
            prop_assert_eq!(sorted(read.inline), sorted(inline.clone()));
            let short = Record::parse(&bytes[..cut.min(bytes.len())], has_level);
            prop_assert!(short.is_none_or(|short| short.inline.len() <= inline.len()));
        }

        /// A reference that stands by itself is the same one.
        #[test]
        fn references_stand_by_themselves((one, count) in one()) {
            let read = Ref::of_own_item(one.kind(), one.sequence(), &one.own_item(count)).unwrap();
            prop_assert_eq!(read, (one, count));
        }
    }

    /// Numbers that the kernel gave references.
    #[test]
    fn numbers_of_references_are_the_kernels() {
        for (inode, number) in [(320, 1_007_496_931_369_892_584), (314, 1_007_496_931_468_551_167)] {
            assert_eq!(Ref::Data { root: 5, inode, offset: 0 }.sequence(), number);
        }
    }
}
