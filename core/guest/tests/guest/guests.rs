//! Whole guests, small and made up: file systems by their own tools, kernels and modules by name alone. What is found in them,
//! what is changed, and what is left alone.

use std::{fs::File, os::unix::fs::FileExt};

use reformis_guest::{AdapterPlace, Link, Need, OtherPlace, Remark, State, Wishes, edit, refit};
use reformis_standin::early::MODULES_DEP;

use crate::common::*;

#[test]
fn everything_that_new_hardware_asks_for() {
    if !has(&["mke2fs", "debugfs", "e2fsck", "sfdisk", "mkswap"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let path = guest(folder.path(), |_| {});
    let mut before = open(&[&path]);
    assert_eq!(before.systems[0].name(), "Tidal 3");
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
    let tree = &guest.systems[0].tree();
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
fn drivers_and_names_are_right_on_every_controller_of_the_destination() {
    if !has(&["mke2fs", "debugfs", "e2fsck", "sfdisk", "mkswap"]) {
        return;
    }
    let hardware = |prefix: &str| {
        let mut hardware = virtio(prefix);
        let other = |prefix: &str, needs: Vec<Need>| OtherPlace {
            controller: "other".into(),
            prefix: prefix.into(),
            needs,
            drivers: Vec::new(),
        };
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
        let image = guest.systems[0].tree().read("/boot/initrd.img-6.1-tide", MIB).unwrap();
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
fn edits_that_are_left_out_or_cannot_be_made() {
    if !has(&["mke2fs", "debugfs", "e2fsck", "sfdisk", "mkswap"]) {
        return;
    }
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
    let listed: Vec<_> = bare.systems[0]
        .summary(&bare.volumes)
        .kernels
        .iter()
        .map(|kernel| (kernel.version.clone(), kernel.listed))
        .collect();
    assert_eq!(listed, [("6.1-tide".into(), true), ("vmlinuz-5.10-old".into(), false)]);
    let made = refit(&mut bare, &virtio("vd"), &Wishes::default(), NOW);
    assert!(
        made.remarks.iter().any(|remark| matches!(remark, Remark::KernelLeft { kernel, .. } if kernel == "6.1-tide"))
    );
    let driver = made.evidence[0].1.iter().find(|link| link.link == Link::Driver).unwrap();
    assert_eq!(driver.state, State::Unknown);
}

#[test]
fn a_suspended_guest_and_other_distributions() {
    if !has(&["mke2fs", "debugfs", "e2fsck", "sfdisk", "mkswap"]) {
        return;
    }
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
    let image = after.systems[0].tree().read("/boot/initrd.img-6.1-tide", MIB).unwrap();
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
