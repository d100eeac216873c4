//! VDI deltas, and images of the first version, after the description that the format's makers published.

use super::{Delta, File};

/// Bytes of a block: less than the usual 1 MiB.
const BLOCK: u64 = 64 << 10;

/// The identities in a header: the image's own, of its state, and the same of its parent.
pub struct Ids {
    /// The image's UUID.
    pub own: [u8; 16],
    /// That of its state.
    pub state: [u8; 16],
    /// The parent's.
    pub parent: [u8; 16],
    /// That of the parent's state.
    pub parent_state: [u8; 16],
}

/// The image, of version 1.1. Blocks are whole: those of which the delta has something have all their bytes. `freed` is
/// a block that the guest gave back.
pub fn image(delta: &Delta<'_>, ids: &Ids, freed: Option<u64>) -> Vec<u8> {
    let blocks = delta.whole.size.div_ceil(BLOCK);
    let stored = delta.blocks(BLOCK);
    let (table_at, data_at) = (1024u64, (1024 + blocks * 4).next_multiple_of(512));
    let mut header = b"<<< made by hand >>>\n".to_vec();
    header.resize(64, 0);
    let mut word = |value: u32| header.extend(value.to_le_bytes());
    for value in [0xbeda_107f, 0x1_0001, 400, 4, 0] {
        word(value);
    }
    header.extend([0; 256]);
    let mut word = |value: u32| header.extend(value.to_le_bytes());
    for value in [table_at as u32, data_at as u32, 0, 0, 0, 512, 0] {
        word(value);
    }
    header.extend(delta.whole.size.to_le_bytes());
    let mut word = |value: u32| header.extend(value.to_le_bytes());
    for value in [BLOCK as u32, 0, blocks as u32, stored.len() as u32] {
        word(value);
    }
    header.extend([ids.own, ids.state, ids.parent, ids.parent_state].concat());
    let mut file = File::default();
    file.put(0, &header);
    fill(&mut file, delta, table_at, data_at, freed);
    file.0
}

/// The same bytes as an image of version 0.1, which is no delta.
pub fn old_image(delta: &Delta<'_>) -> Vec<u8> {
    let blocks = delta.whole.size.div_ceil(BLOCK);
    let mut header = b"<<< made by hand >>>\n".to_vec();
    header.resize(64, 0);
    let mut word = |value: u32| header.extend(value.to_le_bytes());
    for value in [0xbeda_107f, 1, 1, 0] {
        word(value);
    }
    header.extend([0; 256]);
    let mut word = |value: u32| header.extend(value.to_le_bytes());
    for value in [0, 0, 0, 512] {
        word(value);
    }
    header.extend(delta.whole.size.to_le_bytes());
    let mut word = |value: u32| header.extend(value.to_le_bytes());
    for value in [BLOCK as u32, blocks as u32, delta.blocks(BLOCK).len() as u32] {
        word(value);
    }
    header.extend([3; 48]);
    let (table_at, mut file) = (header.len() as u64, File::default());
    file.put(0, &header);
    fill(&mut file, delta, table_at, table_at + blocks * 4, None);
    file.0
}

fn fill(file: &mut File, delta: &Delta<'_>, table_at: u64, data_at: u64, freed: Option<u64>) {
    let blocks = delta.whole.size.div_ceil(BLOCK);
    file.put(table_at, &vec![0xff; (blocks * 4) as usize]);
    for (index, block) in delta.blocks(BLOCK).into_iter().enumerate() {
        file.put(table_at + block * 4, &(index as u32).to_le_bytes());
        file.put(data_at + index as u64 * BLOCK, &delta.bytes(block * BLOCK, BLOCK));
    }
    if let Some(block) = freed {
        file.put(table_at + block * 4, &0xffff_fffeu32.to_le_bytes());
    }
}
