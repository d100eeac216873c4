//! A plain packer for LZX, for what reads it: one piece of up to 32 KiB, as Windows images and files that the system compressed
//! have it, or as cabinets do, which other programs open.

/// Where a piece is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// A Windows image, or a file that the system compressed.
    Image,
    /// A cabinet.
    Cabinet,
}

/// Which kind of block is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Block {
    /// With codes.
    Verbatim,
    /// With codes for the lowest bits of distances, too.
    Aligned,
    /// As it is.
    Stored,
}

#[derive(Default)]
struct Bits {
    bytes: Vec<u8>,
    word: u32,
    count: u32,
}

impl Bits {
    fn put(&mut self, value: u32, count: u32) {
        for bit in (0..count).rev() {
            self.word = self.word << 1 | (value >> bit & 1);
            self.count += 1;
            if self.count == 16 {
                self.bytes.extend((self.word as u16).to_le_bytes());
                (self.word, self.count) = (0, 0);
            }
        }
    }

    fn align(&mut self) {
        if self.count > 0 {
            self.put(0, 16 - self.count);
        }
    }
}

/// Lengths of a complete code for the symbols that are used.
fn lengths(used: &[bool]) -> Vec<u8> {
    let mut used = used.to_vec();
    // A code of one symbol is none.
    while used.iter().filter(|used| **used).count() < 2 {
        let free = used.iter().position(|used| !used).unwrap_or_default();
        used[free] = true;
    }
    let count = used.iter().filter(|used| **used).count();
    let longest = count.next_power_of_two().trailing_zeros() as u8;
    let mut shorter = (1 << longest) - count;
    used.iter()
        .map(|used| match (used, shorter) {
            (false, _) => 0,
            (true, 0) => longest,
            (true, _) => {
                shorter -= 1;
                longest - 1
            }
        })
        .collect()
}

/// The code of each symbol.
fn codes(lengths: &[u8]) -> Vec<(u32, u32)> {
    let mut next = 0_u32;
    let mut found = vec![(0, 0); lengths.len()];
    for length in 1..=16_u8 {
        next <<= 1;
        for (symbol, _) in lengths.iter().enumerate().filter(|(_, known)| **known == length) {
            found[symbol] = (next, length.into());
            next += 1;
        }
    }
    found
}

/// Tells lengths as differences to none before: zeros in runs, and runs of one length.
fn put_lengths(bits: &mut Bits, lengths: &[u8]) {
    let own: Vec<u8> = (0..20).map(|symbol| if symbol < 12 { 4 } else { 5 }).collect();
    own.iter().for_each(|length| bits.put((*length).into(), 4));
    let codes = codes(&own);
    let symbol = |bits: &mut Bits, symbol: usize| bits.put(codes[symbol].0, codes[symbol].1);
    let mut at = 0;
    while at < lengths.len() {
        let run = lengths[at..].iter().take_while(|length| **length == lengths[at]).count();
        let difference = usize::from((17 - lengths[at]) % 17);
        match (lengths[at], run) {
            (0, 20..) => {
                let run = run.min(51);
                symbol(bits, 18);
                bits.put(run as u32 - 20, 5);
                at += run;
            }
            (0, 4..) => {
                symbol(bits, 17);
                bits.put(run as u32 - 4, 4);
                at += run;
            }
            (_, 4..) => {
                let run = run.min(5);
                symbol(bits, 19);
                bits.put(run as u32 - 4, 1);
                symbol(bits, difference);
                at += run;
            }
            _ => {
                symbol(bits, difference);
                at += 1;
            }
        }
    }
}

enum Item {
    Byte(u8),
    /// Length and distance.
    Copy(usize, usize),
}

/// What repeats is copied, by a plain search.
fn items(data: &[u8]) -> Vec<Item> {
    let mut found = Vec::new();
    let mut last = std::collections::HashMap::new();
    let mut at = 0;
    while at < data.len() {
        let key = data.get(at..at + 4).map(<[u8]>::to_vec);
        let before = key.clone().and_then(|key| last.get(&key).copied());
        if let Some(key) = key {
            last.insert(key, at);
        }
        match before {
            Some(before) => {
                let before: usize = before;
                let len = (0..257)
                    .take_while(|step| at + step < data.len() && data[before + step] == data[at + step])
                    .count();
                found.push(Item::Copy(len, at - before));
                at += len;
            }
            None => {
                found.push(Item::Byte(data[at]));
                at += 1;
            }
        }
    }
    found
}

/// The class of a distance, what is added to it, and in how many bits.
fn class(distance: usize, recent: &mut [usize; 3]) -> (usize, u32, u32) {
    if let Some(known) = recent.iter().position(|known| *known == distance) {
        recent.swap(0, known);
        return (known, 0, 0);
    }
    *recent = [distance, recent[0], recent[1]];
    let formatted = distance + 2;
    let slot = (0..30).rev().find(|slot| first(*slot).0 <= formatted).unwrap_or_default();
    let (first, bits) = first(slot);
    (slot, (formatted - first) as u32, bits)
}

