//! What a member of a software RAID of Linux says of itself and of its array (Linux, `include/uapi/linux/raid/md_p.h`; `man 4 md`).

use reformis_disk::to_usize;
use uuid::Uuid;

use crate::{bench::Device, error::Result};

const MAGIC: u32 = 0xa92b_4efc;
/// Bytes of the part of version 1 that always has the same length; the roles follow.
const HEAD: usize = 256;
/// Most roles that a sector-aligned superblock of version 1 holds (`MD_SB_BYTES`).
const MOST_ROLES: usize = 1920;
/// Bytes of version 0.90.
const OLD: usize = 4096;
const SECTOR: u64 = 512;

/// A member, as its superblock has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Member {
    /// Of the array.
    pub(super) uuid: Uuid,
    /// Which metadata: `0.90`, `1.0`, `1.1`, `1.2`.
    pub(super) version: &'static str,
    /// The array's name, or number.
    pub(super) name: String,
    /// −1 is linear.
    pub(super) level: i32,
    /// How chunks lie, where the level has several ways.
    pub(super) layout: u32,
    /// Bytes of a chunk.
    pub(super) chunk: u64,
    /// Members that the array has when all are there.
    pub(super) disks: usize,
    /// Bytes of each member that the array uses, where all use as much.
    pub(super) used: u64,
    /// First byte of its data, and how many there are.
    pub(super) data: (u64, u64),
    /// Its place in the array; none for a spare, and for one that failed or is being filled.
    pub(super) role: Option<usize>,
    /// How often the array changed its state; who knows of more is right.
    pub(super) events: u64,
    /// Whether the array was stopped with nothing left to be made the same.
    pub(super) is_clean: bool,
    /// Whether its shape was being changed.
    pub(super) is_reshaping: bool,
    /// What it has that is not known here.
    pub(super) strange: Option<&'static str>,
}

/// The superblock of `device`, where it is a member; its bytes are checked before they are believed.
///
/// # Errors
/// Those of reading.
pub(super) fn read(device: &Device) -> Result<Option<Member>> {
    let size = device.size();
    // At the end (1.0), at the start (1.1), 4 KiB behind it (1.2), and at the end in units of 64 KiB (0.90).
    let ends = (size / SECTOR).checked_sub(16).map(|sector| sector / 8 * 8 * SECTOR);
    let places = [ends.map(|at| (at, "1.0")), Some((0, "1.1")), Some((4096, "1.2"))];
    for (at, version) in places.into_iter().flatten() {
        if let Some(found) = of_version_1(device, at, version)? {
            return Ok(Some(found));
        }
    }
    let old = (size / 65_536).checked_sub(1).map(|unit| unit * 65_536);
    old.map_or(Ok(None), |at| of_version_0(device, at))
}

/// Numbers of a superblock, little endian.
struct Fields<'b>(&'b [u8]);

impl Fields<'_> {
    fn number<const N: usize>(&self, at: usize) -> [u8; N] {
        self.0.get(at..at + N).and_then(|bytes| bytes.try_into().ok()).unwrap_or([0; N])
    }

    fn u16(&self, at: usize) -> u16 {
        u16::from_le_bytes(self.number(at))
    }

    fn u32(&self, at: usize) -> u32 {
        u32::from_le_bytes(self.number(at))
    }

    fn u64(&self, at: usize) -> u64 {
        u64::from_le_bytes(self.number(at))
    }

    /// All words of 32 bits but the one at `sum`, added and folded.
    fn sum(&self, sum: usize) -> u32 {
        let words = self.0.chunks_exact(4);
        let rest = match *words.remainder() {
            [low, high, ..] => u64::from(u16::from_le_bytes([low, high])),
            _ => 0,
        };
        let all: u64 = words.map(|word| u64::from(u32::from_le_bytes(word.try_into().unwrap_or_default()))).sum();
        let all = all + rest - u64::from(self.u32(sum));
        let low = |number: u64| u32::try_from(number & 0xffff_ffff).unwrap_or(0);
        low(all).wrapping_add(low(all >> 32))
    }
}

fn sectors(number: u64) -> Option<u64> {
    number.checked_mul(SECTOR)
}

