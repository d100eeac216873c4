//! Btrfs as the kernel and its own tools left it (`btrfs/recipe.sh`): read and edited, with its subvolumes, on one device and on two.

use std::{fs, path::Path, process::Command, sync::Arc};

use proptest::prelude::*;
use reformis_disk::{Disk, budget::Budget, format, source::MemoryStorage};
use reformis_guest::{Device, Guest, Kind, State, Tree, Volume, Wishes, refit};

use crate::common::{MIB, NOW, has, run, taken, tree, virtio};

pub(crate) fn fixture(name: &str) -> Vec<u8> {
    let packed = Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("tests/guest/btrfs/{name}.raw.zst"));
    zstd::decode_all(fs::File::open(packed).unwrap()).unwrap()
}

fn names(tree: &Tree, path: &str) -> Vec<String> {
    let entries = tree.list(path).unwrap().into_iter();
    entries.map(|(name, _)| String::from_utf8(name).unwrap()).collect()
}

fn open(disks: &[Vec<u8>]) -> Guest {
    let disks = disks.iter().map(|bytes| {
        let storage = Arc::new(MemoryStorage::new("disk.raw", bytes.clone()));
        format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk
    });
    Guest::open(disks.collect::<Vec<_>>(), NOW, &Budget::whole()).unwrap()
}

/// What the recipe puts into a file.
pub(crate) fn lines(word: &str, count: usize) -> Vec<u8> {
    (1..=count).flat_map(|number| format!("{word} {number}\n").into_bytes()).collect()
}

/// Files of the subvolume `@`, and what is in them.
fn files() -> Vec<(&'static str, Vec<u8>)> {
    let mut holes = vec![0; 3 << 20];
    holes[2_000_000..2_000_004].copy_from_slice(b"tide");
    let mut reserved = vec![0; 1 << 20];
    reserved[500_000..500_003].copy_from_slice(b"low");
    let mut again = lines("plain", 20_000);
    again[100_000..100_005].copy_from_slice(b"other");
    vec![
        ("/plain", lines("plain", 20_000)),
        ("/usr/hard", lines("plain", 20_000)),
        ("/again", again),
        ("/packed/zlib", lines("zlib", 60_000)),
        ("/packed/lzo", lines("lzo", 60_000)),
        ("/packed/zstd", lines("zstd", 60_000)),
        ("/packed/inline", lines("short", 150)),
        ("/holes", holes),
        ("/reserved", reserved),
        ("/many/file-1", b"1\n".to_vec()),
        ("/many/file-700", b"700\n".to_vec()),
        ("/home/mine", lines("mine", 100)),
    ]
}

#[test]
fn a_system_in_a_subvolume_is_read_as_its_own_kernel_left_it() {
    let mut guest = open(&[fixture("one")]);
    assert_eq!(guest.unread, []);
    assert_eq!((guest.volumes[0].kind, guest.volumes[0].label.as_str()), (Some(Volume::Btrfs), "tides"));
    // Of the subvolumes that look like a root, it is the one that its own table of mounts names.
    assert_eq!(guest.systems.len(), 1);
    assert_eq!(guest.systems[0].name(), "Tidal 5");
    let system = guest.systems[0].tree();
    for (path, content) in files() {
        assert!(system.read(path, 4 * MIB).unwrap() == content, "{path}");
    }
    assert!(!system.exists("/inline") && !system.exists("/many/file-701"));
    assert_eq!(names(system, "/many").len(), 700);
    assert_eq!(system.link_target("/usr/table").unwrap(), b"../etc/fstab");
    let stat = system.stat("/plain").unwrap();
    assert_eq!((stat.kind, stat.mode, stat.links), (Kind::File, 0o644, 2));
    let attributes = system.attributes("/plain").unwrap();
    assert!(attributes.iter().any(|(name, _)| name == b"user.tide"), "{attributes:?}");

    // The volume by itself begins at its first subvolume, and snapshots are as they were.
    let whole = guest.volume_tree(0, NOW).unwrap().unwrap();
    assert_eq!(names(&whole, "/").len(), 4);
    let before = whole.read("/snapshots/before/etc/os-release", MIB).unwrap();
    assert_eq!(before, b"ID=tidal\nPRETTY_NAME=\"Tidal 4\"\n");
    assert_eq!(whole.read("/snapshots/before/inline", MIB).unwrap(), b"inline");
    assert_eq!(whole.read("/deep/inner/file", MIB).unwrap(), lines("inner", 10));
    // A snapshot has the names of what lay in its source, and not that.
    assert_eq!(names(&whole, "/snapshots/top/@"), Vec::<String>::new());
    assert_eq!(whole.stat("/snapshots/top/@").unwrap().kind, Kind::Folder);
    assert!(!whole.exists("/snapshots/top/@/plain"));
}

