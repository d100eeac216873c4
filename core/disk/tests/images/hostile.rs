//! Images from strangers: cut short, and with tables that lie. Each gets its own clear error.

use crate::common::{open_bytes, watch};
use reformis_disk::{Error, copy::pipeline, disk::data_bytes};
use reformis_standin::{content::Content, export};

const MIB: u64 = 1 << 20;

fn stream() -> Vec<u8> {
    let content = Content::empty(70 * MIB).with(0, 200_000, 1).with(40 * MIB, 70_000, 2);
    export::stream_vmdk_of(&content, "made-up.vmdk").unwrap()
}

fn u64_at(bytes: &[u8], at: usize) -> u64 {
    u64::from_le_bytes(bytes[at..at + 8].try_into().unwrap())
}

fn put(bytes: &mut [u8], at: usize, value: &[u8]) {
    bytes[at..at + value.len()].copy_from_slice(value);
}

/// Opens and reads everything; the message when that fails.
fn read_all(bytes: &[u8]) -> Result<(), Error> {
    let disk = open_bytes(bytes)?;
    pipeline::scan(disk.as_ref(), &watch()).map(drop)
}

fn message(bytes: &[u8]) -> String {
    read_all(bytes).expect_err("this image must be refused").to_string()
}

/// Footer, grain directory and first grain table of [`stream`], as bytes in the file.
struct Places {
    footer: usize,
    directory: usize,
    table: usize,
    grain: usize,
}

fn places(bytes: &[u8]) -> Places {
    let footer = bytes.len() - 1024;
    let directory = u64_at(bytes, footer + 56) as usize * 512;
    let entry = |at: usize| u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()) as usize * 512;
    let table = entry(directory);
    Places { footer, directory, table, grain: entry(table) }
}

#[test]
fn a_stream_cut_short_anywhere_is_an_error() {
    let whole = stream();
    read_all(&whole).unwrap();
    for len in (0..whole.len() - 1024).step_by(1777).chain(whole.len() - 1600..whole.len() - 512) {
        let error = read_all(&whole[..len]).expect_err("a stream without its end must be refused");
        let expected = matches!(error, Error::CutShort { .. } | Error::NotAnImage { .. } | Error::Damaged { .. });
        assert!(expected, "at {len}: {error}");
    }
}

#[test]
fn grain_tables_that_lie_are_named() {
    let good = stream();
    let at = places(&good);
    let broken = |change: &dyn Fn(&mut Vec<u8>)| {
        let mut bytes = good.clone();
        change(&mut bytes);
        message(&bytes)
    };
    let outside = broken(&|b| put(b, at.table, &0x7fff_ffffu32.to_le_bytes()));
    assert!(outside.contains("cut short: grain 0 needs bytes"), "{outside}");

    let table_outside = broken(&|b| put(b, at.directory, &0x7fff_ffffu32.to_le_bytes()));
    assert!(table_outside.contains("cut short: grain table 0"), "{table_outside}");

    let second = good[at.table + 4..at.table + 8].to_vec();
    let twice = broken(&|b| put(b, at.table, &second));
    assert!(twice.contains("a grain marked for sector 128 of the guest's disk, expected sector 0"), "{twice}");

    let overlapping = broken(&|b| {
        let first = b[at.directory..at.directory + 4].to_vec();
        put(b, at.directory + 4, &first);
    });
    assert!(overlapping.contains("grain tables 0 and 1 overlap"), "{overlapping}");

    let directory_outside = broken(&|b| put(b, at.footer + 56, &(u64::MAX - 7).to_le_bytes()));
    assert!(directory_outside.contains("beyond any file"), "{directory_outside}");
}