fn first(slot: usize) -> (usize, u32) {
    if slot < 4 { (slot, 0) } else { ((2 + slot % 2) << (slot / 2 - 1), slot as u32 / 2 - 1) }
}

/// Calls in `data` as an image keeps them: absolute.
fn absolute_calls(data: &mut [u8]) {
    let mut at = 0;
    while at + 10 < data.len() {
        if data[at] != 0xe8 {
            at += 1;
            continue;
        }
        let place = at as i32;
        let relative = i32::from_le_bytes([data[at + 1], data[at + 2], data[at + 3], data[at + 4]]);
        if (-place..12_000_000).contains(&relative) {
            let absolute = if relative < 12_000_000 - place { relative + place } else { relative - 12_000_000 };
            data[at + 1..at + 5].copy_from_slice(&absolute.to_le_bytes());
        }
        at += 5;
    }
}

/// Packs `data`, of at most 32 KiB, into one piece of one block.
pub fn pack(data: &[u8], form: Form, block: Block) -> Vec<u8> {
    let mut data = data.to_vec();
    let mut bits = Bits::default();
    if form == Form::Image {
        absolute_calls(&mut data);
    } else {
        bits.put(0, 1);
    }
    bits.put(
        match block {
            Block::Verbatim => 1,
            Block::Aligned => 2,
            Block::Stored => 3,
        },
        3,
    );
    match (form, data.len()) {
        (Form::Image, 0x8000) => bits.put(1, 1),
        (Form::Image, len) => {
            bits.put(0, 1);
            bits.put(len as u32, 16);
        }
        (Form::Cabinet, len) => bits.put(len as u32, 24),
    }
    if block == Block::Stored {
        if bits.count == 0 {
            bits.put(0, 16);
        } else {
            bits.align();
        }
        let mut bytes = bits.bytes;
        bytes.extend([1_u32; 3].iter().flat_map(|recent| recent.to_le_bytes()));
        bytes.extend(&data);
        bytes.extend((data.len() % 2 == 1).then_some(0));
        return bytes;
    }
    let items = items(&data);
    let (mut main, mut long) = (vec![false; 256 + 8 * 30], vec![false; 249]);
    let mut recent = [1; 3];
    for item in &items {
        match item {
            Item::Byte(byte) => main[usize::from(*byte)] = true,
            Item::Copy(len, distance) => {
                let (slot, ..) = class(*distance, &mut recent);
                main[256 + 8 * slot + (len - 2).min(7)] = true;
                if len - 2 >= 7 {
                    long[len - 9] = true;
                }
            }
        }
    }
    let low = [3_u8; 8];
    if block == Block::Aligned {
        low.iter().for_each(|length| bits.put((*length).into(), 3));
    }
    let (main, long) = (lengths(&main), lengths(&long));
    put_lengths(&mut bits, &main[..256]);
    put_lengths(&mut bits, &main[256..]);
    put_lengths(&mut bits, &long);
    let (main, long, low) = (codes(&main), codes(&long), codes(&low));
    let mut recent = [1; 3];
    for item in &items {
        match item {
            Item::Byte(byte) => bits.put(main[usize::from(*byte)].0, main[usize::from(*byte)].1),
            Item::Copy(len, distance) => {
                let (slot, more, count) = class(*distance, &mut recent);
                let code = main[256 + 8 * slot + (len - 2).min(7)];
                bits.put(code.0, code.1);
                if len - 2 >= 7 {
                    bits.put(long[len - 9].0, long[len - 9].1);
                }
                if block == Block::Aligned && count >= 3 {
                    bits.put(more >> 3, count - 3);
                    bits.put(low[more as usize & 7].0, low[more as usize & 7].1);
                } else {
                    bits.put(more, count);
                }
            }
        }
    }
    bits.align();
    bits.bytes
}

/// A cabinet with one file, whose bytes are one packed piece (\[MS-CAB\]).
pub fn cabinet(name: &str, len: usize, piece: &[u8]) -> Vec<u8> {
    let mut body = Vec::new();
    let files_at = 36 + 8;
    let data_at = files_at + 16 + name.len() + 1;
    body.extend((data_at as u32).to_le_bytes());
    // One piece, LZX with a window of 32 KiB.
    body.extend([1, 0, 3, 15]);
    body.extend((len as u32).to_le_bytes());
    body.extend([0; 4]);
    body.extend([0, 0, 0x21, 0x5b, 0, 0, 0x20, 0]);
    body.extend(name.as_bytes());
    body.push(0);
    body.extend([0; 4]);
    body.extend((piece.len() as u16).to_le_bytes());
    body.extend((len as u16).to_le_bytes());
    body.extend(piece);
    let mut cabinet = b"MSCF\0\0\0\0".to_vec();
    cabinet.extend((36 + body.len() as u32).to_le_bytes());
    cabinet.extend([0; 4]);
    cabinet.extend((files_at as u32).to_le_bytes());
    cabinet.extend([0; 4]);
    cabinet.extend([3, 1, 1, 0, 1, 0, 0, 0, 1, 0, 0, 0]);
    cabinet.extend(body);
    cabinet
}
