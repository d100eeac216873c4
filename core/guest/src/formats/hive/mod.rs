//! Registry hives (regf, versions 1.3 to 1.6): keys and values, read and changed where they lie. What is not touched stays where it is.
//!
//! There is no public specification; what is known of the format was gathered from what systems write, and names follow the
//! signatures of its cells.

mod cells;
mod edit;
mod header;
mod list;
pub(crate) mod log;
mod names;
mod pages;
#[cfg(test)]
mod tests;
mod value;

use std::sync::Arc;

use reformis_disk::budget::Budget;

use crate::error::{Error, Result};
use cells::{BASE, Free, NONE};
use header::SECTOR;
use pages::{PAGE, Pages};

pub use edit::Changed;
pub(crate) use pages::Source;
pub use value::Data;
pub(crate) use value::Value;

/// Keys below one another.
const MAX_DEPTH: usize = 512;
/// Values of a key.
const MAX_VALUES: u32 = 1 << 16;

/// What gives the logs of a hive, where they are asked for.
pub(crate) type Logs<'a> = &'a dyn Fn() -> Result<Vec<Vec<u8>>>;

/// A key, by where its cell lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Key(u32);

/// A hive.
pub(crate) struct Hive {
    name: String,
    pages: Pages,
    /// Numbers of the last write that began, and of the last that ended.
    sequences: (u32, u32),
    /// Minor version: 3 to 6.
    minor: u32,
    root: u32,
    /// Whether its logs held what it did not.
    pub(crate) was_replayed: bool,
    /// Whether a write of it was cut short and no log mends that: it may be read, and not changed.
    is_torn: bool,
    free: Option<Free>,
    /// The time of changes: 100 ns since 1601.
    now: u64,
    budget: Arc<Budget>,
    changes: Vec<Changed>,
}

/// What a key's cell says.
struct Node {
    parent: u32,
    subkeys: u32,
    list: u32,
    values: u32,
    value_list: u32,
    security: u32,
    class: u32,
    class_len: usize,
    name: Vec<u16>,
}

/// Bytes of a key's cell before its name.
const NODE: usize = 76;

impl Hive {
    /// Opens the hive in `source`, called `name` in messages; what `logs` hold and it does not is done in memory. Changes get the time
    /// `now`, in 100 ns since 1601.
    ///
    /// # Errors
    /// [`Error::Damaged`]; [`Error::Unsupported`] for versions that are not known; those of reading.
    pub(crate) fn open(
        source: Box<dyn Source>,
        name: &str,
        logs: Logs<'_>,
        now: u64,
        budget: &Arc<Budget>,
    ) -> Result<Self> {
        let mut hive = Self {
            name: name.into(),
            pages: Pages::new(source, budget),
            sequences: (0, 0),
            minor: 0,
            root: 0,
            was_replayed: false,
            is_torn: false,
            free: None,
            now,
            budget: budget.clone(),
            changes: Vec::new(),
        };
        let mut base = vec![0; SECTOR];
        if hive.pages.read_at(0, &mut base)?.is_none() || !base.starts_with(b"regf") {
            return Err(hive.damaged("it is no registry hive"));
        }
        let is_sound = header::is_sound(&base);
        hive.sequences = (Self::long(&base, 4), Self::long(&base, 8));
        // A clean hive says all by itself.
        let is_clean = is_sound && hive.sequences.0 == hive.sequences.1;
        let logs = if is_clean { Vec::new() } else { logs()? };
        let from_log = logs.iter().find(|log| header::is_sound(log)).and_then(|log| log.get(..SECTOR));
        // The base block was being written when all stopped: a log has it too.
        if let Some(other) = from_log.filter(|_| !is_sound) {
            base.copy_from_slice(other);
            // Its type and its checksum are those of a log.
            base.splice(28..32, [0; 4]);
            let sum = header::checksum(&base).to_le_bytes();
            base.splice(SECTOR - 4.., sum);
            hive.pages.write_at(0, &base)?;
        }
        hive.sequences = (Self::long(&base, 4), Self::long(&base, 8));
        let (major, bins) = (Self::long(&base, 20), Self::long(&base, 40));
        (hive.minor, hive.root) = (Self::long(&base, 24), Self::long(&base, 36));
        if major != 1 || !(3..=6).contains(&hive.minor) {
            let what = format!("its version is {major}.{}, and 1.3 to 1.6 are read", hive.minor);
            return Err(Error::Unsupported { volume: hive.name, action: "read", what });
        }
        let whole = BASE + u64::from(bins);
        if !(bins as usize).is_multiple_of(PAGE) || whole > hive.pages.len {
            return Err(
                hive.damaged(format!("it says that its bins have {bins} bytes, and the file has {}", hive.pages.len))
            );
        }
        hive.pages.len = whole;
        if hive.sequences.0 != hive.sequences.1 || !is_sound {
            if !is_sound {
                hive.sequences.1 = 0;
            }
            hive.was_replayed = hive.replay(&logs)?;
            if !hive.was_replayed && !is_sound {
                return Err(hive.damaged("its first block has a wrong checksum, and no log mends it"));
            }
        }
        hive.is_torn = hive.sequences.0 != hive.sequences.1;
        hive.node(hive.root)?;
        Ok(hive)
    }

