//! A datastore's sparse extents and the descriptor beside them. COWD is after "Virtual Disk Format 5.0", section "ESX Server
//! Sparse Extents"; of the space-efficient kind there is no description but the code of those who read it.

use super::{Delta, File};

/// The descriptor of a delta of the disk with this CID, in one extent.
pub fn descriptor(sectors: u64, kind: &str, extent: &str, parent_cid: &str, hint: &str) -> String {
    format!(
        "# Disk DescriptorFile\nversion=1\nCID=12345678\nparentCID={parent_cid}\ncreateType=\"vmfsSparse\"\n\
         parentFileNameHint=\"{hint}\"\n# Extent description\nRW {sectors} {kind} \"{extent}\"\n\
         # The Disk Data Base\n#DDB\nddb.longContentID = \"0123456789abcdef\"\n"
    )
}

/// A COWD extent in grains of one sector.
pub fn cowd(delta: &Delta<'_>) -> Vec<u8> {
    let sectors = delta.whole.size.div_ceil(512);
    let tables = sectors.div_ceil(4096);
    let mut file = File::default();
    let mut header = b"COWD".to_vec();
    for word in [1, 3, sectors as u32, 1, 4, tables as u32, 0] {
        header.extend(word.to_le_bytes());
    }
    header.resize(2048, 0);
    file.put(0, &header);
    file.put(2048, &vec![0; (tables * 4).next_multiple_of(512) as usize]);
    let mut end = 4 + (tables * 4).div_ceil(512);
    for table in 0..tables {
        let grains: Vec<u64> = (table * 4096..sectors.min((table + 1) * 4096))
            .filter(|grain| delta.has(grain * 512..(grain + 1) * 512))
            .collect();
        if grains.is_empty() {
            continue;
        }
        let table_at = end;
        file.put(2048 + table * 4, &(table_at as u32).to_le_bytes());
        file.put(table_at * 512, &[0; 16384]);
        end += 32;
        for grain in grains {
            file.put(table_at * 512 + grain % 4096 * 4, &(end as u32).to_le_bytes());
            file.put(end * 512, &delta.bytes(grain * 512, 512));
            end += 1;
        }
    }
    file.0
}

/// A space-efficient extent in grains of 4 KiB; `zeroed` is a grain of zeros, and `unmapped` one that the guest gave back.
pub fn space_efficient(delta: &Delta<'_>, zeroed: u64, unmapped: u64) -> Vec<u8> {
    const GRAIN: u64 = 4096;
    let sectors = delta.whole.size.div_ceil(512);
    let grains = delta.whole.size.div_ceil(GRAIN);
    let tables = grains.div_ceil(4096);
    let directory = (tables * 8).div_ceil(512);
    // Volatile header at sector 1, journal header at 2, journal at 3, directory at 8, then the tables, then the grains.
    let (directory_at, tables_at) = (8, 8 + directory);
    let grains_at = (tables_at + tables * 64).next_multiple_of(8);
    let mut header = Vec::new();
    for field in [
        0xcafe_babe,
        2 << 32 | 1,
        sectors,
        8,
        64,
        0,
        0,
        0,
        0,
        0,
        1,
        1,
        2,
        1,
        3,
        1,
        directory_at,
        directory,
        tables_at,
        tables * 64,
        0,
        0,
        0,
        0,
        grains_at,
        grains * 8,
    ] {
        header.extend(field.to_le_bytes());
    }
    let mut file = File::default();
    file.put(0, &header);
    file.put(512, &0xcafe_cafeu64.to_le_bytes());
    file.put(grains_at * 512 - 1, &[0]);
    for table in 0..tables {
        file.put(directory_at * 512 + table * 8, &(0x1000_0000_0000_0000 | table).to_le_bytes());
    }
    let entry_at = |grain: u64| tables_at * 512 + grain * 8;
    for (number, grain) in delta.blocks(GRAIN).into_iter().enumerate() {
        let number = number as u64;
        let entry = 0x3000_0000_0000_0000 | (number & 0xfff) << 48 | number >> 12;
        file.put(entry_at(grain), &entry.to_le_bytes());
        file.put((grains_at + number * 8) * 512, &delta.bytes(grain * GRAIN, GRAIN));
    }
    file.put(entry_at(zeroed), &0x2000_0000_0000_0000u64.to_le_bytes());
    file.put(entry_at(unmapped), &0x1000_0000_0000_0000u64.to_le_bytes());
    file.0
}
