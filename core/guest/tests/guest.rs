//! Whole guests, small and made up: file systems by their own tools, kernels and modules by name alone. What is found in them,
//! what is changed, and what is left alone.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::{
    fs::{self, File},
    io::Write,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    process::{Command, Stdio},
    sync::Arc,
};

use reformis_disk::budget::Budget;
use reformis_disk::{Disk, format};
use reformis_guest::{
    AdapterPlace, DiskPlace, Guest, Hardware, Link, Need, OtherPlace, Refit, Remark, State, Volume, Wishes, edit, refit,
};
use reformis_standin::{
    early::{FILE, FOLDER, LINK, MODULES_ALIAS, MODULES_DEP, archive},
    lvm::{self, EXTENT, Physical, Segment},
};

const MIB: u64 = 1 << 20;
const NOW: i64 = 1_780_000_000;
const OLD_MAC: &str = "02:5a:17:00:00:01";

fn run(command: &mut Command) {
    let output = command.output().unwrap();
    assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
}

/// A tree of files to make a file system of: paths and contents; a target behind `->` makes a link.
fn tree(folder: &Path, files: &[(&str, &[u8])]) -> PathBuf {
    let root = folder.join("root");
    for (path, content) in files {
        let (path, target) = path.split_once("->").map_or((*path, None), |(path, target)| (path, Some(target)));
        let place = root.join(&path[1..]);
        fs::create_dir_all(place.parent().unwrap()).unwrap();
        match target {
            Some(target) => std::os::unix::fs::symlink(target, &place).unwrap(),
            None if path.ends_with('/') => fs::create_dir_all(&place).unwrap(),
            None => fs::write(&place, content).unwrap(),
        }
    }
    root
}

