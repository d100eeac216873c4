//! A differencing VHDX, after "[MS-VHDX]: Virtual Hard Disk v2 (VHDX) File Format".

use super::{Delta, File, utf16};

const MIB: u64 = 1 << 20;
/// Bytes of a block.
const BLOCK: u64 = MIB;
/// A sector bitmap of 1 MiB has a bit for each sector of 512 bytes: so many blocks.
const RATIO: u64 = 4096;

/// A GUID as it is stored: its first three fields are little-endian.
fn guid(text: &str) -> [u8; 16] {
    let digits: String = text.chars().filter(char::is_ascii_hexdigit).collect();
    let number = u128::from_str_radix(&digits, 16).unwrap_or_default().to_be_bytes();
    let order = [3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15];
    order.map(|index: usize| number[index])
}

/// `bytes` filled up to `len`, with the checksum at byte 4.
fn checked(mut bytes: Vec<u8>, len: usize) -> Vec<u8> {
    bytes.resize(len, 0);
    let sum = crc32c::crc32c(&bytes);
    bytes[4..8].copy_from_slice(&sum.to_le_bytes());
    bytes
}

/// The image; `linkage` is the state of its parent that it was made of, and `parent` its name.
pub fn image(delta: &Delta<'_>, linkage: &str, parent: &str) -> Vec<u8> {
    let size = delta.whole.size;
    let mut file = File::default();
    file.put(0, b"vhdxfile");
    for (at, sequence) in [(64 << 10, 1u64), (128 << 10, 2)] {
        let mut header = b"head\0\0\0\0".to_vec();
        header.extend(sequence.to_le_bytes());
        header.extend([[5u8; 16], [6; 16], [0; 16]].concat());
        header.extend([0, 0, 1, 0]);
        header.extend((MIB as u32).to_le_bytes());
        header.extend(MIB.to_le_bytes());
        file.put(at, &checked(header, 4096));
    }
    for at in [192 << 10, 256 << 10] {
        let mut table = b"regi\0\0\0\0\x02\0\0\0\0\0\0\0".to_vec();
        for (id, place) in
            [("2dc27766-f623-4200-9d64-115e9bfd4a08", 3 * MIB), ("8b7ca206-4790-4b9a-b8fe-575f050f886e", 2 * MIB)]
        {
            table.extend(guid(id));
            table.extend(place.to_le_bytes());
            table.extend((MIB as u32).to_le_bytes());
            table.extend(1u32.to_le_bytes());
        }
        file.put(at, &checked(table, 64 << 10));
    }

    let mut locator = guid("b04aefb7-d19e-4a81-b789-25b8e9445913").to_vec();
    let pairs = [
        ("parent_linkage", format!("{{{linkage}}}")),
        ("relative_path", format!(".\\{parent}")),
        ("absolute_win32_path", format!("\\\\?\\c:\\old\\{parent}")),
    ];
    locator.extend([0, 0, pairs.len() as u8, 0]);
    let mut text_at = 20 + pairs.len() * 12;
    let mut texts = Vec::new();
    for (key, value) in &pairs {
        let (key, value) = (utf16(key), utf16(value));
        locator.extend((text_at as u32).to_le_bytes());
        locator.extend(((text_at + key.len()) as u32).to_le_bytes());
        locator.extend((key.len() as u16).to_le_bytes());
        locator.extend((value.len() as u16).to_le_bytes());
        text_at += key.len() + value.len();
        texts.extend([key, value].concat());
    }
    locator.extend(texts);
    let parameters = [(BLOCK as u32).to_le_bytes(), 2u32.to_le_bytes()].concat();
    let items: [(&str, Vec<u8>, u32); 6] = [
        ("caa16737-fa36-4d43-b3b6-33f0aa44e76b", parameters, 4),
        ("2fa54224-cd1b-4876-b211-5dbed83bf4b8", size.to_le_bytes().into(), 6),
        ("beca12ab-b2e6-4523-93ef-c309e000c746", vec![9; 16], 6),
        ("8141bf1d-a96f-4709-ba47-f233a8faab5f", 512u32.to_le_bytes().into(), 6),
        ("cda348c7-445d-4471-9cc9-e9885251c556", 4096u32.to_le_bytes().into(), 6),
        ("a8d35f2d-b30b-454d-abf7-d3d84834ab0c", locator, 4),
    ];
    let mut table = b"metadata\0\0\x06\0".to_vec();
    table.resize(32, 0);
    let mut item_at = 64u64 << 10;
    for (id, value, flags) in &items {
        table.extend(guid(id));
        table.extend((item_at as u32).to_le_bytes());
        table.extend((value.len() as u32).to_le_bytes());
        table.extend(flags.to_le_bytes());
        table.extend([0; 4]);
        file.put(2 * MIB + item_at, value);
        item_at += value.len() as u64;
    }
    file.put(2 * MIB, &table);

    // One entry for each block, and behind 4096 of them, or at the end, one for their sector bitmap.
    let bitmap_entry = RATIO;
    let bitmap_at = 4 * MIB;
    file.put(3 * MIB + bitmap_entry * 8, &(bitmap_at | 6).to_le_bytes());
    file.put(bitmap_at, &vec![0; MIB as usize]);
    let mut end = bitmap_at + MIB;
    for block in delta.blocks(BLOCK) {
        let sectors = BLOCK / 512;
        let here = |sector: &u64| delta.has(block * BLOCK + sector * 512..block * BLOCK + sector * 512 + 512);
        let whole = (0..sectors).all(|sector| here(&sector));
        let state = if whole { 6 } else { 7 };
        file.put(3 * MIB + block * 8, &(end | state).to_le_bytes());
        file.put(end, &vec![0xdd; BLOCK as usize]);
        for sector in (0..sectors).filter(here) {
            let bit = block * sectors + sector;
            let at = bitmap_at + bit / 8;
            let byte = file.0[at as usize] | 1 << (bit % 8);
            file.put(at, &[byte]);
            file.put(end + sector * 512, &delta.bytes(block * BLOCK + sector * 512, 512));
        }
        end += BLOCK;
    }
    file.0
}