fn of_version_1(device: &Device, at: u64, version: &'static str) -> Result<Option<Member>> {
    let mut bytes = vec![0; HEAD];
    if at.checked_add(HEAD as u64).is_none_or(|end| end > device.size()) {
        return Ok(None);
    }
    device.read(at, &mut bytes)?;
    let fields = Fields(&bytes);
    let roles = fields.u32(220) as usize;
    let is_one = fields.u32(0) == MAGIC && fields.u32(4) == 1 && roles <= MOST_ROLES;
    // It says where it is, so that a copy elsewhere is none.
    if !is_one || sectors(fields.u64(144)) != Some(at) {
        return Ok(None);
    }
    bytes.resize(HEAD + roles * 2, 0);
    if at + bytes.len() as u64 > device.size() {
        return Ok(None);
    }
    device.read(at, &mut bytes)?;
    let fields = Fields(&bytes);
    if fields.sum(216) != fields.u32(216) {
        return Ok(None);
    }
    let features = fields.u32(8);
    let of = |number: u64| sectors(number).unwrap_or(u64::MAX);
    let (number, role) = (fields.u32(160) as usize, |number: usize| fields.u16(HEAD + number * 2));
    // From 0xfffd on: a journal, a failed one, a spare. One that is being filled is not right yet (feature 2).
    let is_whole = number < roles && role(number) < 0xfffd && features & 2 == 0;
    let name = bytes.get(32..64).unwrap_or_default();
    let name = String::from_utf8_lossy(name.split(|byte| *byte == 0).next().unwrap_or_default()).into_owned();
    // 1: a bitmap, 2: being filled, 4: reshaped, 8: bad blocks, 16: reshaped in place, 32: backwards, 64: data moved, 256: clustered,
    // 512: a journal of its own, 1024: a journal of parts, 2048: the same in several, 4096: the layout of RAID 0 is told.
    let strange = match features {
        features if features & 8 != 0 => Some("it has blocks that could not be written"),
        features if features & 256 != 0 => Some("it is shared by a cluster"),
        features if features & !0x1fff != 0 => Some("it has features that are not known here"),
        _ => None,
    };
    Ok(Some(Member {
        uuid: Uuid::from_bytes(fields.number(16)),
        version,
        name: name.rsplit_once(':').map_or(name.clone(), |(_, name)| name.into()),
        level: i32::from_le_bytes(fields.number(72)),
        layout: fields.u32(76),
        chunk: of(fields.u32(88).into()),
        disks: fields.u32(92) as usize,
        used: of(fields.u64(80)),
        data: (of(fields.u64(128)), of(fields.u64(136))),
        role: is_whole.then(|| usize::from(role(number))),
        events: fields.u64(200),
        is_clean: fields.u64(208) == u64::MAX,
        is_reshaping: features & (4 | 16 | 32 | 64) != 0,
        strange,
    }))
}

fn of_version_0(device: &Device, at: u64) -> Result<Option<Member>> {
    let mut bytes = vec![0; OLD];
    if at.checked_add(OLD as u64).is_none_or(|end| end > device.size()) {
        return Ok(None);
    }
    device.read(at, &mut bytes)?;
    let fields = Fields(&bytes);
    let word = |number: usize| fields.u32(number * 4);
    if word(0) != MAGIC || word(1) != 0 || !matches!(word(2), 90 | 91) || fields.sum(38 * 4) != word(38) {
        return Ok(None);
    }
    // Its place is counted in units, so that a partition that ends with its disk shows it on both: it is of that which is as long as it says.
    let used = u64::from(word(8)) * 1024;
    let level = i32::from_le_bytes(fields.number(7 * 4));
    if level >= 1 && (used > at || at - used >= LOST) {
        return Ok(None);
    }
    let uuid: Vec<u8> = [5, 13, 14, 15].into_iter().flat_map(|number| word(number).to_be_bytes()).collect();
    // Of this member: its place, and bits for failed (0), active (1), in sync (2).
    let (role, state) = (word(992 + 3), word(992 + 4));
    Ok(Some(Member {
        uuid: Uuid::from_slice(&uuid).unwrap_or_default(),
        version: "0.90",
        name: word(11).to_string(),
        level,
        layout: word(64),
        chunk: word(65).into(),
        disks: word(10) as usize,
        used,
        data: (0, at),
        role: (state & 0b111 == 0b110).then(|| to_usize(role.into())),
        events: u64::from(word(40)) << 32 | u64::from(word(39)),
        is_clean: word(33) & 1 != 0,
        is_reshaping: word(2) == 91,
        strange: None,
    }))
}

/// The most that a member loses to whole chunks, in bytes.
const LOST: u64 = 16 << 20;
