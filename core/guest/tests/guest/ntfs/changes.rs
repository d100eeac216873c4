//! Changes to a volume that another driver filled.

use std::sync::Arc;

use reformis_guest::{Bench, Tree};

use super::*;

/// What a volume is to hold after changes, made in the same way by us and to a model of all files.
struct Changed {
    bench: Arc<Bench>,
    tree: Tree,
    all: All,
}

impl Changed {
    fn write(&mut self, path: &str, bytes: &[u8]) {
        self.bench.begin("write", path);
        self.tree.write(path, bytes).unwrap_or_else(|error| panic!("{path}: {error}"));
        let known = self.all.keys().find(|known| known.eq_ignore_ascii_case(path.as_bytes())).cloned();
        let thing = Thing::File(bytes.len() as u64, blake3::hash(bytes));
        self.all.insert(known.unwrap_or(path.into()), thing);
    }

    fn remove(&mut self, path: &str) {
        self.bench.begin("remove", path);
        self.tree.remove(path).unwrap_or_else(|error| panic!("{path}: {error}"));
        let below = format!("{path}/").into_bytes();
        self.all.retain(|known, _| known != path.as_bytes() && !known.starts_with(&below));
    }

    fn rename(&mut self, from: &str, to: &str) {
        self.bench.begin("rename", from);
        self.tree.rename(from, to).unwrap_or_else(|error| panic!("{from}: {error}"));
        let thing = self.all.remove(from.as_bytes()).unwrap();
        self.all.insert(to.into(), thing);
    }
}

#[test]
fn changes_of_every_kind_leave_all_else_as_it_was() {
    if !ready() {
        return;
    }
    for (cluster, sector) in [(512, 512), (4096, 512), (4096, 4096), (64 << 10, 512)] {
        let folder = tempfile::tempdir().unwrap();
        let image = made(folder.path(), 256, cluster, sector);
        mounted(&image, "permissions,streams_interface=windows,compression", |root| fill(root, cluster as usize));
        let before = seen_by_driver(&image);
        let (bench, tree) = opened(&image);
        let mut volume = Changed { bench, tree, all: before };
        // What is compressed, sparse or in many pieces becomes plain.
        volume.write("/packed/text.log", b"short");
        volume.write("/packed/noise.bin", &noise(31, 900_000));
        volume.write("/sparse.bin", &noise(32, 70_000));
        volume.write("/pieces.bin", &noise(33, 3_000_000));
        volume.remove("/link");
        // A file with two names, and one with a short one.
        volume.write("/link2.sys", &noise(34, 5000));
        let same = Thing::File(5000, blake3::hash(&noise(34, 5000)));
        volume.all.insert(b"/Windows/System32/drivers/longdrivername.sys".to_vec(), same);
        volume.rename("/Windows/System32/drivers/longdrivername.sys", "/Windows/renamed driver.sys");
        volume.rename("/Windows/many.txt", "/Windows/System32/many more.txt");
        volume.rename("/Case.txt", "/CASE.txt");
        for number in 0..1200 {
            volume.write(
                &format!("/big/another file with a long name {number}.txt"),
                &noise(number, (number as usize * 13) % 2000),
            );
        }
        for number in (1..1500).filter(|number| number % 3 != 0) {
            volume.remove(&format!("/big/file-{number}.dat"));
        }
        for number in (0..1200).filter(|number| number % 5 != 0) {
            volume.remove(&format!("/big/another file with a long name {number}.txt"));
        }
        volume.bench.begin("streams", "beside a file");
        for number in 0..60 {
            volume.tree.write(format!("/Windows/second.txt:s{number}"), &noise(number, 500)).unwrap_err();
        }
        volume.write("/Windows/second.txt", b"a file with streams");
        for number in 0..60 {
            volume.tree.write(format!("/Windows/second.txt:s{number}"), &noise(number, 500)).unwrap();
        }
        for number in 0..30 {
            volume.tree.remove(format!("/Windows/second.txt:s{number}")).unwrap();
        }
        assert_eq!(volume.tree.streams("/Windows/second.txt").unwrap().len(), 30);
        assert_eq!(volume.tree.read("/Windows/second.txt:s40", 1 << 20).unwrap(), noise(40, 500));
        let Changed { bench, tree, all } = volume;
        assert_eq!(difference(&seen(&tree), &all), Vec::<String>::new(), "as we see it, {cluster} {sector}");
        drop(tree);
        judged(&bench, &image);
        assert_eq!(difference(&seen_by_driver(&image), &all), Vec::<String>::new(), "{cluster} {sector}");
    }
}