#[test]
fn a_header_that_asks_for_terabytes_of_tables_is_refused_before_memory_is_taken() {
    for capacity in [1u64 << 54, u64::MAX, u64::MAX / 512] {
        let mut bytes = stream();
        let footer = bytes.len() - 1024;
        put(&mut bytes, 12, &capacity.to_le_bytes());
        put(&mut bytes, footer + 12, &capacity.to_le_bytes());
        let message = message(&bytes);
        assert!(message.contains("whose grain directory would take more than 16 MiB"), "{message}");
    }
}

#[test]
fn deflate_data_is_held_to_its_grain() {
    let good = stream();
    let at = places(&good);
    let pack = |len: usize| {
        let mut packer = libdeflate_pack(&vec![7; len]);
        let mut grain = 0u64.to_le_bytes().to_vec();
        grain.extend((packer.len() as u32).to_le_bytes());
        grain.append(&mut packer);
        grain
    };
    let with = |grain: Vec<u8>| {
        let mut bytes = good.clone();
        put(&mut bytes, at.grain, &grain);
        message(&bytes)
    };
    assert!(with(pack(65537)).contains("expands to more than its 65536 bytes"));
    assert!(with(pack(8 << 20)).contains("expands to more than its 65536 bytes"));
    assert!(with(pack(65535)).contains("expands to 65535 bytes, expected 65536"));
    let mut garbage = pack(65536);
    garbage[14] ^= 0x55;
    assert!(with(garbage).contains("is not a valid zlib stream"));
    let mut huge = pack(65536);
    put(&mut huge, 8, &u32::MAX.to_le_bytes());
    assert!(with(huge).contains("a compressed grain of 4294967295 bytes"));
}

fn libdeflate_pack(bytes: &[u8]) -> Vec<u8> {
    let mut packer = libdeflater::Compressor::new(libdeflater::CompressionLvl::best());
    let mut packed = vec![0; packer.zlib_compress_bound(bytes.len())];
    let len = packer.zlib_compress(bytes, &mut packed).unwrap();
    packed.truncate(len);
    packed
}

/// A plain sparse extent of 256 grains built by hand: header, descriptor, directory, two tables, grains.
fn plain(entries: &[(usize, u32)]) -> Vec<u8> {
    let mut bytes = vec![0; 300 * 128 * 512];
    put(&mut bytes, 0, b"KDMV");
    put(&mut bytes, 4, &1u32.to_le_bytes());
    put(&mut bytes, 8, &5u32.to_le_bytes());
    put(&mut bytes, 12, &(256u64 * 128).to_le_bytes());
    put(&mut bytes, 20, &128u64.to_le_bytes());
    put(&mut bytes, 44, &512u32.to_le_bytes());
    put(&mut bytes, 56, &30u64.to_le_bytes());
    put(&mut bytes, 64, &128u64.to_le_bytes());
    put(&mut bytes, 73, b"\n \r\n");
    put(&mut bytes, 30 * 512, &32u32.to_le_bytes());
    for (index, sector) in entries {
        put(&mut bytes, 32 * 512 + index * 4, &sector.to_le_bytes());
    }
    bytes[128 * 512..].fill(9);
    bytes
}

#[test]
fn plain_grains_are_read_zeroed_ones_are_zero_and_overlaps_are_found() {
    let disk = open_bytes(&plain(&[(0, 256), (1, 1), (5, 128), (6, 700)])).unwrap();
    let mut grain = vec![1; 65536];
    for (index, expected) in [(0, 9), (1, 0), (2, 0), (5, 9), (255, 0)] {
        disk.read_at(index * 65536, &mut grain).unwrap();
        assert!(grain.iter().all(|&byte| byte == expected), "grain {index}");
    }
    assert_eq!(data_bytes(disk.as_ref()).unwrap(), 3 * 65536);

    assert!(message(&plain(&[(0, 256), (3, 256)])).contains("gives sector 256 of the file to two grains"));
    assert!(message(&plain(&[(0, 256), (3, 383)])).contains("gives sector 383 of the file to two grains"));
    assert!(message(&plain(&[(0, 30)])).contains("among the tables"));
    assert!(message(&plain(&[(0, 300 * 128 - 1)])).contains("cut short: grain 0"));
    let mut text = plain(&[]);
    put(&mut text, 75, b"\n\n");
    assert!(message(&text).contains("transferred as text"));
    let mut delta = plain(&[]);
    put(&mut delta, 28, &1u64.to_le_bytes());
    put(&mut delta, 36, &2u64.to_le_bytes());
    put(&mut delta, 512, b"# Disk DescriptorFile\nCID=1\nparentCID=0badcafe\n");
    assert!(message(&delta).contains("a delta of another disk, and does not say of which"));
}

