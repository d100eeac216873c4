//! Changing the trees of an allocation group: records come and go, and blocks are split, filled up from their neighbours, and
//! joined with them, so that each but the root stays at least half full.

use super::{
    Xfs,
    fields::put32,
    group::{Group, Head, NULL, agf, agi},
    owner,
    tree::{Item, Node, Order, Record, Tree, Way},
};
use crate::error::Result;

fn item(record: &Record) -> Item {
    let mut item = Item { bytes: [0; 40], below: 0 };
    super::fields::put(&mut item.bytes, 0, record);
    item
}

impl Xfs {
    /// Adds a record.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`] when there is one of its order; [`crate::Error::NoRoom`].
    pub(super) fn insert(&mut self, group: &mut Group, tree: Tree, record: &Record) -> Result<()> {
        let order = tree.order(record, false);
        let mut way = self.way(group, tree, &order)?;
        if let Some((leaf, index)) = way.last_mut() {
            if leaf.record(*index).is_some_and(|there| tree.order(&there, false) == order) {
                return Err(self.device.damaged(format!("a tree of group {} has a record twice", group.number)));
            }
            leaf.items.insert(*index, item(record));
        }
        self.settle(group, tree, way)
    }

    /// Takes the record of `order` away.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`] when there is none.
    pub(super) fn delete(&mut self, group: &mut Group, tree: Tree, order: &Order) -> Result<()> {
        let way = self.way_to(group, tree, order)?;
        self.change(group, tree, way, |leaf, index| {
            leaf.items.remove(index);
        })
    }

    /// Puts another record in the place of the one of `order`; it belongs there as well.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`] when there is none.
    pub(super) fn update(&mut self, group: &mut Group, tree: Tree, order: &Order, record: &Record) -> Result<()> {
        let way = self.way_to(group, tree, order)?;
        self.change(group, tree, way, |leaf, index| {
            if let Some(place) = leaf.items.get_mut(index) {
                *place = item(record);
            }
        })
    }

    fn change(
        &mut self,
        group: &mut Group,
        tree: Tree,
        mut way: Way,
        work: impl FnOnce(&mut Node, usize),
    ) -> Result<()> {
        if let Some((leaf, index)) = way.last_mut() {
            work(leaf, *index);
        }
        self.settle(group, tree, way)
    }

    fn way_to(&self, group: &Group, tree: Tree, order: &Order) -> Result<Way> {
        let way = self.way(group, tree, order)?;
        let found = way.last().and_then(|(leaf, index)| leaf.record(*index));
        if found.is_some_and(|record| tree.order(&record, false) == *order) {
            return Ok(way);
        }
        Err(self.device.damaged(format!("a record is missing in a tree of group {}", group.number)))
    }

    /// Writes what changed along a way, from the leaf up: blocks with too many items are split, those with too few joined or
    /// filled up, and what stands above them follows.
    fn settle(&mut self, group: &mut Group, tree: Tree, mut way: Way) -> Result<()> {
        while let Some((node, _)) = way.pop() {
            let Some((above, at)) = way.last_mut() else { return self.settle_root(group, tree, node) };
            let most = self.most_items(tree, node.level);
            if node.items.len() > most {
                let (left, right) = self.split(group, tree, node)?;
                replace(above, *at, 1, &[left.item(tree), right.item(tree)]);
            } else if node.items.len() < most / 2 && above.items.len() > 1 {
                // With the one before it, or the one behind it where there is none.
                let other = if *at > 0 { *at - 1 } else { *at + 1 };
                let below = above.items.get(other).map_or(NULL, |item| item.below);
                let neighbour = self.read_node(group.number, tree, below, node.level)?;
                let pair = if other < *at { (neighbour, node) } else { (node, neighbour) };
                if pair.0.right != pair.1.block || pair.1.left != pair.0.block {
                    return Err(self.device.damaged("neighbours in a tree do not know each other"));
                }
                let kept = self.join(group, tree, pair)?;
                let items: Vec<Item> = kept.iter().map(|node| node.item(tree)).collect();
                replace(above, other.min(*at), 2, &items);
            } else {
                self.write_node(group.number, tree, &node)?;
                replace(above, *at, 1, &[node.item(tree)]);
            }
        }
        Ok(())
    }

