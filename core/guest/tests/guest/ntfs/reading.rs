//! Volumes that another driver filled.

use std::{fs, os::unix::ffi::OsStringExt};

use reformis_standin::lzx;

use super::*;

#[test]
fn volumes_of_every_geometry_are_read_as_another_driver_reads_them() {
    if !ready() {
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
    if !ready() {
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

/// A piece of `abcabc…` in XPRESS: the three letters, and one copy for the rest.
fn xpress_piece(len: usize) -> Vec<u8> {
    let mut piece = vec![0; 256];
    for (at, lengths) in [(48, 0x30), (49, 0x23), (128, 0x02), (143, 0x20)] {
        piece[at] = lengths;
    }
    piece.extend([0xa8, 0xdc, 0, 0, 0xff]);
    piece.extend(((len - 6) as u16).to_le_bytes());
    piece
}

#[test]
fn files_that_the_system_compressed_are_read_and_become_plain_when_they_are_written() {
    if !ready() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = made(folder.path(), 32, 4096, 512);
    let text: Vec<u8> = b"abc".iter().copied().cycle().take(150_001).collect();
    let methods = [(0, 4 << 10), (1, 32 << 10), (2, 8 << 10), (3, 16 << 10)];
    mounted(&image, "permissions,streams_interface=windows", |root| {
        for (method, piece) in methods {
            let pack = |part: &[u8]| match method {
                1 => lzx::pack(part, lzx::Form::Image, lzx::Block::Aligned),
                // The last piece is as it is.
                _ if part.len() < piece => part.to_vec(),
                _ => xpress_piece(part.len()),
            };
            // Each piece begins anew with the first letter, or with another one where the period does not fit.
            let pieces: Vec<Vec<u8>> =
                (0..text.len()).step_by(piece).map(|at| pack(&text[..(text.len() - at).min(piece)])).collect();
            let mut ends = pieces.iter().scan(0_u32, |at, piece| {
                *at += piece.len() as u32;
                Some(*at)
            });
            let table: Vec<u8> = ends.by_ref().take(pieces.len() - 1).flat_map(u32::to_le_bytes).collect();
            let name = root.join(format!("packed-{method}.sys"));
            fs::File::create(&name).unwrap().set_len(text.len() as u64).unwrap();
            fs::write(root.join(format!("packed-{method}.sys:WofCompressedData")), [table, pieces.concat()].concat())
                .unwrap();
            let point: String = [0x8000_0017_u32, 16, 1, 2, 1, method]
                .iter()
                .flat_map(|word| word.to_le_bytes())
                .map(|byte| format!("{byte:02x}"))
                .collect();
            attribute(&name, "system.ntfs_reparse_data", &format!("0x{point}"));
        }
    });
    let (bench, mut tree) = opened(&image);
    bench.begin("write", "over what is packed");
    for (method, piece) in methods {
        let path = format!("/packed-{method}.sys");
        let expected: Vec<u8> = text.chunks(piece).flat_map(|part| text[..part.len()].to_vec()).collect();
        assert!(tree.read(&path, 1 << 20).unwrap() == expected, "method {method}");
        // A part of it, over a piece's end.
        let mut part = Vec::new();
        std::io::Read::read_to_end(&mut std::io::Read::take(tree.reader(&path).unwrap(), 40_000), &mut part).unwrap();
        assert!(part == expected[..40_000]);
        assert_eq!(tree.streams(&path).unwrap()[0].name, "WofCompressedData");
        tree.write_at(&path, 5000, b"tide").unwrap();
        let mut changed = expected;
        changed[5000..5004].copy_from_slice(b"tide");
        assert!(tree.read(&path, 1 << 20).unwrap() == changed, "method {method}");
        assert_eq!(tree.streams(&path).unwrap(), []);
    }
    tree.write("/packed-0.sys", b"new").unwrap();
    drop(tree);
    judged(&bench, &image);
    let seen = seen_by_driver(&image);
    assert_eq!(seen[&b"/packed-0.sys"[..]], Thing::File(3, blake3::hash(b"new")));
    assert!(matches!(seen[&b"/packed-1.sys"[..]], Thing::File(150_001, _)));
}
