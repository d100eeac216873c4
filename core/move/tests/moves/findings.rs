//! What a person is told, each where it is and not where it is not.

use std::{fs, sync::Arc};

use reformis_disk::{
    Disk,
    budget::Budget,
    container,
    copy::{Output, Watch, pipeline},
    format::{self, NewImage, raw::RawDisk},
    source::MemoryStorage,
};
use reformis_guest::{Guest, Role};
use reformis_machine::{Clock, ControllerKind, Name, Site};
use reformis_move::brief::{FirmwareKind, Size};
use reformis_standin::{
    content::Content,
    export,
    ova::{self, ManifestKind},
};

use crate::common::{BERTHS, Place, SIZE, codes, disk};

#[test]
fn a_controller_that_nobody_looked_at_and_one_that_does_not_boot() {
    let place = Place::berths();
    assert!(codes(&place.draft("virtio-host")).contains("driver-unchecked"));
    let same = place.changed("virtio-host", |brief| {
        brief.disks[0].controller = ControllerKind::Ahci;
        (brief.disks[0].bus, brief.disks[0].slot) = (0, 0);
    });
    assert!(!codes(&same).contains("driver-unchecked"));

    // A host whose BIOS starts from IDE alone.
    assert!(!codes(&place.draft("vmbus-host")).contains("does-not-boot"));
    let scsi = place.changed("vmbus-host", |brief| {
        brief.disks[0].controller = ControllerKind::VmbusScsi;
        (brief.disks[0].bus, brief.disks[0].slot) = (0, 0);
    });
    assert!(codes(&scsi).contains("does-not-boot"));
}

#[test]
fn a_size_that_a_cloud_does_not_take() {
    let place = Place::berths();
    assert!(!codes(&place.draft("virtio-cloud")).contains("size-uneven"));
    let uneven = place.changed("virtio-cloud", |brief| {
        brief.disks[0].align = None;
        brief.disks[0].grow = Some(Size(SIZE + (4 << 20)));
    });
    assert!(codes(&uneven).contains("size-uneven"));
}

#[test]
fn an_adapter_that_is_plugged_in_nowhere() {
    let place = Place::berths();
    assert!(!codes(&place.draft("virtio-host")).contains("adapter-unconnected"));
    let loose = place.changed("virtio-host", |brief| brief.adapters[0].network = None);
    assert!(codes(&loose).contains("adapter-unconnected"));
    let off = place.changed("virtio-host", |brief| {
        brief.adapters[0].network = None;
        brief.adapters[0].connected = false;
    });
    assert!(!codes(&off).contains("adapter-unconnected"), "that was meant");
    let mapped = place.changed("virtio-host", |brief| brief.adapters[0].network = Some(Name::cleaned("pier", "x")));
    assert!(!codes(&mapped).contains("adapter-unconnected"));
}

#[test]
fn a_firmware_that_a_host_does_not_have() {
    let mut place = Place::berths();
    assert!(!codes(&place.draft("virtio-host")).contains("firmware-not-offered"));
    place.site = Site::parse("reformis.toml", "[destinations.virtio-host]\nfirmware = [\"uefi\"]\n").unwrap();
    let bios = place.changed("virtio-host", |brief| brief.machine.firmware = FirmwareKind::Bios);
    assert!(codes(&bios).contains("firmware-not-offered"));
}

#[test]
fn a_key_that_only_the_old_machine_has() {
    let tpm = "<tpm model='tpm-crb'><backend type='emulator' version='2.0'/></tpm></devices>";
    let with_tpm = BERTHS.replace("</devices>", tpm);
    assert!(codes(&Place::berths().draft("virtio-host")).is_disjoint(&["tpm-new", "tpm-bound"].into()));
    let fresh = Place::described(&with_tpm, &disk());
    assert!(codes(&fresh.draft("virtio-host")).contains("tpm-new"));
    // The signature of a volume whose key may be in the TPM, in place of a file system's.
    let mut encrypted = disk();
    encrypted[(1 << 20) + 3..][..8].copy_from_slice(b"-FVE-FS-");
    let bound = Place::described(&with_tpm, &encrypted);
    let found = bound.draft("virtio-host");
    assert!(codes(&found).is_superset(&["tpm-bound", "volume-encrypted"].into()) && !codes(&found).contains("tpm-new"));
}

