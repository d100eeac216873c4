//! A differencing VHD, after "Virtual Hard Disk Image Format Specification", version 1.0.

use super::{Delta, File, utf16};

/// Bytes of a block: less than the usual 2 MiB, so that small disks have several.
const BLOCK: u64 = 256 << 10;
const NOWHERE: [u8; 8] = [0xff; 8];

fn put_checksum(bytes: &mut [u8], at: usize) {
    bytes[at..at + 4].fill(0);
    let sum = bytes.iter().fold(0u32, |sum, &byte| sum.wrapping_add(byte.into()));
    bytes[at..at + 4].copy_from_slice(&(!sum).to_be_bytes());
}

/// The image; its parent has this UUID, and is called `parent` from here and `c:\old\PARENT` from the root.
pub fn image(delta: &Delta<'_>, parent_uuid: [u8; 16], parent: &str) -> Vec<u8> {
    let size = delta.whole.size;
    let blocks = size.div_ceil(BLOCK);
    let mut footer = vec![0; 512];
    let mut set = |at: usize, bytes: &[u8]| footer[at..at + bytes.len()].copy_from_slice(bytes);
    set(0, b"conectix");
    set(8, &2u32.to_be_bytes());
    set(12, &0x1_0000u32.to_be_bytes());
    set(16, &512u64.to_be_bytes());
    set(28, b"win ");
    set(36, b"Wi2k");
    set(40, &size.to_be_bytes());
    set(48, &size.to_be_bytes());
    set(60, &4u32.to_be_bytes());
    set(68, &[7; 16]);
    put_checksum(&mut footer, 64);

    let table_at = 1536u64;
    let relative_at = (table_at + blocks * 4).next_multiple_of(512);
    let absolute_at = relative_at + 512;
    let (relative, absolute) = (utf16(&format!(".\\{parent}")), utf16(&format!("c:\\old\\{parent}")));
    let mut header = vec![0; 1024];
    let mut set = |at: usize, bytes: &[u8]| header[at..at + bytes.len()].copy_from_slice(bytes);
    set(0, b"cxsparse");
    set(8, &NOWHERE);
    set(16, &table_at.to_be_bytes());
    set(24, &0x1_0000u32.to_be_bytes());
    set(28, &(blocks as u32).to_be_bytes());
    set(32, &(BLOCK as u32).to_be_bytes());
    set(40, &parent_uuid);
    let name: Vec<u8> = parent.encode_utf16().flat_map(u16::to_be_bytes).collect();
    set(64, &name);
    for (index, (code, data, at)) in
        [(b"W2ku", &absolute, absolute_at), (b"W2ru", &relative, relative_at)].into_iter().enumerate()
    {
        let entry = 576 + index * 24;
        set(entry, code);
        set(entry + 4, &512u32.to_be_bytes());
        set(entry + 8, &(data.len() as u32).to_be_bytes());
        set(entry + 16, &at.to_be_bytes());
    }
    put_checksum(&mut header, 36);

    let mut file = File::default();
    file.put(0, &footer);
    file.put(512, &header);
    file.put(table_at, &vec![0xff; (relative_at - table_at) as usize]);
    file.put(relative_at, &relative);
    file.put(absolute_at, &absolute);
    let mut end = absolute_at + 512;
    for block in delta.blocks(BLOCK) {
        file.put(table_at + block * 4, &((end / 512) as u32).to_be_bytes());
        let mut bitmap = [0u8; 512];
        for sector in 0..BLOCK / 512 {
            let at = block * BLOCK + sector * 512;
            if delta.has(at..at + 512) {
                bitmap[(sector / 8) as usize] |= 0x80 >> (sector % 8);
                file.put(end + 512 + sector * 512, &delta.bytes(at, 512));
            } else {
                // What is not the delta's is not to be read.
                file.put(end + 512 + sector * 512, &[0xdd; 512]);
            }
        }
        file.put(end, &bitmap);
        end += 512 + BLOCK;
    }
    file.put(end, &footer);
    file.0
}
