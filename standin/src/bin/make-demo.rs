//! Makes `demo/tidelog.ova` from `demo/tree`, the disks of `demo/ledger`, and `demo/berths.vmdk`: see `demo/README.md`. Makes all, or what is
//! named: `make-demo ledger`.

use std::{
    fs::{self, File},
    io,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    process::Command,
};

use anyhow::{Context, Result, ensure};
use libdeflater::CompressionLvl;
use reformis_standin::{
    driver, early, export,
    ova::{self, ManifestKind},
    windows,
};

const MIB: u64 = 1 << 20;
/// 2026-03-01, so that the result does not depend on the day.
const FAKE_TIME: &str = "1772323200";

fn run(command: &mut Command) -> Result<()> {
    let output = command.output().with_context(|| format!("running {command:?}"))?;
    ensure!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
    Ok(())
}

/// An ext4 file system of `size` bytes that holds `tree`, in a file of its own.
fn ext4(image: &Path, size: u64, label: &str, uuid: &str, tree: &Path) -> Result<()> {
    run(Command::new("mke2fs")
        .env("E2FSPROGS_FAKE_TIME", FAKE_TIME)
        .args(["-q", "-t", "ext4", "-L", label, "-U", uuid, "-m", "1"])
        .args(["-E", &format!("hash_seed={uuid},root_owner=0:0,lazy_itable_init=1")])
        .arg("-d")
        .args([tree, image])
        .arg(format!("{}k", size / 1024)))
}

/// What a system of the demo boots with: a kernel that is none, modules by name alone, an early boot image with the old
/// host's drivers, and the loader's configuration.
fn boots_with(tree: &Path, root: &str) -> Result<()> {
    let version = "6.1.0-saltmarsh";
    let put = |path: &str, bytes: &[u8]| -> Result<()> {
        let place = tree.join(path);
        fs::create_dir_all(place.parent().context("no folder")?)?;
        Ok(fs::write(place, bytes)?)
    };
    put(&format!("boot/vmlinuz-{version}"), b"where the kernel of a real system would be\n")?;
    put(&format!("lib/modules/{version}/modules.dep"), early::MODULES_DEP)?;
    put(&format!("lib/modules/{version}/modules.alias"), early::MODULES_ALIAS)?;
    for name in early::MODULES {
        put(&format!("lib/modules/{version}/kernel/{name}.ko"), format!("the module {name}\n").as_bytes())?;
    }
    let below = format!("lib/modules/{version}");
    let held = ["vmw_pvscsi", "sd_mod"].map(|name| format!("{below}/kernel/{name}.ko"));
    let folders = ["lib".to_string(), "lib/modules".into(), below.clone(), format!("{below}/kernel")];
    let mut entries: Vec<(&str, u32, &[u8])> =
        folders.iter().map(|path| (path.as_str(), early::FOLDER, &[][..])).collect();
    entries.extend(held.iter().map(|path| (path.as_str(), early::FILE, &b"a module\n"[..])));
    put(&format!("boot/initrd.img-{version}"), &early::archive(&entries))?;
    let entry = format!(
        "set default=0\nmenuentry 'Saltmarsh server' {{\n\tlinux /boot/vmlinuz-{version} root={root} ro quiet\n\tinitrd /boot/initrd.img-{version}\n}}\n"
    );
    put("boot/grub/grub.cfg", entry.as_bytes())?;
    put("etc/initramfs-tools/modules", b"# Modules for the early boot image, one on a line.\n")?;
    put("lib/systemd/systemd", b"")?;
    let unit = "[Unit]\nDescription=Talks to the host\n[Service]\nExecStart=/usr/bin/true\n[Install]\nWantedBy=multi-user.target\n";
    put("lib/systemd/system/vgauth.service", unit.as_bytes())
}

