//! Changing a hive: values and keys set and removed, each where there is room for it.

use serde::Serialize;

use super::{
    Data, Hive, Key, MAX_DEPTH, NODE, NONE, Node,
    header::{SECTOR, checksum},
    names,
    value::{HEAD, INLINE, SEGMENT},
};
use crate::error::{Error, Result};

/// Bytes that are to be written, and where.
pub(crate) type Written = (u64, Vec<u8>);

/// A change that was made in a hive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Changed {
    /// The key, from the hive's first one on.
    pub key: String,
    /// The value that was set or removed; none for a key that was made or removed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub value: Option<String>,
    /// Whether the key was removed, and not made.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub is_removed: bool,
    /// What it was.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub before: Option<Data>,
    /// What it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub after: Option<Data>,
}

impl Hive {
    /// Sets the value `name` of the key at `path`, which is made with those above it where it is not there.
    ///
    /// # Errors
    /// [`Error::Damaged`]; [`Error::Unsupported`]; those of reading.
    pub(crate) fn set(&mut self, path: &str, name: &str, data: &Data) -> Result<()> {
        let key = self.make_key(path)?;
        let (kind, bytes) = data.to_bytes();
        let before = self.value(key, name)?;
        if before.as_ref().is_some_and(|value| value.kind == kind && value.bytes == bytes) {
            return Ok(());
        }
        self.put_value(key.0, &names::units(name), kind, &bytes)?;
        self.touch(key.0)?;
        let before = before.map(|value| value.data());
        self.changes.push(Changed {
            key: path.into(),
            value: Some(name.into()),
            is_removed: false,
            before,
            after: Some(data.clone()),
        });
        Ok(())
    }

    /// Removes the value `name` of the key at `path`; whether it was there.
    ///
    /// # Errors
    /// As [`Hive::set`].
    pub(crate) fn unset(&mut self, path: &str, name: &str) -> Result<bool> {
        let Some(key) = self.find(path)? else { return Ok(false) };
        let node = self.node(key.0)?;
        let mut cells = self.value_cells(&node)?;
        let wanted = names::key(&names::units(name));
        let mut found = None;
        for (index, at) in cells.iter().enumerate() {
            if names::key(&self.value_name(*at)?) == wanted {
                found = Some(index);
            }
        }
        let Some(index) = found else { return Ok(false) };
        let at = cells.remove(index);
        let before = self.value_at(at)?.data();
        self.free_data(at)?;
        self.give_back(at)?;
        self.write_values(key.0, &node, &cells)?;
        self.touch(key.0)?;
        self.changes.push(Changed {
            key: path.into(),
            value: Some(name.into()),
            is_removed: false,
            before: Some(before),
            after: None,
        });
        Ok(true)
    }

    /// Makes the key at `path`, and those above it, where they are not there.
    ///
    /// # Errors
    /// As [`Hive::set`].
    pub(crate) fn make_key(&mut self, path: &str) -> Result<Key> {
        let mut at = self.root;
        let mut way = String::new();
        for name in path.split('\\').filter(|name| !name.is_empty()) {
            way = if way.is_empty() { name.into() } else { format!("{way}\\{name}") };
            let units = names::units(name);
            if units.len() > 255 {
                return Err(self.unchangeable("the name of a key has at most 255 characters"));
            }
            at = match self.subkey(&self.node(at)?, &units)? {
                Some(found) => found,
                None => {
                    let made = self.add_key(at, &units)?;
                    self.changes.push(Changed {
                        key: way.clone(),
                        value: None,
                        is_removed: false,
                        before: None,
                        after: None,
                    });
                    made
                }
            };
        }
        Ok(Key(at))
    }

    /// Adds a key below the one at `parent`, with its security.
    fn add_key(&mut self, parent: u32, name: &[u16]) -> Result<u32> {
        let above = self.node(parent)?;
        let (bytes, is_latin) = names::write(name);
        let at = self.take(NODE + bytes.len())?;
        let mut cell = vec![0; NODE];
        let mut put = |at: usize, value: &[u8]| {
            if let Some(place) = cell.get_mut(at..at + value.len()) {
                place.copy_from_slice(value);
            }
        };
        put(0, b"nk");
        put(2, &(if is_latin { 0x20_u16 } else { 0 }).to_le_bytes());
        put(4, &self.now.to_le_bytes());
        put(16, &parent.to_le_bytes());
        [28, 32, 40, 48].into_iter().for_each(|at| put(at, &NONE.to_le_bytes()));
        put(44, &above.security.to_le_bytes());
        put(72, &u16::try_from(bytes.len()).unwrap_or(u16::MAX).to_le_bytes());
        cell.extend(bytes);
        self.write(at, 0, &cell)?;
        let security = self.cell(above.security, 20)?;
        if !security.starts_with(b"sk") {
            return Err(self.damaged("a key has no security"));
        }
        let users = Self::long(&security, 12).wrapping_add(1);
        self.write(above.security, 12, &users.to_le_bytes())?;
        let list = self.insert_key(&above, at, name)?;
        self.write(parent, 20, &(above.subkeys + 1).to_le_bytes())?;
        self.write(parent, 28, &list.to_le_bytes())?;
        self.raise(parent, 52, 2 * name.len(), 2)?;
        self.touch(parent)?;
        Ok(at)
    }

