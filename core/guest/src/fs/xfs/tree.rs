//! The trees of an allocation group (section "AG B+trees"): what they are made of, and how they are asked.

use std::ops::ControlFlow;

use super::{
    Xfs,
    fields::{be16, be32, put, put16, put32, slice},
    group::{Group, Head, NULL},
    owner, seal,
};
use crate::error::Result;

/// Deeper than any tree of 2^32 records.
const MAX_LEVELS: u32 = 16;

/// One of the trees.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Tree {
    /// Free space by its place: first block, number of blocks.
    ByBlock,
    /// Free space by its size, with the same records.
    BySize,
    /// Chunks of 64 inodes: first inode, holes, counts, which ones are free.
    Inodes,
    /// Those of them with a free inode.
    FreeInodes,
    /// Whose each block is: first block, number of blocks, owner, place at the owner's.
    Reverse,
    /// Blocks that several files share: first block, number of blocks, how many.
    Shared,
}

/// A record; trees with shorter ones leave the rest zero.
pub(super) type Record = [u8; 24];
/// What a tree is sorted by, as bytes that compare like it.
pub(super) type Order = [u8; 20];

impl Tree {
    fn magic(self, v5: bool) -> &'static [u8; 4] {
        match (self, v5) {
            (Self::ByBlock, false) => b"ABTB",
            (Self::ByBlock, true) => b"AB3B",
            (Self::BySize, false) => b"ABTC",
            (Self::BySize, true) => b"AB3C",
            (Self::Inodes, false) => b"IABT",
            (Self::Inodes, true) => b"IAB3",
            (Self::FreeInodes, false) => b"FIBT",
            (Self::FreeInodes, true) => b"FIB3",
            (Self::Reverse, _) => b"RMB3",
            (Self::Shared, _) => b"R3FC",
        }
    }

    /// Bytes of a record.
    pub(super) fn record(self) -> usize {
        match self {
            Self::ByBlock | Self::BySize => 8,
            Self::Inodes | Self::FreeInodes => 16,
            Self::Reverse => 24,
            Self::Shared => 12,
        }
    }

    /// Bytes of what a node says of each block below it: its lowest key, and the highest one where records overlap.
    pub(super) fn keys(self) -> usize {
        match self {
            Self::ByBlock | Self::BySize => 8,
            Self::Inodes | Self::FreeInodes | Self::Shared => 4,
            Self::Reverse => 40,
        }
    }

    /// Where its root, and the number of its levels, stand.
    pub(super) fn root_place(self) -> (Head, usize, usize) {
        match self {
            Self::ByBlock => (Head::Space, 16, 28),
            Self::BySize => (Head::Space, 20, 32),
            Self::Reverse => (Head::Space, 24, 36),
            Self::Shared => (Head::Space, 88, 92),
            Self::Inodes => (Head::Inodes, 20, 24),
            Self::FreeInodes => (Head::Inodes, 328, 332),
        }
    }

    pub(super) fn levels(self, group: &Group) -> u32 {
        let (head, _, at) = self.root_place();
        be32(group.head(head), at)
    }

    /// What a record, or a key, is sorted by.
    pub(super) fn order(self, bytes: &[u8], is_key: bool) -> Order {
        let mut order = [0; 20];
        match self {
            Self::ByBlock | Self::Inodes | Self::FreeInodes | Self::Shared => put(&mut order, 0, slice(bytes, 0, 4)),
            Self::BySize => {
                put(&mut order, 0, slice(bytes, 4, 4));
                put(&mut order, 4, slice(bytes, 0, 4));
            }
            Self::Reverse if is_key => put(&mut order, 0, slice(bytes, 0, 20)),
            Self::Reverse => order = owner::first_key(bytes),
        }
        order
    }

    /// The keys that stand above a record.
    fn keys_of(self, record: &[u8]) -> [u8; 40] {
        let mut keys = [0; 40];
        match self {
            Self::ByBlock | Self::BySize => put(&mut keys, 0, slice(record, 0, 8)),
            Self::Inodes | Self::FreeInodes | Self::Shared => put(&mut keys, 0, slice(record, 0, 4)),
            Self::Reverse => {
                let low = self.order(record, false);
                put(&mut keys, 0, &low);
                put(&mut keys, 20, &owner::last_key(record));
            }
        }
        keys
    }
}

