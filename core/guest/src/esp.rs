//! The loaders on an EFI system partition: folders of a FAT file system, as far as that needs (Microsoft's FAT
//! specification of 2000, "FAT: General Overview of On-Disk Format").
//!
//! Libraries for FAT take a sound file system for granted, and a stranger's is not.

use std::sync::Arc;

use reformis_disk::{Disk, Error, Result};

/// The longest folder that is read, in bytes.
const MAX_FOLDER: usize = 256 << 10;
const MAX_LOADERS: usize = 64;
/// Folders below `EFI` that are looked into.
const MAX_FOLDERS: usize = 128;

const ATTR_VOLUME: u8 = 0x08;
const ATTR_FOLDER: u8 = 0x10;
const ATTR_LONG_NAME: u8 = 0x0f;

/// The files below `EFI` that a firmware could start, as paths with `/`; empty for what cannot be read as FAT.
pub(crate) fn loaders(disk: &Arc<dyn Disk>, start: u64, size: u64) -> Vec<String> {
    let volume = Volume::open(disk.as_ref(), start, size);
    volume.and_then(|volume| volume.map_or(Ok(Vec::new()), |volume| list(&volume))).unwrap_or_default()
}

fn list(volume: &Volume<'_>) -> Result<Vec<String>> {
    let root = volume.folder(volume.root)?;
    let Some(efi) = root.iter().find(|entry| entry.is_folder && entry.name.eq_ignore_ascii_case("EFI")) else {
        return Ok(Vec::new());
    };
    let mut found = Vec::new();
    let folders = volume.folder(Root::Chain(efi.cluster))?;
    for folder in folders.iter().filter(|entry| entry.is_folder && !entry.name.starts_with('.')).take(MAX_FOLDERS) {
        for file in volume.folder(Root::Chain(folder.cluster))? {
            if !file.is_folder && file.name.to_ascii_lowercase().ends_with(".efi") && found.len() < MAX_LOADERS {
                found.push(format!("EFI/{}/{}", folder.name, file.name));
            }
        }
    }
    found.sort();
    Ok(found)
}

/// Where a folder lies.
#[derive(Clone, Copy)]
enum Root {
    /// In the region of its own that the first folder has in FAT12 and FAT16: its byte and length.
    Region(u64, usize),
    /// In a chain of clusters.
    Chain(u32),
}

struct Entry {
    name: String,
    is_folder: bool,
    cluster: u32,
}

struct Volume<'d> {
    disk: &'d dyn Disk,
    start: u64,
    size: u64,
    /// Bytes of a table's entry in bits: 12, 16 or 32.
    bits: u32,
    table: u64,
    data: u64,
    cluster: u64,
    clusters: u64,
    root: Root,
}

impl<'d> Volume<'d> {
    /// Reads the first sector; `None` when it is none of FAT.
    fn open(disk: &'d dyn Disk, start: u64, size: u64) -> Result<Option<Self>> {
        let mut sector = [0; 512];
        if size < 512 {
            return Ok(None);
        }
        disk.read_at(start, &mut sector)?;
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
        let Some(room) = (total * bytes_per_sector).min(size).checked_sub(data) else { return Ok(None) };
        let clusters = room / cluster;
        let bits = match clusters {
            0..4085 => 12,
            4085..65_525 => 16,
            _ => 32,
        };
        let root = if bits == 32 { Root::Chain(le32(44)) } else { Root::Region(root_at, root_len as usize) };
        let table = reserved * bytes_per_sector;
        Ok(Some(Self { disk, start, size, bits, table, data, cluster, clusters, root }))
    }

    fn read(&self, at: u64, buf: &mut [u8]) -> Result<()> {
        match at.checked_add(buf.len() as u64) {
            Some(end) if end <= self.size => self.disk.read_at(self.start + at, buf),
            _ => Err(Error::damaged("EFI system partition", at, "a folder leads beyond its end")),
        }
    }

    /// The cluster behind `cluster`; `None` at the end of the chain.
    fn next(&self, cluster: u32) -> Result<Option<u32>> {
        let number = u64::from(cluster);
        let mut bytes = [0; 4];
        let value = match self.bits {
            12 => {
                self.read(self.table + number + number / 2, &mut bytes[..2])?;
                let pair = u32::from(u16::from_le_bytes([bytes[0], bytes[1]]));
                if cluster.is_multiple_of(2) { pair & 0xfff } else { pair >> 4 }
            }
            16 => {
                self.read(self.table + number * 2, &mut bytes[..2])?;
                u32::from_le_bytes(bytes)
            }
            _ => {
                self.read(self.table + number * 4, &mut bytes)?;
                u32::from_le_bytes(bytes) & 0x0fff_ffff
            }
        };
        Ok(Some(value).filter(|&next| self.has(next)))
    }

    fn has(&self, cluster: u32) -> bool {
        (2..self.clusters + 2).contains(&u64::from(cluster))
    }

    fn folder(&self, root: Root) -> Result<Vec<Entry>> {
        let mut bytes = Vec::new();
        match root {
            Root::Region(at, len) => {
                bytes.resize(len.min(MAX_FOLDER), 0);
                self.read(at, &mut bytes)?;
            }
            Root::Chain(first) => {
                let mut cluster = Some(first).filter(|&first| self.has(first));
                // A chain that comes back to itself ends here too.
                while let Some(number) = cluster.filter(|_| bytes.len() < MAX_FOLDER) {
                    let mut piece = vec![0; self.cluster as usize];
                    self.read(self.data + (u64::from(number) - 2) * self.cluster, &mut piece)?;
                    bytes.extend(piece);
                    cluster = self.next(number)?;
                }
            }
        }
        Ok(entries(&bytes))
    }
}

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
                found.push(Entry { name, is_folder: attributes & ATTR_FOLDER != 0, cluster });
            }
        }
    }
    found
}

fn short_name(entry: &[u8]) -> String {
    // Names all in small letters need no long name: two bits say so.
    let part = |bytes: &[u8], small: u8| {
        let text = String::from_utf8_lossy(bytes).trim_end().to_string();
        if entry[12] & small != 0 { text.to_ascii_lowercase() } else { text }
    };
    let (name, ending) = (part(&entry[..8], 0x08), part(&entry[8..11], 0x10));
    if ending.is_empty() { name } else { format!("{name}.{ending}") }
}
