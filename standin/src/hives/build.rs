//! A hive made of keys and values, one cell after the other.

use std::collections::BTreeMap;

use super::{NONE, PAGE, base, check::upper, descriptor, put};

/// When all keys were changed: 2026-03-01, in 100 ns since 1601.
const CHANGED: u64 = (1_772_323_200 + 11_644_473_600) * 10_000_000;

/// What a value is given.
#[derive(Debug, Clone)]
pub enum Given {
    /// A text.
    Text(String),
    /// A text with names of variables in it.
    Expand(String),
    /// Texts.
    Texts(Vec<String>),
    /// A number of 32 bits.
    Number(u32),
    /// Bytes.
    Bytes(Vec<u8>),
}

impl From<&str> for Given {
    fn from(text: &str) -> Self {
        Self::Text(text.into())
    }
}

impl From<u32> for Given {
    fn from(number: u32) -> Self {
        Self::Number(number)
    }
}

impl Given {
    fn bytes(&self) -> (u32, Vec<u8>) {
        let text = |text: &str| text.encode_utf16().chain([0]).flat_map(u16::to_le_bytes).collect::<Vec<u8>>();
        match self {
            Self::Text(one) => (1, text(one)),
            Self::Expand(one) => (2, text(one)),
            Self::Bytes(bytes) => (3, bytes.clone()),
            Self::Number(number) => (4, number.to_le_bytes().to_vec()),
            Self::Texts(all) => (7, all.iter().flat_map(|one| text(one)).chain([0, 0]).collect()),
        }
    }
}

#[derive(Default)]
struct Key {
    name: String,
    values: Vec<(String, Given)>,
    /// Keys below it by the capitals of their names.
    below: BTreeMap<Vec<u16>, Key>,
}

/// Cells of the one bin of a hive.
struct Cells {
    bytes: Vec<u8>,
    minor: u32,
    keys: u32,
    security: u32,
}

/// A name as it is kept, and whether that is Latin-1.
fn kept(name: &str) -> (Vec<u8>, bool) {
    let latin: Option<Vec<u8>> = name.chars().map(|c| u8::try_from(c).ok()).collect();
    latin.map_or_else(|| (name.encode_utf16().flat_map(u16::to_le_bytes).collect(), false), |bytes| (bytes, true))
}

impl Cells {
    fn add(&mut self, body: &[u8]) -> u32 {
        let (at, len) = (self.bytes.len(), (body.len() + 4).next_multiple_of(8));
        self.bytes.extend((len as i32).wrapping_neg().to_le_bytes());
        self.bytes.extend(body);
        self.bytes.resize(at + len, 0);
        at as u32
    }

    fn set(&mut self, cell: u32, at: usize, value: u32) {
        put(&mut self.bytes, cell as usize + 4 + at, &value.to_le_bytes());
    }

    fn value(&mut self, name: &str, given: &Given) -> u32 {
        let ((kind, bytes), (name, latin)) = (given.bytes(), kept(name));
        let mut cell = b"vk".to_vec();
        cell.extend((name.len() as u16).to_le_bytes());
        let len = bytes.len() as u32;
        if bytes.len() <= 4 {
            cell.extend((len | 1 << 31).to_le_bytes());
            cell.extend(bytes.iter().copied().chain([0; 4]).take(4));
        } else {
            cell.extend(len.to_le_bytes());
            let place = self.add(&bytes);
            cell.extend(place.to_le_bytes());
        }
        cell.extend(kind.to_le_bytes());
        cell.extend(u16::from(latin && !name.is_empty()).to_le_bytes());
        cell.extend([0, 0]);
        cell.extend(name);
        self.add(&cell)
    }