/// A record of a leaf, or what a node says of a block below it.
#[derive(Debug, Clone, Copy)]
pub(super) struct Item {
    /// A record, or keys.
    pub(super) bytes: [u8; 40],
    /// The block below; 0 in leaves.
    pub(super) below: u32,
}

/// A block of a tree.
#[derive(Debug, Clone)]
pub(super) struct Node {
    pub(super) block: u32,
    /// 0 for leaves.
    pub(super) level: u32,
    pub(super) left: u32,
    pub(super) right: u32,
    pub(super) items: Vec<Item>,
}

impl Node {
    /// What stands above it for it.
    pub(super) fn item(&self, tree: Tree) -> Item {
        let mut all =
            self.items.iter().map(|item| if self.level == 0 { tree.keys_of(&item.bytes) } else { item.bytes });
        let mut bytes = all.next().unwrap_or([0; 40]);
        if tree == Tree::Reverse {
            for other in all {
                if slice(&other, 20, 20) > slice(&bytes, 20, 20) {
                    put(&mut bytes, 20, slice(&other, 20, 20));
                }
            }
        }
        Item { bytes, below: self.block }
    }

    pub(super) fn record(&self, index: usize) -> Option<Record> {
        self.items.get(index)?.bytes.first_chunk().copied()
    }
}

/// A way from the root down: each block, and which of its items was taken.
pub(super) type Way = Vec<(Node, usize)>;

impl Xfs {
    fn tree_head(&self) -> usize {
        if self.sb.is_v5() { 56 } else { 16 }
    }

    /// The most items of a block at a level.
    pub(super) fn most_items(&self, tree: Tree, level: u32) -> usize {
        let size = if level == 0 { tree.record() } else { tree.keys() + 4 };
        (self.sb.sb_blocksize.get() as usize - self.tree_head()) / size
    }

    pub(super) fn read_node(&self, group: u32, tree: Tree, block: u32, level: u32) -> Result<Node> {
        self.check_group_block(group, block, 1)?;
        let at = self.sb.group_byte(group, block);
        let mut bytes = vec![0; self.sb.sb_blocksize.get() as usize];
        self.device.read(at, &mut bytes)?;
        let wrong = |what: &str| self.device.damaged(format!("block {block} of group {group} {what}"));
        if !bytes.starts_with(tree.magic(self.sb.is_v5())) {
            return Err(wrong("belongs to a tree, and does not begin with its mark"));
        }
        self.check_seal(&bytes, seal::GROUP_TREE, at, group.into(), "a block of a tree")?;
        let count = usize::from(be16(&bytes, 6));
        let most = self.most_items(tree, level);
        if u32::from(be16(&bytes, 4)) != level || count > most || (level > 0 && count == 0) {
            return Err(wrong("has a wrong level or number of records"));
        }
        let (head, size) = (self.tree_head(), if level == 0 { tree.record() } else { tree.keys() });
        let pointers = head + most * tree.keys();
        let items = (0..count).map(|index| {
            let mut item = Item { bytes: [0; 40], below: 0 };
            put(&mut item.bytes, 0, slice(&bytes, head + index * size, size));
            if level > 0 {
                item.below = be32(&bytes, pointers + index * 4);
            }
            item
        });
        Ok(Node { block, level, left: be32(&bytes, 8), right: be32(&bytes, 12), items: items.collect() })
    }

    pub(super) fn write_node(&self, group: u32, tree: Tree, node: &Node) -> Result<()> {
        let mut bytes = vec![0; self.sb.sb_blocksize.get() as usize];
        put(&mut bytes, 0, tree.magic(self.sb.is_v5()));
        put16(&mut bytes, 4, super::fields::low16(node.level as usize));
        put16(&mut bytes, 6, super::fields::low16(node.items.len()));
        put32(&mut bytes, 8, node.left);
        put32(&mut bytes, 12, node.right);
        let (head, size) = (self.tree_head(), if node.level == 0 { tree.record() } else { tree.keys() });
        let pointers = head + self.most_items(tree, node.level) * tree.keys();
        for (index, item) in node.items.iter().enumerate() {
            put(&mut bytes, head + index * size, slice(&item.bytes, 0, size));
            if node.level > 0 {
                put32(&mut bytes, pointers + index * 4, item.below);
            }
        }
        self.write_sealed(&mut bytes, seal::GROUP_TREE, self.sb.group_byte(group, node.block), group.into())
    }

