//! What is told of a disk by looking at it, and what is made of it: partitions, logical volumes, file systems, systems, edits.
#![no_main]

use std::sync::Arc;

use libfuzzer_sys::fuzz_target;
use reformis_disk::{Format, budget::Budget, format, source::MemoryStorage};
use reformis_guest::{AdapterPlace, DiskPlace, Guest, Hardware, Need, OtherPlace, Tree, Wishes};

fn walk(tree: &Tree, folder: &[u8], left: &mut usize) {
    for (name, stat) in tree.list(folder).unwrap_or_default() {
        if *left == 0 {
            return;
        }
        *left -= 1;
        let path = [folder, b"/", &name].concat();
        drop(tree.read(&path, 1 << 16));
        drop(tree.link_target(&path));
        drop(tree.attributes(&path));
        if stat.kind == reformis_guest::Kind::Folder {
            walk(tree, &path, left);
        }
    }
}

fuzz_target!(|bytes: &[u8]| {
    reformis_guest::fuzzing::lvm_tables(bytes);
    let storage = Arc::new(MemoryStorage::new("fuzz.raw", bytes));
    let disk = format::open(storage, Some(Format::Raw)).expect("any bytes are a raw disk").disk;
    let look = reformis_guest::look(&disk, &Budget::whole()).expect("memory can be read");
    assert!(look.partitions.iter().all(|(partition, _)| partition.start + partition.size <= disk.size()));
    look.family();
    let mut guest = Guest::open([disk], 1_780_000_000, &Budget::whole()).expect("memory can be read");
    for index in 0..guest.volumes.len().min(4) {
        if let Ok(Some(mut tree)) = guest.volume_tree(index, 1_780_000_000) {
            walk(&tree, b"", &mut 64);
            drop(tree.make_folders("/a/b"));
            drop(tree.write("/a/b/c", &[7; 5000]));
            drop(tree.append("/a/b/c", &[8; 5000]));
            drop(tree.link("/a/b/d", "/nowhere"));
            drop(tree.remove("/a"));
        }
    }
    let need = |device: &str, module: &str| Need { device: device.into(), module: module.into() };
    let needs = vec![need("virtio:d00000008v00001AF4", "virtio_scsi")];
    let mac = Some("02:5a:17:00:00:01".to_string());
    let other = OtherPlace {
        prefix: "sd".into(),
        needs: vec![need("pci:v00008086d00002922", "ahci")],
        ..OtherPlace::default()
    };
    let place = DiskPlace {
        controller: "virtio-scsi".into(),
        prefix: "vd".into(),
        needs: needs.clone(),
        others: vec![other],
        ..DiskPlace::default()
    };
    let adapter =
        AdapterPlace { model: "virtio-net".into(), needs, before: mac.clone(), after: mac, ..AdapterPlace::default() };
    let hardware = Hardware {
        uefi: true,
        disks: vec![Some(place)],
        adapters: vec![adapter],
        host: Some("virtio".into()),
        ..Hardware::default()
    };
    reformis_guest::refit(&mut guest, &hardware, &Wishes::default(), 1_780_000_000);
});
