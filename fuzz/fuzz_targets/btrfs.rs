//! Btrfs that a stranger changed: bytes of its blocks are others, and the sums of blocks of trees are right again, so that what is behind them is
//! reached. It is read, and then changed by us as well.
#![no_main]

use std::{
    collections::BTreeSet,
    fs,
    process::Command,
    sync::{Arc, LazyLock},
};

use libfuzzer_sys::fuzz_target;
use reformis_disk::{Disk, Format, budget::Budget, format, source::MemoryStorage};
use reformis_guest::{Bench, Device, Guest};

const NODE: usize = 4096;
const FSID: [u8; 16] = *b"tide-gauge-btrfs";
/// Where the superblock is.
const SUPER: usize = 64 << 10;

/// A volume, and where its blocks and its superblock are.
type Volume = (Vec<u8>, Vec<usize>);

/// One that was made, and one with a log that the kernel left (`tests/guest/btrfs/recipe.sh`).
static VOLUMES: LazyLock<[Volume; 2]> = LazyLock::new(|| {
    let logged = zstd::decode_all(&include_bytes!("../../core/guest/tests/guest/btrfs/logged.raw.zst")[..]);
    [made(), logged.expect("a volume")].map(|bytes| {
        let is_block = |at: &usize| bytes[*at + 32..*at + 48] == FSID;
        let blocks = (0..bytes.len()).step_by(NODE).filter(is_block).collect();
        (bytes, blocks)
    })
});

fn made() -> Vec<u8> {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let root = folder.path().join("root");
    fs::create_dir_all(root.join("etc")).expect("a temporary folder");
    fs::create_dir_all(root.join("usr")).expect("a temporary folder");
    let line = |number: usize| format!("tide {number}\n");
    fs::write(root.join("etc/fstab"), "UUID=1 / btrfs subvol=@ 0 0\n").expect("room");
    fs::write(root.join("etc/big"), (0..20_000).map(line).collect::<String>()).expect("room");
    for number in 0..200 {
        fs::write(root.join(format!("usr/file-{number}")), line(number)).expect("room");
    }
    let image = folder.path().join("image");
    fs::File::create(&image).and_then(|file| file.set_len(16 << 20)).expect("room");
    let id = uuid_text();
    let mut maker = Command::new("mkfs.btrfs");
    maker.args(["-q", "--mixed", "-n", "4096", "-U", &id, "--rootdir"]).arg(&root).arg(&image);
    assert!(maker.output().expect("mkfs.btrfs is installed").status.success());
    fs::read(image).expect("a volume")
}

fn uuid_text() -> String {
    let digits: String = FSID.iter().map(|byte| format!("{byte:02x}")).collect();
    [&digits[..8], &digits[8..12], &digits[12..16], &digits[16..20], &digits[20..]].join("-")
}

fuzz_target!(|bytes: &[u8]| {
    let Some((which, bytes)) = bytes.split_first() else { return };
    let (sound, blocks) = &VOLUMES[usize::from(*which) % 2];
    let storage = Arc::new(MemoryStorage::new("fuzz", sound.clone()));
    let disk: Arc<dyn Disk> = format::open(storage, Some(Format::Raw)).expect("any bytes are a raw disk").disk;
    let bench = Bench::new([disk.clone()], &Budget::whole());
    let device = Device::part(&bench, 0, 0, u64::MAX, "the volume");
    bench.begin("damage", "what a stranger made of it");
    let mut touched = BTreeSet::new();
    for change in bytes.chunks_exact(4).take(64) {
        let block = blocks[usize::from(change[0]) % blocks.len()];
        let inside = 48 + (usize::from(change[1]) | usize::from(change[2]) << 8) % (NODE - 48);
        device.write((block + inside) as u64, &[change[3]]).expect("a place in the volume");
        touched.insert(block);
    }
    for block in touched {
        let mut whole = vec![0; NODE];
        device.read(block as u64, &mut whole).expect("a block");
        // The superblock's own length is that of a block here.
        assert!(block == SUPER || block % NODE == 0);
        device.write(block as u64, &crc32c::crc32c(&whole[32..]).to_le_bytes()).expect("a block");
    }
    let changed: Arc<dyn Disk> = Arc::new(bench.take().remove(0));
    let Ok(guest) = Guest::open([changed], 1_780_000_000, &Budget::whole()) else { return };
    let mut guest = guest;
    if let Ok(Some(tree)) = guest.volume_tree(0, 1_780_000_000) {
        for folder in ["/", "/etc", "/usr"] {
            for (name, _) in tree.list(folder).unwrap_or_default().into_iter().take(50) {
                let path = [folder.as_bytes(), b"/", &name].concat();
                drop((tree.read(&path, 1 << 20), tree.link_target(&path), tree.attributes(&path), tree.stat(&path)));
            }
        }
    }
    // What fails is never written, so that all of it is tried, each beside what the others made.
    guest.bench.begin("changes", "ours");
    if let Ok(Some(mut tree)) = guest.volume_tree(0, 1_780_000_000) {
        let more = vec![7; 70_000];
        drop(tree.write("/etc/new", b"new"));
        drop(tree.write("/etc/big", &more));
        drop(tree.append("/usr/file-7", &more));
        drop(tree.write_at("/etc/big", 5000, &more));
        drop(tree.truncate("/etc/big", 6001));
        drop(tree.rename("/usr/file-8", "/etc/file"));
        drop(tree.link("/etc/link", "/nowhere"));
        drop(tree.remove("/etc/fstab"));
        drop(tree.remove("/usr"));
        drop(tree.list("/etc"));
    }
});
