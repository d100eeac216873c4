//! Reading bare bytes, and telling a bare disk from any other file.

use std::sync::Arc;

use crate::{
    disk::{Disk, Extent},
    error::Result,
    facts::Facts,
    format::opener::Opener,
    image::Image,
    shape::{Format, Layout, Shape},
    source::Storage,
};

/// A disk whose bytes are those of its storage.
pub struct RawDisk {
    storage: Arc<dyn Storage>,
}

impl RawDisk {
    /// The bytes of `storage` as a disk.
    pub fn new(storage: Arc<dyn Storage>) -> Self {
        Self { storage }
    }
}

impl Disk for RawDisk {
    fn size(&self) -> u64 {
        self.storage.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        crate::error::check_range(offset, buf.len(), self.size())?;
        self.storage.read_at(offset, buf)
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        self.storage.extent_at(offset)
    }

    fn check_unchanged(&self) -> Result<()> {
        self.storage.check_unchanged()
    }
}

/// Opens any storage as raw bytes.
///
/// # Errors
/// None of its own.
pub fn open(storage: Arc<dyn Storage>, _: &Opener) -> Result<Image> {
    let (len, allocated) = (storage.len(), storage.allocated());
    let layout = if allocated < len { Layout::Thin } else { Layout::Full };
    let facts = Facts::new(Shape::new(Format::Raw, layout), "raw bytes", len, storage.as_ref());
    Ok(Image::new(Arc::new(RawDisk::new(storage)), facts))
}

/// Whether a file that starts with `head` looks like a disk that a machine or a system has written: a boot sector, a
/// partition table, or a file system or volume on the whole disk.
pub fn probe(head: &[u8]) -> bool {
    let has = |at: usize, magic: &[u8]| head.get(at..at + magic.len()) == Some(magic);
    // The signature of a boot sector (MBR, FAT, NTFS), and of a GPT header with either sector size.
    has(510, &[0x55, 0xaa]) || has(512, b"EFI PART") || has(4096, b"EFI PART")
        // ext2/3/4: s_magic of the superblock at 1024.
        || has(1024 + 0x38, &[0x53, 0xef])
        || has(0, b"XFSB")
        // An LVM2 label stands in one of the first four sectors.
        || (0..4).any(|sector| has(sector * 512, b"LABELONE"))
        || has(0, b"LUKS\xba\xbe")
        // Swap space of a machine with 4 KiB pages.
        || has(4096 - 10, b"SWAPSPACE2")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_disk_is_told_from_text() {
        let mut head = vec![0; 4096];
        assert!(!probe(&head) && !probe(b"") && !probe(b"a letter"));
        head[510..512].copy_from_slice(&[0x55, 0xaa]);
        assert!(probe(&head));
        assert!(!probe(&head[..511]));
    }
}
