//! Volumes that are full, folders that are large, names that are nearly the same, and volumes that must not be changed.

use std::fs;

use proptest::{prelude::*, test_runner::TestRunner};
use reformis_guest::Error;
use reformis_standin::ntfs_check;

use super::*;

#[test]
fn a_folder_takes_ten_thousand_names_and_gives_them_back() {
    if !ready() {
        return;
    }
    for (cluster, count) in [(512, 1500), (4096, 10_000)] {
        let folder = tempfile::tempdir().unwrap();
        let image = made(folder.path(), 64, cluster, 512);
        // The other driver keeps the folder's security once for all that is made in it.
        mounted(&image, "permissions", |root| fs::create_dir(root.join("many")).unwrap());
        let (bench, mut tree) = opened(&image);
        bench.begin("fill", "with names");
        // In an order that is none.
        let name = |number: u32| format!("/many/{:x} reading of a gauge", number.wrapping_mul(2_654_435_761));
        for number in 0..count {
            tree.write(name(number), b"").unwrap();
        }
        let mut listed: Vec<Vec<u8>> = tree.list("/many").unwrap().into_iter().map(|(name, _)| name).collect();
        let mut expected: Vec<Vec<u8>> = (0..count).map(|number| name(number).as_bytes()[6..].to_vec()).collect();
        listed.sort();
        expected.sort();
        assert!(listed == expected);
        for number in (0..count).filter(|number| number % 100 != 0) {
            tree.remove(name(number)).unwrap();
        }
        assert_eq!(tree.list("/many").unwrap().len(), count as usize / 100);
        assert!((0..count).step_by(100).all(|number| tree.exists(name(number))));
        tree.remove("/many").unwrap();
        assert_eq!(tree.list("/").unwrap(), []);
        drop(tree);
        judged(&bench, &image);
    }
}

#[test]
fn a_full_volume_says_so_and_what_was_taken_back_is_as_before() {
    if !ready() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = made(folder.path(), 4, 512, 512);
    let (bench, mut tree) = opened(&image);
    let mut full = 0;
    let mut kept = All::new();
    for number in 0..4000_u32 {
        bench.begin("fill", "until it is full");
        let path = format!("/file {number}");
        let bytes = noise(number, (number as usize * 37) % 5000);
        match tree.write(&path, &bytes) {
            Ok(()) => drop(kept.insert(path.into_bytes(), Thing::File(bytes.len() as u64, blake3::hash(&bytes)))),
            Err(Error::NoRoom { .. }) => {
                bench.rollback();
                tree = opened_again(&bench);
                full += 1;
                if full == 5 {
                    break;
                }
            }
            Err(error) => panic!("{error}"),
        }
    }
    assert_eq!(full, 5);
    assert_eq!(difference(&seen(&tree), &kept), Vec::<String>::new());
    // There is room again once something is gone.
    bench.begin("make room", "and use it");
    tree.remove("/file 100").unwrap();
    tree.write("/file 100", &noise(100, 3700)).unwrap();
    drop(tree);
    judged(&bench, &image);
}

/// Names that only case tells apart, and letters outside the basic plane.
fn name() -> impl Strategy<Value = String> {
    let letter = prop::sample::select(vec![
        "a", "A", "ß", "ẞ", "é", "É", "ǆ", "ǅ", "Ǆ", "𐐀", "𐐨", "🌊", "ı", "I", "i", "İ", "-", "~",
    ]);
    prop::collection::vec(letter, 1..7).prop_map(|letters| letters.concat())
}

