//! What the default start needs, each on two guests that differ in that one thing: one comes up, the other does not, and the chain says so.

use std::{
    fs,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
};

use proptest::prelude::*;
use reformis_guest::{DiskPlace, Evidence, Guest, Hardware, Link, Refit, State, Wishes, refit, walk};
use reformis_standin::{
    early::{FILE, FOLDER, archive},
    lvm,
};

use crate::common::*;

const TOOLS: [&str; 4] = ["mke2fs", "e2fsck", "sfdisk", "mkswap"];
type Files = Vec<(&'static str, Vec<u8>)>;
/// Files of a loader.
type Loader = Vec<(&'static str, String)>;
/// Paths and what is there.
type Texts<'t> = Vec<(&'static str, &'t str)>;

/// Whether all that is needed holds; `None` where that is not known.
fn comes_up(chain: &[Evidence]) -> Option<bool> {
    let has = |state: State| chain.iter().any(|link| link.needed && link.state == state);
    if has(State::Broken) { Some(false) } else { (!has(State::Unknown)).then_some(true) }
}

/// An early boot image of a kernel, with the drivers of the new controller or without.
fn image(version: &str, has_drivers: bool) -> Vec<u8> {
    let folder = format!("lib/modules/{version}");
    let mut entries: Vec<(String, u32, &[u8])> = vec![
        ("lib".into(), FOLDER, b""),
        ("lib/modules".into(), FOLDER, b""),
        (folder.clone(), FOLDER, b""),
        (format!("{folder}/kernel"), FOLDER, b""),
    ];
    if has_drivers {
        for name in ["virtio", "virtio_ring", "virtio_pci", "virtio_scsi"] {
            entries.push((format!("{folder}/kernel/{name}.ko"), FILE, b"a driver"));
        }
    }
    let entries: Vec<(&str, u32, &[u8])> =
        entries.iter().map(|(path, mode, bytes)| (path.as_str(), *mode, *bytes)).collect();
    archive(&entries)
}

/// A guest with one kernel more, newer by its number and older by its letters, whose image has no drivers.
fn two_kernels(files: &mut Files, loader: &[(&'static str, String)]) {
    files.retain(|(path, _)| !path.starts_with("/boot/") && !path.starts_with("/lib/modules"));
    for (version, has_drivers) in [("5.14.0-70", true), ("5.14.0-427", false)] {
        let own = |path: &str| -> &'static str { Box::leak(path.replace('V', version).into_boxed_str()) };
        files.push((own("/lib/modules/V/modules.dep"), reformis_standin::early::MODULES_DEP.to_vec()));
        files.push((own("/lib/modules/V/modules.alias"), reformis_standin::early::MODULES_ALIAS.to_vec()));
        files.push((own("/boot/vmlinuz-V"), b"a kernel".to_vec()));
        files.push((own("/boot/initramfs-V.img"), image(version, has_drivers)));
    }
    files.extend(loader.iter().map(|(path, text)| (*path, text.clone().into_bytes())));
}

fn entry_file(version: &str) -> String {
    format!(
        "title Tidal {version}\nversion {version}\nlinux /boot/vmlinuz-{version}\ninitrd /boot/initramfs-{version}.img\noptions root=UUID={ROOT_UUID} ro\n"
    )
}

fn grub_entry(version: &str) -> String {
    format!(
        "menuentry 'Tidal {version}' --id tidal-{version} {{\n\tlinux /boot/vmlinuz-{version} root=UUID={ROOT_UUID} ro\n\tinitrd /boot/initramfs-{version}.img\n}}\n"
    )
}

fn environment(text: &str) -> String {
    let mut all = format!("# GRUB Environment Block\n{text}");
    all.extend(std::iter::repeat_n('#', 1024 - all.len()));
    all
}

fn chain_of(disks: &[&Path], hardware: &Hardware) -> Vec<Evidence> {
    walk(&mut open(disks), hardware).remove(0).1
}

#[test]
fn the_default_entry_s_kernel_decides() {
    if !has(&TOOLS) {
        return;
    }
    const OLD: &str = "5.14.0-70";
    const NEW: &str = "5.14.0-427";
    let bls = |loader: Vec<(&'static str, String)>| {
        let own = |name: &str, version| {
            (
                Box::leak(format!("/boot/loader/entries/{name}.conf").into_boxed_str()) as &'static str,
                entry_file(version),
            )
        };
        [vec![own("a1-5.14.0-70", OLD), own("a1-5.14.0-427", NEW)], loader].concat()
    };
    let blscfg = |default: &str| ("/boot/grub2/grub.cfg", format!("load_env\nset default=\"{default}\"\nblscfg\n"));
    let kept = |text: &str| ("/boot/grub2/grubenv", environment(text));
    let grub = |default: &str| {
        let menu = format!(
            "if [ \"${{next_entry}}\" ] ; then\n  set default=\"${{next_entry}}\"\nelse\n  set default=\"{default}\"\nfi\nfunction load_video {{\n  true\n}}\n{}submenu 'More' {{\n{}{}}}\nmenuentry 'Firmware' {{\n\tfwsetup\n}}\n",
            grub_entry(NEW),
            grub_entry(OLD),
            grub_entry(NEW)
        );
        ("/boot/grub2/grub.cfg", menu)
    };
    let extlinux = |default: &str| {
        let label = |name: &str, version: &str| {
            format!(
                "label {name}\n  linux /boot/vmlinuz-{version}\n  initrd /boot/initramfs-{version}.img\n  append root=UUID={ROOT_UUID}\n"
            )
        };
        ("/boot/extlinux/extlinux.conf", format!("{default}\n{}{}", label("new", NEW), label("old", OLD)))
    };
    let cases: Vec<(Loader, Option<bool>)> = vec![
        // Numbers are compared as numbers.
        (bls(vec![blscfg("0")]), Some(false)),
        (bls(vec![blscfg("1")]), Some(true)),
        (bls(vec![blscfg("${saved_entry}"), kept("saved_entry=a1-5.14.0-70\n")]), Some(true)),
        (bls(vec![blscfg("${saved_entry}"), kept("saved_entry=a1-5.14.0-427\n")]), Some(false)),
        (bls(vec![blscfg("${saved_entry}"), kept("saved_entry=gone\n")]), Some(false)),
        (bls(vec![("/boot/loader/loader.conf", "timeout 3\ndefault a1-*-70.conf\n".into())]), Some(true)),
        (bls(vec![]), Some(false)),
        (vec![grub("0")], Some(false)),
        (vec![grub("1>0")], Some(true)),
        (vec![grub("More>Tidal 5.14.0-70")], Some(true)),
        (vec![grub("More>tidal-5.14.0-427")], Some(false)),
        (vec![grub("2")], None),
        (vec![grub("${saved_entry}"), kept("saved_entry=1>0\n")], Some(true)),
        (vec![grub("${saved_entry}"), kept("saved_entry=1>0\nnext_entry=0\n")], Some(false)),
        (vec![extlinux("default old")], Some(true)),
        (vec![extlinux("default new")], Some(false)),
        (vec![extlinux("prompt 0")], Some(false)),
    ];
    let folder = tempfile::tempdir().unwrap();
    for (number, (loader, wanted)) in cases.into_iter().enumerate() {
        let place = folder.path().join(number.to_string());
        fs::create_dir(&place).unwrap();
        let path = guest(&place, |files| {
            two_kernels(files, &loader);
            files.retain(|(path, _)| *path != "/etc/fstab");
        });
        let chain = chain_of(&[&path], &virtio("vd"));
        assert_eq!(comes_up(&chain), wanted, "{loader:?}: {chain:#?}");
        fs::remove_dir_all(place).unwrap();
    }
}

#[test]
fn a_default_entry_without_its_files_is_no_start() {
    if !has(&TOOLS) {
        return;
    }
    for (gone, wanted) in [("", true), ("/boot/vmlinuz-6.1-tide", false), ("/boot/initrd.img-6.1-tide", false)] {
        let folder = tempfile::tempdir().unwrap();
        let path = guest(folder.path(), |files| files.retain(|(path, _)| *path != gone));
        let mut guest = open(&[&path]);
        let made = refit(&mut guest, &virtio("vd"), &Wishes::default(), NOW);
        assert_eq!(comes_up(&made.evidence[0].1), Some(wanted), "{gone}: {:#?}", made.evidence[0].1);
    }
}

/// A second disk with a file system on its first partition.
fn second(folder: &Path, name: &str, uuid: &str, label: &str) -> PathBuf {
    let place = folder.join(name);
    fs::create_dir(&place).unwrap();
    let (path, file) = disk(&place, name, 16, "label: gpt\nstart=2048, size=16384, name=gauge\n");
    let bytes = ext4(&place, 8, uuid, None);
    let image = place.join("labelled");
    fs::write(&image, bytes).unwrap();
    run(std::process::Command::new("e2label").arg(&image).arg(label));
    file.write_all_at(&fs::read(image).unwrap(), MIB).unwrap();
    path
}

const DATA_UUID: &str = "5a170000-0000-4000-8000-000000000003";
const MORE_UUID: &str = "5a170000-0000-4000-8000-000000000004";

fn several(count: usize) -> Hardware {
    let one = virtio("vd");
    Hardware { disks: vec![one.disks[0].clone(); count], ..one }
}

/// The guest with this fstab, and more disks, moved; what its chain comes to, and its fstab then.
fn mounted(fstab: &str, names: &[&str], hardware: &Hardware) -> (Refit, String) {
    let folder = tempfile::tempdir().unwrap();
    let path = guest(folder.path(), |files| {
        files.retain(|(path, _)| *path != "/etc/fstab");
        files.push(("/etc/fstab", fstab.as_bytes().to_vec()));
    });
    let uuids = [DATA_UUID, MORE_UUID];
    let more: Vec<PathBuf> =
        names.iter().zip(uuids).map(|(name, uuid)| second(folder.path(), &format!("more{uuid}"), uuid, name)).collect();
    let mut paths: Vec<&Path> = vec![&path];
    paths.extend(more.iter().map(PathBuf::as_path));
    let mut guest = open(&paths);
    let made = refit(&mut guest, hardware, &Wishes::default(), NOW);
    let text = text(&guest, "/etc/fstab");
    (made, text)
}

fn state(made: &Refit) -> Option<bool> {
    comes_up(&made.evidence[0].1)
}

#[test]
fn what_is_mounted_without_nofail_is_needed() {
    if !has(&TOOLS) || !has(&["e2label"]) {
        return;
    }
    let root = format!("UUID={ROOT_UUID} / ext4 defaults 0 1\n");
    let with = |line: &str| format!("{root}{line}\n");
    let two = several(2);
    for (line, labels, wanted) in [
        ("UUID=5a170000-0000-4000-8000-00000000dead /data ext4 defaults 0 2", &["data"][..], None),
        ("UUID=5a170000-0000-4000-8000-00000000dead /data ext4 defaults,nofail 0 2", &["data"], Some(true)),
        ("UUID=5a170000-0000-4000-8000-00000000dead /data ext4 x-systemd.automount 0 2", &["data"], Some(true)),
        ("UUID=5a170000-0000-4000-8000-00000000dead none swap sw 0 0", &["data"], Some(true)),
        ("LABEL=data /data ext4 defaults 0 2", &["data"], Some(true)),
        ("LABEL=tide /data ext4 defaults 0 2", &["data"], None),
        ("LABEL=data /data ext4 defaults 0 2", &["data", "data"], None),
        ("PARTLABEL=gauge /data ext4 defaults 0 2", &["data"], Some(true)),
        ("PARTLABEL=gauge /data ext4 defaults 0 2", &["data", "more"], None),
        ("/dev/disk/by-label/data /data ext4 defaults 0 2", &["data"], Some(true)),
        ("192.0.2.1:/tides /tides nfs defaults 0 0", &["data"], Some(true)),
        ("/dev/sr0 /media udf defaults 0 0", &["data"], Some(true)),
    ] {
        let hardware = if labels.len() == 2 { several(3) } else { two.clone() };
        let (made, _) = mounted(&with(line), labels, &hardware);
        assert_eq!(state(&made), wanted, "{line}: {:#?}", made.evidence[0].1);
    }
    // A disk that stays behind is waited for in vain.
    let left = Hardware { disks: vec![two.disks[0].clone(), None], ..two };
    for (options, wanted) in [("defaults", false), ("nofail", true)] {
        let (made, _) = mounted(&with(&format!("UUID={DATA_UUID} /data ext4 {options} 0 2")), &["data"], &left);
        assert_eq!(state(&made), Some(wanted), "{options}: {:#?}", made.evidence[0].1);
    }
}

#[test]
fn disks_that_are_called_by_who_made_them_are_told_apart() {
    if !has(&TOOLS) || !has(&["e2label"]) {
        return;
    }
    let by = |kind: &str, root: &str, data: &str| {
        format!(
            "{kind}{root}-part2 / ext4 defaults 0 1\n{kind}{root}-part3 none swap sw 0 0\n{kind}{data}-part1 /data ext4 defaults 0 2\n"
        )
    };
    for kind in ["/dev/disk/by-id/scsi-", "/dev/disk/by-path/pci-0000:00:10.0-scsi-0:0:"] {
        let (made, fstab) = mounted(&by(kind, "36000c29aa", "36000c29bb"), &["data"], &several(2));
        assert_eq!(state(&made), Some(true), "{:#?}", made.evidence[0].1);
        let wanted = format!(
            "UUID={ROOT_UUID} / ext4 defaults 0 1\nUUID={BOOT_UUID} none swap sw 0 0\nUUID={DATA_UUID} /data ext4 defaults 0 2\n"
        );
        assert_eq!(fstab, wanted);
        // Of two disks that are alike nobody can say which one is meant.
        let (made, fstab) = mounted(&by(kind, "36000c29aa", "36000c29bb"), &["data", "more"], &several(3));
        assert_eq!(state(&made), None, "{:#?}", made.evidence[0].1);
        assert!(
            fstab.starts_with(&format!("UUID={ROOT_UUID} /")) && fstab.contains("36000c29bb-part1 /data"),
            "{fstab}"
        );
    }
}

#[test]
fn a_system_s_own_root_is_its_root_whatever_it_is_called() {
    if !has(&TOOLS) {
        return;
    }
    for spec in
        ["UUID=5a170000-0000-4000-8000-00000000dead", "/dev/disk/by-id/ata-tide-part2", "/dev/sdq7", "LABEL=gone"]
    {
        let (made, fstab) = mounted(&format!("{spec} / ext4 defaults 0 1\n"), &[], &virtio("vd"));
        assert_eq!(state(&made), Some(true), "{spec}: {:#?}", made.evidence[0].1);
        assert_eq!(fstab, format!("UUID={ROOT_UUID} / ext4 defaults 0 1\n"), "{spec}");
    }
}

#[test]
fn a_root_that_is_no_device_stays_as_it_is_called() {
    if !has(&TOOLS) {
        return;
    }
    for line in [
        "overlay / overlay lowerdir=/a,upperdir=/b,workdir=/c 0 0\n",
        "tide/root / zfs defaults 0 0\n",
        "/dev/root / ext4 defaults 0 1\n",
    ] {
        let (made, fstab) = mounted(line, &[], &virtio("vd"));
        assert_eq!((fstab.as_str(), state(&made)), (line, Some(true)), "{:#?}", made.evidence[0].1);
    }
}

#[test]
fn boot_code_counts_on_the_disk_that_is_started() {
    if !has(&TOOLS) || !has(&["e2label"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let own = guest(folder.path(), |files| files.retain(|(path, _)| *path != "/etc/fstab"));
    let data = second(folder.path(), "data", DATA_UUID, "data");
    let firmware = |order: [Option<u32>; 2], paths: [&Path; 2]| {
        let mut hardware = several(2);
        for (place, boot) in hardware.disks.iter_mut().zip(order) {
            place.as_mut().unwrap().boot = boot;
        }
        let chain = chain_of(&paths, &hardware);
        chain.into_iter().find(|link| link.link == Link::Firmware).unwrap().state
    };
    assert_eq!(firmware([Some(1), None], [&own, &data]), State::Holds);
    assert_eq!(firmware([None, None], [&own, &data]), State::Holds);
    assert_eq!(firmware([Some(2), Some(1)], [&own, &data]), State::Broken, "the table of the other one is started");
    assert_eq!(firmware([Some(1), Some(2)], [&data, &own]), State::Broken);
    assert_eq!(firmware([None, None], [&data, &own]), State::Unknown, "each host has its own order");
    // A disk without a table is passed over.
    let empty = folder.path().join("empty");
    fs::write(&empty, vec![0; 1 << 20]).unwrap();
    assert_eq!(firmware([Some(1), Some(2)], [&empty, &own]), State::Holds);
    assert_eq!(firmware([Some(1), None], [&empty, &own]), State::Broken);
}

/// The guest with a physical volume on its first partition.
fn with_lvm(folder: &Path, files: &[(&'static str, &str)], initrd: &[(&str, &str)]) -> Guest {
    let path = guest(folder, |all| {
        all.extend(files.iter().map(|(path, text)| (*path, text.as_bytes().to_vec())));
        let mut entries: Vec<(&str, u32, &[u8])> =
            vec![("etc", FOLDER, b""), ("etc/lvm", FOLDER, b""), ("etc/lvm/devices", FOLDER, b"")];
        entries.extend(initrd.iter().map(|(path, text)| (*path, FILE, text.as_bytes())));
        let (_, image) = all.iter_mut().find(|(path, _)| *path == "/boot/initrd.img-6.1-tide").unwrap();
        image.resize(image.len().next_multiple_of(4), 0);
        image.extend(archive(&entries));
    });
    let file = fs::File::options().read(true).write(true).open(&path).unwrap();
    lvm::lay("tide", &[lvm::Physical { file: &file, start: MIB, size: 4 * MIB }], &[]).unwrap();
    open(&[&path])
}

#[test]
fn lvm_has_to_look_at_the_new_disks() {
    if !has(&TOOLS) {
        return;
    }
    let narrow = "devices {\n\tfilter = [ \"a|^/dev/sda|\", \"r|.*|\" ]\n}\n";
    let wide = "devices {\n\tfilter = [ \"a|^/dev/[sv]da|\", \"r|.*|\" ]\n}\n";
    let list = "VERSION=1.1.2\nIDTYPE=sys_wwid IDNAME=naa.5000 DEVNAME=/dev/sda1 PVID=physical00xxxxxxxxxxxxxxxxxxxxxx PART=1\n";
    const CONF: &str = "/etc/lvm/lvm.conf";
    const LIST: &str = "/etc/lvm/devices/system.devices";
    let cases: [(Texts<'_>, Texts<'_>, bool); 7] = [
        (vec![(CONF, narrow)], vec![], false),
        (vec![(CONF, wide)], vec![], true),
        (vec![(LIST, list)], vec![], false),
        (vec![(LIST, "IDTYPE=md_uuid IDNAME=x DEVNAME=/dev/md0\n")], vec![], true),
        (vec![(CONF, "devices {\n\tuse_devicesfile = 0\n}\n"), (LIST, list)], vec![], true),
        (vec![], vec![("etc/lvm/lvm.conf", narrow)], false),
        (vec![], vec![("etc/lvm/lvm.conf", "log {\n}\n"), ("etc/lvm/devices/system.devices", list)], false),
    ];
    for (files, initrd, sees) in cases {
        let folder = tempfile::tempdir().unwrap();
        let mut guest = with_lvm(folder.path(), &files, &initrd);
        let about = |chain: &[Evidence]| {
            chain
                .iter()
                .filter(|link| link.about.starts_with("LVM"))
                .map(|link| (link.state, link.needed))
                .collect::<Vec<_>>()
        };
        let chain = walk(&mut guest, &virtio("vd")).remove(0).1;
        assert_eq!(about(&chain), if sees { vec![] } else { vec![(State::Broken, true)] }, "{files:?} {initrd:?}");
        let made = refit(&mut guest, &virtio("vd"), &Wishes::default(), NOW);
        assert_eq!(about(&made.evidence[0].1), [], "{files:?} {initrd:?}: {:?}", made.remarks);
        assert_eq!(state(&made), Some(true), "{:#?}", made.evidence[0].1);
        // And it stays so.
        let mut new = again(&guest, folder.path());
        assert_eq!(names(&refit(&mut new, &virtio("vd"), &Wishes::default(), NOW)), Vec::<&str>::new());
        let kept = "/etc/lvm/devices/system.devices.before-move";
        assert_eq!(new.systems[0].tree().exists(kept), !sees && files.iter().any(|(path, _)| *path == LIST));
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    /// What a firmware starts is what it was told to, in that order, or all as they come.
    #[test]
    fn the_order_of_disks(order in prop::collection::vec(prop::option::of(1..4_u32), 0..6)) {
        let disks = order.iter().map(|boot| Some(DiskPlace { boot: *boot, ..DiskPlace::default() })).collect();
        let started = Hardware { disks, ..Hardware::default() }.started();
        let told = order.iter().flatten().count();
        prop_assert_eq!(started.len(), if told == 0 { order.len() } else { told });
        let numbers: Vec<Option<u32>> = started.iter().map(|disk| order[*disk]).collect();
        prop_assert!(numbers.windows(2).all(|two| two[0] <= two[1]));
    }
}
