//! A strict, independent check of a whole NTFS volume, as the machine's own checker would make it: records, update sequences,
//! attributes, run lists, both bitmaps, indexes with their order and their owners, links, mirror, capitals, security and log.
//! Written a second time from what is known of the structures, and sharing nothing with the tool.

mod index;
mod structures;

use std::collections::{BTreeMap, BTreeSet};

use structures::*;

/// What is wrong with a volume; nothing when it is sound.
pub fn check(image: &[u8]) -> Vec<String> {
    let mut check = match Check::begin(image) {
        Ok(check) => check,
        Err(what) => return vec![what],
    };
    if let Err(what) = check.all() {
        check.wrong.push(format!("stopped: {what}"));
    }
    check.wrong.truncate(40);
    check.wrong
}

impl<'a> Check<'a> {
    fn begin(image: &'a [u8]) -> Outcome<Self> {
        if slice(image, 3, 8)? != b"NTFS    " || slice(image, 510, 2)? != [0x55, 0xaa] {
            return Err("not NTFS".into());
        }
        let sector = word(image, 11)?;
        let factor = u64::from(image[13]);
        let cluster = sector * if factor <= 128 { factor } else { 1 << (256 - factor) };
        let sectors = wide(image, 40)?;
        let record = image[64].cast_signed();
        let record = if record < 0 { 1 << -record } else { u64::try_from(record).unwrap_or_default() * cluster };
        Ok(Self {
            image,
            cluster: cluster as usize,
            clusters: sectors * sector / cluster,
            record: record as usize,
            sectors_end: (sectors * sector) as usize,
            mft: (wide(image, 48)? * cluster) as usize,
            raw: Vec::new(),
            records: BTreeMap::new(),
            attributes: BTreeMap::new(),
            files: BTreeMap::new(),
            capitals: Vec::new(),
            wrong: Vec::new(),
        })
    }

    fn all(&mut self) -> Outcome<()> {
        self.load()?;
        self.put_together();
        self.clusters()?;
        self.folders()?;
        self.security()?;
        self.system()
    }

    fn parse(&self, number: u64, r: &[u8]) -> Outcome<(Vec<Attribute>, Option<String>)> {
        let used = long(r, 24)? as usize;
        let mut at = word(r, 20)? as usize;
        let mut found = Vec::new();
        loop {
            if at + 4 > used {
                return Err(format!("record {number}: attributes go on behind the {used} bytes in use"));
            }
            let kind = long(r, at)?;
            if kind == 0xffff_ffff {
                let wrong = (used != at + 8).then(|| format!("record {number}: {used} bytes in use, end at {at}"));
                return Ok((found, wrong));
            }
            let len = long(r, at + 4)? as usize;
            if !len.is_multiple_of(8) || len < 24 || at + len > used {
                return Err(format!("record {number}: attribute {kind:#x} of {len} bytes"));
            }
            let a = slice(r, at, len)?;
            let name = units(slice(a, word(a, 10)? as usize, 2 * usize::from(a[9]))?);
            let value = if a[8] == 0 {
                Value::Here(slice(a, word(a, 20)? as usize, long(a, 16)? as usize)?.to_vec())
            } else {
                let what = format!("record {number} attribute {kind:#x}");
                let runs = runs(a.get(word(a, 32)? as usize..).unwrap_or_default(), &what)?;
                let (first, last) = (wide(a, 16)?, wide(a, 24)?);
                if runs.iter().map(|run| run.1).sum::<u64>() != last.wrapping_add(1).wrapping_sub(first) {
                    return Err(format!("{what}: its runs do not cover {first} to {last}"));
                }
                Value::There { runs, allocated: wide(a, 40)?, size: wide(a, 48)?, initialized: wide(a, 56)? }
            };
            found.push(Attribute { kind, name, flags: word(a, 12)?, id: word(a, 14)?, value });
            at += len;
        }
    }

    fn content(&self, runs: &[Run], size: u64) -> Outcome<Vec<u8>> {
        let mut out = Vec::new();
        for (first, count) in runs {
            let len = *count as usize * self.cluster;
            match first {
                None => out.resize(out.len() + len, 0),
                Some(first) => out.extend(slice(self.image, *first as usize * self.cluster, len)?),
            }
        }
        out.truncate(size as usize);
        Ok(out)
    }