/// Writes `disk` into `place` as an image.
fn write_image(place: &Place, name: &str, shape: &str, disk: &dyn Disk) {
    let folder = place.path("");
    let other = move |name: &str| Ok(fs::File::create(folder.join(name)).unwrap());
    let output = Output::with_pieces(fs::File::create(place.path(name)).unwrap(), name, Box::new(other));
    let mut writer = format::create_in(output, &NewImage::new(shape.parse().unwrap(), disk.size())).unwrap();
    let watch = Watch { cancel: &|| false, progress: &|_| {}, workers: Some(1) };
    pipeline::copy(disk, writer.as_mut(), &watch).unwrap();
}

/// A disk of a shape, on its own.
fn image(shape: &str, bend: impl FnOnce(&mut Vec<u8>)) -> Place {
    let place = Place::of("disk.vmdk");
    write_image(&place, "disk.vmdk", shape, &RawDisk::new(Arc::new(MemoryStorage::new("disk", disk()))));
    let mut bytes = fs::read(place.path("disk.vmdk")).unwrap();
    bend(&mut bytes);
    place.write("disk.vmdk", &bytes);
    place
}

#[test]
fn an_image_whose_host_crashed_and_a_piece_of_one() {
    assert!(!codes(&image("vmdk/thin", |_| {}).draft("virtio-host")).contains("image-unclean"));
    // `uncleanShutdown` of the header of a sparse extent.
    let crashed = image("vmdk/thin", |bytes| bytes[72] = 1);
    assert!(codes(&crashed.draft("virtio-host")).contains("image-unclean"));

    let whole = image("vmdk/split", |_| {});
    assert!(!codes(&whole.draft("virtio-host")).contains("piece-alone"));
    let piece = fs::read_dir(whole.path("")).unwrap().map(|entry| entry.unwrap().path());
    let piece = piece.filter(|path| !path.ends_with("disk.vmdk")).min().unwrap();
    let opened = format::open(container::open(&piece, &Budget::whole()).unwrap(), None).unwrap();
    let alone = Place::of("piece.vmdk");
    alone.write("piece.vmdk", &fs::read(piece).unwrap());
    assert_eq!(codes(&alone.draft("virtio-host")).contains("piece-alone"), opened.facts.piece);
    assert!(opened.facts.piece, "a piece knows that it is one");
}

/// An OVF package in a folder: its files, which may be bent before they are written.
fn package(bend: impl FnOnce(&mut Vec<(String, Vec<u8>)>)) -> Place {
    let content = Content::empty(40 << 20).with(0, 300_000, 1);
    let disks = ["tidelog-disk1.vmdk", "tidelog-disk2.vmdk"]
        .map(|name| (name.to_string(), export::stream_vmdk_of(&content, name).unwrap()));
    let descriptor = include_str!("../../../../demo/tree/tidelog.ovf")
        .replace("@SIZE1@", &disks[0].1.len().to_string())
        .replace("@SIZE2@", &disks[1].1.len().to_string())
        .replace("\"3\" ovf:capacityAllocationUnits=\"byte * 2^30\"", &format!("\"{}\"", content.size))
        .replace("\"1024\" ovf:capacityAllocationUnits=\"byte * 2^20\"", &format!("\"{}\"", content.size));
    let mut files = vec![("tidelog.ovf".to_string(), descriptor.into_bytes())];
    files.extend(disks);
    let all: Vec<(&str, &[u8])> = files.iter().map(|(name, bytes)| (name.as_str(), &bytes[..])).collect();
    files.push(("tidelog.mf".into(), ova::manifest(ManifestKind::Sha256, &all).into_bytes()));
    bend(&mut files);
    let place = Place::of("tidelog.ovf");
    files.iter().for_each(|(name, bytes)| place.write(name, bytes));
    place
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8(bytes.to_vec()).unwrap()
}