#[test]
fn a_system_is_edited_in_its_subvolume_and_snapshots_keep_what_they_have() {
    let mut guest = open(&[fixture("one")]);
    let wishes = Wishes { host_name: Some("tide".into()), ..Wishes::default() };
    let made = refit(&mut guest, &virtio("vd"), &wishes, NOW);
    assert_eq!(crate::common::names(&made), ["identity"], "{:?}", made.remarks);
    let mut tree = guest.volume_tree(0, NOW).unwrap().unwrap();
    guest.bench.begin("change", "a test");
    // Extents that are packed, reserved, shared with others and with snapshots.
    tree.append("/@/plain", b"more").unwrap();
    tree.write_at("/@/packed/zlib", 250_000, b"in the middle").unwrap();
    tree.write_at("/@/packed/inline", 10, b"inline").unwrap();
    tree.write_at("/@/reserved", 600_000, b"high").unwrap();
    tree.truncate("/@/holes", 2_000_002).unwrap();
    tree.remove("/@/again").unwrap();
    tree.remove("/@/many").unwrap();
    drop(tree);
    let changed = taken(&guest).remove(0);
    let mut guest = open(std::slice::from_ref(&changed));
    assert_eq!(guest.unread, []);
    let system = guest.systems[0].tree();
    assert_eq!(system.read("/etc/hostname", MIB).unwrap(), b"tide\n");
    assert!(!system.exists("/many") && !system.exists("/again"));
    for (path, mut content) in files() {
        match path {
            "/plain" | "/usr/hard" => content.extend(b"more"),
            "/packed/zlib" => content[250_000..250_013].copy_from_slice(b"in the middle"),
            "/packed/inline" => content[10..16].copy_from_slice(b"inline"),
            "/reserved" => content[600_000..600_004].copy_from_slice(b"high"),
            "/holes" => content.truncate(2_000_002),
            "/again" | "/many/file-1" | "/many/file-700" => continue,
            _ => {}
        }
        assert!(system.read(path, 4 * MIB).unwrap() == content, "{path}");
    }
    let whole = guest.volume_tree(0, NOW).unwrap().unwrap();
    for (path, content) in files() {
        if path != "/home/mine" {
            assert!(whole.read(format!("/snapshots/before{path}"), 4 * MIB).unwrap() == content, "{path}");
        }
    }
    assert!(!whole.exists("/snapshots/before/etc/hostname"));
    if has(&["btrfs"]) {
        let folder = tempfile::tempdir().unwrap();
        let image = folder.path().join("image");
        fs::write(&image, changed).unwrap();
        run(Command::new("btrfs").args(["check", "--readonly", "--check-data-csum"]).arg(&image));
    }
}

