//! Members of software RAIDs and encrypted volumes from a stranger, with a key that may fit: their sums are made right, so that what is behind
//! them is reached.
#![no_main]

use std::sync::Arc;

use libfuzzer_sys::fuzz_target;
use reformis_disk::{Disk, Format, budget::Budget, format, source::MemoryStorage};
use reformis_guest::{Guest, Keys};
use reformis_standin::raid::seal;
use sha2::{Digest, Sha256};

const SIZE: usize = 3 << 20;

/// A disk with `bytes` at `at`.
fn disk(at: usize, bytes: &[u8]) -> Vec<u8> {
    let mut disk = vec![0; SIZE];
    let len = bytes.len().min(SIZE - at);
    disk[at..at + len].copy_from_slice(&bytes[..len]);
    disk
}

/// The members of an array: the same superblock, with the number of each.
fn members(count: usize, bytes: &[u8]) -> Vec<Vec<u8>> {
    let member = |number: usize| {
        let mut disk = disk(4096, &bytes[..bytes.len().min(4096)]);
        let block = &mut disk[4096..8192];
        block[..8].copy_from_slice(&[0xfc, 0x4e, 0x2b, 0xa9, 1, 0, 0, 0]);
        block[144..152].copy_from_slice(&8u64.to_le_bytes());
        block[160..164].copy_from_slice(&(number as u32).to_le_bytes());
        let roles = usize::from(u16::from_le_bytes([block[220], block[221]]) % 1900);
        block[220..224].copy_from_slice(&(roles as u32).to_le_bytes());
        seal(&mut block[..256 + roles * 2], 216);
        disk
    };
    (0..count).map(member).collect()
}

fn old_members(count: usize, bytes: &[u8]) -> Vec<Vec<u8>> {
    let member = |number: usize| {
        let at = SIZE - (64 << 10);
        let mut disk = disk(at, &bytes[..bytes.len().min(4096)]);
        let block = &mut disk[at..at + 4096];
        block[..12].copy_from_slice(&[0xfc, 0x4e, 0x2b, 0xa9, 0, 0, 0, 0, 90, 0, 0, 0]);
        block[992 * 4 + 12..][..8].copy_from_slice(&[number as u8, 0, 0, 0, 6, 0, 0, 0]);
        seal(block, 38 * 4);
        disk
    };
    (0..count).map(member).collect()
}

/// LUKS2: the text is the input's, and the sum is right.
fn second(bytes: &[u8]) -> Vec<u8> {
    let size = 16_384;
    let mut disk = disk(4096, bytes);
    disk[size - 1] = 0;
    disk[..8].copy_from_slice(b"LUKS\xba\xbe\0\x02");
    disk[8..16].copy_from_slice(&(size as u64).to_be_bytes());
    disk[72..78].copy_from_slice(b"sha256");
    disk[168..204].copy_from_slice(b"5a170000-0000-4000-8000-000000000001");
    let sum = Sha256::digest(&disk[..size]);
    disk[448..480].copy_from_slice(&sum);
    disk
}

fn first(bytes: &[u8]) -> Vec<u8> {
    let mut disk = disk(0, bytes);
    disk[..8].copy_from_slice(b"LUKS\xba\xbe\0\x01");
    disk[168..204].copy_from_slice(b"5a170000-0000-4000-8000-000000000001");
    disk
}

fuzz_target!(|bytes: &[u8]| {
    let Some((kind, bytes)) = bytes.split_first() else { return };
    let count = usize::from(kind >> 2) % 4 + 1;
    let disks = match kind % 4 {
        0 => members(count, bytes),
        1 => old_members(count, bytes),
        2 => vec![first(bytes)],
        _ => vec![second(bytes)],
    };
    let disks = disks.into_iter().map(|bytes| {
        let storage = Arc::new(MemoryStorage::new("fuzz", bytes));
        format::open(storage, Some(Format::Raw)).expect("any bytes are a raw disk").disk
    });
    let mut keys = Keys::default();
    keys.add("all", b"high tide".to_vec());
    let Ok(guest) = Guest::open_with(disks.collect::<Vec<_>>(), &keys, 1_780_000_000, &Budget::whole()) else { return };
    guest.bench.begin("fuzz", "what a stranger made of it");
    for volume in &guest.volumes {
        let Some(device) = volume.device() else { continue };
        let mut piece = vec![0; 5000];
        for at in [0, 511, device.size() / 2, device.size().saturating_sub(5000)] {
            if device.read_at(at, &mut piece).is_ok() && device.write(at, &piece).is_ok() {
                let mut again = vec![1; piece.len()];
                device.read_at(at, &mut again).expect("what was written is there");
                // Where members lie on one another, the last write counts.
                assert!(again == piece || volume.array.is_some());
            }
        }
    }
});