#[test]
fn a_package_that_does_not_say_what_it_holds() {
    let sound = package(|_| {}).draft("virtio-host");
    let told = ["capacity-differs", "certificate-unchecked", "not-in-manifest", "no-manifest", "descriptor-changed"];
    assert!(codes(&sound).is_disjoint(&told.into()), "{:?}", codes(&sound));

    let larger = package(|files| {
        let stated = format!("\"{}\"", 40 << 20);
        files[0].1 = text(&files[0].1).replacen(&stated, &format!("\"{}\"", 41 << 20), 1).into_bytes();
        files.pop();
    });
    assert!(codes(&larger.draft("virtio-host")).is_superset(&["capacity-differs", "no-manifest"].into()));

    let signed = package(|files| files.push(("tidelog.cert".into(), b"SHA256(tidelog.mf)= 00\n".to_vec())));
    assert!(codes(&signed.draft("virtio-host")).contains("certificate-unchecked"));

    let short = package(|files| {
        let manifest = text(&files[3].1);
        files[3].1 = manifest
            .lines()
            .filter(|line| !line.contains("disk2"))
            .flat_map(|line| [line, "\n"])
            .collect::<String>()
            .into_bytes();
    });
    assert!(codes(&short.draft("virtio-host")).contains("not-in-manifest"));

    let gone = package(|files| files[3].1.extend(b"SHA256(notes.txt)= ".iter().chain([b'0'; 64].iter()).chain(b"\n")));
    assert!(codes(&gone.draft("virtio-host")).contains("manifest-names-missing"));

    let changed = package(|files| files[0].1.extend(b"<!-- later -->\n"));
    assert!(codes(&changed.draft("virtio-host")).contains("descriptor-changed"));
}

/// A qcow2 image that says it holds 64 TiB of data, in a file of one hole: its 128 tables are one and the same.
fn immense(place: &Place) {
    use std::os::unix::fs::FileExt;
    const CLUSTER: u64 = 2 << 20;
    const COPIED: u64 = 1 << 63;
    let file = fs::File::create(place.path("immense.qcow2")).unwrap();
    let entries = CLUSTER / 8;
    let mut header = b"QFI\xfb\0\0\0\x02".to_vec();
    header.extend([0u64.to_be_bytes().as_slice(), &[0, 0, 0, 0, 0, 0, 0, 21]].concat());
    header.extend((entries * CLUSTER * 128).to_be_bytes());
    header.extend([0u32, 128].map(u32::to_be_bytes).concat());
    header.extend([CLUSTER, 3 * CLUSTER].map(u64::to_be_bytes).concat());
    header.extend([1u32, 0].map(u32::to_be_bytes).concat());
    header.extend(0u64.to_be_bytes());
    file.write_all_at(&header, 0).unwrap();
    file.write_all_at(&((2 * CLUSTER) | COPIED).to_be_bytes().repeat(128), CLUSTER).unwrap();
    let table: Vec<u8> = (0..entries).flat_map(|entry| (((4 + entry) * CLUSTER) | COPIED).to_be_bytes()).collect();
    file.write_all_at(&table, 2 * CLUSTER).unwrap();
    file.set_len((4 + entries) * CLUSTER).unwrap();
}

#[test]
fn what_may_not_fit_and_what_surely_does_not() {
    let place = Place::of("immense.qcow2");
    immense(&place);
    let found = place.draft("vmbus-host");
    assert!(codes(&found).contains("little-room") && !codes(&found).contains("no-room"), "{:?}", codes(&found));
    let full = place.changed("vmbus-host", |brief| brief.disks[0].shape = "vhdx/full".parse().unwrap());
    assert!(codes(&full).contains("no-room"), "{:?}", codes(&full));
    let small = Place::berths().draft("virtio-host");
    assert!(codes(&small).is_disjoint(&["little-room", "no-room"].into()));
}

