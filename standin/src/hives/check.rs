//! The check.

use std::collections::{BTreeMap, HashMap, HashSet};

use super::{NONE, PAGE, SECTOR, checksum, long, word};

/// What is wrong with a hive; nothing when it is sound, and every used cell is used by something.
pub fn check(hive: &[u8]) -> Vec<String> {
    let mut check =
        Check { hive, wrong: Vec::new(), cells: BTreeMap::new(), used: HashMap::new(), security: HashMap::new() };
    if let Err(what) = check.all() {
        check.wrong.push(what);
    }
    check.wrong.truncate(40);
    check.wrong
}

type Outcome<T> = Result<T, String>;

struct Check<'a> {
    hive: &'a [u8],
    wrong: Vec<String>,
    cells: BTreeMap<u32, i32>,
    used: HashMap<u32, String>,
    /// How many keys have each security.
    security: HashMap<u32, u32>,
}

pub(super) fn upper(name: &[u16]) -> Vec<u16> {
    let one = |unit: u16| {
        let text: String = char::from_u32(unit.into()).into_iter().flat_map(char::to_uppercase).collect();
        match text.encode_utf16().collect::<Vec<_>>().as_slice() {
            [only] => *only,
            _ => unit,
        }
    };
    name.iter().copied().map(one).collect()
}

fn name_of(bytes: &[u8], latin: bool) -> Vec<u16> {
    if latin {
        bytes.iter().copied().map(u16::from).collect()
    } else {
        bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect()
    }
}