    /// Removes the key at `path` with all below it; whether it was there.
    ///
    /// # Errors
    /// As [`Hive::set`].
    pub(crate) fn remove(&mut self, path: &str) -> Result<bool> {
        let Some(key) = self.find(path)? else { return Ok(false) };
        if key.0 == self.root {
            return Err(self.unchangeable("its first key cannot be removed"));
        }
        let node = self.node(key.0)?;
        let above = self.node(node.parent)?;
        self.free_key(key.0, 0)?;
        let list = self.remove_key(&above, key.0)?;
        self.write(node.parent, 20, &above.subkeys.saturating_sub(1).to_le_bytes())?;
        self.write(node.parent, 28, &list.to_le_bytes())?;
        self.give_back(key.0)?;
        self.touch(node.parent)?;
        self.changes.push(Changed { key: path.into(), value: None, is_removed: true, before: None, after: None });
        Ok(true)
    }

    /// Gives back all that a key has and all below it, but not its own cell.
    fn free_key(&mut self, at: u32, depth: usize) -> Result<()> {
        if depth > MAX_DEPTH {
            return Err(self.damaged("keys lie below themselves"));
        }
        let node = self.node(at)?;
        for key in self.listed(&node)? {
            self.free_key(key, depth + 1)?;
            self.give_back(key)?;
        }
        if node.subkeys > 0 && node.list != NONE {
            let list = self.cell(node.list, 4)?;
            if list.starts_with(b"ri") {
                for index in 0..Self::word(&list, 2) {
                    self.give_back(Self::long(&list, 4 + 4 * index))?;
                }
            }
            self.give_back(node.list)?;
        }
        for value in self.value_cells(&node)? {
            self.free_data(value)?;
            self.give_back(value)?;
        }
        if node.values > 0 {
            self.give_back(node.value_list)?;
        }
        if node.class_len > 0 && node.class != NONE {
            self.give_back(node.class)?;
        }
        self.drop_security(node.security)
    }

    /// One key less has this security; it goes with the last one.
    fn drop_security(&mut self, at: u32) -> Result<()> {
        let cell = self.cell(at, 20)?;
        if !cell.starts_with(b"sk") {
            return Err(self.damaged("a key has no security"));
        }
        let (next, before, users) = (Self::long(&cell, 4), Self::long(&cell, 8), Self::long(&cell, 12));
        if users > 1 || next == at {
            return self.write(at, 12, &users.saturating_sub(1).to_le_bytes());
        }
        self.write(before, 4, &next.to_le_bytes())?;
        self.write(next, 8, &before.to_le_bytes())?;
        self.give_back(at)
    }

    /// Sets the value of a key.
    fn put_value(&mut self, key: u32, name: &[u16], kind: u32, bytes: &[u8]) -> Result<()> {
        let node = self.node(key)?;
        let mut cells = self.value_cells(&node)?;
        let wanted = names::key(name);
        let mut known = None;
        for at in &cells {
            if names::key(&self.value_name(*at)?) == wanted {
                known = Some(*at);
            }
        }
        let at = match known {
            Some(at) => at,
            None => {
                let (written, is_latin) = names::write(name);
                let len =
                    u16::try_from(written.len()).map_err(|_| self.unchangeable("the name of a value is too long"))?;
                let at = self.take(HEAD + written.len())?;
                let mut cell = [&b"vk"[..], &len.to_le_bytes(), &INLINE.to_le_bytes(), &[0; 8]].concat();
                // A key's own value has no name, and says nothing of how it is kept.
                cell.extend(u16::from(is_latin && !written.is_empty()).to_le_bytes());
                cell.extend([0, 0]);
                cell.extend(written);
                self.write(at, 0, &cell)?;
                cells.push(at);
                self.write_values(key, &node, &cells)?;
                self.raise(key, 60, 2 * name.len(), 4)?;
                at
            }
        };
        self.put_data(at, bytes)?;
        self.write(at, 12, &kind.to_le_bytes())?;
        self.raise(key, 64, bytes.len(), 4)
    }

    /// Writes the list of a key's values.
    fn write_values(&mut self, key: u32, node: &Node, cells: &[u32]) -> Result<()> {
        let old = if node.values > 0 { node.value_list } else { NONE };
        let list = if cells.is_empty() {
            if old != NONE {
                self.give_back(old)?;
            }
            NONE
        } else {
            let bytes: Vec<u8> = cells.iter().flat_map(|at| at.to_le_bytes()).collect();
            self.exchange(old, &bytes)?
        };
        let count = u32::try_from(cells.len()).unwrap_or_default();
        self.write(key, 36, &count.to_le_bytes())?;
        self.write(key, 40, &list.to_le_bytes())
    }

