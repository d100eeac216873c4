//! Registry hives: an empty one, a log for one, and a strict check that accounts for every cell. Written a second time from what is
//! known of the format, and sharing nothing with the tool.

mod build;
mod check;
mod read;

pub use build::{Given, build};
pub use check::check;
pub use read::{Keys, Values, read};

const NONE: u32 = u32::MAX;
const SECTOR: usize = 512;
const PAGE: usize = 4096;

fn long(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..at + 4).map_or(NONE, |b| u32::from_le_bytes([b[0], b[1], b[2], b[3]]))
}

fn word(bytes: &[u8], at: usize) -> usize {
    bytes.get(at..at + 2).map_or(0, |b| usize::from(u16::from_le_bytes([b[0], b[1]])))
}

fn checksum(base: &[u8]) -> u32 {
    match (0..SECTOR - 4).step_by(4).fold(0, |sum, at| sum ^ long(base, at)) {
        0 => 1,
        NONE => NONE - 1,
        sum => sum,
    }
}

fn put(bytes: &mut [u8], at: usize, value: &[u8]) {
    bytes[at..at + value.len()].copy_from_slice(value);
}

/// A hive of version 1.`minor` with one key, which the system and its administrators may change and others may read.
pub fn empty(minor: u32) -> Vec<u8> {
    build(minor, &[])
}

/// `bytes` with the checksum that a hive or a log of these bytes would have.
pub fn with_checksum(bytes: &[u8]) -> Vec<u8> {
    let mut bytes = bytes.to_vec();
    if bytes.len() >= SECTOR {
        let sum = checksum(&bytes).to_le_bytes();
        put(&mut bytes, SECTOR - 4, &sum);
    }
    bytes
}

/// A descriptor by which the system and its administrators may change a key, and others may read it.
fn descriptor() -> Vec<u8> {
    let sid = |authority: u8, rest: &[u32]| {
        let mut sid = vec![1, rest.len() as u8, 0, 0, 0, 0, 0, authority];
        sid.extend(rest.iter().flat_map(|part| part.to_le_bytes()));
        sid
    };
    let (system, administrators, all) = (sid(5, &[18]), sid(5, &[32, 544]), sid(1, &[0]));
    let allow = |mask: u32, who: &[u8]| {
        let mut entry = vec![0, 2];
        entry.extend((8 + who.len() as u16).to_le_bytes());
        entry.extend(mask.to_le_bytes());
        entry.extend(who);
        entry
    };
    let entries = [allow(0xf_003f, &system), allow(0xf_003f, &administrators), allow(0x2_0019, &all)].concat();
    let mut list = vec![2, 0];
    list.extend((8 + entries.len() as u16).to_le_bytes());
    list.extend([3, 0, 0, 0]);
    list.extend(&entries);
    let mut descriptor = vec![1, 0, 4, 0x80];
    let owner = 20 + list.len() as u32;
    for part in [owner, owner + administrators.len() as u32, 0, 20] {
        descriptor.extend(part.to_le_bytes());
    }
    descriptor.extend([&list[..], &administrators, &system].concat());
    descriptor
}

/// The first block of a hive whose bins have `bins` bytes and whose first key is at `root`.
fn base(minor: u32, root: u32, bins: u32) -> Vec<u8> {
    let mut base = vec![0; PAGE];
    put(&mut base, 0, b"regf");
    for (at, value) in [(4, 1), (8, 1), (20, 1), (24, minor), (32, 1), (36, root), (40, bins), (44, 1)] {
        put(&mut base, at, &value.to_le_bytes());
    }
    let sum = checksum(&base).to_le_bytes();
    put(&mut base, SECTOR - 4, &sum);
    base
}

fn guard(bytes: &[u8]) -> u64 {
    fn mix(low: u32, high: u32) -> (u32, u32) {
        let high = high ^ low;
        let low = low.rotate_left(20).wrapping_add(high);
        let high = high.rotate_left(9) ^ low;
        let low = low.rotate_left(27).wrapping_add(high);
        (low, high.rotate_left(19))
    }
    let (mut low, mut high) = (0x7a4e_55c5_u32, 0x82ef_4d88);
    let whole = bytes.len() / 4 * 4;
    for at in (0..whole).step_by(4) {
        (low, high) = mix(low.wrapping_add(long(bytes, at)), high);
    }
    let mut last = [0; 4];
    put(&mut last, 0, &bytes[whole..]);
    last[bytes.len() - whole] = 0x80;
    (low, high) = mix(low.wrapping_add(u32::from_le_bytes(last)), high);
    (low, high) = mix(low, high);
    u64::from(high) << 32 | u64::from(low)
}

/// The hive `before` as a system leaves it that stopped while it wrote `after`, and the log of that write: of the newer form, or
/// of the older one.
pub fn interrupted(before: &[u8], after: &[u8], is_newer: bool) -> (Vec<u8>, Vec<u8>) {
    let sequence = long(before, 4);
    let mut hive = before.to_vec();
    put(&mut hive, 4, &(sequence + 1).to_le_bytes());
    let sum = checksum(&hive).to_le_bytes();
    put(&mut hive, SECTOR - 4, &sum);
    let (old, new) = (&before[PAGE..], &after[PAGE..]);
    let piece = |bytes: &[u8], at: usize| bytes.get(at..at + SECTOR).map(<[u8]>::to_vec);
    let changed: Vec<usize> = (0..new.len()).step_by(SECTOR).filter(|at| piece(old, *at) != piece(new, *at)).collect();
    let mut log = hive[..SECTOR].to_vec();
    put(&mut log, 28, &(if is_newer { 6_u32 } else { 1 }).to_le_bytes());
    put(&mut log, 40, &(new.len() as u32).to_le_bytes());
    if is_newer {
        let mut body = Vec::new();
        for at in &changed {
            body.extend((*at as u32).to_le_bytes());
            body.extend((SECTOR as u32).to_le_bytes());
        }
        changed.iter().for_each(|at| body.extend(&new[*at..*at + SECTOR]));
        body.resize((40 + body.len()).next_multiple_of(SECTOR) - 40, 0);
        let mut entry = b"HvLE".to_vec();
        for part in [40 + body.len() as u32, 0, sequence, new.len() as u32, changed.len() as u32] {
            entry.extend(part.to_le_bytes());
        }
        entry.extend(guard(&body).to_le_bytes());
        let head = guard(&entry).to_le_bytes();
        log.extend([&entry[..], &head, &body].concat());
    } else {
        let at = log.len();
        put(&mut log, 4, &(sequence + 1).to_le_bytes());
        put(&mut log, 8, &(sequence + 1).to_le_bytes());
        log.extend(b"DIRT");
        log.resize((at + 4 + new.len() / SECTOR / 8).next_multiple_of(SECTOR), 0);
        for sector in changed.iter().map(|at| at / SECTOR) {
            log[at + 4 + sector / 8] |= 1 << (sector % 8);
        }
        changed.iter().for_each(|at| log.extend(&new[*at..*at + SECTOR]));
    }
    let sum = checksum(&log).to_le_bytes();
    put(&mut log, SECTOR - 4, &sum);
    (hive, log)
}