#[test]
fn qcow2_headers_that_lie_are_named() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("good.qcow2");
    let source = crate::common::ContentDisk(Content::empty(70 * MIB).with(0, 200_000, 1));
    crate::common::write(&source, "qcow2", &path).unwrap();
    let good = std::fs::read(&path).unwrap();
    read_all(&good).unwrap();
    let broken = |at: usize, value: &[u8]| {
        let mut bytes = good.clone();
        put(&mut bytes, at, value);
        message(&bytes)
    };
    let entry = |at: usize| u64::from_be_bytes(good[at..at + 8].try_into().unwrap()) as usize & 0xffff_ffff;
    let l1 = entry(40);
    let l2 = entry(l1);
    for (at, value, expected) in [
        (4, &9u32.to_be_bytes()[..], "of version 9"),
        (20, &40u32.to_be_bytes(), "clusters of 2^40 bytes"),
        (24, &(u64::MAX - 511).to_be_bytes(), "an L1 table of 1 entries"),
        (8, &4096u64.to_be_bytes(), "holds no member ''"),
        (32, &1u32.to_be_bytes(), "encrypted"),
        (40, &(1u64 << 50).to_be_bytes(), "cut short: the L1 table"),
        (72, &2u64.to_be_bytes(), "says of itself that its tables are corrupt"),
        (72, &4u64.to_be_bytes(), "its data lies in another file, and it does not say which"),
        (60, &u32::MAX.to_be_bytes(), "4294967295 snapshots"),
        (60, &[0, 0, 0, 7, 0, 0, 1, 0, 0, 0, 0, 0], "cut short: a snapshot's entry"),
        (72, &(1u64 << 60).to_be_bytes(), "the feature bit 60"),
        (l1, &(1u64 << 40).to_be_bytes(), "cut short: an L2 table"),
        (l1, &0x200u64.to_be_bytes(), "inside a cluster"),
        (l2, &(1u64 << 40).to_be_bytes(), "cut short: a cluster"),
        (l2, &0x1_0200u64.to_be_bytes(), "inside a cluster of the file"),
    ] {
        let message = broken(at, value);
        assert!(message.contains(expected), "{message:?} should contain {expected:?}");
    }
    for len in [4, 71, 100, 65536, l1, good.len() / 2] {
        assert!(matches!(read_all(&good[..len]), Err(Error::CutShort { .. })), "{len}");
    }
}

/// A disk of 70 MiB in `shape`, as bytes.
fn image(shape: &str) -> Vec<u8> {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("good");
    let source = crate::common::ContentDisk(Content::empty(70 * MIB).with(0, 200_000, 1).with(40 * MIB, 70_000, 2));
    crate::common::write(&source, shape, &path).unwrap();
    let bytes = std::fs::read(&path).unwrap();
    read_all(&bytes).unwrap();
    bytes
}

/// Applies each change to the image and compares the message.
fn assert_named(good: &[u8], cases: &[(usize, &[u8], &str)]) {
    for (at, value, expected) in cases {
        let mut bytes = good.to_vec();
        put(&mut bytes, *at, value);
        let message = message(&bytes);
        assert!(message.contains(expected), "{message:?} should contain {expected:?}");
    }
}