/// A loader begins at the first subvolume, and tells the kernel which one is the system's.
#[test]
fn loaders_and_kernels_are_told_of_subvolumes() {
    let mut guest = open(&[fixture("one")]);
    let mut tree = guest.volume_tree(0, NOW).unwrap().unwrap();
    guest.bench.begin("change", "a test");
    tree.make_folders("/@/boot/grub").unwrap();
    let entry = |kernel: &str, flags: &str| {
        format!(
            "menuentry 'Tides' {{\n\tlinux /@/boot/{kernel} root=UUID=5a170000-0000-4000-8000-0000000000b1 {flags} ro\n}}\n"
        )
    };
    let entries =
        [("vmlinuz-1", "rootflags=subvol=@"), ("vmlinuz-2", "rootflags=noatime,subvol=gone"), ("vmlinuz-3", "")];
    for (kernel, _) in entries {
        tree.write(format!("/@/boot/{kernel}"), b"a kernel").unwrap();
    }
    // Whichever is started by itself, what it names decides, and nothing that another one names.
    for default in 0..entries.len() {
        let entries: String = entries.iter().map(|(kernel, flags)| entry(kernel, flags)).collect();
        let text = format!("set default=\"{default}\"\n{entries}");
        tree.write("/@/boot/grub/grub.cfg", text.as_bytes()).unwrap();
        let changed: Vec<Vec<u8>> = (0..guest.bench.disks())
            .map(|disk| {
                let mut bytes = vec![0; guest.bench.size(disk) as usize];
                reformis_guest::Device::part(&guest.bench, disk, 0, u64::MAX, "the disk").read(0, &mut bytes).unwrap();
                bytes
            })
            .collect();
        let chain = reformis_guest::walk(&mut open(&changed), &virtio("vd")).remove(0).1;
        let told = chain.iter().filter(|link| link.about.starts_with("subvolume, "));
        let mut told: Vec<_> = told.map(|link| (link.about.as_str(), link.state, link.needed)).collect();
        told.sort_by_key(|(about, ..)| *about);
        let expected = [
            ("subvolume, /boot/vmlinuz-1", State::Holds, default == 0),
            ("subvolume, /boot/vmlinuz-2", State::Broken, default == 1),
            ("subvolume, /boot/vmlinuz-3", State::Unknown, default == 2),
        ];
        assert_eq!(told, expected);
    }
}

#[test]
fn a_volume_on_two_devices_needs_both() {
    let (left, right) = (fixture("left"), fixture("right"));
    for disks in [[left.clone(), right.clone()], [right.clone(), left.clone()]] {
        let mut guest = open(&disks);
        assert_eq!(guest.unread, []);
        let tree = guest.volume_tree(0, NOW).unwrap().unwrap();
        assert!(tree.read("/pair", 4 * MIB).unwrap() == lines("pair", 200_000));
        assert_eq!(tree.read("/folder/file", MIB).unwrap(), lines("folder", 10));
        assert!(guest.volume_tree(1, NOW).unwrap().is_none(), "the second one is a part of the first");
    }
    for alone in [left, right] {
        let guest = open(&[alone]);
        assert!(
            guest
                .unread
                .iter()
                .any(|(_, why)| why.contains("among the disks here") || why.contains("leads to a place")),
            "{:?}",
            guest.unread
        );
    }
}

/// Every kind of sums and every size of blocks that its own tool makes.
#[test]
fn every_kind_of_sums_and_sizes_is_read() {
    if !has(&["mkfs.btrfs"]) {
        return;
    }
    for options in [
        &["--csum", "xxhash", "-n", "4096"][..],
        &["--csum", "sha256", "-n", "65536"],
        &["--csum", "blake2", "-m", "dup"],
        &["--mixed", "-n", "4096"],
        &["-O", "^no-holes,^extref,^skinny-metadata"],
    ] {
        let folder = tempfile::tempdir().unwrap();
        let big = lines("big", 30_000);
        let files: [(&str, &[u8]); 3] = [("/etc/small", b"small"), ("/etc/big", &big), ("/link->etc/small", b"")];
        let root = tree(folder.path(), &files);
        let image = folder.path().join("image");
        fs::File::create(&image).unwrap().set_len(160 * MIB).unwrap();
        run(Command::new("mkfs.btrfs").arg("-q").args(options).arg("--rootdir").arg(root).arg(&image));
        let mut guest = open(&[fs::read(&image).unwrap()]);
        assert_eq!(guest.unread, [], "{options:?}");
        let found = guest.volume_tree(0, NOW).unwrap().unwrap();
        assert_eq!(found.read("/link", MIB).unwrap(), b"small", "{options:?}");
        assert!(found.read("/etc/big", MIB).unwrap() == big, "{options:?}");
    }
}

