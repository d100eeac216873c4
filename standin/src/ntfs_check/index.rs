//! Indexes: their trees, their order, and what folders say of files.

use std::collections::{BTreeSet, HashMap};

use super::structures::*;

/// What an entry is ordered by.
type Order<'o> = &'o dyn Fn(&Check<'_>, &[u8]) -> Outcome<Vec<u64>>;

impl Check<'_> {
    /// The entries of an index in their order.
    pub(super) fn index(&mut self, number: u64, name: &str, order: Order<'_>) -> Outcome<Vec<Vec<u8>>> {
        let name = key(name);
        let part =
            |this: &Self, kind| this.files.get(&number).and_then(|file| file.parts.get(&(kind, name.clone())).cloned());
        let root = part(self, 0x90).ok_or("no root of an index")?;
        let root = self.data(&root)?;
        let block = long(&root, 8)? as usize;
        let unit = if block >= self.cluster { self.cluster } else { 512 };
        let blocks = part(self, 0xa0).map(|one| self.data(&one)).transpose()?;
        let bits = part(self, 0xb0).map(|one| self.data(&one)).transpose()?.unwrap_or_default();
        let (mut seen, mut found, mut wrong) = (BTreeSet::new(), Vec::new(), Vec::new());
        struct Walk<'w> {
            blocks: &'w [u8],
            bits: &'w [u8],
            block: usize,
            unit: usize,
            seen: &'w mut BTreeSet<usize>,
            found: &'w mut Vec<Vec<u8>>,
            wrong: &'w mut Vec<String>,
        }
        fn node(walk: &mut Walk<'_>, d: &[u8], head: usize, depth: usize) -> Outcome<()> {
            let (mut at, end) = (head + long(d, head)? as usize, head + long(d, head + 4)? as usize);
            let (space, inner) =
                (head + long(d, head + 8)? as usize, d.get(head + 12).copied().unwrap_or_default() & 1);
            if end > space || space > d.len() {
                return Err("lengths of an index".into());
            }
            loop {
                let (len, flags) = (word(d, at + 8)? as usize, word(d, at + 12)?);
                if len < 16 || !len.is_multiple_of(8) || at + len > end {
                    return Err(format!("an entry of {len} bytes"));
                }
                if flags & 1 != u64::from(inner) {
                    walk.wrong.push("an entry leads down and its node does not, or the other way".into());
                }
                if flags & 1 == 1 {
                    let place = wide(d, at + len - 8)? as usize * walk.unit;
                    if depth > 20 || !walk.seen.insert(place / walk.block) {
                        return Err("an index that leads into itself".into());
                    }
                    let bit = place / walk.block;
                    if walk.bits.get(bit / 8).is_none_or(|byte| byte >> (bit % 8) & 1 == 0) {
                        walk.wrong.push(format!("block {bit} is in the tree and free in its bitmap"));
                    }
                    let d = unfix(slice(walk.blocks, place, walk.block)?, b"INDX", "a block")?;
                    if wide(&d, 16)? as usize * walk.unit != place {
                        walk.wrong.push(format!("block {bit} says it is another one"));
                    }
                    node(walk, &d, 24, depth + 1)?;
                }
                if flags & 2 == 2 {
                    if at + len != end {
                        walk.wrong.push("bytes behind the last entry".into());
                    }
                    return Ok(());
                }
                walk.found.push(slice(d, at, len)?.to_vec());
                at += len;
            }
        }
        let none = Vec::new();
        let mut walk = Walk {
            blocks: blocks.as_ref().unwrap_or(&none),
            bits: &bits,
            block,
            unit,
            seen: &mut seen,
            found: &mut found,
            wrong: &mut wrong,
        };
        let outcome = node(&mut walk, &root, 16, 0);
        wrong.extend(outcome.err());
        if (0..bits.len() * 8)
            .any(|bit| bits.get(bit / 8).is_some_and(|byte| byte >> (bit % 8) & 1 == 1) && !seen.contains(&bit))
        {
            wrong.push("a block is marked and not in the tree".into());
        }
        let keys: Vec<Vec<u64>> = found.iter().map(|entry| order(self, entry)).collect::<Outcome<_>>()?;
        if let Some(at) = keys.windows(2).position(|pair| pair[0] >= pair[1]) {
            wrong.push(format!("entries {at} and {} are out of order", at + 1));
        }
        let name = String::from_utf16_lossy(&name);
        self.wrong.extend(wrong.into_iter().map(|what| format!("record {number} {name}: {what}")));
        Ok(found)
    }

    pub(super) fn folders(&mut self) -> Outcome<()> {
        // Names as records have them, and as folders have them: folder, file, rules and name.
        let (mut of_records, mut of_folders) = (HashMap::new(), HashMap::new());
        let sequence = |this: &Self, number: u64| word(&this.records[&number], 16).unwrap_or_default();
        let mut wrong = Vec::new();
        for (number, whole) in &self.files {
            let record = &self.records[number];
            if word(record, 18)? as usize != whole.names.len() && *number >= 24 {
                wrong.push(format!("record {number}: {} links, {} names", word(record, 18)?, whole.names.len()));
            }
            for name in &whole.names {
                let key = (
                    wide(name, 0)? & REFERENCE,
                    number | sequence(self, *number) << 48,
                    name.get(65..).unwrap_or_default().to_vec(),
                );
                *of_records.entry(key).or_insert(0) += 1;
            }
            let is_folder = word(record, 22)? & 2 == 2;
            if is_folder != whole.parts.contains_key(&(0x90, key("$I30"))) {
                wrong.push(format!("record {number}: a folder without an index, or an index without a folder"));
            }
        }
        let folders: Vec<u64> =
            self.files.iter().filter(|(_, f)| f.parts.contains_key(&(0x90, key("$I30")))).map(|(n, _)| *n).collect();
        for folder in folders {
            let order = |this: &Check<'_>, entry: &[u8]| {
                let name = units(slice(entry, 82, 2 * usize::from(*entry.get(80).ok_or("a key that is too short")?))?);
                // Capitals first, then the units: with a mark between the two that is below any unit.
                let upper = this.upper(&name).into_iter().map(|unit| u64::from(unit) + 1);
                Ok(upper.chain([0]).chain(name.iter().map(|unit| u64::from(*unit) + 1)).collect())
            };
            for entry in self.index(folder, "$I30", &order)? {
                let (target, len) = (wide(&entry, 0)?, usize::from(entry[80]));
                let name = slice(&entry, 81, 1 + 2 * len)?.to_vec();
                let shown = String::from_utf16_lossy(&units(&name[1..]));
                let file = target & REFERENCE;
                if wide(&entry, 16)? != folder | sequence(self, folder) << 48 {
                    wrong.push(format!("folder {folder}: {shown} names another folder"));
                }
                let Some(whole) = self.files.get(&file) else {
                    wrong.push(format!("folder {folder}: {shown} leads to record {file}, which is not in use"));
                    continue;
                };
                if sequence(self, file) != target >> 48 {
                    wrong.push(format!("folder {folder}: {shown} means another file {file}"));
                }
                let size = whole.parts.get(&(0x80, Vec::new())).map(|data| match &data.value {
                    Value::Here(bytes) => bytes.len() as u64,
                    Value::There { size, .. } => *size,
                });
                if file >= 24 && size.is_some_and(|size| wide(&entry, 64) != Ok(size)) {
                    wrong.push(format!("folder {folder}: {shown} has another size"));
                }
                *of_folders.entry((folder, target, name)).or_insert(0) += 1;
            }
        }
        let differing = of_records.iter().filter(|(key, count)| of_folders.get(*key) != Some(*count));
        wrong.extend(
            differing
                .map(|(key, _)| format!("record {}: a name that folder {} does not have", key.1 & REFERENCE, key.0)),
        );
        let differing = of_folders.keys().filter(|key| !of_records.contains_key(*key));
        wrong.extend(
            differing.map(|key| format!("folder {}: a name that record {} does not have", key.0, key.1 & REFERENCE)),
        );
        self.wrong.extend(wrong);
        Ok(())
    }
}