    fn damaged(&self, what: impl Into<String>) -> Error {
        Error::Damaged { volume: self.name.clone(), what: what.into() }
    }

    fn unchangeable(&self, what: impl Into<String>) -> Error {
        Error::Unsupported { volume: self.name.clone(), action: "changed", what: what.into() }
    }

    /// The key at `at`.
    fn node(&self, at: u32) -> Result<Node> {
        let cell = self.head(at, NODE + 2 * 256)?;
        if !cell.starts_with(b"nk") || cell.len() < NODE {
            return Err(self.damaged(format!("something leads to {at:#x}, which is no key")));
        }
        let flags = Self::word(&cell, 2);
        let name = cell.get(NODE..NODE + Self::word(&cell, 72));
        let name = name.ok_or_else(|| self.damaged(format!("the key at {at:#x} has a name that is cut short")))?;
        Ok(Node {
            parent: Self::long(&cell, 16),
            subkeys: Self::long(&cell, 20),
            list: Self::long(&cell, 28),
            values: Self::long(&cell, 36),
            value_list: Self::long(&cell, 40),
            security: Self::long(&cell, 44),
            class: Self::long(&cell, 48),
            class_len: Self::word(&cell, 74),
            name: names::read(name, flags & 0x20 != 0),
        })
    }

    /// The first key.
    pub(crate) fn root(&self) -> Key {
        Key(self.root)
    }

    /// The key at `path` below the first one, with `\` between names; `None` when it is not there.
    ///
    /// # Errors
    /// [`Error::Damaged`]; those of reading.
    pub(crate) fn find(&self, path: &str) -> Result<Option<Key>> {
        self.find_below(self.root(), path)
    }

    /// The same below a key.
    ///
    /// # Errors
    /// As [`Hive::find`].
    pub(crate) fn find_below(&self, key: Key, path: &str) -> Result<Option<Key>> {
        let mut at = key.0;
        for name in path.split('\\').filter(|name| !name.is_empty()) {
            match self.subkey(&self.node(at)?, &names::units(name))? {
                Some(found) => at = found,
                None => return Ok(None),
            }
        }
        Ok(Some(Key(at)))
    }

    /// When a key was changed: 100 ns since 1601.
    ///
    /// # Errors
    /// As [`Hive::find`].
    pub(crate) fn changed_at(&self, key: Key) -> Result<u64> {
        let cell = self.head(key.0, 12)?;
        Ok(cell.get(4..).and_then(|rest| rest.first_chunk()).map_or(0, |eight| u64::from_le_bytes(*eight)))
    }

    /// The keys below a key, each with its name, in their order.
    ///
    /// # Errors
    /// As [`Hive::find`]; [`Error::Memory`].
    pub(crate) fn keys(&self, key: Key) -> Result<Vec<(String, Key)>> {
        let listed = self.listed(&self.node(key.0)?)?;
        let mut hold = self.budget.hold();
        let mut found = Vec::new();
        for at in listed {
            let name = names::text(&self.node(at)?.name);
            hold.grow(name.len() as u64 + 48)?;
            found.push((name, Key(at)));
        }
        Ok(found)
    }

    /// The values of a key, in the order in which they lie.
    ///
    /// # Errors
    /// As [`Hive::keys`].
    pub(crate) fn values(&self, key: Key) -> Result<Vec<Value>> {
        let node = self.node(key.0)?;
        let mut hold = self.budget.hold();
        let mut found = Vec::new();
        for at in self.value_cells(&node)? {
            let value = self.value_at(at)?;
            hold.grow(value.name.len() as u64 + value.bytes.len() as u64 + 64)?;
            found.push(value);
        }
        Ok(found)
    }

    /// The value of a key that is called `name`; an empty one is the key's own.
    ///
    /// # Errors
    /// As [`Hive::find`].
    pub(crate) fn value(&self, key: Key, name: &str) -> Result<Option<Value>> {
        let wanted = names::key(&names::units(name));
        for at in self.value_cells(&self.node(key.0)?)? {
            if names::key(&self.value_name(at)?) == wanted {
                return self.value_at(at).map(Some);
            }
        }
        Ok(None)
    }

    /// The value `name` of the key at `path`, as it is meant; `None` when it is not there.
    ///
    /// # Errors
    /// As [`Hive::find`].
    pub(crate) fn data(&self, path: &str, name: &str) -> Result<Option<Data>> {
        match self.find(path)? {
            Some(key) => Ok(self.value(key, name)?.map(|value| value.data())),
            None => Ok(None),
        }
    }

    /// A text at a path; `None` when it is not there or is none.
    ///
    /// # Errors
    /// As [`Hive::find`].
    pub(crate) fn text(&self, path: &str, name: &str) -> Result<Option<String>> {
        Ok(self.data(path, name)?.and_then(Data::into_text))
    }

    /// A number of 32 bits at a path; `None` when it is not there or is none.
    ///
    /// # Errors
    /// As [`Hive::find`].
    pub(crate) fn number(&self, path: &str, name: &str) -> Result<Option<u32>> {
        Ok(match self.data(path, name)? {
            Some(Data::Number(number)) => Some(number),
            _ => None,
        })
    }
}
