//! The boot sector, and its copy behind the last cluster (\[MS\] NTFS boot sector; field names after the BIOS parameter block).

use reformis_disk::to_usize;

use super::fields::{u16, u64};
use crate::{bench::Device, error::Result};

/// What the boot sector says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Geometry {
    /// Bytes of a sector: 512 to 4096.
    pub(super) sector: u64,
    /// Bytes of a cluster: 512 to 2 MiB.
    pub(super) cluster: u64,
    /// Clusters of the volume.
    pub(super) clusters: u64,
    /// The first cluster of `$MFT`.
    pub(super) mft: u64,
    /// The first cluster of `$MFTMirr`.
    pub(super) mirror: u64,
    /// Bytes of a file record: 1024 to 4096.
    pub(super) record: usize,
    /// Bytes of an index block: 512 to 64 KiB.
    pub(super) index_block: usize,
    /// The volume's serial number.
    pub(super) serial: u64,
}

impl Geometry {
    /// Reads what `sector` says of a volume of at most `size` bytes.
    fn of(sector: &[u8], size: u64) -> Result<Self, String> {
        let byte = |at: usize| sector.get(at).copied().unwrap_or_default();
        let wide = |at: usize| u64(sector, at).unwrap_or_default();
        if sector.get(3..11) != Some(b"NTFS    ") {
            return Err("its boot sector is not one of NTFS".into());
        }
        let bytes = u64::from(u16(sector, 11).unwrap_or_default());
        if !bytes.is_power_of_two() || !(256..=4096).contains(&bytes) {
            return Err(format!("its boot sector says that a sector has {bytes} bytes"));
        }
        // Above 128, it is the negative power of two.
        let factor = match byte(13) {
            count @ 0..=0x80 => u64::from(count),
            power => 1_u64.checked_shl(256 - u32::from(power)).unwrap_or_default(),
        };
        let cluster = bytes.saturating_mul(factor);
        if !cluster.is_power_of_two() || !(512..=2 << 20).contains(&cluster) {
            return Err(format!("its boot sector says that a cluster has {cluster} bytes"));
        }
        let length = |at: usize, what: &str, fits: std::ops::RangeInclusive<u64>| {
            let value = byte(at).cast_signed();
            let bytes = match u64::try_from(value) {
                Ok(clusters) => clusters * cluster,
                Err(_) => 1_u64.checked_shl(value.unsigned_abs().into()).unwrap_or_default(),
            };
            let is_sound = bytes.is_power_of_two() && fits.contains(&bytes);
            is_sound
                .then_some(to_usize(bytes))
                .ok_or_else(|| format!("its boot sector says that {what} has {bytes} bytes"))
        };
        let record = length(64, "a file record", 512..=4096)?;
        let index_block = length(68, "an index block", 512..=64 << 10)?;
        let clusters = wide(40).saturating_mul(bytes) / cluster;
        let (mft, mirror) = (wide(48), wide(56));
        if clusters == 0 || clusters.saturating_mul(cluster) > size {
            return Err(format!(
                "its boot sector says that it has {clusters} clusters of {cluster} bytes, and it has {size} bytes"
            ));
        }
        if mft >= clusters || mirror >= clusters {
            return Err("its boot sector leads outside the volume".into());
        }
        Ok(Self { sector: bytes, cluster, clusters, mft, mirror, record, index_block, serial: wide(72) })
    }

    /// Reads the boot sector, or its copy in the last sector when the first one is damaged.
    pub(super) fn read(device: &Device) -> Result<Self> {
        let size = device.size();
        let mut sector = [0; 512];
        if size < 1024 {
            return Err(device.damaged("it is too small for NTFS"));
        }
        device.read(0, &mut sector)?;
        let what = match Self::of(&sector, size) {
            Ok(geometry) => return Ok(geometry),
            Err(what) => what,
        };
        for bytes in [512, 4096] {
            if let Some(last) = size.checked_sub(bytes) {
                device.read(last, &mut sector)?;
                if let Ok(geometry) = Self::of(&sector, size) {
                    return Ok(geometry);
                }
            }
        }
        Err(device.damaged(what))
    }
}
