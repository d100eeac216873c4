//! Reading FAT12, FAT16 and FAT32 (Microsoft's FAT specification of 2000, "FAT: General Overview of On-Disk Format").
//!
//! Libraries for FAT take a sound file system for granted, and a stranger's is not: what is read, and what is asked before
//! one of them writes, is asked here.

use super::Fat;
use crate::{
    bench::Device,
    error::{Error, Result},
};
use reformis_disk::to_usize;

/// The longest folder that is read, in bytes.
const MAX_FOLDER: usize = 2 << 20;

const ATTR_VOLUME: u8 = 0x08;
const ATTR_FOLDER: u8 = 0x10;
const ATTR_LONG_NAME: u8 = 0x0f;

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
}

/// Where things lie.
#[derive(Debug, Clone)]
pub(super) struct Geometry {
    /// Bytes of a table's entry in bits: 12, 16 or 32.
    bits: u32,
    table: u64,
    data: u64,
    pub(super) cluster: u64,
    pub(super) clusters: u64,
    root: Root,
    pub(super) volume_id: u32,
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
        let root = if bits == 32 { Root::Chain(le32(44)) } else { Root::Region(root_at, to_usize(root_len)) };
        let table = reserved * bytes_per_sector;
        let volume_id = le32(if bits == 32 { 67 } else { 39 });
        let geometry = Geometry { bits, table, data, cluster, clusters, root, volume_id };
        Ok(Some(Self { device, geometry, now }))
    }

    fn read(&self, at: u64, buf: &mut [u8]) -> Result<()> {
        self.device.read(at, buf)
    }

    /// The cluster behind `cluster`; `None` at the end of the chain.
    fn next(&self, cluster: u32) -> Result<Option<u32>> {
        let number = u64::from(cluster);
        let mut bytes = [0; 4];
        let value = match self.geometry.bits {
            12 => {
                self.read(self.geometry.table + number + number / 2, &mut bytes[..2])?;
                let pair = u32::from(u16::from_le_bytes([bytes[0], bytes[1]]));
                if cluster.is_multiple_of(2) { pair & 0xfff } else { pair >> 4 }
            }
            16 => {
                self.read(self.geometry.table + number * 2, &mut bytes[..2])?;
                u32::from_le_bytes(bytes)
            }
            _ => {
                self.read(self.geometry.table + number * 4, &mut bytes)?;
                u32::from_le_bytes(bytes) & 0x0fff_ffff
            }
        };
        Ok(Some(value).filter(|&next| self.has(next)))
    }

    fn has(&self, cluster: u32) -> bool {
        (2..self.geometry.clusters + 2).contains(&u64::from(cluster))
    }

    /// The bytes of a chain of clusters, up to `most`; an error when it is longer, as one is that comes back to itself.
    #[expect(clippy::indexing_slicing, reason = "the bytes were grown behind this place just above")]
    fn chain(&self, first: u32, most: u64) -> Result<Vec<u8>> {
        let cluster_size = self.geometry.cluster;
        let mut bytes = Vec::new();
        let mut cluster = Some(first).filter(|&first| self.has(first));
        while let Some(number) = cluster {
            if bytes.len() as u64 >= most.next_multiple_of(cluster_size) {
                return Err(self.device.damaged("a chain of its clusters is longer than it can be"));
            }
            let start = bytes.len();
            bytes.resize(start + to_usize(cluster_size), 0);
            self.read(self.geometry.data + (u64::from(number) - 2) * cluster_size, &mut bytes[start..])?;
            cluster = self.next(number)?;
        }
        Ok(bytes)
    }

    /// Byte of a cluster.
    pub(super) fn cluster_start(&self, cluster: u32) -> Option<u64> {
        self.has(cluster).then(|| self.geometry.data + (u64::from(cluster) - 2) * self.geometry.cluster)
    }

    fn folder(&self, root: Root) -> Result<Vec<Entry>> {
        let bytes = match root {
            Root::Region(at, len) => {
                let mut bytes = vec![0; len.min(MAX_FOLDER)];
                self.read(at, &mut bytes)?;
                bytes
            }
            Root::Chain(first) => self.chain(first, MAX_FOLDER as u64)?,
        };
        Ok(entries(&bytes))
    }

    /// The entry at `path`, case aside; `None` for the root folder too, which has none.
    pub(crate) fn entry(&self, path: &[String]) -> Result<Option<Entry>> {
        let mut folder = self.geometry.root;
        let mut found = None;
        for (depth, name) in path.iter().enumerate() {
            let Some(entry) = self.folder(folder)?.into_iter().find(|entry| entry.name.eq_ignore_ascii_case(name))
            else {
                return Ok(None);
            };
            if depth + 1 < path.len() && !entry.is_folder {
                return Ok(None);
            }
            folder = Root::Chain(entry.cluster);
            found = Some(entry);
        }
        Ok(found)
    }

    /// The entries of the folder at `path`; none for one that is not there.
    pub(crate) fn list(&self, path: &[String]) -> Result<Vec<Entry>> {
        let folder = match self.entry(path)? {
            Some(entry) if entry.is_folder => Root::Chain(entry.cluster),
            None if path.is_empty() => self.geometry.root,
            _ => return Ok(Vec::new()),
        };
        let mut found = self.folder(folder)?;
        found.retain(|entry| entry.name != "." && entry.name != "..");
        Ok(found)
    }

    /// All bytes of a file of at most `most`.
    pub(crate) fn content(&self, entry: &Entry, most: u64) -> Result<Vec<u8>> {
        if entry.size > most {
            return Err(Error::TooLarge { path: entry.name.clone(), size: entry.size, most });
        }
        let mut bytes = self.chain(entry.cluster, entry.size)?;
        if (bytes.len() as u64) < entry.size {
            return Err(self.device.damaged(format!("the file '{}' has fewer clusters than bytes", entry.name)));
        }
        bytes.truncate(to_usize(entry.size));
        Ok(bytes)
    }

    /// Fills `buf` from `offset` of a file, as far as it goes; the number of bytes.
    pub(crate) fn read_at(&self, entry: &Entry, offset: u64, buf: &mut [u8]) -> Result<usize> {
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

    /// Number of free clusters. The table is looked through in pieces: it may have 1 GiB.
    pub(super) fn free_clusters(&self) -> Result<u64> {
        let mut free = 0;
        let bits = u64::from(self.geometry.bits);
        let end = self.geometry.clusters + 2;
        let mut piece = vec![0; (PIECE * bits / 8) as usize];
        for first in (0..end).step_by(to_usize(PIECE)) {
            let count = PIECE.min(end - first);
            let len = to_usize((count * bits).div_ceil(8));
            let table = piece.get_mut(..len).unwrap_or_default();
            self.read(self.geometry.table + first * bits / 8, table)?;
            let byte = |at: u64| u32::from(table.get(to_usize(at)).copied().unwrap_or(0));
            for cluster in first.max(2)..first + count {
                let at = (cluster - first) * bits / 8;
                let value = match (bits, cluster % 2) {
                    (12, 0) => byte(at) | (byte(at + 1) & 0xf),
                    (12, _) => byte(at) >> 4 | byte(at + 1),
                    (16, _) => byte(at) | byte(at + 1),
                    _ => byte(at) | byte(at + 1) | byte(at + 2) | (byte(at + 3) & 0x0f),
                };
                free += u64::from(value == 0);
            }
        }
        Ok(free)
    }
}