#[test]
fn vdi_headers_that_lie_are_named() {
    let good = image("vdi/thin");
    let table = MIB as usize;
    assert_named(
        &good,
        &[
            (68, &0x0002_0000u32.to_le_bytes(), "of version 2"),
            (76, &4u32.to_le_bytes(), "and no image in its folder has that UUID"),
            (76, &9u32.to_le_bytes(), "an image of type 9"),
            (376, &3u32.to_le_bytes(), "blocks of 3 bytes"),
            (368, &(1u64 << 60).to_le_bytes(), "70 blocks for a disk of"),
            (340, &u32::MAX.to_le_bytes(), "cut short: the block table"),
            (table, &1000u32.to_le_bytes(), "cut short: block 0"),
            (table, &1u32.to_le_bytes(), "gives block 1 of the file to two blocks"),
        ],
    );
    // Blocks that are as large as they can be said to be, the last of all: found by the fuzzer.
    let mut far = good.clone();
    put(&mut far, 376, &[0, 0, 0, 16, 255, 255, 255, 255, 70, 0, 0, 0]);
    put(&mut far, table, &0xffff_fffdu32.to_le_bytes());
    assert!(message(&far).contains("cut short: block 0"));
    for len in [60, 400, table + 8, good.len() - 2 * MIB as usize] {
        assert!(read_all(&good[..len]).is_err(), "{len}");
    }
}

#[test]
fn vhd_headers_that_lie_are_named() {
    let good = image("vhd/thin");
    let (header, table, last) = (512, 1536, good.len() - 512);
    // With a wrong checksum at the end the copy at the start counts, and the image is known to be unclean.
    let mut copied = good.clone();
    copied[last + 8] ^= 1;
    read_all(&copied).unwrap();
    copied[8] ^= 1;
    assert!(message(&copied).contains("a footer with a right checksum was expected"));
    let mut first = good[table..table + 4].to_vec();
    first[3] += 1;
    assert_named(
        &good,
        &[
            (header + 32, &[0, 0, 0, 3], "a dynamic disk header with a right checksum"),
            (table, &[0x7f, 0xff, 0xff, 0xff], "cut short: block 0"),
            (table + 20 * 4, &first, "overlap"),
        ],
    );
    for len in [512, 1600, good.len() / 2] {
        assert!(read_all(&good[..len]).is_err(), "{len}");
    }
}

#[test]
fn vhdx_headers_that_lie_are_named() {
    let good = image("vhdx/thin");
    let (metadata, table) = (2 << 20, 3 << 20);
    assert_named(
        &good,
        &[
            (metadata, b"x", "a metadata table was expected there"),
            (metadata + 32 + 16, &u32::MAX.to_le_bytes(), "leads out of its region"),
            (metadata + 65536, &3u32.to_le_bytes(), "blocks of 3 bytes"),
            (metadata + 65536 + 4, &2u32.to_le_bytes(), "does not say where the parent is"),
            (metadata + 65536 + 8, &(1u64 << 60).to_le_bytes(), "at most 64 TiB"),
            (metadata + 65536 + 32, &77u32.to_le_bytes(), "sectors of 77 bytes"),
            (table, &((1u64 << 50) | 6).to_le_bytes(), "cut short: block 0"),
            (table, &7u64.to_le_bytes(), "block 0 is in state 7"),
            (table + 8, &((4u64 << 20) | 6).to_le_bytes(), "overlap"),
        ],
    );
    // One damaged header or region table is what the other one is for.
    for at in [65536, 192 << 10] {
        let mut bytes = good.clone();
        bytes[at + 20] ^= 1;
        read_all(&bytes).unwrap();
    }
    let mut bytes = good.clone();
    bytes[65536 + 20] ^= 1;
    bytes[131_072 + 20] ^= 1;
    assert!(message(&bytes).contains("neither of the two headers"));
    for len in [520, 100_000, 300_000, table + 4, good.len() / 2] {
        assert!(read_all(&good[..len]).is_err(), "{len}");
    }
}
