//! What is not sound is refused before it is changed: a wrong bitmap or folder that is written again with a right checksum would
//! pass for sound ever after.

use std::{
    fs::{self, File},
    io::Read,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    process::Command,
    sync::Arc,
};

use reformis_disk::budget::Budget;
use reformis_disk::{Disk, format};
use reformis_guest::{Bench, Device, Error, Guest, Tree};

use crate::common::has;

const NOW: i64 = 1_780_000_000;

fn run(command: &mut Command) -> String {
    let output = command.output().unwrap();
    assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// A small file system with the tree of a system, made with `options`.
fn made(folder: &Path, options: &[&str]) -> PathBuf {
    let root = folder.join("root");
    for (path, content) in [
        ("etc/os-release", "NAME=\"Saltmarsh server\"\n"),
        ("etc/fstab", "/dev/sda1 / ext4 defaults 0 1\n"),
        ("etc/hostname", "tidelog\n"),
        ("usr/bin/marker-of-the-tide", "x"),
    ] {
        fs::create_dir_all(root.join(path).parent().unwrap()).unwrap();
        fs::write(root.join(path), content).unwrap();
    }
    let image = folder.join("image");
    File::create(&image).unwrap().set_len(24 << 20).unwrap();
    run(Command::new("mke2fs")
        .args(["-q", "-F", "-t", "ext4", "-b", "4096"])
        .args(options)
        .arg("-d")
        .arg(&root)
        .arg(&image));
    image
}

fn open(image: &Path) -> (Arc<Bench>, Device) {
    let storage = reformis_disk::container::open(image, &Budget::whole()).unwrap();
    let disk = format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk;
    let bench = Bench::new([disk], &Budget::whole());
    let device = Device::part(&bench, 0, 0, u64::MAX, "the volume");
    (bench, device)
}

/// Turns one bit of `image`.
fn flip(image: &Path, at: u64) {
    let file = File::options().read(true).write(true).open(image).unwrap();
    let mut byte = [0];
    file.read_exact_at(&mut byte, at).unwrap();
    file.write_all_at(&[byte[0] ^ 1], at).unwrap();
}

fn is_damage(error: &Error, what: &str) -> bool {
    matches!(error, Error::Damaged { .. }) && error.to_string().contains(what)
}

#[test]
fn clusters_that_are_not_blocks_are_refused() {
    if !has(&["mke2fs", "debugfs", "e2fsck"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = made(folder.path(), &["-O", "^metadata_csum"]);
    // s_log_cluster_size, and more blocks in a group than a bitmap of one block has bits.
    let file = File::options().write(true).open(&image).unwrap();
    file.write_all_at(&6u32.to_le_bytes(), 1024 + 28).unwrap();
    file.write_all_at(&0x0020_0000u32.to_le_bytes(), 1024 + 32).unwrap();
    let (_, device) = open(&image);
    let error = Tree::of(&device, NOW).err().unwrap();
    assert!(is_damage(&error, "no bitmap can hold"), "{error}");
    file.write_all_at(&0x8000u32.to_le_bytes(), 1024 + 32).unwrap();
    let error = Tree::of(&device, NOW).err().unwrap();
    assert!(is_damage(&error, "clusters that are not blocks"), "{error}");
}

#[test]
fn a_wrong_bitmap_or_folder_is_not_written_again_as_a_right_one() {
    if !has(&["mke2fs", "debugfs", "e2fsck"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    for options in [&["-O", "metadata_csum"][..], &["-O", "metadata_csum,^64bit"]] {
        let image = made(folder.path(), options);
        let sound = fs::read(&image).unwrap();
        let word = |at: usize| u32::from_le_bytes(sound[at..at + 4].try_into().unwrap());
        let (blocks, inodes) = (u64::from(word(4096)) * 4096, u64::from(word(4100)) * 4096);
        let name = sound.windows(18).position(|bytes| bytes == b"marker-of-the-tide").unwrap() as u64;
        for (at, what) in
            [(blocks + 700, "bitmap of blocks"), (inodes + 3, "bitmap of inodes"), (name, "of the folder")]
        {
            fs::write(&image, &sound).unwrap();
            flip(&image, at);
            let (bench, device) = open(&image);
            let mut tree = Tree::of(&device, NOW).unwrap().unwrap();
            bench.begin("test", "to see");
            let error = tree.write("/usr/bin/new", b"new").unwrap_err();
            assert!(is_damage(&error, what), "{what}: {error}");
        }
        fs::write(&image, &sound).unwrap();
        let (bench, device) = open(&image);
        let mut tree = Tree::of(&device, NOW).unwrap().unwrap();
        bench.begin("test", "to see");
        tree.write("/usr/bin/new", b"new").unwrap();
    }
}

/// A volume that two systems mount, such as one /boot, is counted once.
#[test]
fn two_views_of_one_volume_count_together() {
    if !has(&["mke2fs", "debugfs", "e2fsck"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = made(folder.path(), &[]);
    let (bench, device) = open(&image);
    let mut views = [Tree::of(&device, NOW).unwrap().unwrap(), Tree::of(&device, NOW).unwrap().unwrap()];
    bench.begin("test", "to see");
    for number in 0..12 {
        views[number % 2].write(format!("/usr/bin/{number}"), &vec![number as u8; 30_000]).unwrap();
        views[(number + 1) % 2].append("/etc/hostname", &[b'x'; 5000]).unwrap();
    }
    views[0].remove("/usr/bin/3").unwrap();
    let overlay = bench.take().pop().unwrap();
    let mut after = vec![0; overlay.size() as usize];
    overlay.read_at(0, &mut after).unwrap();
    fs::write(&image, after).unwrap();
    run(Command::new("e2fsck").arg("-fn").arg(&image));
}

/// What cannot be read is told, and is not taken for something that is not there.
#[test]
fn a_file_that_cannot_be_read_is_not_a_file_that_is_missing() {
    if !has(&["mke2fs", "debugfs", "e2fsck"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = made(folder.path(), &["-O", "metadata_csum"]);
    let place = run(Command::new("debugfs").args(["-R", "imap /etc/fstab"]).arg(&image));
    // "… located at block 123, offset 0x0500".
    let number = |mark: &str, radix| {
        let rest = place.split(mark).nth(1).unwrap();
        let digits: String = rest.chars().take_while(char::is_ascii_hexdigit).collect();
        u64::from_str_radix(&digits, radix).unwrap()
    };
    flip(&image, number("located at block ", 10) * 4096 + number("offset 0x", 16) + 8);
    let storage = reformis_disk::container::open(&image, &Budget::whole()).unwrap();
    let disk = format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk;
    let guest = Guest::open([disk], NOW, &Budget::whole()).unwrap();
    assert_eq!(guest.systems.len(), 1);
    assert!(
        guest.unread_paths.iter().any(|(path, why)| path == "/etc/fstab" && why.contains("wrong checksum")),
        "{:?}",
        guest.unread_paths
    );
}

/// A file of FAT is read on and on without being taken into memory, and chains that come back to themselves end.
#[test]
fn a_file_of_fat_is_read_in_pieces() {
    if !has(&["mkfs.fat", "fsck.fat", "mmd", "mcopy"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let content: Vec<u8> = (0..5_000_000u32).map(|at| (at.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    let file = folder.path().join("file");
    fs::write(&file, &content).unwrap();
    for bits in ["12", "16", "32"] {
        let image = folder.path().join(bits);
        let size: u64 = if bits == "32" { 300 << 20 } else { 12 << 20 };
        File::create(&image).unwrap().set_len(size).unwrap();
        let cluster = if bits == "12" { "8" } else { "1" };
        run(Command::new("mkfs.fat").args(["-F", bits, "-s", cluster]).arg(&image));
        run(Command::new("mcopy").arg("-i").arg(&image).arg(&file).arg("::TIDES.BIN"));
        let (_, device) = open(&image);
        let tree = Tree::of(&device, NOW).unwrap().unwrap();
        let mut read = Vec::new();
        tree.reader("/TIDES.BIN").unwrap().read_to_end(&mut read).unwrap();
        assert!(read == content, "FAT{bits}");
    }
}

/// What a journal makes us write is the guest's doing, and counts; so does what is collected of its folders.
#[test]
fn what_a_guest_makes_us_keep_has_a_budget() {
    if !has(&["mke2fs", "debugfs", "e2fsck"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = made(folder.path(), &["-O", "metadata_csum"]);
    let commands = folder.path().join("commands");
    let bytes = folder.path().join("bytes");
    fs::write(&bytes, vec![7; 200 * 4096]).unwrap();
    fs::write(&commands, format!("jo\njw -b 5000-5199 {}\njc\n", bytes.display())).unwrap();
    run(Command::new("debugfs").args(["-w", "-f"]).arg(&commands).arg(&image));
    let open = |most: u64| {
        let budget = Budget::new(most);
        let storage = reformis_disk::container::open(&image, &budget).unwrap();
        let disk = format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk;
        let guest = Guest::open([disk], NOW, &budget);
        let told = guest.as_ref().map(|guest| (guest.systems.len(), guest.replayed.len())).map_err(ToString::to_string);
        let used = budget.used();
        let unread = guest.map(|guest| guest.unread.clone()).unwrap_or_default();
        assert_eq!(budget.used(), 0, "all of it is given back");
        (told, unread, used)
    };
    let (told, unread, used) = open(Budget::MOST);
    assert_eq!((told, unread), (Ok((1, 1)), Vec::new()));
    assert!(used >= 200 * 4096, "{used}");
    // Room for the folders, and not for the blocks of the journal.
    let (told, unread, _) = open(600 << 10);
    assert_eq!(told, Ok((0, 0)));
    assert!(unread.iter().any(|(_, why)| why.contains("more than 600 KiB of memory")), "{unread:?}");
    for most in (4..1024).step_by(97).map(|kib| kib << 10) {
        assert!(open(most).0.is_ok_and(|(systems, _)| systems <= 1) || most < 64 << 10);
    }
}