impl Check<'_> {
    fn all(&mut self) -> Outcome<()> {
        let base = self.hive;
        if !base.starts_with(b"regf") || base.len() < PAGE {
            return Err("no hive".into());
        }
        if checksum(base) != long(base, SECTOR - 4) {
            self.wrong.push("checksum of the first block".into());
        }
        if long(base, 4) != long(base, 8) {
            self.wrong.push(format!("sequence numbers {} and {}", long(base, 4), long(base, 8)));
        }
        if long(base, 20) != 1 || !(3..=6).contains(&long(base, 24)) || long(base, 28) != 0 || long(base, 32) != 1 {
            self.wrong.push("version, type or form".into());
        }
        let size = long(base, 40) as usize;
        if !size.is_multiple_of(PAGE) || PAGE + size > base.len() {
            return Err(format!("{size} bytes of bins in a file of {}", base.len()));
        }
        self.bins(size)?;
        self.key(long(base, 36), None, "", None)?;
        self.securities()?;
        let lost: Vec<u32> = self
            .cells
            .iter()
            .filter(|(at, size)| **size < 0 && !self.used.contains_key(at))
            .map(|(at, _)| *at)
            .collect();
        if let Some(first) = lost.first() {
            self.wrong.push(format!("{} used cells that nothing leads to, the first at {first:#x}", lost.len()));
        }
        Ok(())
    }

    fn bins(&mut self, size: usize) -> Outcome<()> {
        let all = &self.hive[PAGE..];
        let mut at = 0;
        while at < size {
            let len = long(all, at + 8) as usize;
            if &all[at..at + 4] != b"hbin"
                || long(all, at + 4) as usize != at
                || len == 0
                || !len.is_multiple_of(PAGE)
                || at + len > size
            {
                return Err(format!("the bin at {at:#x}"));
            }
            let mut cell = at + 32;
            let mut was_free = false;
            while cell < at + len {
                let size = long(all, cell).cast_signed();
                let bytes = size.unsigned_abs() as usize;
                if bytes < 8 || !bytes.is_multiple_of(8) || cell + bytes > at + len {
                    return Err(format!("the cell at {cell:#x} of {size} bytes"));
                }
                if was_free && size > 0 {
                    self.wrong.push(format!("the free cell at {cell:#x} follows a free one"));
                }
                was_free = size > 0;
                self.cells.insert(cell as u32, size);
                cell += bytes;
            }
            at += len;
        }
        Ok(())
    }

    fn cell(&mut self, at: u32, who: &str, least: usize) -> Outcome<Vec<u8>> {
        match self.cells.get(&at) {
            None => Err(format!("{who}: there is no cell at {at:#x}")),
            Some(0..) => Err(format!("{who}: the cell at {at:#x} is free")),
            Some(size) => {
                if let Some(other) = self.used.insert(at, who.into()) {
                    return Err(format!("{who}: the cell at {at:#x} is used by {other}"));
                }
                let bytes = &self.hive[PAGE + at as usize + 4..PAGE + at as usize + size.unsigned_abs() as usize];
                if bytes.len() < least {
                    return Err(format!(
                        "{who}: the cell at {at:#x} has {} bytes, and {least} are needed",
                        bytes.len()
                    ));
                }
                Ok(bytes.to_vec())
            }
        }
    }

    fn list(&mut self, at: u32, path: &str, is_below: bool) -> Outcome<Vec<(u32, Vec<u8>, u32)>> {
        let cell = self.cell(at, &format!("{path} list"), 4)?;
        let (signature, count) = (cell[..2].to_vec(), word(&cell, 2));
        let width = if matches!(&signature[..], b"lf" | b"lh") { 8 } else { 4 };
        if cell.len() < 4 + width * count {
            return Err(format!("{path}: a list that is cut short"));
        }
        let mut found = Vec::new();
        for index in 0..count {
            let place = long(&cell, 4 + width * index);
            match (&signature[..], is_below) {
                (b"lf" | b"lh", _) => found.push((place, signature.clone(), long(&cell, 8 + width * index))),
                (b"li", _) => found.push((place, signature.clone(), 0)),
                (b"ri", false) => found.extend(self.list(place, path, true)?),
                _ => return Err(format!("{path}: a list with signature {signature:?}")),
            }
        }
        Ok(found)
    }

    fn key(&mut self, at: u32, parent: Option<u32>, above: &str, hint: Option<(&[u8], u32)>) -> Outcome<Vec<u16>> {
        let cell = self.cell(at, &format!("below {above}"), 76)?;
        let len = word(&cell, 72);
        if &cell[..2] != b"nk" || 76 + len > cell.len() {
            return Err(format!("below {above}: {at:#x} is no key"));
        }
        let name = name_of(&cell[76..76 + len], cell[2] & 0x20 != 0);
        let path = format!("{above}\\{}", String::from_utf16_lossy(&name));
        if parent.is_some_and(|parent| long(&cell, 16) != parent) {
            self.wrong.push(format!("{path}: another parent"));
        }
        let hash = upper(&name).iter().fold(0, |sum: u32, unit| sum.wrapping_mul(37).wrapping_add(u32::from(*unit)));
        let mut letters = [0; 4];
        letters.iter_mut().zip(&name).for_each(|(to, unit)| *to = u8::try_from(*unit).unwrap_or_default());
        match hint {
            Some((b"lh", hint)) if hint != hash => self.wrong.push(format!("{path}: its hash")),
            Some((b"lf", hint)) if hint != u32::from_le_bytes(letters) => self.wrong.push(format!("{path}: its hint")),
            _ => {}
        }
        *self.security.entry(long(&cell, 44)).or_insert(0) += 1;
        if word(&cell, 74) > 0 && long(&cell, 48) != NONE {
            self.cell(long(&cell, 48), &format!("{path} class"), word(&cell, 74))?;
        }
        let count = long(&cell, 36) as usize;
        if count > 0 {
            let list = self.cell(long(&cell, 40), &format!("{path} values"), 4 * count)?;
            let mut seen = HashSet::new();
            for index in 0..count {
                self.value(long(&list, 4 * index), &path, &cell, &mut seen)?;
            }
        }
        let count = long(&cell, 20) as usize;
        if count > 0 {
            let listed = self.list(long(&cell, 28), &path, false)?;
            if listed.len() != count {
                self.wrong.push(format!("{path}: {count} keys counted, {} listed", listed.len()));
            }
            let mut last: Option<Vec<u16>> = None;
            for (place, signature, hint) in listed {
                let name = self.key(place, Some(at), &path, Some((&signature, hint)))?;
                let key = upper(&name);
                if last.is_some_and(|last| last >= key) {
                    self.wrong.push(format!("{path}: {} is out of order", String::from_utf16_lossy(&name)));
                }
                if 2 * name.len() > word(&cell, 52) {
                    self.wrong.push(format!("{path}: a key with a longer name than is said"));
                }
                last = Some(key);
            }
        }
        Ok(name)
    }

    fn value(&mut self, at: u32, path: &str, key: &[u8], seen: &mut HashSet<Vec<u16>>) -> Outcome<()> {
        let cell = self.cell(at, &format!("{path} value"), 20)?;
        let len = word(&cell, 2);
        if &cell[..2] != b"vk" || 20 + len > cell.len() {
            return Err(format!("{path}: {at:#x} is no value"));
        }
        let name = name_of(&cell[20..20 + len], cell[16] & 1 != 0);
        let shown = format!("{path} value {}", String::from_utf16_lossy(&name));
        if 2 * name.len() > long(key, 60) as usize {
            self.wrong.push(format!("{shown}: a longer name than is said"));
        }
        if !seen.insert(upper(&name)) {
            self.wrong.push(format!("{shown}: twice"));
        }
        let (said, place) = (long(&cell, 4), long(&cell, 8));
        let size = (said & 0x7fff_ffff) as usize;
        if size > long(key, 64) as usize {
            self.wrong.push(format!("{shown}: longer than is said"));
        }
        if said & 0x8000_0000 != 0 {
            return if size > 4 { Err(format!("{shown}: {size} bytes in the place of 4")) } else { Ok(()) };
        }
        if size > 16_344 && long(self.hive, 24) > 3 {
            let head = self.cell(place, &shown, 8)?;
            let count = word(&head, 2);
            if &head[..2] != b"db" || count != size.div_ceil(16_344) {
                return Err(format!("{shown}: its parts"));
            }
            let list = self.cell(long(&head, 4), &shown, 4 * count)?;
            for part in 0..count {
                self.cell(long(&list, 4 * part), &shown, (size - part * 16_344).min(16_344))?;
            }
        } else if size > 0 {
            self.cell(place, &shown, size)?;
        }
        Ok(())
    }

    fn securities(&mut self) -> Outcome<()> {
        for (at, keys) in self.security.clone() {
            let cell = self.cell(at, "security", 20)?;
            if &cell[..2] != b"sk" || 20 + long(&cell, 16) as usize > cell.len() {
                return Err(format!("{at:#x} is no security"));
            }
            if long(&cell, 12) != keys {
                self.wrong.push(format!("the security at {at:#x}: {} keys said, {keys} found", long(&cell, 12)));
            }
            for (there, back) in [(4, 8), (8, 4)] {
                let other = long(&cell, there);
                let body = self.hive.get(PAGE + other as usize + 4..).unwrap_or_default();
                if !body.starts_with(b"sk") || long(body, back) != at || !self.security.contains_key(&other) {
                    self.wrong.push(format!("the security at {at:#x}: its neighbours"));
                }
            }
        }
        Ok(())
    }
}
