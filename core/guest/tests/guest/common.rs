//! What the tests share: small made-up guests, and whether the tools that make them are there.

use std::{
    fs::{self, File},
    io::Write,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    process::{Command, Stdio},
};

use reformis_disk::budget::Budget;
use reformis_disk::{Disk, format};
use reformis_guest::{AdapterPlace, DiskPlace, Guest, Hardware, Need, Refit};
use reformis_standin::early::{FILE, FOLDER, LINK, MODULES_ALIAS, MODULES_DEP, archive};

/// Whether all `tools` are there. Where one is not, that is said in a way that no test runner keeps to itself: CI takes a test
/// that was skipped for one that failed.
#[expect(clippy::explicit_write, reason = "what the macro prints is kept back of a test that passes")]
pub(crate) fn has(tools: &[&str]) -> bool {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let is_there = |tool: &&&str| std::env::split_paths(&path).any(|folder| folder.join(tool).is_file());
    let missing: Vec<&str> = tools.iter().filter(|tool| !is_there(tool)).copied().collect();
    if missing.is_empty() {
        return true;
    }
    let test = std::thread::current().name().unwrap_or_default().to_string();
    writeln!(std::io::stderr(), "SKIPPED {test}: there is no {}", missing.join(", ")).unwrap();
    false
}

pub(crate) const MIB: u64 = 1 << 20;
pub(crate) const NOW: i64 = 1_780_000_000;
pub(crate) const OLD_MAC: &str = "02:5a:17:00:00:01";

pub(crate) fn run(command: &mut Command) {
    let output = command.output().unwrap();
    assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
}

/// Unmounts `place`. A program that another test starts just then has, until it runs, whatever is open here: so it is tried for a while.
pub(crate) fn unmount(place: &Path) {
    let mut told = String::new();
    for _ in 0..200 {
        let output = Command::new("umount").arg(place).output().unwrap();
        if output.status.success() {
            return;
        }
        told = String::from_utf8_lossy(&output.stderr).into_owned();
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    panic!("{}: {told}", place.display());
}

/// A tree of files to make a file system of: paths and contents; a target behind `->` makes a link.
pub(crate) fn tree(folder: &Path, files: &[(&str, &[u8])]) -> PathBuf {
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

pub(crate) fn disk(folder: &Path, name: &str, mib: u64, table: &str) -> (PathBuf, File) {
    let path = folder.join(name);
    let file = File::options().create(true).truncate(true).read(true).write(true).open(&path).unwrap();
    file.set_len(mib * MIB).unwrap();
    let mut child = Command::new("sfdisk").arg("-q").arg(&path).stdin(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(table.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
    (path, file)
}

pub(crate) fn ext4(folder: &Path, mib: u64, uuid: &str, root: Option<&Path>) -> Vec<u8> {
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

pub(crate) fn open(paths: &[&Path]) -> Guest {
    let disks = paths.iter().map(|path| {
        let storage = reformis_disk::container::open(path, &Budget::whole()).unwrap();
        format::open(storage, Some(reformis_disk::Format::Raw)).unwrap().disk
    });
    Guest::open(disks.collect::<Vec<_>>(), NOW, &Budget::whole()).unwrap()
}

pub(crate) fn need(device: &str, module: &str) -> Need {
    Need { device: device.into(), module: module.into() }
}

pub(crate) fn virtio(prefix: &str) -> Hardware {
    let needs = vec![need("pci:v00001AF4d00001048", "virtio_pci"), need("virtio:d00000008v00001AF4", "virtio_scsi")];
    let disk = DiskPlace {
        controller: "virtio-scsi".into(),
        prefix: prefix.into(),
        needs,
        drivers: Vec::new(),
        others: Vec::new(),
        boot: None,
    };
    let adapter = AdapterPlace {
        model: "virtio-net".into(),
        needs: vec![need("virtio:d00000001v00001AF4", "virtio_net")],
        drivers: Vec::new(),
        before: Some(OLD_MAC.into()),
        after: Some(OLD_MAC.into()),
        name: None,
    };
    let host = Some("virtio".into());
    let disks = vec![Some(disk)];
    Hardware { disks, adapters: vec![adapter], host, ..Hardware::default() }
}

pub(crate) const ROOT_UUID: &str = "5a170000-0000-4000-8000-000000000001";
pub(crate) const BOOT_UUID: &str = "5a170000-0000-4000-8000-000000000002";

pub(crate) const GRUB: &[u8] = b"set default=0\nmenuentry 'Tides' {\n\tsearch --fs-uuid 1\n\tlinux /boot/vmlinuz-6.1-tide root=/dev/sda2 ro quiet resume=/dev/sda3\n\tinitrd /boot/initrd.img-6.1-tide\n}\n";

/// The files of a system whose configuration goes by the names of its old host.
pub(crate) fn system(initrd: &[u8]) -> Vec<(&'static str, Vec<u8>)> {
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
pub(crate) fn guest(folder: &Path, change: impl FnOnce(&mut Vec<(&'static str, Vec<u8>)>)) -> PathBuf {
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

pub(crate) fn names(refit: &Refit) -> Vec<&str> {
    refit.done.iter().map(|edit| edit.name.as_str()).collect()
}

/// The bytes of the guest's disks, with what was changed.
pub(crate) fn taken(guest: &Guest) -> Vec<Vec<u8>> {
    let bytes = |overlay: &reformis_disk::overlay::Overlay| {
        let mut bytes = vec![0; overlay.size() as usize];
        overlay.read_at(0, &mut bytes).unwrap();
        bytes
    };
    guest.bench.take().iter().map(bytes).collect()
}

/// What was made of the guest, saved and opened again; the file system on its second partition is checked.
pub(crate) fn again(guest: &Guest, folder: &Path) -> Guest {
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

pub(crate) fn text(guest: &Guest, path: &str) -> String {
    String::from_utf8(guest.systems[0].tree().read(path, MIB).unwrap()).unwrap()
}