/// A year of readings of four gauges, an hour apart.
fn readings(folder: &Path) -> Result<()> {
    fs::create_dir_all(folder)?;
    for (gauge, phase) in [("harbour-wall", 0.0), ("north-channel", 0.7), ("sluice-east", 1.9), ("reed-bank", 2.6)] {
        let mut text = String::from("hour,level_m\n");
        for hour in 0..24 * 365u32 {
            let t = f64::from(hour);
            let level = 1.9 * (t / 12.42 * std::f64::consts::TAU + phase).sin() + 0.4 * (t / 354.4 + phase).cos();
            text += &format!("{hour},{level:.2}\n");
        }
        fs::write(folder.join(format!("{gauge}-2025.csv")), text)?;
    }
    Ok(())
}

/// All times in `tree` set to the fake one: they end up in the file system.
fn settle_times(tree: &Path) -> Result<()> {
    run(Command::new("find").arg(tree).args(["-exec", "touch", "-h", "-d", &format!("@{FAKE_TIME}"), "{}", "+"]))
}

fn copy_into(image: &File, part: &Path, offset: u64) -> Result<()> {
    let bytes = fs::read(part)?;
    for (index, block) in bytes.chunks(MIB as usize).enumerate() {
        if block.iter().any(|&byte| byte != 0) {
            image.write_all_at(block, offset + index as u64 * MIB)?;
        }
    }
    Ok(())
}

fn system_disk(work: &Path, tree: &Path) -> Result<PathBuf> {
    let (disk, root, swap) = (work.join("disk1"), work.join("root"), work.join("swap"));
    let image = File::options().create(true).truncate(true).read(true).write(true).open(&disk)?;
    image.set_len(3 << 30)?;
    // Code that goes round in a circle: enough for a firmware to start.
    image.write_all_at(&[0xeb, 0xfe], 0)?;
    let table = "label: dos\nlabel-id: 0x5a170021\nstart=2048, size=5242880, type=83, bootable\n\
                 start=5244928, size=1046528, type=82\n";
    let script = work.join("table");
    fs::write(&script, table)?;
    run(Command::new("sfdisk").arg("-q").arg(&disk).stdin(File::open(script)?))?;
    ext4(&root, 5_242_880 * 512, "root", "5a170000-0000-4000-8000-000000000001", tree)?;
    copy_into(&image, &root, MIB)?;
    File::create(&swap)?.set_len(1_046_528 * 512)?;
    run(Command::new("mkswap").args(["-q", "-U", "5a170000-0000-4000-8000-000000000002"]).arg(&swap))?;
    copy_into(&image, &swap, 5_244_928 * 512)?;
    Ok(disk)
}

fn data_disk(work: &Path) -> Result<PathBuf> {
    let (disk, tree) = (work.join("disk2"), work.join("tides"));
    readings(&tree)?;
    settle_times(&tree)?;
    ext4(&disk, 1 << 30, "tides", "5a170000-0000-4000-8000-000000000003", &tree)?;
    Ok(disk)
}

fn stream(disk: &Path, name: &str) -> Result<Vec<u8>> {
    let file = File::open(disk)?;
    let mut bytes = Vec::new();
    export::stream_vmdk(
        &mut bytes,
        name,
        file.metadata()?.len(),
        CompressionLvl::best(),
        |offset, grain| -> io::Result<bool> {
            file.read_exact_at(grain, offset)?;
            Ok(grain.iter().any(|&byte| byte != 0))
        },
    )?;
    Ok(bytes)
}

