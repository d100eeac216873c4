//! What the tests of images share.

use std::{path::Path, sync::Arc};

use reformis_disk::{
    Disk, Result, Shape,
    budget::Budget,
    container,
    copy::{output::Output, pipeline, watch::Watch, writer::Copied},
    format::{self, NewImage, Squeeze},
    source::MemoryStorage,
};
use reformis_standin::content::Content;

pub(crate) fn watch() -> Watch<'static> {
    Watch { cancel: &|| false, progress: &|_| {}, workers: Some(3) }
}

/// Writes `disk` to `path`.
pub(crate) fn write(disk: &dyn Disk, shape: &str, path: &Path) -> Result<Copied> {
    write_new(disk, &NewImage::new(shape.parse()?, disk.size()), path)
}

/// Writes `disk` to `path`, and beside it where the shape has several files.
pub(crate) fn write_new(disk: &dyn Disk, image: &NewImage, path: &Path) -> Result<Copied> {
    let mut writer = format::create_in(output(path), image)?;
    pipeline::copy(disk, writer.as_mut(), &watch())
}

/// Every shape, and what can be chosen of some.
pub(crate) fn every_image(size: u64) -> Vec<NewImage> {
    let plain = |shape| NewImage::new(shape, size);
    let qcow2 = plain("qcow2/thin".parse().unwrap());
    let mut images: Vec<NewImage> = Shape::all().into_iter().map(plain).collect();
    for squeeze in [Squeeze::Deflate, Squeeze::Zstd] {
        for cluster in [4096, 65536, 1 << 20] {
            images.push(NewImage { squeeze: Some(squeeze), cluster: Some(cluster), ..qcow2 });
        }
    }
    images.push(NewImage { cluster: Some(2 * (1 << 20)), ..qcow2 });
    images.push(NewImage { cluster: Some(4096), shape: "qcow2/full".parse().unwrap(), ..qcow2 });
    images
}

/// A new file, and others beside it.
pub(crate) fn output(path: &Path) -> Output {
    let folder = path.parent().expect("a path in the test's own folder").to_path_buf();
    let file = |path: &Path| std::fs::File::create(path).expect("a file in the test's own folder");
    Output::with_pieces(file(path), path.to_string_lossy(), Box::new(move |name| Ok(file(&folder.join(name)))))
}

/// Opens the image at `path`, of whatever format.
pub(crate) fn open(path: &Path) -> Result<Arc<dyn Disk>> {
    Ok(format::open(container::open(path, &Budget::whole())?, None)?.disk)
}

/// Opens bytes as an image.
pub(crate) fn open_bytes(bytes: &[u8]) -> Result<Arc<dyn Disk>> {
    Ok(format::open(Arc::new(MemoryStorage::new("image", bytes.to_vec())), None)?.disk)
}

/// Reads all of `disk` in pieces that straddle every boundary, and compares.
pub(crate) fn assert_holds(disk: &dyn Disk, content: &Content) {
    assert_eq!(disk.size(), content.size);
    let piece = 777_777;
    let (mut found, mut expected) = (vec![0; piece], vec![0; piece]);
    let mut at = 0;
    while at < content.size {
        let len = (piece as u64).min(content.size - at) as usize;
        disk.read_at(at, &mut found[..len]).expect("a read inside the disk");
        content.read_at(at, &mut expected[..len]);
        assert!(found[..len] == expected[..len], "the bytes from {at} to {} differ", at + len as u64);
        at += len as u64;
    }
}

/// Made-up content as a disk.
pub(crate) struct ContentDisk(pub(crate) Content);

impl Disk for ContentDisk {
    fn size(&self) -> u64 {
        self.0.size
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        self.0.read_at(offset, buf);
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> Result<reformis_disk::Extent> {
        let edges = self.0.runs.iter().flat_map(|run| [run.offset, run.offset + run.len]);
        let end = edges.filter(|&edge| edge > offset).min().unwrap_or(self.0.size).min(self.0.size);
        Ok(match self.0.touches(offset, 1) {
            true => reformis_disk::Extent::data(offset, end - offset),
            false => reformis_disk::Extent::zero(offset, end - offset),
        })
    }

    fn check_unchanged(&self) -> Result<()> {
        Ok(())
    }
}
