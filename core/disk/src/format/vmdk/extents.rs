//! A disk whose descriptor is a file of its own, and whose bytes lie in others: flat or sparse, whole or in pieces.

use crate::to_usize;
use std::sync::Arc;

use super::{
    datastore,
    descriptor::{Descriptor, ExtentKind, ExtentLine},
    parent, sparse,
};
use crate::{
    SECTOR,
    disk::{Disk, EmptyDisk, Extent, Window},
    error::{Error, Result, check_range},
    facts::Facts,
    format::{opener::Opener, raw::RawDisk},
    image::Image,
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
/// kinds of extents that are no files; those of opening the files it names, and the disk below.
pub(super) fn open(storage: &Arc<dyn Storage>, opener: &Opener) -> Result<Image> {
    let path = storage.name();
    if storage.len() > MAX_DESCRIPTOR {
        return Err(Error::damaged(
            path,
            0,
            format!("a descriptor of {} bytes, at most {MAX_DESCRIPTOR} are read", storage.len()),
        ));
    }
    let bytes = read_vec(storage.as_ref(), 0, to_usize(storage.len()), "the descriptor")?;
    let descriptor = Descriptor::parse(&bytes, path, 0, storage.budget())?;
    if descriptor.extents.is_empty() || descriptor.extents.len() > MAX_EXTENTS {
        let what = format!("a descriptor with {} extents, expected 1 to {MAX_EXTENTS}", descriptor.extents.len());
        return Err(Error::damaged(path, 0, what));
    }
    let flat = descriptor.extents.iter().all(|line| line.kind == ExtentKind::Flat);
    let several = descriptor.extents.len() > 1 || descriptor.create_type.starts_with("twoGbMaxExtent");
    let layout = match (several, flat) {
        (true, _) => Layout::Split,
        (false, true) => Layout::Full,
        (false, false) => Layout::Thin,
    };
    let shape = Shape::new(Format::Vmdk, layout);
    let mut facts = Facts::new(shape, descriptor.create_type.clone(), 0, storage.as_ref());
    facts.content_id = descriptor.cid.map(|cid| format!("{cid:08x}"));
    sparse::tell_database(&descriptor, &mut facts);
    facts.detail("extents", descriptor.extents.len().to_string());
    let below = parent::open(storage.as_ref(), opener, &descriptor, &mut facts)?;
    let mut disk = Joined { parts: Vec::new(), size: 0, descriptor: storage.clone() };
    for line in &descriptor.extents {
        let len = line.sectors.checked_mul(SECTOR).filter(|len| disk.size.checked_add(*len).is_some());
        let len = len.ok_or_else(|| Error::damaged(path, 0, "its extents are larger than any disk"))?;
        let below = below.as_ref().map(|parent| Window::shared(parent.disk.clone(), disk.size, len));
        let part = open_extent(storage.as_ref(), opener, line, below, &mut facts)?;
        disk.parts.push((disk.size, part));
        disk.size += len;
    }
    facts.virtual_size = disk.size;
    Ok(Image::new(Arc::new(disk), facts))
}

/// The disk of one extent line, over its part of the disk below.
fn open_extent(
    descriptor: &dyn Storage,
    opener: &Opener,
    line: &ExtentLine,
    below: Option<Arc<dyn Disk>>,
    facts: &mut Facts,
) -> Result<Arc<dyn Disk>> {
    let size = line.sectors.saturating_mul(SECTOR);
    let mut file = || {
        let storage = opener.sibling(descriptor, line.file.as_deref().unwrap_or_default())?;
        facts.file_size += storage.len();
        facts.allocated += storage.allocated();
        Ok::<_, Error>(storage)
    };
    let long_enough = |disk: Arc<dyn Disk>, storage: &dyn Storage| {
        if disk.size() >= size {
            return Ok(disk);
        }
        let what = format!("it holds {} bytes, and the descriptor says {size}", disk.size());
        Err(Error::damaged(storage.name(), 12, what))
    };
    match &line.kind {
        ExtentKind::Zero => Ok(Arc::new(EmptyDisk::new(size))),
        ExtentKind::Flat => {
            let storage = file()?;
            let start = line.offset.saturating_mul(SECTOR);
            require(storage.as_ref(), start, size, "the extent")?;
            Ok(Window::shared(Arc::new(RawDisk::new(storage)), start, size))
        }
        ExtentKind::Sparse => {
            let storage = file()?;
            let (disk, extent) = sparse::open_extent(storage.clone(), below)?;
            facts.unit = extent.unit;
            facts.unclean |= extent.unclean;
            long_enough(disk, storage.as_ref())
        }
        ExtentKind::Datastore => {
            let storage = file()?;
            long_enough(datastore::open(storage.clone(), below)?, storage.as_ref())
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
    #[expect(
        clippy::indexing_slicing,
        reason = "there is a first extent, and it starts at zero; reads are cut to the extent"
    )]
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

    #[expect(
        clippy::indexing_slicing,
        reason = "there is a first extent, and it starts at zero; reads are cut to the extent"
    )]
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(offset, buf.len(), self.size)?;
        let mut done = 0;
        while done < buf.len() {
            let at = offset + done as u64;
            let (start, disk, end) = self.part_at(at);
            let len = to_usize((end - at).min((buf.len() - done) as u64));
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