    /// Gives back the cells in which a value's bytes lie.
    fn free_data(&mut self, at: u32) -> Result<()> {
        let cell = self.value_head(at)?;
        let (len, place) = (Self::long(&cell, 4), Self::long(&cell, 8));
        if len & INLINE != 0 || len == 0 || place == NONE {
            return Ok(());
        }
        if Self::size(len) > SEGMENT && self.minor > 3 {
            let (list, parts) = self.segment_cells(place)?;
            parts.into_iter().chain([list]).try_for_each(|part| self.give_back(part))?;
        }
        self.give_back(place)
    }

    /// Lets a value have these bytes.
    fn put_data(&mut self, at: u32, bytes: &[u8]) -> Result<()> {
        let cell = self.value_head(at)?;
        let (len, place) = (Self::long(&cell, 4), Self::long(&cell, 8));
        let new_len = u32::try_from(bytes.len()).ok().filter(|len| *len < INLINE);
        let new_len = new_len.ok_or_else(|| self.unchangeable("a value is too long"))?;
        let is_long = |size: usize| size > SEGMENT && self.minor > 3;
        let had_cell = len & INLINE == 0 && len > 0 && place != NONE;
        if bytes.len() <= 4 {
            self.free_data(at)?;
            let mut inline = [0; 4];
            inline.iter_mut().zip(bytes).for_each(|(to, from)| *to = *from);
            self.write(at, 8, &inline)?;
            return self.write(at, 4, &(new_len | INLINE).to_le_bytes());
        }
        let place = if is_long(bytes.len()) {
            self.free_data(at)?;
            let mut parts = Vec::new();
            for part in bytes.chunks(SEGMENT) {
                let cell = self.take(part.len())?;
                self.write(cell, 0, part)?;
                parts.extend(cell.to_le_bytes());
            }
            let list = self.take(parts.len())?;
            self.write(list, 0, &parts)?;
            let count = u16::try_from(parts.len() / 4).map_err(|_| self.unchangeable("a value is too long"))?;
            let head = [&b"db"[..], &count.to_le_bytes(), &list.to_le_bytes()].concat();
            let place = self.take(head.len())?;
            self.write(place, 0, &head)?;
            place
        } else if had_cell && !is_long(Self::size(len)) {
            self.exchange(place, bytes)?
        } else {
            self.free_data(at)?;
            self.exchange(NONE, bytes)?
        };
        self.write(at, 8, &place.to_le_bytes())?;
        self.write(at, 4, &new_len.to_le_bytes())
    }

    /// Raises the greatest length that a key tells of, of so many bytes.
    fn raise(&mut self, key: u32, at: usize, len: usize, width: usize) -> Result<()> {
        let cell = self.cell(key, NODE)?;
        let known = if width == 2 { Self::word(&cell, at) } else { Self::size(Self::long(&cell, at)) };
        if len <= known {
            return Ok(());
        }
        let len = u32::try_from(len).unwrap_or(u32::MAX).to_le_bytes();
        self.write(key, at, len.get(..width).unwrap_or_default())
    }

    /// Gives a key the time of the change.
    fn touch(&mut self, key: u32) -> Result<()> {
        self.write(key, 4, &self.now.to_le_bytes())
    }

    /// Ends the changes: what was changed, and what is to be written where. Nothing, when nothing was changed.
    ///
    /// # Errors
    /// Those of reading.
    pub(crate) fn finish(&mut self) -> Result<(Vec<Changed>, Vec<Written>)> {
        let changes = std::mem::take(&mut self.changes);
        if changes.is_empty() {
            return Ok((changes, Vec::new()));
        }
        if self.is_torn {
            return Err(self.unchangeable("a write of it was cut short, and no log beside it mends that"));
        }
        let mut base = vec![0; SECTOR];
        let short = || Error::Damaged { volume: self.name.clone(), what: "it is cut short".into() };
        self.pages.read_at(0, &mut base)?.ok_or_else(short)?;
        let sequence = self.sequences.0.max(self.sequences.1).wrapping_add(1);
        self.sequences = (sequence, sequence);
        let bins = self.bins();
        let mut put = |at: usize, value: &[u8]| {
            if let Some(place) = base.get_mut(at..at + value.len()) {
                place.copy_from_slice(value);
            }
        };
        put(4, &sequence.to_le_bytes());
        put(8, &sequence.to_le_bytes());
        put(12, &self.now.to_le_bytes());
        put(40, &bins.to_le_bytes());
        let sum = checksum(&base).to_le_bytes();
        if let Some(place) = base.get_mut(SECTOR - 4..) {
            place.copy_from_slice(&sum);
        }
        self.pages.write_at(0, &base)?;
        Ok((changes, self.pages.differences()?))
    }
}
