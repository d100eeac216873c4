//! Lays a volume group with one linear volume into a part of a disk, filled with a file system.
//!
//!     lay-lvm DISK START SIZE GROUP VOLUME FILE
//!
//! START and SIZE are bytes of the physical volume in DISK; FILE is what the volume holds.

use std::{fs::File, io, io::Seek};

use anyhow::{Context, Result, bail};
use reformis_standin::lvm::{self, EXTENT, Physical, Segment, Volume};

fn main() -> Result<()> {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let [disk, start, size, group, name, content] = &args[..] else {
        bail!("lay-lvm DISK START SIZE GROUP VOLUME FILE");
    };
    let mut disk = File::options().read(true).write(true).open(disk).context("opening the disk")?;
    let mut content = File::open(content).context("opening the content")?;
    let extents = content.metadata()?.len().div_ceil(EXTENT);
    let (start, size) = (start.parse()?, size.parse()?);
    let physical = [Physical { file: &disk, start, size }];
    lvm::lay(group, &physical, &[Volume { name, segments: vec![Segment { legs: vec![(0, 0)], extents }] }])?;
    disk.seek(io::SeekFrom::Start(start + lvm::extent_start(0)))?;
    io::copy(&mut content, &mut disk)?;
    Ok(())
}
