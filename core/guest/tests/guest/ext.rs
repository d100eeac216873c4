//! ext2, ext3 and ext4 as their own tools make and check them: after any sequence of changes the checker finds nothing, the
//! kernel sees the tree that was meant, and nothing changed outside the ranges that were recorded.

use std::{
    fs::{self, File},
    path::{Path, PathBuf},
    process::Command,
};

use reformis_guest::Tree;

use crate::{
    common::has,
    model::{Model, Node, before, bytes, mounted, open, run, save, seen, take, with_mount, with_steps},
};

fn check(image: &Path) {
    run(Command::new("e2fsck").arg("-fn").arg(image));
}

/// Options of mke2fs, the volume's size in MiB, and whether this kernel mounts it.
const KINDS: &[(&[&str], u64, bool)] = &[
    (&["-t", "ext4"], 64, true),
    (&["-t", "ext4", "-b", "1024"], 40, true),
    (&["-t", "ext2", "-b", "1024"], 40, true),
    (&["-t", "ext2", "-r", "1", "-O", "^dir_index,^resize_inode", "-I", "128"], 40, true),
    (&["-t", "ext3", "-b", "2048"], 64, true),
    (&["-t", "ext4", "-O", "^metadata_csum,uninit_bg"], 64, true),
    (&["-t", "ext4", "-O", "^metadata_csum,^uninit_bg,^64bit,^extents"], 64, true),
    (&["-t", "ext4", "-O", "inline_data,metadata_csum_seed"], 64, true),
    (&["-t", "ext4", "-O", "meta_bg,^resize_inode", "-b", "1024", "-g", "1024"], 40, true),
    (&["-t", "ext4", "-O", "^flex_bg", "-b", "1024", "-g", "2048"], 40, true),
    (&["-t", "ext4", "-O", "sparse_super2", "-I", "512"], 64, true),
    (&["-t", "ext4", "-O", "orphan_file"], 64, true),
    (&["-t", "ext4", "-b", "16384"], 64, false),
    (&["-t", "ext4", "-b", "65536"], 96, false),
    (&["-t", "ext4", "-b", "65536", "-O", "inline_data"], 96, false),
];

fn make(folder: &Path, kind: &(&[&str], u64, bool), content: Option<&Path>) -> PathBuf {
    let image = folder.join("volume");
    File::create(&image).unwrap().set_len(kind.1 << 20).unwrap();
    let mut command = Command::new("mke2fs");
    command.args(["-q", "-F", "-m", "1", "-N", "8000"]).args(kind.0);
    if let Some(content) = content {
        command.arg("-d").arg(content);
    }
    run(command.arg(&image));
    image
}

#[test]
#[ignore = "needs root, loop devices and Debian's e2fsprogs"]
fn any_changes_leave_a_sound_file_system() {
    for kind in KINDS {
        with_steps(kind, |first, second| {
            let folder = tempfile::tempdir().unwrap();
            // What is there before comes from other hands.
            let content = folder.path().join("content");
            fs::create_dir(&content).unwrap();
            let mut model = Model::new();
            before(&content, &mut model, first);
            let image = make(folder.path(), kind, Some(&content));
            let (bench, mut tree) = open(&image);
            let mut read = Model::new();
            seen(&tree, "", &mut read);
            assert!(read == model, "what was there is not what is read: {kind:?}");
            bench.begin("steps", "a test");
            for step in second {
                take(&mut tree, &mut model, step);
            }
            let mut read = Model::new();
            seen(&tree, "", &mut read);
            assert!(read == model, "what was made is not what is read: {kind:?}");
            let result = save(&bench, &image);
            check(&result);
            if kind.2 {
                with_mount(&result, "loop,ro", |root| {
                    let mut read = Model::new();
                    mounted(root, root, &mut read);
                    assert!(read == model, "the kernel sees another tree: {kind:?}");
                });
            }
        });
    }
}