/// Entries of the table that are looked at together: an even number, so that a piece of 12 bits each ends with a byte.
const PIECE: u64 = 32 << 10;

#[expect(clippy::indexing_slicing, reason = "a sector has 512 bytes and an entry 32")]
fn entries(bytes: &[u8]) -> Vec<Entry> {
    let mut found = Vec::new();
    // The parts of a long name come last first, before the entry that they name.
    let mut long: Vec<u16> = Vec::new();
    for entry in bytes.chunks_exact(32) {
        match (entry[0], entry[11]) {
            (0, _) => break,
            (0xe5, _) => long.clear(),
            (_, ATTR_LONG_NAME) => {
                let units = [1..11, 14..26, 28..32].into_iter().flat_map(|range| entry[range].chunks_exact(2));
                let part: Vec<u16> = units.map(|unit| u16::from_le_bytes([unit[0], unit[1]])).collect();
                let end = part.iter().position(|&unit| unit == 0).unwrap_or(part.len());
                long.splice(0..0, part[..end].iter().copied());
                long.truncate(260);
            }
            (_, attributes) if attributes & ATTR_VOLUME != 0 => long.clear(),
            (_, attributes) => {
                let name = if long.is_empty() { short_name(entry) } else { String::from_utf16_lossy(&long) };
                long.clear();
                let high = u16::from_le_bytes([entry[20], entry[21]]);
                let low = u16::from_le_bytes([entry[26], entry[27]]);
                let cluster = u32::from(high) << 16 | u32::from(low);
                let size = u32::from_le_bytes([entry[28], entry[29], entry[30], entry[31]]);
                let is_folder = attributes & ATTR_FOLDER != 0;
                let time = u16::from_le_bytes([entry[22], entry[23]]);
                let date = u16::from_le_bytes([entry[24], entry[25]]);
                let size = if is_folder { 0 } else { size.into() };
                found.push(Entry { name, is_folder, cluster, size, modified: seconds(date, time) });
            }
        }
    }
    found
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

#[expect(clippy::indexing_slicing, reason = "a sector has 512 bytes and an entry 32")]
fn short_name(entry: &[u8]) -> String {
    // Names all in small letters need no long name: two bits say so.
    let part = |bytes: &[u8], small: u8| {
        let text = String::from_utf8_lossy(bytes).trim_end().to_string();
        if entry[12] & small != 0 { text.to_ascii_lowercase() } else { text }
    };
    let (name, ending) = (part(&entry[..8], 0x08), part(&entry[8..11], 0x10));
    if ending.is_empty() { name } else { format!("{name}.{ending}") }
}
