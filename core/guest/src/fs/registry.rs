//! The table of file systems: adding one is adding its folder and a line in each of these.

use super::{FileSystem, Shared, btrfs, ext, fat, ntfs, xfs};
use crate::{bench::Device, error::Result, fs::node::Facts, volume::probe::Volume};

/// The edit that a replayed journal is.
pub(crate) const JOURNAL: &str = "journal";

/// A file system that was opened.
pub(crate) struct Opened {
    /// It.
    pub(crate) fs: Shared,
    /// Whether its journal was replayed, as an edit of its own.
    pub(crate) replayed: bool,
}

/// The file system of the `kind` on `device`; `None` when it is of a kind that is not read. Changes are made at `now`, in
/// seconds since 1970.
///
/// # Errors
/// Those of the file system.
pub(crate) fn open(device: &Device, kind: Volume, now: i64) -> Result<Option<Opened>> {
    open_among(device, &[], kind, now)
}

/// The same; what lies on several devices finds the others among `others`.
///
/// # Errors
/// Those of the file system.
pub(crate) fn open_among(device: &Device, others: &[Device], kind: Volume, now: i64) -> Result<Option<Opened>> {
    Ok(match kind {
        Volume::Btrfs => {
            let (btrfs, replayed) = btrfs::volume::open(device, others, now)?;
            Some(Opened { fs: Shared::new(btrfs), replayed })
        }
        Volume::Ext => {
            let (ext, replayed) = ext::volume::open(device, now)?;
            Some(Opened { fs: Shared::new(ext), replayed })
        }
        Volume::Fat => fat::Fat::open(device.clone(), now)?.map(|fat| Opened { fs: Shared::new(fat), replayed: false }),
        Volume::Xfs => {
            let (xfs, replayed) = xfs::volume::open(device, now)?;
            Some(Opened { fs: Shared::new(xfs), replayed })
        }
        Volume::Ntfs => Some(Opened { fs: Shared::new(ntfs::Ntfs::open(device.clone(), now)?), replayed: false }),
        _ => None,
    })
}

/// What the file system of the `kind` on `device` says of itself, as it lies there; `None` when it is of a kind that is not read.
///
/// # Errors
/// Those of the file system.
pub(crate) fn facts(device: &Device, kind: Volume) -> Result<Option<Facts>> {
    Ok(match kind {
        Volume::Ext => Some(ext::Ext::open(device.clone(), 0)?.facts()?),
        Volume::Fat => fat::Fat::open(device.clone(), 0)?.map(|fat| fat.facts()).transpose()?,
        Volume::Xfs => Some(xfs::Xfs::open(device.clone(), 0)?.facts()?),
        Volume::Ntfs => Some(ntfs::Ntfs::open(device.clone(), 0)?.facts()?),
        _ => None,
    })
}
