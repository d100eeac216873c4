//! All keys and values of a hive, for comparisons: a reader that shares nothing with the tool's.

use std::collections::BTreeMap;

use super::{NONE, PAGE, long, word};

/// Values of a key by their names: type and bytes.
pub type Values = BTreeMap<String, (u32, Vec<u8>)>;

/// Keys by their whole paths, in small letters where `Keys::get` looks for them.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Keys(pub BTreeMap<String, Values>);

impl Keys {
    /// The values of the key at `path`, in any case.
    pub fn get(&self, path: &str) -> Option<&Values> {
        self.0.get(&path.to_lowercase())
    }

    /// The value `name` of the key at `path`.
    pub fn value(&self, path: &str, name: &str) -> Option<&(u32, Vec<u8>)> {
        self.get(path)?.get(&name.to_lowercase())
    }

    /// A number.
    pub fn number(&self, path: &str, name: &str) -> Option<u32> {
        let (kind, bytes) = self.value(path, name)?;
        (*kind == 4 && bytes.len() == 4).then(|| long(bytes, 0))
    }

    /// Texts of a value: one, or several.
    pub fn texts(&self, path: &str, name: &str) -> Vec<String> {
        let Some((1 | 2 | 7, bytes)) = self.value(path, name).map(|(kind, bytes)| (*kind, bytes)) else {
            return Vec::new();
        };
        let units: Vec<u16> = bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
        let texts = units.split(|unit| *unit == 0).filter(|text| !text.is_empty());
        texts.map(String::from_utf16_lossy).collect()
    }

    /// One text.
    pub fn text(&self, path: &str, name: &str) -> Option<String> {
        self.texts(path, name).into_iter().next()
    }

    /// Names of the keys right below the one at `path`, in small letters.
    pub fn below(&self, path: &str) -> Vec<String> {
        let start = format!("{}\\", path.to_lowercase());
        let names = self.0.keys().filter_map(|key| key.strip_prefix(&start)).filter(|rest| !rest.contains('\\'));
        names.map(Into::into).collect()
    }

    /// What differs from `before`: keys and values, as lines.
    pub fn changes(&self, before: &Self) -> Vec<String> {
        let mut lines = Vec::new();
        for (key, values) in &self.0 {
            let Some(old) = before.0.get(key) else {
                lines.push(format!("+ {key}"));
                lines.extend(values.keys().map(|name| format!("+ {key}: {name}")));
                continue;
            };
            for (name, value) in values {
                match old.get(name) {
                    None => lines.push(format!("+ {key}: {name}")),
                    Some(other) if other != value => lines.push(format!("~ {key}: {name}")),
                    Some(_) => {}
                }
            }
            lines.extend(old.keys().filter(|name| !values.contains_key(*name)).map(|name| format!("- {key}: {name}")));
        }
        lines.extend(before.0.keys().filter(|key| !self.0.contains_key(*key)).map(|key| format!("- {key}")));
        lines
    }
}

fn name(bytes: &[u8], latin: bool) -> String {
    if latin {
        return bytes.iter().map(|byte| char::from(*byte)).collect();
    }
    let units: Vec<u16> = bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
    String::from_utf16_lossy(&units)
}

/// The bytes of the cell at `at`.
fn cell(hive: &[u8], at: u32) -> &[u8] {
    let at = PAGE + at as usize;
    let len = (long(hive, at) as i32).unsigned_abs() as usize;
    &hive[at + 4..at + len]
}

fn subkeys(hive: &[u8], list: u32, into: &mut Vec<u32>) {
    let cell = cell(hive, list);
    let count = word(cell, 2);
    match &cell[..2] {
        b"ri" => (0..count).for_each(|index| subkeys(hive, long(cell, 4 + 4 * index), into)),
        b"li" => into.extend((0..count).map(|index| long(cell, 4 + 4 * index))),
        _ => into.extend((0..count).map(|index| long(cell, 4 + 8 * index))),
    }
}

fn walk(hive: &[u8], at: u32, path: &str, keys: &mut Keys) {
    let key = cell(hive, at);
    let own = name(&key[76..76 + word(key, 72)], word(key, 2) & 0x20 != 0).to_lowercase();
    // The first key's own name says nothing.
    let path = match (word(key, 2) & 4 != 0, path.is_empty()) {
        (true, _) => String::new(),
        (false, true) => own,
        (false, false) => format!("{path}\\{own}"),
    };
    let mut values = Values::new();
    let list = long(key, 40);
    for index in 0..long(key, 36) as usize {
        let value = cell(hive, long(cell(hive, list), 4 * index));
        let called = name(&value[20..20 + word(value, 2)], word(value, 16) & 1 != 0);
        let (len, place) = (long(value, 4), long(value, 8));
        let size = (len & 0x7fff_ffff) as usize;
        let bytes = if len & 1 << 31 != 0 {
            value[8..8 + size].to_vec()
        } else if size > 16_344 {
            let parts = cell(hive, long(cell(hive, place), 4));
            let count = word(cell(hive, place), 2);
            let whole: Vec<u8> =
                (0..count).flat_map(|part| cell(hive, long(parts, 4 * part))[..16_344].to_vec()).collect();
            whole[..size].to_vec()
        } else if size == 0 {
            Vec::new()
        } else {
            cell(hive, place)[..size].to_vec()
        };
        values.insert(called.to_lowercase(), (long(value, 12), bytes));
    }
    keys.0.insert(path.clone(), values);
    if long(key, 28) != NONE && long(key, 20) > 0 {
        let mut below = Vec::new();
        subkeys(hive, long(key, 28), &mut below);
        below.into_iter().for_each(|at| walk(hive, at, &path, keys));
    }
}

/// Reads a sound hive.
pub fn read(hive: &[u8]) -> Keys {
    let mut keys = Keys::default();
    walk(hive, long(hive, 36), "", &mut keys);
    keys
}
