//! Reading FAT12, FAT16 and FAT32 (Microsoft's FAT specification of 2000, "FAT: General Overview of On-Disk Format").
//!
//! A stranger made it: chains may come back to themselves, and lead anywhere.

use super::Fat;
use crate::{bench::Device, error::Result};
use reformis_disk::to_usize;

/// The longest folder that is read, in bytes.
const MAX_FOLDER: usize = 2 << 20;

pub(super) const ATTR_VOLUME: u8 = 0x08;
pub(super) const ATTR_FOLDER: u8 = 0x10;
pub(super) const ATTR_LONG_NAME: u8 = 0x0f;
/// First byte of a slot that is free.
pub(super) const DELETED: u8 = 0xe5;
/// Bit of the number of the part of a long name that is its last, and comes first.
pub(super) const LAST_PART: u8 = 0x40;

/// Where a folder lies.
#[derive(Debug, Clone, Copy)]
pub(super) enum Root {
    /// In the region of its own that the first folder has in FAT12 and FAT16: its byte and length.
    Region(u64, usize),
    /// In a chain of clusters.
    Chain(u32),
}

/// An entry of a folder.
#[derive(Debug, Clone)]
pub(crate) struct Entry {
    pub(crate) name: String,
    pub(crate) is_folder: bool,
    pub(super) cluster: u32,
    /// Bytes; 0 for a folder.
    pub(crate) size: u64,
    /// Time of the last change in seconds since 1970, as the file system has no time zone.
    pub(crate) modified: i64,
    /// Byte of its own slot on the volume.
    pub(super) place: u64,
    /// Its slots in its folder: the parts of its long name, and its own.
    pub(super) slots: std::ops::Range<usize>,
}

/// Where things lie.
#[derive(Debug, Clone)]
pub(super) struct Geometry {
    /// Bits of a table's entry: 12, 16 or 32.
    pub(super) bits: u32,
    /// Byte of the table that is read: the first one, or the one that is said to be in use alone.
    pub(super) table: u64,
    /// Bytes of all tables that are written.
    pub(super) tables: Vec<u64>,
    /// Byte of the first cluster.
    pub(super) data: u64,
    /// Bytes of a cluster.
    pub(super) cluster: u64,
    /// Number of clusters.
    pub(super) clusters: u64,
    pub(super) root: Root,
    pub(super) volume_id: u32,
    /// Byte of the sector that counts free clusters, where there is a sound one.
    pub(super) info: Option<u64>,
}

impl Fat {
    /// Reads the first sector; `None` when it is none of FAT. Changes are made at `now`, in seconds since 1970.
    #[expect(clippy::indexing_slicing, reason = "a sector has 512 bytes and an entry 32")]
    pub(crate) fn open(device: Device, now: i64) -> Result<Option<Self>> {
        let mut sector = [0; 512];
        if device.size() < 512 {
            return Ok(None);
        }
        device.read(0, &mut sector)?;
        let le16 = |at: usize| u64::from(u16::from_le_bytes([sector[at], sector[at + 1]]));
        let le32 = |at: usize| u32::from_le_bytes([sector[at], sector[at + 1], sector[at + 2], sector[at + 3]]);
        let bytes_per_sector = le16(11);
        let sectors_per_cluster = u64::from(sector[13]);
        let (reserved, tables, root_entries) = (le16(14), u64::from(sector[16]), le16(17));
        let either = |small: u64, large: u32| if small == 0 { u64::from(large) } else { small };
        let (total, table_sectors) = (either(le16(19), le32(32)), either(le16(22), le32(36)));
        let sound = (512..=4096).contains(&bytes_per_sector)
            && bytes_per_sector.is_power_of_two()
            && sectors_per_cluster.is_power_of_two()
            && reserved > 0
            && (1..=2).contains(&tables);
        if !sound {
            return Ok(None);
        }
        // All numbers have 32 bits at the most, so that nothing here grows beyond 64.
        let root_at = (reserved + tables * table_sectors) * bytes_per_sector;
        let root_len = (root_entries * 32).next_multiple_of(bytes_per_sector);
        let data = root_at + root_len;
        let cluster = sectors_per_cluster * bytes_per_sector;
        let Some(room) = (total * bytes_per_sector).min(device.size()).checked_sub(data) else { return Ok(None) };
        let clusters = room / cluster;
        let bits = match clusters {
            0..4085 => 12,
            4085..65_525 => 16,
            _ => 32,
        };
        // A table that is too short for them would go on in what lies behind it.
        let clusters = clusters.min((table_sectors * bytes_per_sector * 8 / u64::from(bits)).saturating_sub(2));
        let root = if bits == 32 { Root::Chain(le32(44)) } else { Root::Region(root_at, to_usize(root_len)) };
        let first = reserved * bytes_per_sector;
        let mut all: Vec<u64> = (0..tables).map(|number| first + number * table_sectors * bytes_per_sector).collect();
        // FAT32 may keep one of them in use alone.
        if bits == 32 && sector[40] & 0x80 != 0 {
            let Some(active) = all.get(usize::from(sector[40] & 0x0f)).copied() else { return Ok(None) };
            all = vec![active];
        }
        let volume_id = le32(if bits == 32 { 67 } else { 39 });
        let info = (bits == 32).then(|| le16(48) * bytes_per_sector);
        let info = match info.filter(|at| *at > 0 && at + 512 <= first) {
            Some(at) => {
                let mut bytes = [0; 512];
                device.read(at, &mut bytes)?;
                (bytes.starts_with(b"RRaA") && &bytes[484..488] == b"rrAa").then_some(at)
            }
            None => None,
        };
        let table = all.first().copied().unwrap_or(first);
        let geometry = Geometry { bits, table, tables: all, data, cluster, clusters, root, volume_id, info };
        Ok(Some(Self { device, geometry, now, next_free: 2 }))
    }