#[test]
#[ignore = "needs root, loop devices and Debian's e2fsprogs"]
fn a_file_system_that_was_in_use_when_it_was_copied() {
    let kinds: [(&[&str], &str); 5] = [
        (&["-t", "ext4"], "data=ordered"),
        (&["-t", "ext4", "-O", "orphan_file"], "data=journal"),
        (&["-t", "ext4", "-b", "1024", "-O", "^metadata_csum,^64bit"], "data=journal"),
        (&["-t", "ext3", "-b", "2048"], "data=ordered"),
        (&["-t", "ext4", "-O", "inline_data"], "data=journal"),
    ];
    for (options, mode) in kinds {
        let folder = tempfile::tempdir().unwrap();
        let image = make(folder.path(), &(options, 64, true), None);
        let place = folder.path().join("place");
        fs::create_dir(&place).unwrap();
        run(Command::new("mount").args(["-o", &format!("loop,{mode}")]).arg(&image).arg(&place));
        let put = |name: &str, len: usize| fs::write(place.join(name), bytes(name, len)).unwrap();
        fs::create_dir(place.join("many")).unwrap();
        for number in 0..400 {
            put(&format!("many/{number}"), number * 7);
        }
        // Blocks that held a folder and hold bytes now are revoked in the journal.
        fs::remove_dir_all(place.join("many")).unwrap();
        run(Command::new("sync").arg("-f").arg(&place));
        put("after", 900_000);
        // Two files that are open: one is deleted, one is cut short.
        let deleted = File::create(place.join("deleted")).unwrap();
        std::io::Write::write_all(&mut &deleted, &bytes("deleted", 700_000)).unwrap();
        fs::remove_file(place.join("deleted")).unwrap();
        put("cut", 500_000);
        File::options().write(true).open(place.join("cut")).unwrap().set_len(1234).unwrap();
        std::os::unix::fs::symlink("after", place.join("link")).unwrap();
        run(Command::new("sync").arg("-f").arg(&place));
        let copy = folder.path().join("copy");
        fs::copy(&image, &copy).unwrap();
        let mut model = Model::new();
        mounted(&place, &place, &mut model);
        drop(deleted);
        crate::common::unmount(&place);
        let (bench, mut tree) = open(&copy);
        let mut read = Model::new();
        seen(&tree, "", &mut read);
        assert!(read == model, "{options:?} {mode}: the tree is not what it was");
        bench.begin("steps", "a test");
        tree.write("/more", b"more").unwrap();
        model.insert("/more".into(), Node::File(b"more".to_vec()));
        let result = save(&bench, &copy);
        check(&result);
        with_mount(&result, "loop,ro", |root| {
            let mut read = Model::new();
            mounted(root, root, &mut read);
            assert!(read == model, "{options:?} {mode}: the kernel sees another tree");
        });
    }
}

#[test]
fn a_full_volume_takes_nothing_and_loses_nothing() {
    if !has(&["mke2fs", "debugfs", "e2fsck"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let image = make(folder.path(), &(&["-t", "ext4"], 16, true), None);
    let (bench, mut tree) = open(&image);
    bench.begin("fits", "a test");
    tree.write("/fits", &bytes("fits", 3_000_000)).unwrap();
    bench.begin("too-large", "a test");
    let error = tree.write("/large", &vec![1; 40 << 20]).unwrap_err().to_string();
    assert!(error.contains("has no room") && error.contains("are free"), "{error}");
    bench.rollback();
    let result = save(&bench, &image);
    check(&result);
    let (_, tree) = open(&result);
    assert_eq!(tree.read("/fits", 1 << 30).unwrap(), bytes("fits", 3_000_000));
    assert!(!tree.exists("/large"));
}

#[test]
#[ignore = "needs root, loop devices and Debian's e2fsprogs"]
fn labels_and_owners_of_what_is_new() {
    let folder = tempfile::tempdir().unwrap();
    let content = folder.path().join("content");
    fs::create_dir_all(content.join("etc")).unwrap();
    fs::write(content.join("etc/one"), b"1").unwrap();
    fs::set_permissions(content.join("etc/one"), std::os::unix::fs::PermissionsExt::from_mode(0o640)).unwrap();
    let image = make(folder.path(), &(&["-t", "ext4"], 32, true), Some(&content));
    let label = |path: &str, value: &str| {
        let command = format!("ea_set {path} security.selinux {value}");
        run(Command::new("debugfs").args(["-w", "-R", &command]).arg(&image));
    };
    label("/", "root_t");
    label("/etc", "etc_t");
    label("/etc/one", "net_conf_t");
    let (bench, mut tree) = open(&image);
    bench.begin("labels", "a test");
    tree.write("/etc/two", b"2").unwrap();
    tree.make_folders("/etc/new").unwrap();
    tree.write("/etc/one", b"replaced").unwrap();
    assert!(!tree.wants_relabel());
    let of = |tree: &Tree, path: &str| {
        let all = tree.attributes(path).unwrap();
        String::from_utf8(all.into_iter().find(|(name, _)| name == b"security.selinux").unwrap().1).unwrap()
    };
    assert_eq!(of(&tree, "/etc/two"), "net_conf_t", "as its neighbour");
    assert_eq!(of(&tree, "/etc/new"), "etc_t", "as its folder");
    assert_eq!(tree.stat("/etc/one").unwrap().mode, 0o640, "what is replaced keeps its mode");
    // Where a folder has none although the root has, it cannot be told.
    let result = save(&bench, &image);
    check(&result);
    run(Command::new("debugfs").args(["-w", "-R", "ea_rm /etc security.selinux"]).arg(&result));
    let (_, mut tree) = open(&result);
    tree.write("/etc/three", b"3").unwrap();
    assert!(tree.wants_relabel());
}