fn disk(folder: &Path, name: &str, mib: u64, table: &str) -> (PathBuf, File) {
    let path = folder.join(name);
    let file = File::options().create(true).truncate(true).read(true).write(true).open(&path).unwrap();
    file.set_len(mib * MIB).unwrap();
    let mut child = Command::new("sfdisk").arg("-q").arg(&path).stdin(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(table.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
    (path, file)
}

fn ext4(folder: &Path, mib: u64, uuid: &str, root: Option<&Path>) -> Vec<u8> {
    let path = folder.join("part");
    File::create(&path).unwrap().set_len(mib * MIB).unwrap();
    let mut command = Command::new("mke2fs");
    command.args(["-q", "-F", "-t", "ext4", "-U", uuid]);
    if let Some(root) = root {
        command.arg("-d").arg(root);
    }
    run(command.arg(&path));
    fs::read(&path).unwrap()
}

fn open(paths: &[&Path]) -> Guest {
    let disks = paths.iter().map(|path| {
        let storage = reformis_disk::container::open(path, &Budget::whole()).unwrap();
        format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk
    });
    Guest::open(disks.collect::<Vec<_>>(), NOW, &Budget::whole()).unwrap()
}

fn need(device: &str, module: &str) -> Need {
    Need { device: device.into(), module: module.into() }
}

fn virtio(prefix: &str) -> Hardware {
    let needs = vec![need("pci:v00001AF4d00001048", "virtio_pci"), need("virtio:d00000008v00001AF4", "virtio_scsi")];
    let disk = DiskPlace { controller: "virtio-scsi".into(), prefix: prefix.into(), needs, others: Vec::new() };
    let adapter = AdapterPlace {
        model: "virtio-net".into(),
        needs: vec![need("virtio:d00000001v00001AF4", "virtio_net")],
        before: Some(OLD_MAC.into()),
        after: Some(OLD_MAC.into()),
        name: None,
    };
    let host = Some("virtio".into());
    let disks = vec![Some(disk)];
    Hardware { uefi: false, unchanged: false, keeps_entries: false, disks, adapters: vec![adapter], host }
}

const ROOT_UUID: &str = "5a170000-0000-4000-8000-000000000001";
const BOOT_UUID: &str = "5a170000-0000-4000-8000-000000000002";

const GRUB: &[u8] = b"set default=0\nmenuentry 'Tides' {\n\tsearch --fs-uuid 1\n\tlinux /boot/vmlinuz-6.1-tide root=/dev/sda2 ro quiet resume=/dev/sda3\n\tinitrd /boot/initrd.img-6.1-tide\n}\n";

/// The files of a system whose configuration goes by the names of its old host.
fn system(initrd: &[u8]) -> Vec<(&'static str, Vec<u8>)> {
    let plain: [(&str, &[u8]); 21] = [
        ("/etc/os-release", b"ID=tidal\nVERSION_ID=3\nPRETTY_NAME=\"Tidal 3\"\n"),
        ("/etc/fstab", b"# the old disk\n/dev/sda2\t/ ext4 defaults 0 1 # root\n/dev/sda3 none swap sw 0 0\n/dev/sdb1 /data ext4 nofail 0 0\n"),
        ("/etc/default/grub", b"GRUB_CMDLINE_LINUX=\"root=/dev/sda2\"\nGRUB_DISABLE_LINUX_UUID=true\n"),
        ("/etc/network/interfaces", b"auto ens192\niface ens192 inet dhcp\n"),
        ("/etc/initramfs-tools/modules", b"# modules\n"),
        ("/etc/hostname", b"tidelog\n"),
        ("/etc/hosts", b"127.0.0.1 localhost\n127.0.1.1 tidelog.example tidelog\n"),
        ("/etc/machine-id", b"5a170000000040008000000000000001\n"),
        ("/etc/ssh/ssh_host_ed25519_key", b"secret"),
        ("/etc/ssh/ssh_host_ed25519_key.pub", b"public"),
        ("/etc/systemd/system/", b""),
        ("/lib/systemd/systemd", b""),
        ("/lib/systemd/system/vgauth.service", b"[Install]\nWantedBy=multi-user.target\n"),
        ("/lib/systemd/system/qemu-guest-agent.service", b"[Install]\nWantedBy=multi-user.target\n"),
        ("/lib/modules/6.1-tide/modules.dep", MODULES_DEP),
        ("/lib/modules/6.1-tide/modules.alias", MODULES_ALIAS),
        ("/lib/modules/6.1-tide/kernel/virtio.ko", b"virtio"),
        ("/lib/modules/6.1-tide/kernel/virtio_pci.ko", b"virtio pci"),
        ("/lib/modules/6.1-tide/kernel/virtio_scsi.ko", b"virtio scsi"),
        ("/boot/grub/grub.cfg", GRUB),
        ("/usr/bin/tide", b"#!/bin/sh\n"),
    ];
    let mut files: Vec<_> = plain.iter().map(|(path, bytes)| (*path, bytes.to_vec())).collect();
    files.push(("/boot/vmlinuz-6.1-tide", b"a kernel".to_vec()));
    files.push(("/boot/initrd.img-6.1-tide", initrd.to_vec()));
    files
}

/// A disk with that system on its second partition, swap on its third.
fn guest(folder: &Path, change: impl FnOnce(&mut Vec<(&'static str, Vec<u8>)>)) -> PathBuf {
    let link = archive(&[
        ("usr", FOLDER, b""),
        ("usr/lib", FOLDER, b""),
        ("lib", LINK, b"usr/lib"),
        ("usr/lib/modules", FOLDER, b""),
        ("usr/lib/modules/6.1-tide", FOLDER, b""),
        ("usr/lib/modules/6.1-tide/kernel", FOLDER, b""),
        ("usr/lib/modules/6.1-tide/kernel/ahci.ko", FILE, b"ahci"),
    ]);
    let mut files = system(&zstd::encode_all(&link[..], 3).unwrap());
    change(&mut files);
    let files: Vec<(&str, &[u8])> = files.iter().map(|(path, bytes)| (*path, bytes.as_slice())).collect();
    let root = tree(folder, &files);
    let table = "label: dos\nlabel-id: 0x5a170001\nstart=2048, size=8192\nstart=10240, size=81920\nstart=92160, size=8192, type=82\n";
    let (path, file) = disk(folder, "disk", 64, table);
    file.write_all_at(&[0xeb, 0x63], 0).unwrap();
    file.write_all_at(&ext4(folder, 40, ROOT_UUID, Some(&root)), 5 * MIB).unwrap();
    let swap = folder.join("swap");
    File::create(&swap).unwrap().set_len(4 * MIB).unwrap();
    run(Command::new("mkswap").args(["-q", "-U", BOOT_UUID]).arg(&swap));
    file.write_all_at(&fs::read(&swap).unwrap(), 45 * MIB).unwrap();
    path
}

fn names(refit: &Refit) -> Vec<&str> {
    refit.done.iter().map(|edit| edit.name.as_str()).collect()
}

/// What was made of the guest, saved and opened again; the file system on its second partition is checked.
fn again(guest: &Guest, folder: &Path) -> Guest {
    let overlay = guest.bench.take().remove(0);
    let mut bytes = vec![0; overlay.size() as usize];
    overlay.read_at(0, &mut bytes).unwrap();
    let part = folder.join("checked");
    fs::write(&part, &bytes[5 * MIB as usize..45 * MIB as usize]).unwrap();
    run(Command::new("e2fsck").arg("-fn").arg(&part));
    let path = folder.join("again");
    fs::write(&path, bytes).unwrap();
    open(&[&path])
}

fn text(guest: &Guest, path: &str) -> String {
    String::from_utf8(guest.systems[0].tree.read(path, MIB).unwrap()).unwrap()
}

#[test]
#[ignore = "needs Debian's e2fsprogs, fdisk, util-linux"]
fn everything_that_new_hardware_asks_for() {
    let folder = tempfile::tempdir().unwrap();
    let path = guest(folder.path(), |_| {});
    let mut before = open(&[&path]);
    assert_eq!(before.systems[0].release.name, "Tidal 3");
    let wishes = Wishes {
        first_boot: vec![("greet me.sh".into(), b"#!/bin/sh\necho hello\n".to_vec())],
        host_name: Some("tidelog2".into()),
        new_machine_id: true,
        new_ssh_keys: true,
        ..Wishes::default()
    };
    let made = refit(&mut before, &virtio("vd"), &wishes, NOW);
    let all = [edit::DRIVERS, edit::DEVICE_NAMES, edit::ADAPTER_NAMES, edit::HELPERS, edit::IDENTITY, edit::FIRST_BOOT];
    assert_eq!(names(&made), all, "{:?}", made.remarks);
    assert_eq!(made.remarks, []);
    let broken: Vec<_> = made.evidence[0].1.iter().filter(|link| link.state != State::Holds).collect();
    assert!(broken.iter().all(|link| link.state == State::Mended), "{broken:?}");
    assert!(broken.iter().any(|link| link.link == Link::Driver) && broken.iter().any(|link| link.link == Link::Root));
    let mut guest = again(&before, folder.path());
    let wanted = format!(
        "# the old disk\nUUID={ROOT_UUID}\t/ ext4 defaults 0 1 # root\nUUID={BOOT_UUID} none swap sw 0 0\n/dev/sdb1 /data ext4 nofail 0 0\n"
    );
    assert_eq!(text(&guest, "/etc/fstab"), wanted);
    let grub = text(&guest, "/boot/grub/grub.cfg");
    assert!(grub.contains(&format!("root=UUID={ROOT_UUID} ro quiet resume=UUID={BOOT_UUID}\n")), "{grub}");
    let wanted = format!("GRUB_CMDLINE_LINUX=\"root=UUID={ROOT_UUID}\"\n#GRUB_DISABLE_LINUX_UUID=true\n");
    assert_eq!(text(&guest, "/etc/default/grub"), wanted);
    let link = text(&guest, "/etc/systemd/network/10-keep-ens192.link");
    assert!(link.contains(OLD_MAC) && link.contains("Name=ens192"), "{link}");
    let tree = &guest.systems[0].tree;
    assert_eq!(tree.link_target("/etc/systemd/system/vgauth.service").unwrap(), b"/dev/null");
    assert!(tree.stat_link("/etc/systemd/system/multi-user.target.wants/qemu-guest-agent.service").is_ok());
    assert!(text(&guest, "/etc/initramfs-tools/modules").ends_with("virtio_pci\nvirtio_scsi\n"));
    assert_eq!(text(&guest, "/etc/hosts"), "127.0.0.1 localhost\n127.0.1.1 tidelog.example tidelog2\n");
    assert_eq!((text(&guest, "/etc/hostname").as_str(), text(&guest, "/etc/machine-id").as_str()), ("tidelog2\n", ""));
    assert!(!tree.exists("/etc/ssh/ssh_host_ed25519_key"));
    let scripts: Vec<_> = tree.list("/usr/local/lib/reformis/first-boot").unwrap();
    let scripts: Vec<_> = scripts.iter().map(|(name, stat)| (String::from_utf8_lossy(name), stat.mode)).collect();
    assert_eq!(scripts, [("01-ssh-keys".into(), 0o755), ("10-greet-me.sh".into(), 0o755)]);
    // The link `lib` of the image is still one, and the modules lie behind it.
    let image = tree.read("/boot/initrd.img-6.1-tide", MIB).unwrap();
    let plain = image.windows(4).rposition(|four| four == b"0707").unwrap();
    assert!(String::from_utf8_lossy(&image[..plain]).contains("usr/lib/modules/6.1-tide/kernel/virtio_scsi.ko"));
    // What is ready needs nothing more.
    let once_more = refit(&mut guest, &virtio("vd"), &Wishes::default(), NOW);
    assert_eq!(names(&once_more), Vec::<&str>::new(), "{:?}", once_more.done);
}

/// The person may put the disk on any controller that the destination offers, and not ask us again.
#[test]
#[ignore = "needs Debian's e2fsprogs, fdisk, util-linux"]
fn drivers_and_names_are_right_on_every_controller_of_the_destination() {
    let hardware = |prefix: &str| {
        let mut hardware = virtio(prefix);
        let other = |prefix: &str, needs: Vec<Need>| OtherPlace { prefix: prefix.into(), needs };
        let blk = vec![need("pci:v00001AF4d00001042", "virtio_pci"), need("virtio:d00000002v00001AF4", "virtio_blk")];
        let strange = vec![need("pci:v00000000d00000000", "none_of_this_kernel")];
        hardware.disks[0].as_mut().unwrap().others = vec![other("vd", blk), other("sd", strange)];
        hardware
    };
    for present in [true, false] {
        let folder = tempfile::tempdir().unwrap();
        let path = guest(folder.path(), |files| {
            if present {
                files.push(("/lib/modules/6.1-tide/kernel/virtio_blk.ko", b"virtio blk".to_vec()));
            }
        });
        let mut before = open(&[&path]);
        // The name would stay on the controller that was chosen, and change on another.
        let made = refit(&mut before, &hardware("sd"), &Wishes::default(), NOW);
        assert_eq!(made.remarks, []);
        let guest = again(&before, folder.path());
        assert!(text(&guest, "/etc/fstab").contains(&format!("UUID={ROOT_UUID}\t/ ext4")));
        let image = guest.systems[0].tree.read("/boot/initrd.img-6.1-tide", MIB).unwrap();
        let image = String::from_utf8_lossy(&image).into_owned();
        assert!(image.contains("kernel/virtio_scsi.ko"));
        assert_eq!(image.contains("modules/6.1-tide/kernel/virtio_blk.ko\0"), present);
        let lasting = text(&guest, "/etc/initramfs-tools/modules");
        assert_eq!(lasting.contains("virtio_blk"), present, "{lasting}");
        let mut guest = guest;
        let once_more = refit(&mut guest, &hardware("sd"), &Wishes::default(), NOW);
        assert_eq!(names(&once_more), Vec::<&str>::new(), "{:?}", once_more.done);
    }
}

#[test]
#[ignore = "needs Debian's e2fsprogs, fdisk, util-linux"]
fn edits_that_are_left_out_or_cannot_be_made() {
    let folder = tempfile::tempdir().unwrap();
    let path = guest(folder.path(), |_| {});
    let mut left = open(&[&path]);
    let wishes = Wishes { without: vec![edit::DRIVERS.into(), edit::HELPERS.into()], ..Wishes::default() };
    let made = refit(&mut left, &virtio("sd"), &wishes, NOW);
    assert_eq!(names(&made), [edit::ADAPTER_NAMES], "one disk of the same kind keeps its names");
    let driver = made.evidence[0].1.iter().find(|link| link.link == Link::Driver).unwrap();
    assert_eq!((driver.state, driver.seen.contains("lacks virtio")), (State::Broken, true));

    // No room for the drivers: the edit is taken back, the others are made.
    let folder = tempfile::tempdir().unwrap();
    let path = guest(folder.path(), |files| {
        files.push(("/lib/modules/6.1-tide/kernel/virtio_net.ko", vec![7; 1000]));
        let large = files.iter_mut().find(|(path, _)| path.ends_with("virtio_scsi.ko")).unwrap();
        large.1 = (0..18 * MIB).map(|byte| byte as u8 | 1).collect();
    });
    let mut full = open(&[&path]);
    let made = refit(&mut full, &virtio("vd"), &Wishes::default(), NOW);
    assert!(!names(&made).contains(&edit::DRIVERS) && names(&made).contains(&edit::DEVICE_NAMES));
    assert!(matches!(&made.remarks[..], [Remark::Failed { edit, .. }] if edit == edit::DRIVERS), "{:?}", made.remarks);
    let after = again(&full, folder.path());
    assert_eq!(text(&after, "/etc/initramfs-tools/modules"), "# modules\n");

    // A kernel whose modules are gone, and one that the loader does not name.
    let folder = tempfile::tempdir().unwrap();
    let path = guest(folder.path(), |files| {
        files.retain(|(path, _)| !path.ends_with("modules.dep"));
        files.push(("/boot/vmlinuz-5.10-old", b"older".to_vec()));
    });
    let mut bare = open(&[&path]);
    let listed: Vec<_> = bare.systems[0].kernels.iter().map(|kernel| (kernel.version.clone(), kernel.listed)).collect();
    assert_eq!(listed, [("6.1-tide".into(), true), ("vmlinuz-5.10-old".into(), false)]);
    let made = refit(&mut bare, &virtio("vd"), &Wishes::default(), NOW);
    assert!(
        made.remarks.iter().any(|remark| matches!(remark, Remark::KernelLeft { kernel, .. } if kernel == "6.1-tide"))
    );
    let driver = made.evidence[0].1.iter().find(|link| link.link == Link::Driver).unwrap();
    assert_eq!(driver.state, State::Unknown);
}

#[test]
#[ignore = "needs Debian's e2fsprogs, fdisk, util-linux"]
fn a_suspended_guest_and_other_distributions() {
    // A suspended guest is not touched.
    let folder = tempfile::tempdir().unwrap();
    let path = guest(folder.path(), |_| {});
    File::options().write(true).open(&path).unwrap().write_all_at(b"S1SUSPEND\0", 45 * MIB + 4086).unwrap();
    let mut suspended = open(&[&path]);
    let made = refit(&mut suspended, &virtio("vd"), &Wishes::default(), NOW);
    assert!(made.done.is_empty());
    assert!(made.remarks.iter().any(|remark| matches!(remark, Remark::Hibernated { .. })), "{:?}", made.remarks);

    // A system whose image keeps modules unpacked that the kernel's folder keeps packed, and another tool for images.
    let folder = tempfile::tempdir().unwrap();
    let path = guest(folder.path(), |files| {
        files.retain(|(path, _)| !path.starts_with("/etc/initramfs-tools") && !path.ends_with("virtio_scsi.ko"));
        let dep = String::from_utf8(MODULES_DEP.to_vec()).unwrap().replace("virtio_scsi.ko", "virtio_scsi.ko.zst");
        files.retain(|(path, _)| !path.ends_with("modules.dep"));
        files.push(("/lib/modules/6.1-tide/modules.dep", dep.into_bytes()));
        files.push(("/lib/modules/6.1-tide/kernel/virtio_scsi.ko.zst", zstd::encode_all(&b"unpacked"[..], 3).unwrap()));
        files.push(("/etc/mkinitcpio.conf", b"MODULES=(ext4)\n".to_vec()));
        files.push(("/etc/machine-info", b"".to_vec()));
    });
    let mut packed = open(&[&path]);
    refit(&mut packed, &virtio("vd"), &Wishes::default(), NOW);
    let after = again(&packed, folder.path());
    assert!(text(&after, "/etc/mkinitcpio.conf").ends_with("MODULES+=(virtio_pci virtio_scsi)\n"));
    let image = after.systems[0].tree.read("/boot/initrd.img-6.1-tide", MIB).unwrap();
    let has = |wanted: &[u8]| image.windows(wanted.len()).any(|window| window == wanted);
    assert!(has(b"unpacked") && has(b"kernel/virtio_scsi.ko: kernel/virtio.ko\n") && has(&[0xb0, 0x07, 0xf4, 0x57]));

    // An adapter whose address changes, and rules of an old system without systemd.
    let folder = tempfile::tempdir().unwrap();
    let rule = format!("SUBSYSTEM==\"net\", ATTR{{address}}==\"{OLD_MAC}\", NAME=\"eth0\"\n");
    let path = guest(folder.path(), |files| {
        files.retain(|(path, _)| !path.contains("systemd") && !path.contains("interfaces"));
        files.push(("/etc/network/interfaces", b"iface eth0 inet dhcp\niface eth1 inet manual\n".to_vec()));
        files.push(("/etc/udev/rules.d/70-persistent-net.rules", rule.clone().into_bytes()));
        // A connection that goes by the address alone.
        let connection = format!("[connection]\ntype=ethernet\n[ethernet]\nmac-address={}\n", OLD_MAC.to_uppercase());
        files.push(("/etc/NetworkManager/system-connections/shore.nmconnection", connection.into_bytes()));
    });
    let mut old = open(&[&path]);
    let mut hardware = virtio("sd");
    hardware.adapters[0].after = Some("02:5a:17:00:00:99".into());
    let second = AdapterPlace { before: None, after: Some("02:5a:17:00:00:02".into()), ..hardware.adapters[0].clone() };
    hardware.adapters.push(second);
    let made = refit(&mut old, &hardware, &Wishes::default(), NOW);
    assert_eq!(made.remarks, []);
    let after = again(&old, folder.path());
    assert!(
        text(&after, "/etc/NetworkManager/system-connections/shore.nmconnection").ends_with("=02:5a:17:00:00:99\n")
    );
    let rules = text(&after, "/etc/udev/rules.d/70-persistent-net.rules");
    assert!(
        rules.contains("02:5a:17:00:00:99\", NAME=\"eth0\"")
            && rules.contains("00:02\", ATTR{type}==\"1\", NAME=\"eth1\""),
        "{rules}"
    );
}

#[test]
#[ignore = "needs root, loop devices and Debian's e2fsprogs, fdisk, util-linux"]
fn two_systems_one_of_them_read_only_and_one_that_was_not_shut_down() {
    let folder = tempfile::tempdir().unwrap();
    let files = system(&archive(&[("lib", FOLDER, b""), ("lib/modules", FOLDER, b"")]));
    let mut files: Vec<(&str, &[u8])> = files.iter().map(|(path, bytes)| (*path, bytes.as_slice())).collect();
    files.retain(|(path, _)| *path != "/etc/fstab");
    files.push(("/etc/fstab", b"/dev/sda1 / ext4 defaults 0 1\n"));
    let first = tree(folder.path(), &files);
    let part = folder.path().join("first");
    fs::write(&part, ext4(folder.path(), 30, ROOT_UUID, Some(&first))).unwrap();
    // In use while it is copied: its journal holds what is not in its place yet.
    let place = folder.path().join("place");
    fs::create_dir(&place).unwrap();
    run(Command::new("mount").args(["-o", "loop,data=journal"]).arg(&part).arg(&place));
    fs::write(place.join("etc/last-words"), b"noted, not yet in its place").unwrap();
    run(Command::new("sync").arg("-f").arg(&place));
    let crashed = fs::read(&part).unwrap();
    run(Command::new("umount").arg(&place));
    // The other one allows no changes.
    files.retain(|(path, _)| *path != "/etc/os-release");
    files.push(("/etc/os-release", b"PRETTY_NAME=\"Sealed 1\"\n"));
    fs::remove_dir_all(&first).unwrap();
    let second = tree(folder.path(), &files);
    let sealed = folder.path().join("sealed");
    fs::write(&sealed, ext4(folder.path(), 30, BOOT_UUID, Some(&second))).unwrap();
    run(Command::new("tune2fs").args(["-O", "read-only"]).arg(&sealed));
    let (path, file) = disk(folder.path(), "disk", 64, "label: dos\nstart=2048, size=61440\nstart=63488, size=61440\n");
    file.write_all_at(&crashed, MIB).unwrap();
    file.write_all_at(&fs::read(&sealed).unwrap(), 31 * MIB).unwrap();
    let mut both = open(&[&path]);
    assert_eq!(both.replayed, ["disk 1 partition 1"]);
    assert_eq!(text(&both, "/etc/last-words"), "noted, not yet in its place");
    let made = refit(&mut both, &virtio("vd"), &Wishes::default(), NOW);
    assert!(made.done.iter().all(|edit| edit.system == "Tidal 3") && made.done.len() == 4, "{:?}", made.done);
    let is = |test: &dyn Fn(&Remark) -> bool| made.remarks.iter().any(test);
    assert!(is(&|remark| matches!(remark, Remark::Several { systems } if systems == &["Tidal 3", "Sealed 1"])));
    assert!(is(&|remark| matches!(remark, Remark::Replayed { .. })));
    assert!(is(&|remark| matches!(remark, Remark::Failed { why, .. } if why.contains("marked as read-only"))));
    let overlay = both.bench.take().remove(0);
    assert_eq!(overlay.edits()[0].name, "journal");
    let mut bytes = vec![0; 30 * MIB as usize];
    overlay.read_at(MIB, &mut bytes).unwrap();
    fs::write(&part, bytes).unwrap();
    run(Command::new("e2fsck").arg("-fn").arg(&part));
    let mut untouched = vec![0; 30 * MIB as usize];
    overlay.read_at(31 * MIB, &mut untouched).unwrap();
    assert!(untouched == fs::read(&sealed).unwrap());
}

#[test]
#[ignore = "needs Debian's e2fsprogs, fdisk, util-linux"]
fn an_adapter_that_gets_another_name() {
    let folder = tempfile::tempdir().unwrap();
    let path = guest(folder.path(), |files| {
        files.push(("/etc/sysconfig/network-scripts/ifcfg-ens192", b"DEVICE=ens192\nONBOOT=yes\n".to_vec()));
    });
    let mut renamed = open(&[&path]);
    let mut hardware = virtio("sd");
    hardware.adapters[0].name = Some("shore0".into());
    refit(&mut renamed, &hardware, &Wishes::default(), NOW);
    let after = again(&renamed, folder.path());
    assert_eq!(text(&after, "/etc/network/interfaces"), "auto shore0\niface shore0 inet dhcp\n");
    assert_eq!(text(&after, "/etc/sysconfig/network-scripts/ifcfg-shore0"), "DEVICE=shore0\nONBOOT=yes\n");
    assert!(!after.systems[0].tree.exists("/etc/sysconfig/network-scripts/ifcfg-ens192"));
    assert!(text(&after, "/etc/systemd/network/10-keep-shore0.link").contains("Name=shore0"));
}

#[test]
#[ignore = "needs Debian's e2fsprogs, fdisk"]
fn logical_volumes_over_two_disks() {
    let folder = tempfile::tempdir().unwrap();
    let (first, first_file) = disk(folder.path(), "first", 96, "label: gpt\nstart=2048, type=L\n");
    // The second physical volume is a whole disk.
    let second = folder.path().join("second");
    let second_file = File::options().create(true).truncate(true).read(true).write(true).open(&second).unwrap();
    second_file.set_len(64 * MIB).unwrap();
    let root = tree(
        folder.path(),
        &[
            ("/etc/fstab", b"/dev/tides/root / ext4\n/dev/mapper/tides-log--data /var/log ext4\n"),
            ("/usr/x", b"x"),
            ("/var/log/", b""),
        ],
    );
    let log = tree(&folder.path().join("other"), &[("/tide.log", &[7; 300_000])]);
    let root = ext4(folder.path(), 32, ROOT_UUID, Some(&root));
    let log = ext4(folder.path(), 16, BOOT_UUID, Some(&log));
    let physical = [
        Physical { file: &first_file, start: MIB, size: 94 * MIB },
        Physical { file: &second_file, start: 0, size: 64 * MIB },
    ];
    // One volume in two runs on two disks, one in stripes over both.
    let linear = vec![Segment { legs: vec![(1, 2)], extents: 3 }, Segment { legs: vec![(0, 10)], extents: 5 }];
    let striped = vec![Segment { legs: vec![(0, 0), (1, 6)], extents: 4 }];
    let volumes = [lvm::Volume { name: "root", segments: linear }, lvm::Volume { name: "log-data", segments: striped }];
    lvm::lay("tides", &physical, &volumes).unwrap();
    second_file.write_all_at(&root[..3 * EXTENT as usize], lvm::extent_start(2)).unwrap();
    first_file.write_all_at(&root[3 * EXTENT as usize..], MIB + lvm::extent_start(10)).unwrap();
    for (number, stripe) in log.chunks(64 << 10).enumerate() {
        let at = (number / 2) as u64 * (64 << 10);
        match number % 2 {
            0 => first_file.write_all_at(stripe, MIB + lvm::extent_start(0) + at).unwrap(),
            _ => second_file.write_all_at(stripe, lvm::extent_start(6) + at).unwrap(),
        }
    }
    let guest = open(&[&first, &second]);
    assert_eq!(guest.unread, []);
    let mounts: Vec<_> = guest.systems[0].summary(&guest.volumes).mounts;
    assert_eq!(mounts, [("tides/root".into(), "/".into()), ("tides/log-data".into(), "/var/log".into())]);
    assert_eq!(guest.systems[0].tree.read("/var/log/tide.log", MIB).unwrap(), vec![7; 300_000]);
    // One disk alone: the volume is named, and why it cannot be read.
    let half = open(&[&first]);
    assert!(half.systems.is_empty());
    let troubles: Vec<_> =
        half.unread.iter().map(|(name, why)| (name.as_str(), why.contains("on none of the disks"))).collect();
    assert_eq!(troubles, [("tides/log-data", true), ("tides/root", true)]);
}

#[test]
#[ignore = "needs Debian's e2fsprogs, fdisk, dosfstools, mtools"]
fn a_loader_for_a_firmware_without_boot_entries() {
    let folder = tempfile::tempdir().unwrap();
    let esp = folder.path().join("esp");
    File::create(&esp).unwrap().set_len(40 * MIB).unwrap();
    run(Command::new("mkfs.fat").args(["-F", "32"]).arg(&esp));
    run(Command::new("mmd").arg("-i").arg(&esp).args(["::EFI", "::EFI/tides"]));
    for name in ["shimx64.efi", "grubx64.efi"] {
        let file = folder.path().join(name);
        fs::write(&file, format!("MZ {name}").repeat(9000)).unwrap();
        run(Command::new("mcopy").arg("-i").arg(&esp).arg(&file).arg(format!("::EFI/tides/{name}")));
    }
    let (path, file) =
        disk(folder.path(), "disk", 96, "label: gpt\nstart=2048, size=81920, type=U\nsize=81920, type=L\n");
    file.write_all_at(&fs::read(&esp).unwrap(), MIB).unwrap();
    let root = tree(folder.path(), &[("/etc/os-release", b"ID=tidal\n"), ("/usr/x", b"x")]);
    file.write_all_at(&ext4(folder.path(), 40, ROOT_UUID, Some(&root)), 41 * MIB).unwrap();
    let mut guest = open(&[&path]);
    let hardware = Hardware { uefi: true, ..virtio("sd") };
    let made = refit(&mut guest, &hardware, &Wishes::default(), NOW);
    assert_eq!(names(&made), [edit::FALLBACK_LOADER]);
    let firmware = &made.evidence[0].1[0];
    assert_eq!((firmware.link, firmware.state), (Link::Firmware, State::Mended), "{firmware:?}");
    let overlay: Arc<dyn Disk> = Arc::new(guest.bench.take().remove(0));
    let mut bytes = vec![0; 40 * MIB as usize];
    overlay.read_at(MIB, &mut bytes).unwrap();
    fs::write(&esp, bytes).unwrap();
    run(Command::new("fsck.fat").arg("-n").arg(&esp));
    for (copy, of) in [("BOOTX64.EFI", "shimx64.efi"), ("grubx64.efi", "grubx64.efi")] {
        let out = folder.path().join("out");
        run(Command::new("mcopy").arg("-n").arg("-o").arg("-i").arg(&esp).arg(format!("::EFI/BOOT/{copy}")).arg(&out));
        assert_eq!(fs::read(&out).unwrap(), fs::read(folder.path().join(of)).unwrap(), "{copy}");
    }
}

#[test]
fn what_is_named_and_not_read() {
    let mut md = vec![0; 2 << 20];
    md[4096..4100].copy_from_slice(&0xa92b_4efc_u32.to_le_bytes());
    let mut zfs = vec![0; 2 << 20];
    zfs[(128 << 10) + 4096..][..8].copy_from_slice(&0x00ba_b10c_u64.to_le_bytes());
    for (bytes, kind) in [(md, Volume::Md), (zfs, Volume::Zfs)] {
        let storage = Arc::new(reformis_disk::source::MemoryStorage::new("disk.raw", bytes));
        let disk = format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk;
        let guest = Guest::open([disk], NOW, &Budget::whole()).unwrap();
        assert_eq!(guest.volumes[0].kind, Some(kind));
        assert!(guest.unread[0].1.contains(kind.name()), "{:?}", guest.unread);
    }
}