#[test]
fn names_are_told_apart_by_the_volume_s_own_capitals() {
    if !ready() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = made(folder.path(), 16, 4096, 512);
    let empty = fs::read(&image).unwrap();
    let config = ProptestConfig { cases: 16, failure_persistence: None, ..ProptestConfig::default() };
    let run = TestRunner::new(config).run(&prop::collection::vec(name(), 1..60), |names| {
        fs::write(&image, &empty).unwrap();
        let (bench, mut tree) = opened(&image);
        bench.begin("names", "of a test");
        for name in &names {
            let path = format!("/{name}");
            tree.write(&path, name.as_bytes()).unwrap();
            prop_assert_eq!(tree.read(&path, 99).unwrap(), name.as_bytes());
        }
        for (name, _) in tree.list("/").unwrap() {
            // What was written last under any case of the name.
            let path = [b"/", &name[..]].concat();
            let last = tree.read(&path, 99).unwrap();
            prop_assert!(names.iter().any(|known| known.as_bytes() == last));
            tree.rename(&path, [&path[..], b" again"].concat()).unwrap();
        }
        drop(tree);
        let overlay = bench.take().remove(0);
        let mut bytes = vec![0; overlay.size() as usize];
        overlay.read_at(0, &mut bytes).unwrap();
        prop_assert_eq!(ntfs_check::check(&bytes), Vec::<String>::new());
        Ok(())
    });
    run.unwrap();
}

#[test]
fn what_was_not_shut_down_fully_is_read_and_not_changed() {
    if !ready() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = made(folder.path(), 16, 4096, 512);
    mounted(&image, "permissions", |root| fs::write(root.join("tide.txt"), "4.2").unwrap());
    let sound = fs::read(&image).unwrap();
    // Both pages of a log, which was closed or not, of a version.
    let with_log = |version: u16, in_use: u16, flags: u16| {
        let mut bytes = sound.clone();
        let volume = Broken(bytes.clone());
        let log = volume.cluster(2, 0x80);
        for page in 0..2 {
            let at = log + page * 4096;
            bytes[at..at + 4096].fill(0);
            bytes[at..at + 8].copy_from_slice(b"RSTR\x1e\0\x09\0");
            for (place, value) in
                [(16, 4096_u16), (20, 4096), (24, 0x30), (28, version), (0x30 + 12, in_use), (0x30 + 14, flags)]
            {
                bytes[at + place..at + place + 2].copy_from_slice(&value.to_le_bytes());
            }
        }
        bytes
    };
    let dirty = {
        let mut bytes = sound.clone();
        let at = Broken(bytes.clone()).value(3, 0x70);
        bytes[at + 10] |= 1;
        bytes
    };
    let asleep = {
        fs::write(&image, &sound).unwrap();
        mounted(&image, "permissions", |root| {
            fs::write(root.join("hiberfil.sys"), b"HIBR and more".repeat(400)).unwrap();
        });
        fs::read(&image).unwrap()
    };
    for (bytes, why) in [
        (sound.clone(), None),
        (with_log(1, 0xffff, 0), None),
        (with_log(1, 0, 2), None),
        (with_log(1, 0, 0), Some("changes that were not finished")),
        (with_log(2, 0, 0), Some("as fast startup does")),
        (dirty, Some("marked for a check")),
        (asleep, Some("a system is kept asleep on it")),
    ] {
        fs::write(&image, bytes).unwrap();
        let (bench, mut tree) = opened(&image);
        assert_eq!(tree.read("/TIDE.txt", 9).unwrap(), b"4.2");
        bench.begin("write", "if it may be");
        match (tree.write("/new.txt", b"new"), why) {
            (Ok(()), None) => {}
            (Err(error @ Error::Unsupported { .. }), Some(why)) => {
                assert!(error.to_string().contains(why), "{error}");
                assert!(
                    tree.remove("/tide.txt").is_err()
                        && tree.rename("/tide.txt", "/x").is_err()
                        && tree.truncate("/tide.txt", 0).is_err()
                );
                assert!(!bench.changed());
            }
            (outcome, why) => panic!("{outcome:?} {why:?}"),
        }
    }
}