    fn data(&self, attribute: &Attribute) -> Outcome<Vec<u8>> {
        match &attribute.value {
            Value::Here(bytes) => Ok(bytes.clone()),
            Value::There { runs, size, .. } => self.content(runs, *size),
        }
    }

    fn upper(&self, name: &[u16]) -> Vec<u16> {
        name.iter().map(|unit| self.capitals.get(usize::from(*unit)).copied().unwrap_or(*unit)).collect()
    }

    fn load(&mut self) -> Outcome<()> {
        let first = unfix(slice(self.image, self.mft, self.record)?, b"FILE", "record 0")?;
        let own = self.parse(0, &first)?.0;
        let data = own.iter().find(|one| one.kind == 0x80).ok_or("record 0 has no data")?;
        let Value::There { runs, size, .. } = &data.value else { return Err("record 0 holds its own data".into()) };
        let (mut runs, size) = (runs.clone(), *size);
        if let Some(list) = own.iter().find(|one| one.kind == 0x20) {
            let list = self.data(list)?;
            let mut at = 0;
            while at + 26 <= list.len() {
                let further = wide(&list, at + 16)? & REFERENCE;
                if long(&list, at)? == 0x80 && further != 0 {
                    let raw = self.content(&runs, u64::MAX >> 8)?;
                    let bytes =
                        unfix(slice(&raw, further as usize * self.record, self.record)?, b"FILE", "a record of $MFT")?;
                    let more = self.parse(further, &bytes)?.0.into_iter().find(|one| one.kind == 0x80);
                    if let Some(Attribute { value: Value::There { runs: more, .. }, .. }) = more {
                        runs.extend(more);
                    }
                }
                at += word(&list, at + 4)?.max(8) as usize;
            }
        }
        self.raw = self.content(&runs, size)?;
        for number in 0..self.raw.len() / self.record {
            let bytes = &self.raw[number * self.record..(number + 1) * self.record];
            if bytes.iter().all(|byte| *byte == 0) {
                continue;
            }
            let number = number as u64;
            match unfix(bytes, b"FILE", &format!("record {number}")) {
                Ok(record) => self.load_record(number, record)?,
                Err(what) => self.wrong.push(what),
            }
        }
        let capitals =
            self.attributes.get(&10).and_then(|all| all.iter().find(|one| one.kind == 0x80)).ok_or("no $UpCase")?;
        self.capitals = units(&self.data(capitals)?);
        let is_upper = |unit: u8| self.capitals.get(usize::from(unit)) == Some(&u16::from(unit.to_ascii_uppercase()));
        if self.capitals.len() != 1 << 16 || !(0..128).all(is_upper) {
            self.wrong.push("$UpCase is wrong for ASCII".into());
        }
        let unordered = self.attributes.iter().filter(|(_, all)| {
            let keys: Vec<_> = all.iter().map(|one| (one.kind, self.upper(&one.name))).collect();
            !keys.is_sorted()
        });
        let unordered: Vec<String> = unordered.map(|(n, _)| format!("record {n}: attributes out of order")).collect();
        self.wrong.extend(unordered);
        Ok(())
    }

    fn load_record(&mut self, number: u64, record: Vec<u8>) -> Outcome<()> {
        if word(&record, 22)? & 1 == 1 {
            if long(&record, 28)? as usize != self.record {
                self.wrong.push(format!("record {number}: says it has {} bytes", long(&record, 28)?));
            }
            if word(&record, 4)? >= 0x30 && long(&record, 44)? != number {
                self.wrong.push(format!("record {number}: says it is {}", long(&record, 44)?));
            }
            match self.parse(number, &record) {
                Ok((found, wrong)) => {
                    self.wrong.extend(wrong);
                    let ids: BTreeSet<u64> = found.iter().map(|one| one.id).collect();
                    if ids.len() != found.len() {
                        self.wrong.push(format!("record {number}: numbers of attributes are not unique"));
                    }
                    if ids.last().is_some_and(|id| *id >= word(&record, 40).unwrap_or_default()) {
                        self.wrong.push(format!("record {number}: the next number was given already"));
                    }
                    self.attributes.insert(number, found);
                }
                Err(what) => self.wrong.push(what),
            }
        }
        self.records.insert(number, record);
        Ok(())
    }

