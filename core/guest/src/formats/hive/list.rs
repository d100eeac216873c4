//! Lists of subkeys, which are sorted by the capitals of their names: `lf`, `lh`, `li`, and `ri` of several of them.

use std::cmp::Ordering;

use super::{Hive, NONE, Node, names};
use crate::error::Result;

/// Entries of a list that is not split.
const MOST: usize = 500;

/// A list, or one of several.
struct Leaf {
    at: u32,
    /// Bytes of an entry: 8 with a hint at the name, 4 without.
    width: usize,
    signature: [u8; 2],
    keys: Vec<u32>,
    /// What hints at each name.
    hints: Vec<u32>,
}

impl Hive {
    fn leaf(&self, at: u32) -> Result<Leaf> {
        let cell = self.cell(at, 4)?;
        let signature = [cell.first().copied().unwrap_or_default(), cell.get(1).copied().unwrap_or_default()];
        let width = match &signature {
            b"lf" | b"lh" => 8,
            b"li" => 4,
            _ => return Err(self.damaged(format!("something leads to {at:#x}, which is no list of keys"))),
        };
        let count = Self::word(&cell, 2);
        if cell.len() < 4 + width * count {
            return Err(self.damaged(format!("the list of keys at {at:#x} is cut short")));
        }
        let entry = |index: usize| 4 + width * index;
        let keys = (0..count).map(|index| Self::long(&cell, entry(index))).collect();
        let hints = (0..count).filter(|_| width == 8).map(|index| Self::long(&cell, entry(index) + 4)).collect();
        Ok(Leaf { at, width, signature, keys, hints })
    }

    /// The lists of a key's subkeys, and the one of them all where there are several.
    fn leaves(&self, node: &Node) -> Result<(Option<u32>, Vec<Leaf>)> {
        if node.subkeys == 0 || node.list == NONE {
            return Ok((None, Vec::new()));
        }
        let cell = self.cell(node.list, 4)?;
        if !cell.starts_with(b"ri") {
            return Ok((None, vec![self.leaf(node.list)?]));
        }
        let count = Self::word(&cell, 2);
        if cell.len() < 4 + 4 * count {
            return Err(self.damaged(format!("the list of lists at {:#x} is cut short", node.list)));
        }
        let mut hold = self.budget.hold();
        let mut leaves = Vec::new();
        for index in 0..count {
            let leaf = self.leaf(Self::long(&cell, 4 + 4 * index))?;
            hold.grow(8 * leaf.keys.len() as u64 + 64)?;
            leaves.push(leaf);
        }
        Ok((Some(node.list), leaves))
    }

    /// Where the keys below a key lie, in their order.
    pub(super) fn listed(&self, node: &Node) -> Result<Vec<u32>> {
        Ok(self.leaves(node)?.1.into_iter().flat_map(|leaf| leaf.keys).collect())
    }

    /// The key called `name` below a key.
    pub(super) fn subkey(&self, node: &Node, name: &[u16]) -> Result<Option<u32>> {
        let (key, hash) = (names::key(name), names::hash(name));
        for leaf in self.leaves(node)?.1 {
            for (index, at) in leaf.keys.iter().enumerate() {
                // Names with another hash are others.
                if &leaf.signature == b"lh" && leaf.hints.get(index) != Some(&hash) {
                    continue;
                }
                if names::key(&self.node(*at)?.name) == key {
                    return Ok(Some(*at));
                }
            }
        }
        Ok(None)
    }

    /// What hints at a name in a list of this signature.
    fn hint(signature: [u8; 2], name: &[u16]) -> u32 {
        if &signature == b"lh" {
            return names::hash(name);
        }
        let letter = |at: usize| name.get(at).and_then(|unit| u8::try_from(*unit).ok()).unwrap_or_default();
        u32::from_le_bytes([letter(0), letter(1), letter(2), letter(3)])
    }

    fn write_leaf(&mut self, leaf: &Leaf) -> Result<u32> {
        let count =
            u16::try_from(leaf.keys.len()).map_err(|_| self.unchangeable("a key would have too many below it"))?;
        let mut bytes = [&leaf.signature[..], &count.to_le_bytes()].concat();
        for (index, key) in leaf.keys.iter().enumerate() {
            bytes.extend(key.to_le_bytes());
            bytes.extend(leaf.hints.get(index).filter(|_| leaf.width == 8).iter().flat_map(|hint| hint.to_le_bytes()));
        }
        self.exchange(leaf.at, &bytes)
    }