/// A folder in which case tells names apart, as the subsystem for Linux makes them.
#[test]
fn a_folder_that_minds_case_keeps_names_apart() {
    if !ready() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = made(folder.path(), 16, 4096, 512);
    mounted(&image, "permissions", |root| fs::create_dir(root.join("linux")).unwrap());
    // Version 1 of at most 0 in the standard information of the folder, which is the first file.
    let mut bytes = fs::read(&image).unwrap();
    let volume = Broken(bytes.clone());
    let number = (24..80).find(|number| bytes[volume.record(*number) + 22] & 3 == 3).unwrap();
    bytes[volume.value(number, 0x10) + 40] = 1;
    fs::write(&image, &bytes).unwrap();
    let (bench, mut tree) = opened(&image);
    bench.begin("names", "that only case tells apart");
    for (name, content) in
        [("/linux/tide", "low"), ("/linux/Tide", "high"), ("/linux/TIDE", "ebb"), ("/Gauge", "1"), ("/gauge", "2")]
    {
        tree.write(name, content.as_bytes()).unwrap();
    }
    let read = |path: &str| String::from_utf8(tree.read(path, 9).unwrap()).unwrap();
    assert_eq!(["/linux/tide", "/LINUX/Tide", "/linux/TIDE"].map(read), ["low", "high", "ebb"]);
    assert!(!tree.exists("/linux/tIDE"));
    assert_eq!((tree.list("/linux").unwrap().len(), tree.list("/").unwrap().len()), (3, 2));
    tree.rename("/linux/tide", "/linux/tIDE").unwrap();
    tree.remove("/linux/Tide").unwrap();
    assert!(tree.exists("/linux/TIDE") && !tree.exists("/linux/Tide"));
    drop(tree);
    judged(&bench, &image);
}

/// A volume whose list of file records lies in hundreds of pieces, as on a disk that was full for years.
#[test]
fn file_records_in_many_pieces_are_found_and_more_are_added() {
    if !ready() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = made(folder.path(), 24, 512, 512);
    mounted(&image, "permissions", |root| {
        let count =
            (0..20_000).take_while(|number| fs::write(root.join(format!("f{number}")), [7; 1000]).is_ok()).count();
        // Holes of a thousand bytes, into which the file records grow.
        (0..count).step_by(2).for_each(|number| {
            File::options().write(true).open(root.join(format!("f{number}"))).unwrap().set_len(0).unwrap();
        });
        // Not until it is full: that is where the other driver loses its way.
        (0..2500).for_each(|number| drop(File::create(root.join(format!("e{number}"))).unwrap()));
        (0..count)
            .step_by(32)
            .skip(1)
            .for_each(|number| fs::remove_file(root.join(format!("f{}", number - 1))).unwrap());
    });
    let bytes = fs::read(&image).unwrap();
    let volume = Broken(bytes);
    let mft = volume.number(48, 8) * 512;
    let first = mft + volume.number(mft + 20, 2);
    let second = first + volume.number(first + 4, 4);
    assert_eq!(volume.number(second, 4), 0x20, "its first record has a list of attributes");
    assert_eq!(ntfs_check::check(&fs::read(&image).unwrap()), Vec::<String>::new(), "as the other driver left it");
    let mut all = seen_by_driver(&image);
    let (bench, mut tree) = opened(&image);
    assert_eq!(difference(&seen(&tree), &all), Vec::<String>::new());
    // Records that were given back are taken, and then new ones are made, as far as there is room for them.
    let mut made = 0;
    for number in 0..400 {
        bench.begin("add", "a file");
        let path = format!("/added {number}");
        match tree.write(&path, b"") {
            Ok(()) => {
                all.insert(path.into_bytes(), Thing::File(0, blake3::hash(b"")));
                made += 1;
            }
            Err(Error::NoRoom { .. } | Error::Unsupported { .. }) => {
                bench.rollback();
                tree = opened_again(&bench);
            }
            Err(error) => panic!("{error}"),
        }
    }
    assert!(made > 60, "{made}");
    assert_eq!(difference(&seen(&tree), &all), Vec::<String>::new());
    drop(tree);
    judged(&bench, &image);
    assert_eq!(difference(&seen_by_driver(&image), &all), Vec::<String>::new());
}
