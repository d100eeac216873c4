//! The loaders on an EFI system partition.

use std::{
    io::{self, Read, Seek, SeekFrom, Write},
    sync::Arc,
};

use fatfs::{FileSystem, FsOptions};
use reformis_disk::Disk;

/// Bytes that looking for loaders may read: a table that leads in a circle must end.
const BUDGET: u64 = 8 << 20;
const MAX_LOADERS: usize = 64;

/// The files below `EFI` that a firmware could start, as paths with `/`; empty for what cannot be read as FAT.
pub(crate) fn loaders(disk: &Arc<dyn Disk>, start: u64, size: u64) -> Vec<String> {
    let window = Window { disk: disk.clone(), start, size, at: 0, left: BUDGET };
    list(window).unwrap_or_default()
}

fn list(window: Window) -> io::Result<Vec<String>> {
    let file_system = FileSystem::new(window, FsOptions::new())?;
    let root = file_system.root_dir();
    let efi = root.open_dir("EFI")?;
    let mut found = Vec::new();
    for folder in efi.iter() {
        let folder = folder?;
        let name = folder.file_name();
        if !folder.is_dir() || name.starts_with('.') {
            continue;
        }
        for file in folder.to_dir().iter() {
            let file = file?;
            let loader = file.file_name();
            if file.is_file() && loader.to_ascii_lowercase().ends_with(".efi") && found.len() < MAX_LOADERS {
                found.push(format!("EFI/{name}/{loader}"));
            }
        }
    }
    found.sort();
    Ok(found)
}

/// A part of a disk as a file that is only read.
struct Window {
    disk: Arc<dyn Disk>,
    start: u64,
    size: u64,
    at: u64,
    /// Bytes that may still be read.
    left: u64,
}

impl Read for Window {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let len = (buf.len() as u64).min(self.size.saturating_sub(self.at)) as usize;
        // A read of nothing counts too.
        self.left = self.left.checked_sub(len.max(512) as u64).ok_or_else(|| io::Error::other("too much to read"))?;
        self.disk.read_at(self.start + self.at, &mut buf[..len]).map_err(io::Error::other)?;
        self.at += len as u64;
        Ok(len)
    }
}

impl Seek for Window {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let at = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.size.checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = at.ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

impl Write for Window {
    fn write(&mut self, _: &[u8]) -> io::Result<usize> {
        Err(io::ErrorKind::ReadOnlyFilesystem.into())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