    /// The root of a tree and the number of its levels.
    pub(super) fn root_of(&self, group: &Group, tree: Tree) -> Result<(u32, u32)> {
        let (head, root, levels) = tree.root_place();
        let bytes = group.head(head);
        let (root, levels) = (be32(bytes, root), be32(bytes, levels));
        if levels == 0 || levels > MAX_LEVELS {
            return Err(self.device.damaged(format!("a tree of group {} has {levels} levels", group.number)));
        }
        Ok((root, levels))
    }

    /// The way to the first record that is not before `order`; its place may be behind the last one of its leaf.
    pub(super) fn way(&self, group: &Group, tree: Tree, order: &Order) -> Result<Way> {
        let (mut block, levels) = self.root_of(group, tree)?;
        let mut way = Way::new();
        for level in (0..levels).rev() {
            let node = self.read_node(group.number, tree, block, level)?;
            let index = if level == 0 {
                node.items.partition_point(|item| tree.order(&item.bytes, false) < *order)
            } else {
                node.items.partition_point(|item| tree.order(&item.bytes, true) <= *order).saturating_sub(1)
            };
            block = node.items.get(index).map_or(NULL, |item| item.below);
            way.push((node, index));
        }
        Ok(way)
    }

    /// The leaf that `order` belongs to, and where in it.
    fn leaf(&self, group: &Group, tree: Tree, order: &Order) -> Result<(Node, usize)> {
        let way = self.way(group, tree, order)?.pop();
        way.ok_or_else(|| self.device.damaged("a tree has no leaf"))
    }

    /// The first record that is not before `order`.
    pub(super) fn record_from(&self, group: &Group, tree: Tree, order: &Order) -> Result<Option<Record>> {
        let (leaf, index) = self.leaf(group, tree, order)?;
        if let Some(record) = leaf.record(index) {
            return Ok(Some(record));
        }
        if leaf.right == NULL {
            return Ok(None);
        }
        Ok(self.read_node(group.number, tree, leaf.right, 0)?.record(0))
    }

    /// The last record that is not behind `order`.
    pub(super) fn record_to(&self, group: &Group, tree: Tree, order: &Order) -> Result<Option<Record>> {
        let (leaf, index) = self.leaf(group, tree, order)?;
        if let Some(record) = leaf.record(index).filter(|record| tree.order(record, false) == *order) {
            return Ok(Some(record));
        }
        if index > 0 {
            return Ok(leaf.record(index - 1));
        }
        if leaf.left == NULL {
            return Ok(None);
        }
        let left = self.read_node(group.number, tree, leaf.left, 0)?;
        Ok(left.items.len().checked_sub(1).and_then(|last| left.record(last)))
    }

    /// Calls `visit` with each record from `order` on, until it breaks.
    pub(super) fn each_record(
        &self,
        group: &Group,
        tree: Tree,
        order: &Order,
        mut visit: impl FnMut(&Record) -> Result<ControlFlow<()>>,
    ) -> Result<()> {
        let (mut leaf, mut index) = self.leaf(group, tree, order)?;
        let mut last: Option<Order> = None;
        // Blocks that lead back would be met again: each has records behind those of the one before.
        loop {
            while let Some(record) = leaf.record(index) {
                let order = tree.order(&record, false);
                if last.is_some_and(|last| last >= order) {
                    break;
                }
                last = Some(order);
                if visit(&record)?.is_break() {
                    return Ok(());
                }
                index += 1;
            }
            if index < leaf.items.len() || index == 0 && last.is_some() {
                let text = format!("records of a tree of group {} do not follow one another", group.number);
                return Err(self.device.damaged(text));
            }
            if leaf.right == NULL {
                return Ok(());
            }
            (leaf, index) = (self.read_node(group.number, tree, leaf.right, 0)?, 0);
        }
    }
}
