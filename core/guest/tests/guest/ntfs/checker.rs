//! The checker of volumes, tried on deliberate breakages.

use std::fs;

use reformis_standin::ntfs_check;

use super::*;

/// What is broken, and how.
type Breakage<'b> = (&'b str, &'b dyn Fn(&mut Broken));

#[test]
fn the_checker_finds_every_deliberate_breakage() {
    if !ready() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = made(folder.path(), 16, 4096, 512);
    let (bench, mut tree) = opened(&image);
    bench.begin("fill", "for the checker");
    for number in 0..60 {
        tree.write(format!("/a file with a name that is long {number:02}"), &noise(number, 900)).unwrap();
    }
    drop(tree);
    judged(&bench, &image);
    let sound = fs::read(&image).unwrap();
    assert_eq!(ntfs_check::check(&sound), Vec::<String>::new());
    // The first file, whose bytes lie in a cluster of their own, and the folder that holds it.
    let (file, root) = (24, 5);
    let last = sound.len() - 512;
    let breakages: &[Breakage<'_>] = &[
        ("a used cluster is free", &|v| {
            let at = v.cluster(6, 0x80);
            v.0[at] &= !1;
        }),
        ("a free cluster is used", &|v| {
            let at = v.cluster(6, 0x80);
            v.0[at + 480] |= 0x10;
        }),
        ("another sequence number", &|v| {
            let at = v.record(file);
            v.0[at + 16] += 1;
        }),
        ("another count of links", &|v| {
            let at = v.record(file);
            v.0[at + 18] += 1;
        }),
        ("a sector that was not written", &|v| {
            let at = v.record(file);
            v.0[at + 510] ^= 1;
        }),
        ("bytes in use", &|v| {
            let at = v.record(file);
            v.0[at + 24] += 8;
        }),
        ("length of an attribute", &|v| {
            let at = v.attribute(file, 0x30);
            v.0[at + 4] += 4;
        }),
        ("numbers of attributes", &|v| {
            let at = v.attribute(file, 0x30);
            v.0[at + 14] = 0;
        }),
        ("the next number", &|v| {
            let at = v.record(file);
            v.0[at + 40] = 0;
        }),
        ("another record number", &|v| {
            let at = v.record(file);
            v.0[at + 44] += 1;
        }),
        ("a record's own length", &|v| {
            let at = v.record(file);
            v.0[at + 29] = 8;
        }),
        ("a name in the record alone", &|v| {
            let at = v.value(file, 0x30);
            v.0[at + 66] += 1;
        }),
        ("names out of order", &|v| {
            let at = v.cluster(root, 0xa0);
            v.0[at + 64 + 82] = b'z';
        }),
        ("another folder in an entry", &|v| {
            let at = v.cluster(root, 0xa0);
            v.0[at + 64 + 16] += 1;
        }),
        ("an entry that leads nowhere", &|v| {
            let at = v.cluster(root, 0xa0);
            v.0[at + 64] = 200;
        }),
        ("another file in an entry", &|v| {
            let at = v.cluster(root, 0xa0);
            v.0[at + 64 + 6] += 1;
        }),
        ("another size in an entry", &|v| {
            let mut at = v.cluster(root, 0xa0) + 64;
            while v.number(at, 4) < 24 {
                at += v.number(at + 8, 2);
            }
            v.0[at + 64] += 1;
        }),
        ("length of an entry", &|v| {
            let at = v.cluster(root, 0xa0);
            v.0[at + 64 + 8] += 8;
        }),
        ("a block that is not written whole", &|v| {
            let at = v.cluster(root, 0xa0);
            v.0[at + 4094] ^= 1;
        }),
        ("a block in another one's place", &|v| {
            let at = v.cluster(root, 0xa0);
            v.0[at + 16] += 1;
        }),
        ("a block that is free", &|v| {
            let at = v.value(root, 0xb0);
            v.0[at] = 0;
        }),
        ("a block that nobody has", &|v| {
            let at = v.value(root, 0xb0);
            v.0[at] |= 0x80;
        }),
        ("a folder that is none", &|v| {
            let at = v.record(root);
            v.0[at + 22] = 1;
        }),
        ("a run that is too long", &|v| {
            let at = v.attribute(6, 0x80);
            let pairs = at + v.number(at + 32, 2);
            v.0[pairs + 1] += 1;
        }),
        ("a value that is longer than its clusters", &|v| {
            let at = v.attribute(6, 0x80);
            v.0[at + 50] += 1;
        }),
        ("bytes written behind the end", &|v| {
            let at = v.attribute(6, 0x80);
            v.0[at + 58] += 1;
        }),
        ("a hole in what is not sparse", &|v| {
            let at = v.attribute(6, 0x80);
            let pairs = at + v.number(at + 32, 2);
            v.0[pairs] &= 15;
            v.0[pairs + 2] = 0;
        }),
        ("a record that is marked free", &|v| {
            let at = v.cluster(0, 0xb0);
            v.0[at + 3] &= !1;
        }),
        ("another mirror", &|v| {
            let at = v.cluster(1, 0x80);
            v.0[at + 100] ^= 1;
        }),
        ("another copy of the boot sector", &|v| v.0[last + 80] ^= 1),
        ("a volume to be checked", &|v| {
            let at = v.value(3, 0x70);
            v.0[at + 10] |= 1;
        }),
        ("capitals", &|v| {
            let at = v.cluster(10, 0x80);
            v.0[at + 2 * usize::from(b'a')] = b'B';
        }),
        ("a descriptor", &|v| {
            let at = v.cluster(9, 0x80);
            v.0[at + 30] ^= 1;
        }),
        ("a descriptor that nobody knows", &|v| {
            let at = v.value(file, 0x10);
            v.0[at + 53] = 7;
        }),
        ("a log that was not closed", &|v| {
            let at = v.cluster(2, 0x80);
            let page = &mut v.0[at..at + 4096];
            page.fill(0);
            page[..8].copy_from_slice(b"RSTR\x1e\0\x09\0");
            page[24] = 0x30;
        }),
    ];
    let unseen: Vec<&str> = (breakages.iter())
        .filter(|(_, breakage)| {
            let mut volume = Broken(sound.clone());
            breakage(&mut volume);
            assert!(volume.0 != sound);
            ntfs_check::check(&volume.0).is_empty()
        })
        .map(|(name, _)| *name)
        .collect();
    assert_eq!(unseen, Vec::<&str>::new());
}