/// A GPT disk with a loader in the fallback path and a small root file system, and one with accounts.
fn ledger(demo: &Path) -> Result<()> {
    let work = tempfile::tempdir()?;
    let work = work.path();
    let (disk, esp, root, data) = (work.join("disk"), work.join("esp"), work.join("root"), work.join("data"));
    let image = File::options().create(true).truncate(true).read(true).write(true).open(&disk)?;
    image.set_len(2 << 30)?;
    let table = "label: gpt\nlabel-id: 5A170000-0000-4000-8000-000000000030\nstart=2048, size=32768, type=U\n\
                 size=4157440, type=L\n";
    let script = work.join("table");
    fs::write(&script, table)?;
    run(Command::new("sfdisk").arg("-q").arg(&disk).stdin(File::open(script)?))?;
    File::create(&esp)?.set_len(16 << 20)?;
    run(Command::new("mkfs.fat").args(["-F", "16", "-i", "5a170030", "--invariant"]).arg(&esp))?;
    let loader = work.join("loader");
    fs::write(&loader, b"MZ: where the loader of a real system would be\n")?;
    run(Command::new("mmd").arg("-i").arg(&esp).args(["::EFI", "::EFI/BOOT"]))?;
    run(Command::new("mcopy").arg("-i").arg(&esp).arg(&loader).arg("::EFI/BOOT/BOOTX64.EFI"))?;
    copy_into(&image, &esp, MIB)?;
    let (tree, accounts) = (work.join("tree"), work.join("accounts"));
    for (path, text) in [
        ("etc/hostname", "ledger\n"),
        ("etc/os-release", "PRETTY_NAME=\"Saltmarsh server 12\"\nID=saltmarsh\nVERSION_ID=\"12\"\n"),
        (
            "etc/fstab",
            "UUID=5a170000-0000-4000-8000-000000000031 / ext4 defaults 0 1\n/dev/sdb /srv/accounts ext4 defaults 0 2\n",
        ),
        (
            "etc/netplan/01-office.yaml",
            "network:\n  ethernets:\n    ens160:\n      dhcp4: true\n    ens161:\n      addresses: [192.0.2.32/24]\n",
        ),
        ("usr/bin/ledger", "#!/bin/sh\n"),
    ] {
        let place = tree.join(path);
        fs::create_dir_all(place.parent().context("no folder")?)?;
        fs::write(place, text)?;
    }
    fs::create_dir_all(tree.join("srv/accounts"))?;
    boots_with(&tree, "UUID=5a170000-0000-4000-8000-000000000031")?;
    fs::create_dir_all(&accounts)?;
    let lines: String =
        (1..=900).map(|n| format!("2026-{:02}-01,gauge {},{} shells\n", n % 12 + 1, n % 4, n * 7 % 90)).collect();
    fs::write(accounts.join("accounts.csv"), lines)?;
    settle_times(&tree)?;
    settle_times(&accounts)?;
    ext4(&root, 4_157_440 * 512, "root", "5a170000-0000-4000-8000-000000000031", &tree)?;
    copy_into(&image, &root, 17 * MIB)?;
    ext4(&data, 1 << 30, "accounts", "5a170000-0000-4000-8000-000000000032", &accounts)?;
    fs::write(demo.join("ledger/ledger.vmdk"), stream(&disk, "ledger.vmdk")?)?;
    fs::write(demo.join("ledger/ledger_1.vmdk"), stream(&data, "ledger_1.vmdk")?)?;
    Ok(())
}

/// Identities of the disk of `berths` and of its system's partition, as they lie on disks.
const BERTHS_DISK: [u8; 16] = [0, 0, 0x17, 0x5a, 0, 0, 0, 0x40, 0x80, 0, 0, 0, 0, 0, 0, 0x40];
const BERTHS_PARTITION: [u8; 16] = [0, 0, 0x17, 0x5a, 0, 0, 0, 0x40, 0x80, 0, 0, 0, 0, 0, 0, 0x41];