    /// The place of `name` among keys that are sorted: that of the first which is not before it.
    fn place(&self, keys: &[u32], name: &[u16]) -> Result<usize> {
        let name = names::key(name);
        let (mut low, mut high) = (0, keys.len());
        while low < high {
            let middle = low.midpoint(high);
            let Some(at) = keys.get(middle) else { break };
            match names::key(&self.node(*at)?.name).cmp(&name) {
                Ordering::Less => low = middle + 1,
                _ => high = middle,
            }
        }
        Ok(low)
    }

    /// Puts the key at `at`, called `name`, into the list of a key; where that list is then.
    pub(super) fn insert_key(&mut self, node: &Node, at: u32, name: &[u16]) -> Result<u32> {
        let (many, mut leaves) = self.leaves(node)?;
        if leaves.is_empty() {
            let signature = if self.minor >= 5 { *b"lh" } else { *b"lf" };
            let hints = vec![Self::hint(signature, name)];
            return self.write_leaf(&Leaf { at: NONE, width: 8, signature, keys: vec![at], hints });
        }
        // The first list whose last key is not before it, or else the last one.
        let mut chosen = leaves.len() - 1;
        for (index, leaf) in leaves.iter().enumerate() {
            if self.place(&leaf.keys, name)? < leaf.keys.len() {
                chosen = index;
                break;
            }
        }
        let Some(leaf) = leaves.get_mut(chosen) else { return Ok(node.list) };
        let place = self.place(&leaf.keys, name)?;
        leaf.keys.insert(place, at);
        if leaf.width == 8 {
            leaf.hints.insert(place, Self::hint(leaf.signature, name));
        }
        let upper = (leaf.keys.len() > MOST).then(|| {
            let half = leaf.keys.len() / 2;
            let hints = if leaf.width == 8 { leaf.hints.split_off(half) } else { Vec::new() };
            Leaf { at: NONE, width: leaf.width, signature: leaf.signature, keys: leaf.keys.split_off(half), hints }
        });
        leaf.at = self.write_leaf(leaf)?;
        let mut lists: Vec<u32> = leaves.iter().map(|leaf| leaf.at).collect();
        if let Some(upper) = upper {
            lists.insert(chosen + 1, self.write_leaf(&upper)?);
        }
        self.write_lists(many, &lists)
    }

    /// Writes the list of several lists, or none for one; where what a key leads to is then.
    fn write_lists(&mut self, many: Option<u32>, lists: &[u32]) -> Result<u32> {
        match (many, lists) {
            (None, [only]) => Ok(*only),
            (many, lists) => {
                let count =
                    u16::try_from(lists.len()).map_err(|_| self.unchangeable("a key would have too many below it"))?;
                let mut bytes = [&b"ri"[..], &count.to_le_bytes()].concat();
                lists.iter().for_each(|list| bytes.extend(list.to_le_bytes()));
                self.exchange(many.unwrap_or(NONE), &bytes)
            }
        }
    }

    /// Takes the key at `at` out of the list of a key; where that list is then.
    pub(super) fn remove_key(&mut self, node: &Node, at: u32) -> Result<u32> {
        let (many, mut leaves) = self.leaves(node)?;
        let holds = |leaf: &Leaf| leaf.keys.iter().position(|key| *key == at);
        let found = leaves.iter().enumerate().find_map(|(index, leaf)| Some((index, holds(leaf)?)));
        let Some((chosen, place)) = found else {
            return Err(self.damaged("a key is not in the list of the one above it"));
        };
        let Some(leaf) = leaves.get_mut(chosen) else { return Ok(node.list) };
        leaf.keys.remove(place);
        if leaf.width == 8 {
            leaf.hints.remove(place);
        }
        if leaf.keys.is_empty() {
            let empty = leaves.remove(chosen).at;
            self.give_back(empty)?;
        } else {
            // Shorter, so it stays where it is.
            self.write_leaf(leaf)?;
        }
        let lists: Vec<u32> = leaves.iter().map(|leaf| leaf.at).collect();
        if lists.is_empty() {
            if let Some(many) = many {
                self.give_back(many)?;
            }
            return Ok(NONE);
        }
        self.write_lists(many, &lists)
    }
}