    fn put_together(&mut self) {
        let mut files = BTreeMap::new();
        let mut listed = BTreeSet::new();
        for (number, own) in &self.attributes {
            let record = &self.records[number];
            if wide(record, 32).unwrap_or_default() != 0 {
                continue;
            }
            let reference = number | word(record, 16).unwrap_or_default() << 48;
            let mut all = own.clone();
            if let Some(list) = own.iter().find(|one| one.kind == 0x20) {
                all = vec![list.clone()];
                let bytes = self.data(list).unwrap_or_default();
                let mut at = 0;
                while at + 26 <= bytes.len() {
                    let (kind, further) =
                        (long(&bytes, at).unwrap_or_default(), wide(&bytes, at + 16).unwrap_or_default());
                    let (record, id) = (further & REFERENCE, word(&bytes, at + 24).unwrap_or_default());
                    let found = self.attributes.get(&record).into_iter().flatten();
                    match found.into_iter().find(|one| one.kind == kind && one.id == id) {
                        Some(found) => all.push(found.clone()),
                        None => {
                            self.wrong
                                .push(format!("record {number}: its list names {kind:#x} in {record}, not there"));
                        }
                    }
                    listed.insert(record);
                    let base = self.records.get(&record).and_then(|bytes| wide(bytes, 32).ok());
                    if record != *number && base != Some(reference) {
                        self.wrong.push(format!("record {record}: its base is not {number}"));
                    }
                    at += word(&bytes, at + 4).unwrap_or_default().max(8) as usize;
                }
            }
            let mut whole = Whole::default();
            for one in all {
                if let (0x30, Value::Here(name)) = (one.kind, &one.value) {
                    whole.names.push(name.clone());
                    continue;
                }
                match whole.parts.entry((one.kind, one.name.clone())) {
                    std::collections::btree_map::Entry::Vacant(place) => drop(place.insert(one)),
                    std::collections::btree_map::Entry::Occupied(mut known) => {
                        if let (Value::There { runs, .. }, Value::There { runs: more, .. }) =
                            (&mut known.get_mut().value, one.value)
                        {
                            runs.extend(more);
                        } else {
                            self.wrong.push(format!("record {number}: attribute {:#x} twice", one.kind));
                        }
                    }
                }
            }
            files.insert(*number, whole);
        }
        let lost = self
            .attributes
            .keys()
            .filter(|number| wide(&self.records[number], 32).is_ok_and(|base| base != 0) && !listed.contains(number));
        let lost: Vec<String> = lost.map(|number| format!("record {number}: in use, and no list names it")).collect();
        self.wrong.extend(lost);
        self.files = files;
    }

    fn clusters(&mut self) -> Outcome<()> {
        let mut owner = vec![0_u32; self.clusters as usize];
        let mut wrong = Vec::new();
        for (number, whole) in &self.files {
            for ((kind, name), one) in &whole.parts {
                let Value::There { runs, allocated, size, initialized } = &one.value else { continue };
                let what = format!("record {number} attribute {kind:#x} {}", String::from_utf16_lossy(name));
                let bad = *number == 8 && *name == key("$Bad");
                let sum: u64 = runs.iter().map(|run| run.1).sum();
                if !allocated.is_multiple_of(self.cluster as u64) || initialized > size || size > allocated {
                    wrong.push(format!("{what}: lengths {allocated} {size} {initialized}"));
                }
                if sum * self.cluster as u64 != *allocated {
                    wrong.push(format!("{what}: {sum} clusters, and {allocated} bytes"));
                }
                if one.flags & 0x8001 == 0 && !bad && runs.iter().any(|run| run.0.is_none()) {
                    wrong.push(format!("{what}: a hole in what is not sparse"));
                }
                for (first, count) in runs.iter().filter_map(|(first, count)| Some(((*first)?, *count))) {
                    if first.checked_add(count).is_none_or(|end| end > self.clusters) {
                        wrong.push(format!("{what}: a run outside the volume"));
                        continue;
                    }
                    for place in &mut owner[first as usize..(first + count) as usize] {
                        if *place != 0 {
                            wrong.push(format!("{what}: shares a cluster with record {}", *place - 1));
                            break;
                        }
                        *place = *number as u32 + 1;
                    }
                }
            }
        }
        let bitmap = self.files.get(&6).and_then(|file| file.parts.get(&(0x80, Vec::new()))).ok_or("no $Bitmap")?;
        let bits = self.data(bitmap)?;
        let is_set = |bits: &[u8], at: usize| bits.get(at / 8).is_some_and(|byte| byte >> (at % 8) & 1 == 1);
        for (at, place) in owner.iter().enumerate() {
            if is_set(&bits, at) != (*place != 0) {
                wrong.push(format!(
                    "$Bitmap: cluster {at} is {}",
                    if *place == 0 { "marked and nobody's" } else { "used and not marked" }
                ));
                break;
            }
        }
        let records =
            self.files.get(&0).and_then(|file| file.parts.get(&(0xb0, Vec::new()))).ok_or("no bitmap of $MFT")?;
        let bits = self.data(records)?;
        for number in 0..(bits.len() * 8).max(self.raw.len() / self.record) {
            let used = self.records.get(&(number as u64)).is_some_and(|record| record[22] & 1 == 1);
            if is_set(&bits, number) != used && !(12..24).contains(&number) {
                wrong.push(format!("bitmap of $MFT: record {number}"));
            }
        }
        self.wrong.extend(wrong);
        Ok(())
    }