/// Blocks of trees have a second copy, bytes of files have none here: what is damaged is read from the copy, or told.
#[test]
fn what_is_damaged_is_read_from_the_copy_or_told() {
    let sound = fixture("one");
    let mut bytes = sound.clone();
    let fsid = uuid::Uuid::parse_str("5a170000-0000-4000-8000-0000000000b1").unwrap().into_bytes();
    // Blocks that are there twice: the first of each is torn.
    let mut seen = std::collections::BTreeSet::new();
    let mut torn = 0;
    for at in (0..bytes.len()).step_by(4096).filter(|at| *at != 65_536 && *at != 64 << 20) {
        let place = u64::from_le_bytes(sound[at + 48..at + 56].try_into().unwrap());
        if sound[at + 32..at + 48] == fsid && seen.insert((place, sound[at..at + 32].to_vec())) {
            let twin = sound[at + 4096..].chunks(4096).any(|block| block[..64] == sound[at..at + 64]);
            if twin {
                bytes[at + 200] ^= 1;
                torn += 1;
            }
        }
    }
    assert!(torn > 10, "{torn}");
    let guest = open(&[bytes]);
    assert_eq!(guest.unread, []);
    assert!(guest.systems[0].tree().read("/plain", MIB).unwrap() == lines("plain", 20_000));
    // A byte of a file.
    let mut bytes = sound;
    let at = bytes.windows(20).position(|window| window == b"plain 5000\nplain 500").unwrap();
    bytes[at] ^= 1;
    let guest = open(&[bytes]);
    let error = guest.systems[0].tree().read("/plain", MIB).unwrap_err().to_string();
    assert!(error.contains("its sum is wrong"), "{error}");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 6, failure_persistence: None, ..ProptestConfig::default() })]

    /// A stretch of a file is what it is in the whole; and a damaged volume is an error at the most, within its memory.
    #[test]
    fn any_stretch_is_read_and_any_damage_is_lived_through(
        at in 0..400_000u64,
        len in 1..70_000usize,
        damages in prop::collection::vec((any::<u32>(), any::<u8>()), 1..40),
    ) {
        thread_local!(static ONE: Vec<u8> = fixture("one"));
        let mut bytes = ONE.with(Clone::clone);
        let guest = open(std::slice::from_ref(&bytes));
        for (path, content) in files() {
            let system = guest.systems[0].tree();
            let mut reader = system.reader(path).unwrap();
            std::io::copy(&mut std::io::Read::take(&mut reader, at), &mut std::io::sink()).unwrap();
            let mut found = Vec::new();
            std::io::Read::read_to_end(&mut std::io::Read::take(&mut reader, len as u64), &mut found).unwrap();
            let from = (at as usize).min(content.len());
            prop_assert!(found == content[from..(from + len).min(content.len())], "{path}");
        }
        let used: Vec<usize> = (0..bytes.len()).step_by(512).filter(|at| bytes[*at..at + 512].iter().any(|b| *b != 0)).collect();
        for (place, byte) in damages {
            bytes[used[place as usize / 512 % used.len()] + place as usize % 512] = byte;
        }
        let storage = Arc::new(MemoryStorage::new("disk.raw", bytes));
        let disk: Arc<dyn Disk> = format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk;
        let bench = reformis_guest::Bench::new([disk], &Budget::whole());
        let device = Device::part(&bench, 0, 0, u64::MAX, "the volume");
        if let Ok(Some(tree)) = Tree::of(&device, NOW) {
            for path in ["/@", "/@/many", "/@/packed", "/snapshots"] {
                for (name, _) in tree.list(path).unwrap_or_default().into_iter().take(20) {
                    drop(tree.read([path.as_bytes(), b"/", &name].concat(), 4 * MIB));
                }
            }
        }
    }
}
