//! A disk whose descriptor is a file of its own, and whose bytes lie in others: flat or sparse, whole or in pieces.

use std::sync::Arc;

use super::{
    descriptor::{Descriptor, ExtentKind, ExtentLine},
    read,
};
use crate::{
    SECTOR,
    disk::{Disk, EmptyDisk, Extent},
    error::{Error, Result, check_range},
    formats::{Facts, Image, Opener},
    shape::{Format, Layout, Shape},
    source::{Storage, read_vec, require},
};

/// The largest descriptor file; real ones have a few KiB.
const MAX_DESCRIPTOR: u64 = 1 << 20;
/// Pieces of 2 GiB for 62 TiB.
const MAX_EXTENTS: usize = 32_000;

/// Opens the disk that the descriptor in `storage` describes.
///
/// # Errors
/// [`Error::Damaged`] for a descriptor that is none, or extents that do not fit their files; [`Error::Unsupported`] for
/// deltas and the datastore's own sparse kinds; those of opening the files it names.
pub(super) fn open(storage: &Arc<dyn Storage>, opener: &Opener) -> Result<Image> {
    let path = storage.name();
    if storage.len() > MAX_DESCRIPTOR {
        return Err(Error::damaged(
            path,
            0,
            format!("a descriptor of {} bytes, at most {MAX_DESCRIPTOR} are read", storage.len()),
        ));
    }
    let bytes = read_vec(storage.as_ref(), 0, storage.len() as usize, "the descriptor")?;
    let descriptor = Descriptor::parse(&bytes, path, 0)?;
    if descriptor.parent_cid.is_some() {
        let what = "it is a delta of another disk, in files of its own";
        return Err(Error::Unsupported { path: path.into(), what: what.into() });
    }
    if descriptor.extents.is_empty() || descriptor.extents.len() > MAX_EXTENTS {
        let what = format!("a descriptor with {} extents, expected 1 to {MAX_EXTENTS}", descriptor.extents.len());
        return Err(Error::damaged(path, 0, what));
    }
    let mut disk = Joined { parts: Vec::new(), size: 0, descriptor: storage.clone() };
    let (mut file_size, mut allocated) = (storage.len(), storage.allocated());
    for line in &descriptor.extents {
        let (part, file) = open_extent(storage.as_ref(), opener, line)?;
        if let Some(file) = file {
            file_size += file.len();
            allocated += file.allocated();
        }
        let len = line.sectors.checked_mul(SECTOR).and_then(|len| disk.size.checked_add(len).map(|_| len));
        let len = len.ok_or_else(|| Error::damaged(path, 0, "its extents are larger than any disk"))?;
        disk.parts.push((disk.size, part));
        disk.size += len;
    }
    let flat = descriptor.extents.iter().all(|line| line.kind == ExtentKind::Flat);
    let layout = match (descriptor.extents.len(), flat) {
        (1, true) => Layout::Full,
        (1, false) => Layout::Thin,
        _ => Layout::Split,
    };
    let facts = Facts {
        shape: Shape::new(Format::Vmdk, layout),
        variant: descriptor.create_type.clone(),
        virtual_size: disk.size,
        file_size,
        allocated,
        unit: None,
        compression: None,
        chain: Vec::new(),
        content_id: descriptor.cid.map(|cid| format!("{cid:08x}")),
        details: vec![("extents".into(), descriptor.extents.len().to_string())],
        unclean: false,
    };
    Ok(Image { disk: Arc::new(disk), facts })
}

/// A part of the disk, and the file that holds it.
type Part = (Arc<dyn Disk>, Option<Arc<dyn Storage>>);

/// The disk of one extent line, and the file that holds it.
fn open_extent(descriptor: &dyn Storage, opener: &Opener, line: &ExtentLine) -> Result<Part> {
    let size = line.sectors.saturating_mul(SECTOR);
    let file = || {
        let name = line.file.as_deref().unwrap_or_default();
        opener.sibling(descriptor, name)
    };
    match &line.kind {
        ExtentKind::Zero => Ok((Arc::new(EmptyDisk::new(size)), None)),
        ExtentKind::Flat => {
            let storage = file()?;
            let start = line.offset.saturating_mul(SECTOR);
            require(storage.as_ref(), start, size, "the extent")?;
            Ok((Arc::new(Flat { storage: storage.clone(), start, size }), Some(storage)))
        }
        ExtentKind::Sparse => {
            let storage = file()?;
            let disk = read::open_extent(storage.clone())?;
            if disk.size() < size {
                let what = format!("it holds {} bytes, and the descriptor says {size}", disk.size());
                return Err(Error::damaged(storage.name(), 12, what));
            }
            Ok((disk, Some(storage)))
        }
        ExtentKind::Other(word) => {
            Err(Error::Unsupported { path: descriptor.name().into(), what: format!("it has an extent of kind {word}") })
        }
    }
}

/// Disks one after the other; each may be longer than what is used of it.
struct Joined {
    /// Start of each part and the part; starts ascend from 0.
    parts: Vec<(u64, Arc<dyn Disk>)>,
    size: u64,
    descriptor: Arc<dyn Storage>,
}

impl Joined {
    /// The part that holds `offset`: its start, its disk, and where it ends.
    fn part_at(&self, offset: u64) -> (u64, &Arc<dyn Disk>, u64) {
        let next = self.parts.partition_point(|(start, _)| *start <= offset);
        let (start, disk) = &self.parts[next - 1];
        (*start, disk, self.parts.get(next).map_or(self.size, |(end, _)| *end))
    }
}

impl Disk for Joined {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(offset, buf.len(), self.size)?;
        let mut done = 0;
        while done < buf.len() {
            let at = offset + done as u64;
            let (start, disk, end) = self.part_at(at);
            let len = (end - at).min((buf.len() - done) as u64) as usize;
            disk.read_at(at - start, &mut buf[done..done + len])?;
            done += len;
        }
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        let (start, disk, end) = self.part_at(offset);
        let extent = disk.extent_at(offset - start)?;
        Ok(Extent { start: offset, ..extent }.clipped(end))
    }

    fn check_unchanged(&self) -> Result<()> {
        self.descriptor.check_unchanged()?;
        self.parts.iter().try_for_each(|(_, disk)| disk.check_unchanged())
    }
}

/// Plain bytes somewhere in a file.
struct Flat {
    storage: Arc<dyn Storage>,
    start: u64,
    size: u64,
}

impl Disk for Flat {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(offset, buf.len(), self.size)?;
        self.storage.read_at(self.start + offset, buf)
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        let extent = self.storage.extent_at(self.start + offset)?;
        Ok(Extent { start: offset, ..extent }.clipped(self.size))
    }

    fn check_unchanged(&self) -> Result<()> {
        self.storage.check_unchanged()
    }
}