    fn key(&mut self, key: &Key, parent: u32, is_root: bool) -> u32 {
        let (name, latin) = kept(&key.name);
        let mut cell = vec![0; 76];
        let flags: u16 = if latin { 0x20 } else { 0 } | if is_root { 0x0c } else { 0 };
        put(&mut cell, 0, b"nk");
        put(&mut cell, 2, &flags.to_le_bytes());
        put(&mut cell, 4, &CHANGED.to_le_bytes());
        put(&mut cell, 16, &parent.to_le_bytes());
        [28, 32, 40, 48].into_iter().for_each(|at| put(&mut cell, at, &NONE.to_le_bytes()));
        put(&mut cell, 72, &(name.len() as u16).to_le_bytes());
        cell.extend(name);
        let at = self.add(&cell);
        self.keys += 1;
        if is_root {
            let descriptor = descriptor();
            let mut security = b"sk\0\0".to_vec();
            security.extend([0; 12]);
            security.extend((descriptor.len() as u32).to_le_bytes());
            security.extend(descriptor);
            self.security = self.add(&security);
        }
        self.set(at, 44, self.security);
        if !key.values.is_empty() {
            let cells: Vec<u8> =
                key.values.iter().flat_map(|(name, given)| self.value(name, given).to_le_bytes()).collect();
            let list = self.add(&cells);
            self.set(at, 36, key.values.len() as u32);
            self.set(at, 40, list);
            let longest =
                |len: &dyn Fn(&(String, Given)) -> usize| key.values.iter().map(len).max().unwrap_or_default() as u32;
            self.set(at, 60, longest(&|(name, _)| 2 * name.encode_utf16().count()));
            self.set(at, 64, longest(&|(_, given)| given.bytes().1.len()));
        }
        if !key.below.is_empty() {
            let mut list = if self.minor >= 5 { b"lh".to_vec() } else { b"lf".to_vec() };
            list.extend((key.below.len() as u16).to_le_bytes());
            for (upper, below) in &key.below {
                let place = self.key(below, at, false);
                list.extend(place.to_le_bytes());
                let hash = upper.iter().fold(0, |sum: u32, unit| sum.wrapping_mul(37).wrapping_add(u32::from(*unit)));
                let letters =
                    below.name.encode_utf16().map(|unit| u8::try_from(unit).unwrap_or_default()).chain([0; 4]);
                if self.minor >= 5 {
                    list.extend(hash.to_le_bytes());
                } else {
                    list.extend(letters.take(4));
                }
            }
            let list = self.add(&list);
            self.set(at, 20, key.below.len() as u32);
            self.set(at, 28, list);
            let longest = key.below.values().map(|below| 2 * below.name.encode_utf16().count()).max();
            self.set(at, 52, longest.unwrap_or_default() as u32);
        }
        at
    }
}

/// A hive of version 1.`minor` with these keys, by their paths, each with its values.
pub fn build(minor: u32, keys: &[(String, Vec<(String, Given)>)]) -> Vec<u8> {
    let mut root = Key { name: "ROOT".into(), ..Key::default() };
    for (path, values) in keys {
        let mut key = &mut root;
        for name in path.split('\\') {
            let units: Vec<u16> = name.encode_utf16().collect();
            key = key.below.entry(upper(&units)).or_default();
            key.name = name.into();
        }
        key.values.extend(values.iter().cloned());
    }
    let mut bin = vec![0; 32];
    put(&mut bin, 0, b"hbin");
    let mut cells = Cells { bytes: bin, minor, keys: 0, security: 0 };
    let at = cells.key(&root, NONE, true);
    let (security, count) = (cells.security, cells.keys);
    [4, 8].into_iter().for_each(|place| cells.set(security, place, security));
    cells.set(security, 12, count);
    let mut bytes = cells.bytes;
    let end = bytes.len();
    let len = (end + 8).next_multiple_of(PAGE);
    bytes.extend(((len - end) as i32).to_le_bytes());
    bytes.resize(len, 0);
    put(&mut bytes, 8, &(len as u32).to_le_bytes());
    [base(minor, at, len as u32), bytes].concat()
}