/// The harbour's desk: a GPT disk with a boot store, and NTFS with a registry and a few files. Needs ntfs-3g and root.
fn berths(demo: &Path) -> Result<()> {
    let work = tempfile::tempdir()?;
    let work = work.path();
    let (disk, esp, volume, mounted) = (work.join("disk"), work.join("esp"), work.join("volume"), work.join("mounted"));
    let image = File::options().create(true).truncate(true).read(true).write(true).open(&disk)?;
    image.set_len(512 << 20)?;
    let table = "label: gpt\nlabel-id: 5A170000-0000-4000-8000-000000000040\nstart=2048, size=32768, type=U\n\
                 start=34816, size=1011712, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7, \
                 uuid=5A170000-0000-4000-8000-000000000041\n";
    let script = work.join("table");
    fs::write(&script, table)?;
    run(Command::new("sfdisk").arg("-q").arg(&disk).stdin(File::open(script)?))?;
    File::create(&esp)?.set_len(16 << 20)?;
    run(Command::new("mkfs.fat").args(["-F", "16", "-i", "5a170040", "--invariant"]).arg(&esp))?;
    let (loader, store) = (work.join("loader"), work.join("store"));
    fs::write(&loader, b"MZ: where the loader of a real system would be\n")?;
    fs::write(&store, windows::boot_store(BERTHS_PARTITION, BERTHS_DISK))?;
    run(Command::new("mmd").arg("-i").arg(&esp).args([
        "::EFI",
        "::EFI/Boot",
        "::EFI/Microsoft",
        "::EFI/Microsoft/Boot",
    ]))?;
    for (file, place) in [
        (&loader, "::EFI/Boot/bootx64.efi"),
        (&loader, "::EFI/Microsoft/Boot/bootmgfw.efi"),
        (&store, "::EFI/Microsoft/Boot/BCD"),
    ] {
        run(Command::new("mcopy").arg("-i").arg(&esp).arg(file).arg(place))?;
    }
    copy_into(&image, &esp, MIB)?;
    File::create(&volume)?.set_len(1_011_712 * 512)?;
    run(Command::new("mkntfs").args(["-q", "-F", "-Q", "-L", "Harbour"]).arg(&volume))?;
    fs::create_dir(&mounted)?;
    run(Command::new("ntfs-3g").args(["-o", "permissions,streams_interface=windows"]).args([&volume, &mounted]))?;
    let filled = fill_berths(&mounted);
    run(Command::new("umount").arg(&mounted))?;
    filled?;
    without_boot_code(&File::options().read(true).write(true).open(&volume)?)?;
    copy_into(&image, &volume, 17 * MIB)?;
    fs::write(demo.join("berths.vmdk"), stream(&disk, "berths.vmdk")?)?;
    Ok(())
}

/// The medium with the drivers of the new hosts, for the systems that the service has.
fn drivers(demo: &Path) -> Result<()> {
    let work = tempfile::tempdir()?;
    let root = work.path().join("medium");
    for (path, bytes) in driver::medium().into_iter().filter(|(path, _)| !path.contains("/x86/")) {
        let place = root.join(path);
        fs::create_dir_all(place.parent().context("no folder")?)?;
        fs::write(place, bytes)?;
    }
    settle_times(&root)?;
    run(Command::new("xorriso")
        .env("SOURCE_DATE_EPOCH", FAKE_TIME)
        .args(["-as", "mkisofs", "-quiet", "-J", "-joliet-long", "-r", "-no-pad", "-V", "TIDE_DRIVERS"])
        .args(["-sysid", "", "-appid", "", "-publisher", "SALTMARSH SOUND", "-p", ""])
        .args(["-o"])
        .args([demo.join("tide-drivers.iso"), root]))
}