    fn settle_root(&mut self, group: &mut Group, tree: Tree, node: Node) -> Result<()> {
        let (head, root, levels) = tree.root_place();
        if node.items.len() > self.most_items(tree, node.level) {
            let level = node.level + 1;
            let (left, right) = self.split(group, tree, node)?;
            let block = self.take_tree_block(group, tree)?;
            let items = vec![left.item(tree), right.item(tree)];
            self.write_node(group.number, tree, &Node { block, level, left: NULL, right: NULL, items })?;
            put32(group.head_mut(head), root, block);
            put32(group.head_mut(head), levels, level + 1);
            return Ok(());
        }
        match node.items.first() {
            Some(only) if node.level > 0 && node.items.len() == 1 => {
                put32(group.head_mut(head), root, only.below);
                put32(group.head_mut(head), levels, node.level);
                self.give_tree_block(group, tree, node.block)
            }
            _ => self.write_node(group.number, tree, &node),
        }
    }

    /// Cuts a block in two halves; both are written.
    fn split(&mut self, group: &mut Group, tree: Tree, mut node: Node) -> Result<(Node, Node)> {
        let items = node.items.split_off(node.items.len() / 2);
        let block = self.take_tree_block(group, tree)?;
        let right = Node { block, level: node.level, left: node.block, right: node.right, items };
        self.lead_back(group, tree, node.right, node.level, block)?;
        node.right = block;
        self.write_node(group.number, tree, &node)?;
        self.write_node(group.number, tree, &right)?;
        Ok((node, right))
    }

    /// Makes one block of two neighbours, or fills them evenly; what is left of them is written.
    fn join(&mut self, group: &mut Group, tree: Tree, (mut left, mut right): (Node, Node)) -> Result<Vec<Node>> {
        left.items.append(&mut right.items);
        if left.items.len() <= self.most_items(tree, left.level) {
            left.right = right.right;
            self.lead_back(group, tree, right.right, left.level, left.block)?;
            self.write_node(group.number, tree, &left)?;
            self.give_tree_block(group, tree, right.block)?;
            return Ok(vec![left]);
        }
        right.items = left.items.split_off(left.items.len() / 2);
        self.write_node(group.number, tree, &left)?;
        self.write_node(group.number, tree, &right)?;
        Ok(vec![left, right])
    }

    /// Tells the block behind a place who is before it now.
    fn lead_back(&self, group: &Group, tree: Tree, block: u32, level: u32, left: u32) -> Result<()> {
        if block == NULL {
            return Ok(());
        }
        let mut node = self.read_node(group.number, tree, block, level)?;
        node.left = left;
        self.write_node(group.number, tree, &node)
    }

    fn take_tree_block(&mut self, group: &mut Group, tree: Tree) -> Result<u32> {
        let block = match tree {
            Tree::ByBlock | Tree::BySize | Tree::Reverse => self.take_spare(group)?,
            Tree::Inodes | Tree::FreeInodes => self.take_owned(group, 1, 1, owner::INODE_TREES)?,
            Tree::Shared => self.take_owned(group, 1, 1, owner::SHARED_TREE)?,
        };
        self.count_tree_block(group, tree, 1);
        Ok(block)
    }

    fn give_tree_block(&mut self, group: &mut Group, tree: Tree, block: u32) -> Result<()> {
        self.count_tree_block(group, tree, -1);
        match tree {
            Tree::ByBlock | Tree::BySize | Tree::Reverse => self.give_spare(group, block),
            Tree::Inodes | Tree::FreeInodes => self.give_owned(group, block, 1, owner::INODE_TREES),
            Tree::Shared => self.give_owned(group, block, 1, owner::SHARED_TREE),
        }
    }

    fn count_tree_block(&self, group: &mut Group, tree: Tree, by: i64) {
        match tree {
            Tree::ByBlock | Tree::BySize => group.count(Head::Space, agf::TREE_BLOCKS, by),
            Tree::Reverse => {
                group.count(Head::Space, agf::TREE_BLOCKS, by);
                group.count(Head::Space, agf::REVERSE_BLOCKS, by);
            }
            Tree::Shared => group.count(Head::Space, agf::SHARED_BLOCKS, by),
            Tree::Inodes if self.counts_inode_trees() => group.count(Head::Inodes, agi::TREE_BLOCKS, by),
            Tree::FreeInodes if self.counts_inode_trees() => group.count(Head::Inodes, agi::FREE_TREE_BLOCKS, by),
            Tree::Inodes | Tree::FreeInodes => {}
        }
    }
}

/// Puts `items` where `len` of a block's items were.
fn replace(node: &mut Node, at: usize, len: usize, items: &[Item]) {
    let end = (at + len).min(node.items.len());
    node.items.splice(at.min(end)..end, items.iter().copied());
}