    pub(super) fn read(&self, at: u64, buf: &mut [u8]) -> Result<()> {
        self.device.read(at, buf)
    }

    /// Whether there is a cluster of this number.
    pub(super) fn has(&self, cluster: u32) -> bool {
        (2..self.geometry.clusters + 2).contains(&u64::from(cluster))
    }

    /// The numbers of a chain of clusters of at most `most` bytes; an error when it is longer, as one is that comes back to
    /// itself.
    pub(super) fn chain(&self, first: u32, most: u64) -> Result<Vec<u32>> {
        let mut chain = Vec::new();
        let most = most.div_ceil(self.geometry.cluster).min(self.geometry.clusters);
        let mut cluster = Some(first).filter(|&first| self.has(first));
        while let Some(number) = cluster {
            if chain.len() as u64 >= most {
                return Err(self.device.damaged("a chain of its clusters is longer than it can be"));
            }
            chain.push(number);
            cluster = self.next(number)?;
        }
        Ok(chain)
    }

    /// Byte of a cluster.
    pub(super) fn cluster_start(&self, cluster: u32) -> u64 {
        self.geometry.data + u64::from(cluster.saturating_sub(2)) * self.geometry.cluster
    }

    /// Reads a folder.
    pub(super) fn listing(&self, root: Root) -> Result<Listing> {
        let (parts, part) = match root {
            Root::Region(at, len) => (vec![at], len.min(MAX_FOLDER)),
            Root::Chain(first) => {
                let chain = self.chain(first, MAX_FOLDER as u64)?;
                (chain.iter().map(|cluster| self.cluster_start(*cluster)).collect(), to_usize(self.geometry.cluster))
            }
        };
        let mut bytes = vec![0; parts.len() * part];
        for (place, piece) in parts.iter().zip(bytes.chunks_mut(part.max(1))) {
            self.read(*place, piece)?;
        }
        Ok(Listing { bytes, parts, part, root })
    }

    /// The entry whose own slot lies at byte `place`; its name is not looked for.
    pub(super) fn entry_at(&self, place: u64) -> Result<Entry> {
        let mut slot = [0; SLOT];
        self.read(place, &mut slot)?;
        Ok(of_slot(&slot, String::new(), place, 0..0))
    }

    /// Where the folder lies whose entry is at byte `place`, or the root folder for 0; `None` when it is no folder.
    pub(super) fn folder_at(&self, place: u64) -> Result<Option<Root>> {
        if place == 0 {
            return Ok(Some(self.geometry.root));
        }
        let entry = self.entry_at(place)?;
        // A folder in the root says 0 of it.
        let place = if entry.cluster == 0 { self.geometry.root } else { Root::Chain(entry.cluster) };
        Ok(entry.is_folder.then_some(place))
    }

    /// The entries of a folder, without its own two.
    pub(super) fn entries(&self, folder: Root) -> Result<Vec<Entry>> {
        let mut found = self.listing(folder)?.entries();
        found.retain(|entry| entry.name != "." && entry.name != "..");
        Ok(found)
    }

    /// The entry called `name`, case aside.
    pub(super) fn find(&self, folder: Root, name: &str) -> Result<Option<Entry>> {
        Ok(self.entries(folder)?.into_iter().find(|entry| entry.name.eq_ignore_ascii_case(name)))
    }

    /// Fills `buf` from `offset` of a file, as far as it goes; the number of bytes.
    pub(super) fn read_file(&self, entry: &Entry, offset: u64, buf: &mut [u8]) -> Result<usize> {
        let wanted = entry.size.saturating_sub(offset).min(buf.len() as u64);
        let size = self.geometry.cluster;
        let mut cluster = Some(entry.cluster).filter(|&first| self.has(first));
        // A chain that comes back to itself is longer than the volume.
        for _ in 0..offset / size {
            cluster = match cluster {
                Some(number) => self.next(number)?,
                None => break,
            };
        }
        let mut done = 0;
        while done < wanted {
            let Some(number) = cluster else {
                return Err(self.device.damaged(format!("the file '{}' has fewer clusters than bytes", entry.name)));
            };
            let inside = (offset + done) % size;
            let len = (size - inside).min(wanted - done);
            let part = buf.get_mut(to_usize(done)..to_usize(done + len)).unwrap_or_default();
            self.read(self.geometry.data + (u64::from(number) - 2) * size + inside, part)?;
            done += len;
            cluster = self.next(number)?;
        }
        Ok(to_usize(wanted))
    }
}