fn fill_berths(root: &Path) -> Result<()> {
    let put = |path: &str, bytes: &[u8]| -> Result<()> {
        let place = root.join(path);
        fs::create_dir_all(place.parent().context("no folder")?)?;
        Ok(fs::write(place, bytes)?)
    };
    put("Windows/System32/config/SYSTEM", &windows::system(BERTHS_PARTITION))?;
    put("Windows/System32/config/SOFTWARE", &windows::software())?;
    for name in [
        "ntoskrnl.exe",
        "winload.efi",
        "drivers/disk.sys",
        "drivers/LSI_SAS.sys",
        "drivers/storahci.sys",
        "drivers/stornvme.sys",
        "drivers/storvsc.sys",
        "drivers/vmbus.sys",
        "drivers/vmxnet3ndis6.sys",
    ] {
        put(&format!("Windows/System32/{name}"), &driver::program(0x8664, true))?;
    }
    put("pagefile.sys", &vec![0; 64 << 10])?;
    let berths: String = (1..=14).map(|berth| format!("{berth},{},gauge {}\n", 6 + berth % 5, berth % 4)).collect();
    put("Harbour/berths.csv", format!("berth,length_m,near\n{berths}").as_bytes())?;
    put("Harbour/tide tables 2026.txt", b"High water at the sluice is twelve minutes after the harbour wall.\n")?;
    put("Harbour/tide tables 2026.txt:Zone.Identifier", b"[ZoneTransfer]\r\nZoneId=3\r\n")?;
    put("Users/Public/desktop.ini", b"[.ShellClassInfo]\r\n")?;
    settle_times(root)
}

/// The maker of the file system puts code into the boot sector that is not ours to hand on.
fn without_boot_code(volume: &File) -> Result<()> {
    let mut sector = [0; 512];
    volume.read_exact_at(&mut sector, 0)?;
    sector[..3].copy_from_slice(&[0xeb, 0x52, 0x90]);
    sector[84..510].fill(0);
    // A serial number of our own, so that the disk is the same each time.
    sector[72..80].copy_from_slice(&[0x41, 0, 0, 0, 0, 0, 0x17, 0x5a]);
    volume.write_all_at(&sector, 0)?;
    volume.write_all_at(&[0; 8192 - 512], 512)?;
    let sectors = u64::from_le_bytes(sector[40..48].try_into()?);
    Ok(volume.write_all_at(&sector, sectors * 512)?)
}

fn main() -> Result<()> {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../demo");
    let named: Vec<String> = std::env::args().skip(1).collect();
    let wanted = |name: &str| named.is_empty() || named.iter().any(|known| known == name);
    if wanted("ledger") {
        ledger(&demo)?;
    }
    if wanted("berths") {
        berths(&demo)?;
    }
    if wanted("drivers") {
        drivers(&demo)?;
    }
    if wanted("tidelog") {
        tidelog(&demo)?;
    }
    Ok(())
}

fn tidelog(demo: &Path) -> Result<()> {
    let work = tempfile::tempdir()?;
    let tree = work.path().join("tree");
    run(Command::new("cp").arg("-r").arg(demo.join("tree/root")).arg(&tree))?;
    run(Command::new("find").arg(&tree).args(["-name", ".keep", "-delete"]))?;
    run(Command::new("chmod").args(["-R", "u=rwX,go=rX"]).arg(&tree))?;
    boots_with(&tree, "/dev/sda1")?;
    settle_times(&tree)?;
    let disk1 = stream(&system_disk(work.path(), &tree)?, "tidelog-disk1.vmdk")?;
    let disk2 = stream(&data_disk(work.path())?, "tidelog-disk2.vmdk")?;
    let descriptor = fs::read_to_string(demo.join("tree/tidelog.ovf"))?
        .replace("@SIZE1@", &disk1.len().to_string())
        .replace("@SIZE2@", &disk2.len().to_string());
    let ovf = ("tidelog.ovf", descriptor.as_bytes());
    let disks = [("tidelog-disk1.vmdk", &disk1[..]), ("tidelog-disk2.vmdk", &disk2[..])];
    let manifest = ova::manifest(ManifestKind::Sha256, &[ovf, disks[0], disks[1]]);
    let archive = File::create(demo.join("tidelog.ova"))?;
    ova::archive(archive, &[ovf, ("tidelog.mf", manifest.as_bytes()), disks[0], disks[1]])?;
    Ok(())
}
