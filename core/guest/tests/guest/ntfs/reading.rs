//! Volumes that another driver filled.

use std::{fs, os::unix::ffi::OsStringExt};

use super::*;

#[test]
fn volumes_of_every_geometry_are_read_as_another_driver_reads_them() {
    if !has(&TOOLS) {
        return;
    }
    for (cluster, sector) in [(512, 512), (4096, 512), (4096, 4096), (64 << 10, 512), (2 << 20, 512)] {
        let folder = tempfile::tempdir().unwrap();
        let large = if cluster > 64 << 10 { 8192 } else { 256 };
        let image = made(folder.path(), large, cluster, sector);
        mounted(&image, "permissions,streams_interface=windows,compression", |root| {
            if cluster > 64 << 10 {
                fs::create_dir(root.join("Windows")).unwrap();
                fs::write(root.join("Windows/a.txt"), noise(3, 3 << 20)).unwrap();
            } else {
                fill(root, cluster as usize);
            }
        });
        let (_bench, tree) = opened(&image);
        assert_eq!(difference(&seen(&tree), &seen_by_driver(&image)), Vec::<String>::new(), "{cluster} {sector}");
        if cluster > 64 << 10 {
            continue;
        }
        // Names in any case, short ones, and streams.
        let read = |path: &str| tree.read(path, 1 << 20).unwrap();
        assert_eq!(read("/WINDOWS/system32/DRIVERS/LongDriverName.SYS"), b"a driver");
        assert_eq!(read("/windows/system32/drivers/longdr~1.sys"), b"a driver");
        assert_eq!(read("/Windows/System32/Drivers/GRÜSSE 🌊.TXT".replace("SS", "ß").as_str()), noise(1, 700));
        assert_eq!((read("/Case.txt"), read("/case.TXT")), (b"x".to_vec(), b"yy".to_vec()));
        assert_eq!(read("/windows/MANY.txt:S7"), noise(7, 90));
        assert_eq!(read("/Windows/many.txt:large"), noise(99, 100_000));
        assert!(tree.is_folder("/progra~1") && !tree.exists("/Windows/many.txt:none"));
        assert_eq!(tree.streams("/Windows/many.txt").unwrap().len(), 61);
        assert_eq!(tree.stat("/link2.sys").unwrap().links, 2);
        assert_eq!(read("/link/drivers/second.sys"), b"");
        assert_eq!(tree.link_target("/Junction").unwrap(), b"/C:/Windows");
    }
}

#[test]
fn a_name_that_is_no_text_is_listed_and_found() {
    if !has(&TOOLS) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = made(folder.path(), 16, 4096, 512);
    let half = std::ffi::OsString::from_vec(b"half \xed\xa0\xbd.txt".to_vec());
    let was_made = mounted(&image, "permissions", |root| fs::write(root.join(&half), "4.2").is_ok());
    let (_bench, tree) = opened(&image);
    let names: Vec<Vec<u8>> = tree.list("/").unwrap().into_iter().map(|(name, _)| name).collect();
    if was_made {
        assert_eq!(names, [half.clone().into_vec()]);
        assert_eq!(tree.read([b"/", &half.into_vec()[..]].concat(), 9).unwrap(), b"4.2");
    } else {
        assert_eq!(names, Vec::<Vec<u8>>::new());
    }
}