/// Bytes of a slot of a folder: an entry, or a part of its long name.
pub(super) const SLOT: usize = 32;

/// The bytes of a folder, and where they lie.
pub(super) struct Listing {
    pub(super) bytes: Vec<u8>,
    /// Where each part begins on the volume.
    pub(super) parts: Vec<u64>,
    /// Bytes of each part.
    part: usize,
    pub(super) root: Root,
}

impl Listing {
    /// Byte of slot `number` on the volume.
    pub(super) fn place(&self, number: usize) -> Option<u64> {
        let at = number * SLOT;
        let start = self.parts.get(at.checked_div(self.part)?)?;
        Some(start + (at % self.part) as u64)
    }

    /// All slots.
    pub(super) fn slots(&self) -> &[[u8; SLOT]] {
        self.bytes.as_chunks().0
    }

    /// The entries, up to the mark that ends them.
    #[expect(clippy::indexing_slicing, reason = "a slot has 32 bytes")]
    pub(super) fn entries(&self) -> Vec<Entry> {
        let mut found = Vec::new();
        // The parts of a long name come last first, before the entry that they name.
        let mut long: Vec<u16> = Vec::new();
        let mut first = None;
        for (number, slot) in self.slots().iter().enumerate() {
            match (slot[0], slot[11]) {
                (0, _) => break,
                (DELETED, _) => {
                    long.clear();
                    first = None;
                }
                (_, ATTR_LONG_NAME) => {
                    if slot[0] & LAST_PART != 0 {
                        long.clear();
                        first = None;
                    }
                    let units = [1..11, 14..26, 28..32].into_iter().flat_map(|range| slot[range].chunks_exact(2));
                    let part: Vec<u16> = units.map(|unit| u16::from_le_bytes([unit[0], unit[1]])).collect();
                    let end = part.iter().position(|&unit| unit == 0).unwrap_or(part.len());
                    long.splice(0..0, part[..end].iter().copied());
                    long.truncate(260);
                    first.get_or_insert(number);
                }
                (_, attributes) if attributes & ATTR_VOLUME != 0 => {
                    long.clear();
                    first = None;
                }
                _ => {
                    let name = if long.is_empty() { short_name(slot) } else { String::from_utf16_lossy(&long) };
                    long.clear();
                    let slots = first.take().unwrap_or(number)..number + 1;
                    let Some(place) = self.place(number) else { break };
                    found.push(of_slot(slot, name, place, slots));
                }
            }
        }
        found
    }
}

/// The first cluster that a slot names.
pub(super) fn first_of(slot: &[u8; SLOT]) -> u32 {
    of_slot(slot, String::new(), 0, 0..0).cluster
}

/// The entry that a slot is, called `name`.
fn of_slot(slot: &[u8; SLOT], name: String, place: u64, slots: std::ops::Range<usize>) -> Entry {
    let le16 =
        |at: usize| u16::from_le_bytes([slot.get(at).copied().unwrap_or(0), slot.get(at + 1).copied().unwrap_or(0)]);
    let is_folder = slot.get(11).is_some_and(|attributes| attributes & ATTR_FOLDER != 0);
    let size = u32::from(le16(28)) | u32::from(le16(30)) << 16;
    Entry {
        name,
        is_folder,
        cluster: u32::from(le16(20)) << 16 | u32::from(le16(26)),
        size: if is_folder { 0 } else { size.into() },
        modified: seconds(le16(24), le16(22)),
        place,
        slots,
    }
}

/// Seconds since 1970 of a date and a time as entries have them; 0 for a date that is none.
#[expect(clippy::cast_possible_truncation, reason = "the sign is meant: zones are counted in quarters of an hour")]
fn seconds(date: u16, time: u16) -> i64 {
    let number = |value: u16| value as i8;
    let civil = jiff::civil::DateTime::new(
        (date >> 9).cast_signed() + 1980,
        number(date >> 5 & 15),
        number(date & 31),
        number(time >> 11),
        number(time >> 5 & 63),
        number(time & 31) * 2,
        0,
    );
    let zoned = civil.and_then(|civil| civil.to_zoned(jiff::tz::TimeZone::UTC));
    zoned.map_or(0, |zoned| zoned.timestamp().as_second())
}

fn short_name(entry: &[u8; SLOT]) -> String {
    // Names all in small letters need no long name: two bits say so.
    let part = |bytes: &[u8], small: u8| {
        let text = String::from_utf8_lossy(bytes).trim_end().to_string();
        if entry[12] & small != 0 { text.to_ascii_lowercase() } else { text }
    };
    let (name, ending) = (part(&entry[..8], 0x08), part(&entry[8..11], 0x10));
    if ending.is_empty() { name } else { format!("{name}.{ending}") }
}