    fn security(&mut self) -> Outcome<()> {
        let sds = self.files.get(&9).and_then(|file| file.parts.get(&(0x80, key("$SDS")))).ok_or("no $SDS")?;
        let sds = self.data(sds)?;
        let hash = |bytes: &[u8]| {
            let words = bytes.chunks_exact(4).map(|four| u32::from_le_bytes([four[0], four[1], four[2], four[3]]));
            words.fold(0_u32, |sum, word| sum.rotate_left(3).wrapping_add(word))
        };
        let entries = self.index(9, "$SII", &|_, entry| Ok(vec![long(entry, 16)?]))?;
        self.index(9, "$SDH", &|_, entry| Ok(vec![long(entry, 16)?, long(entry, 20)?]))?;
        let mut ids = BTreeSet::new();
        for entry in entries {
            let at = word(&entry, 0)? as usize;
            let data = slice(&entry, at, 20)?;
            let (id, place, len) = (long(data, 4)?, wide(data, 8)? as usize, long(data, 16)? as usize);
            ids.insert(id);
            let kept = slice(&sds, place, len)?;
            if &kept[..20] != data
                || u64::from(hash(&kept[20..])) != long(data, 0)?
                || slice(&sds, place + 0x40000, len)? != kept
            {
                self.wrong.push(format!("$SDS: descriptor {id}"));
            }
        }
        for (number, whole) in &self.files {
            let information = whole.parts.get(&(0x10, Vec::new())).map(|one| self.data(one)).transpose()?;
            match information {
                None if *number >= 24 => self.wrong.push(format!("record {number}: no standard information")),
                Some(bytes) if bytes.len() >= 72 => {
                    let id = long(&bytes, 52)?;
                    if id != 0 && !ids.contains(&id) {
                        self.wrong.push(format!("record {number}: security {id} is not known"));
                    }
                }
                _ => {}
            }
        }
        Ok(())
    }

    fn system(&mut self) -> Outcome<()> {
        let part = |number, kind| self.files.get(&number).and_then(|file: &Whole| file.parts.get(&(kind, Vec::new())));
        let mirror = self.data(part(1, 0x80).ok_or("no $MFTMirr")?)?;
        let copied = mirror.len().min(4 * self.record);
        if self.raw.get(..copied) != mirror.get(..copied) {
            self.wrong.push("$MFTMirr differs".into());
        }
        if slice(self.image, self.sectors_end, 512)? != &self.image[..512] {
            self.wrong.push("the copy of the boot sector differs".into());
        }
        let information = self.data(part(3, 0x70).ok_or("no information on the volume")?)?;
        if word(&information, 10)? & 1 == 1 {
            self.wrong.push("the volume is marked for a check".into());
        }
        let log = self.data(part(2, 0x80).ok_or("no $LogFile")?)?;
        if log.starts_with(b"RSTR") {
            let page = unfix(slice(&log, 0, 4096)?, b"RSTR", "$LogFile")?;
            let area = word(&page, 24)? as usize;
            if word(&page, area + 12)? != 0xffff && word(&page, area + 14)? & 2 == 0 {
                self.wrong.push("$LogFile was not closed".into());
            }
        } else if !log.iter().take(4096).all(|byte| *byte == 0xff) {
            self.wrong.push("$LogFile begins with neither".into());
        }
        Ok(())
    }
}
