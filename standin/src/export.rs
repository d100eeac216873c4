//! A host that exports: a disk becomes a VMDK of the kind made for transport ("Stream-Optimized Compressed Sparse
//! Extents" of the technical note "Virtual Disk Format 5.0"), written in one direction.

use std::io::{self, Write};

use libdeflater::{CompressionLvl, Compressor};

const SECTOR: u64 = 512;
/// Sectors of a grain.
const GRAIN: u64 = 128;
const GTES: u64 = 512;
const MARKER_EOS: u32 = 0;
const MARKER_TABLE: u32 = 1;
const MARKER_DIRECTORY: u32 = 2;
const MARKER_FOOTER: u32 = 3;

struct Sectors<W> {
    out: W,
    /// Sectors written.
    at: u64,
}

impl<W: Write> Sectors<W> {
    /// Writes `bytes`, filled up to a whole sector; returns the first sector.
    fn put(&mut self, bytes: &[u8]) -> io::Result<u64> {
        let start = self.at;
        self.out.write_all(bytes)?;
        let padded = bytes.len().next_multiple_of(SECTOR as usize);
        self.out.write_all(&vec![0; padded - bytes.len()])?;
        self.at += padded as u64 / SECTOR;
        Ok(start)
    }

    fn marker(&mut self, sectors: u64, kind: u32) -> io::Result<u64> {
        let mut bytes = [0; SECTOR as usize];
        bytes[..8].copy_from_slice(&sectors.to_le_bytes());
        bytes[12..16].copy_from_slice(&kind.to_le_bytes());
        self.put(&bytes)
    }
}

fn header(capacity: u64, gd_offset: u64) -> [u8; 512] {
    let mut bytes = [0; 512];
    let mut put = |at: usize, value: &[u8]| bytes[at..at + value.len()].copy_from_slice(value);
    put(0, b"KDMV");
    put(4, &3u32.to_le_bytes());
    // Line-end test, compressed grains, markers.
    put(8, &0x3_0001u32.to_le_bytes());
    put(12, &capacity.to_le_bytes());
    put(20, &GRAIN.to_le_bytes());
    put(28, &1u64.to_le_bytes());
    put(36, &20u64.to_le_bytes());
    put(44, &(GTES as u32).to_le_bytes());
    put(56, &gd_offset.to_le_bytes());
    put(64, &128u64.to_le_bytes());
    put(73, b"\n \r\n");
    put(77, &1u16.to_le_bytes());
    bytes
}

/// Writes a disk of `size` bytes (a multiple of the sector) to `out`. Grains are compressed at
/// `level`. `read` fills a grain from its byte offset and says whether it holds anything.
///
/// # Errors
/// Those of writing and of `read`.
pub fn stream_vmdk(
    out: impl Write,
    name: &str,
    size: u64,
    level: CompressionLvl,
    mut read: impl FnMut(u64, &mut [u8]) -> io::Result<bool>,
) -> io::Result<()> {
    let capacity = size / SECTOR;
    let mut out = Sectors { out, at: 0 };
    out.put(&header(capacity, u64::MAX))?;
    let descriptor = format!(
        "# Disk DescriptorFile\nversion=1\nCID=5a17ba5e\nparentCID=ffffffff\ncreateType=\"streamOptimized\"\n\n\
         # Extent description\nRW {capacity} SPARSE \"{name}\"\n\n# The Disk Data Base\nddb.virtualHWVersion = \"19\"\n\
         ddb.adapterType = \"lsilogic\"\nddb.geometry.cylinders = \"{}\"\nddb.geometry.heads = \"255\"\n\
         ddb.geometry.sectors = \"63\"\n",
        capacity.div_ceil(255 * 63)
    );
    let mut block = descriptor.into_bytes();
    block.resize(20 * SECTOR as usize, 0);
    out.put(&block)?;
    out.put(&vec![0; ((128 - out.at) * SECTOR) as usize])?;

    let tables = capacity.div_ceil(GRAIN * GTES);
    let mut directory = vec![0u8; (tables * 4) as usize];
    let mut compressor = Compressor::new(level);
    for table in 0..tables {
        let mut entries = vec![0u8; (GTES * 4) as usize];
        for index in 0..GTES {
            let lba = (table * GTES + index) * GRAIN;
            if lba >= capacity {
                break;
            }
            let mut grain = vec![0; (GRAIN.min(capacity - lba) * SECTOR) as usize];
            if !read(lba * SECTOR, &mut grain)? {
                continue;
            }
            let mut packed = vec![0; compressor.zlib_compress_bound(grain.len())];
            let len = compressor.zlib_compress(&grain, &mut packed).map_err(io::Error::other)?;
            let mut bytes = lba.to_le_bytes().to_vec();
            bytes.extend((len as u32).to_le_bytes());
            bytes.extend(&packed[..len]);
            let sector = out.put(&bytes)?;
            entries[index as usize * 4..][..4].copy_from_slice(&(sector as u32).to_le_bytes());
        }
        if entries.iter().any(|&byte| byte != 0) {
            out.marker(entries.len() as u64 / SECTOR, MARKER_TABLE)?;
            let sector = out.put(&entries)?;
            directory[table as usize * 4..][..4].copy_from_slice(&(sector as u32).to_le_bytes());
        }
    }
    out.marker((directory.len() as u64).div_ceil(SECTOR), MARKER_DIRECTORY)?;
    let gd_offset = out.put(&directory)?;
    out.marker(1, MARKER_FOOTER)?;
    out.put(&header(capacity, gd_offset))?;
    out.marker(0, MARKER_EOS)?;
    out.out.flush()
}

/// [`stream_vmdk`] of made-up content, in memory.
///
/// # Errors
/// None that memory can have.
pub fn stream_vmdk_of(content: &crate::content::Content, name: &str) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    stream_vmdk(&mut bytes, name, content.size, CompressionLvl::fastest(), |offset, grain| {
        if !content.touches(offset, grain.len() as u64) {
            return Ok(false);
        }
        content.read_at(offset, grain);
        Ok(true)
    })?;
    Ok(bytes)
}