/// The demo's *ledger*, whose loader lies where its distribution puts it, and nowhere else.
fn ledger() -> Place {
    let place = Place::of("ledger.vmx");
    for name in ["ledger.vmx", "ledger.vmdk", "ledger_1.vmdk"] {
        let from = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/ledger").join(name);
        place.write(name, &fs::read(from).unwrap());
    }
    let budget = Budget::whole();
    let opened = format::open(container::open(&place.path("ledger.vmdk"), &budget).unwrap(), None).unwrap();
    let mut guest = Guest::open([opened.disk], 0, &budget).unwrap();
    guest.bench.begin("moved", "a loader of its own");
    let esp = guest.volumes.iter().position(|volume| volume.role == Role::Esp).unwrap();
    let mut tree = guest.volume_tree(esp, 0).unwrap().unwrap();
    let loader = tree.read("/EFI/BOOT/BOOTX64.EFI", 1 << 20).unwrap();
    tree.make_folders("/EFI/tide").unwrap();
    tree.write("/EFI/tide/grubx64.efi", &loader).unwrap();
    tree.remove("/EFI/BOOT/BOOTX64.EFI").unwrap();
    let changed = guest.bench.take().remove(0);
    write_image(&place, "new.vmdk", "vmdk/thin", &changed);
    fs::rename(place.path("new.vmdk"), place.path("ledger.vmdk")).unwrap();
    place
}

#[test]
fn a_loader_that_a_new_firmware_would_not_look_for() {
    let place = ledger();
    let left = place.changed("virtio-host", |brief| brief.guest.leave_out = vec!["fallback-loader".into()]);
    assert!(codes(&left).contains("no-fallback-loader"), "{:?}", codes(&left));
    let mended = place.draft("virtio-host");
    assert!(!codes(&mended).contains("no-fallback-loader"), "{:?}", codes(&mended));
    assert!(mended.guest.edits.iter().any(|done| done.name == "fallback-loader"));
}

#[test]
fn what_does_not_come_along() {
    let plain = Place::berths().draft("virtio-host");
    assert!(codes(&plain).is_disjoint(&["device-dropped", "media-dropped", "disk-left"].into()), "{:?}", codes(&plain));
    let more = "<disk type='file' device='cdrom'><source file='drivers.iso'/><target dev='sdb' bus='sata'/></disk>\
        <sound model='ich9'/></devices>";
    let more = Place::described(&BERTHS.replace("</devices>", more), &disk());
    let found = more.draft("virtio-host");
    assert!(codes(&found).is_superset(&["device-dropped", "media-dropped"].into()), "{:?}", codes(&found));

    let two = package(|_| {});
    assert!(!codes(&two.draft("virtio-host")).contains("disk-left"));
    let one = two.changed("virtio-host", |brief| drop(brief.disks.pop()));
    assert!(codes(&one).contains("disk-left"));
}

#[test]
fn a_brief_that_asks_for_what_is_not_there() {
    let place = Place::berths();
    assert!(codes(&place.draft("virtio-host")).is_disjoint(&["no-such-adapter", "nothing-boots"].into()));
    let other = place.changed("virtio-host", |brief| brief.adapters[0].source = Some("nowhere".into()));
    assert!(codes(&other).contains("no-such-adapter"));
    let nothing = place.changed("virtio-host", |brief| brief.disks[0].boot = None);
    assert!(codes(&nothing).contains("nothing-boots"));
    let secure = |destination| {
        place.changed(destination, |brief| {
            brief.machine.firmware = FirmwareKind::Uefi;
            brief.machine.secure_boot = true;
        })
    };
    assert!(codes(&secure("vdi-host")).contains("no-secure-boot"));
    assert!(!codes(&secure("vmbus-host")).contains("no-secure-boot"));
}

#[test]
fn a_setting_that_matters_and_that_a_machine_file_has_no_word_for() {
    let place = Place::berths();
    assert!(!codes(&place.draft("vmx-host")).contains("setting-lost"));
    let local = place.changed("vmx-host", |brief| brief.machine.clock = Clock::Local);
    assert!(codes(&local).contains("setting-lost"), "{:?}", codes(&local));
}
