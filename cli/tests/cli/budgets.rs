//! Files whose makers would have us work without end, or take all memory: each ends soon, in little memory, and whenever a person says so.

use std::{
    fs,
    io::Write,
    path::Path,
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use reformis_standin::servers::is_installed;

use crate::support::{PROGRAM, Place};

/// KiB of addresses that the program gets, as a shell counts them.
const MEMORY: u32 = 400_000;
/// How long a command may take, in a debug build on a busy machine.
const TIME: Duration = Duration::from_secs(100);

/// Runs the program with little memory; what it said, where it ended in time and by itself.
#[track_caller]
fn bounded(place: &Place, words: &[&str]) -> String {
    let said = place.path("said");
    let mut shell = Command::new("sh");
    shell.args(["-c", &format!("ulimit -v {MEMORY}; exec \"$@\""), "sh", PROGRAM]).args(words);
    let out = fs::File::create(&said).unwrap();
    shell.current_dir(place.path("")).stdin(Stdio::null()).stdout(out.try_clone().unwrap()).stderr(out);
    let mut child = shell.spawn().unwrap();
    let begun = Instant::now();
    let status = loop {
        if let Some(status) = child.try_wait().unwrap() {
            break status;
        }
        if begun.elapsed() > TIME {
            child.kill().unwrap();
            child.wait().unwrap();
            panic!("{words:?} takes longer than {TIME:?}");
        }
        std::thread::sleep(Duration::from_millis(20));
    };
    let text = String::from_utf8_lossy(&fs::read(&said).unwrap()).into_owned();
    assert!(matches!(status.code(), Some(0..=4)), "{words:?}: {status}: {}", &text[..text.len().min(2000)]);
    assert!(!text.contains("defect") && !text.contains("memory allocation"), "{words:?}: {text}");
    text
}

/// A disk with a Linux system, with `files` in it.
fn disk(place: &Place, name: &str, files: &[(&str, Vec<u8>)]) {
    fs::remove_dir_all(place.path("root")).ok();
    let system = [
        ("etc/os-release", b"ID=tidal\nNAME=\"Saltmarsh server\"\n".to_vec()),
        ("etc/fstab", b"/dev/sda1 / ext4 defaults 0 1\n".to_vec()),
        ("boot/vmlinuz-6.1", b"kernel".to_vec()),
        ("usr/bin/true", b"x".to_vec()),
        ("sbin/init", b"x".to_vec()),
        ("boot/initrd.img-6.1", b"image".to_vec()),
        ("lib/modules/6.1/modules.builtin", b"kernel/drivers/scsi/virtio_scsi.ko\n".to_vec()),
    ];
    for (path, bytes) in
        system.iter().map(|(path, bytes)| (*path, bytes)).chain(files.iter().map(|(path, bytes)| (*path, bytes)))
    {
        place.write(&format!("root/{path}"), bytes);
    }
    let shell = format!("rm -f {name}; truncate -s 96M {name}; mke2fs -q -F -t ext4 -N 4000 -d root {name}");
    let made = Command::new("sh").args(["-ec", &shell]).current_dir(place.path("")).status().unwrap();
    assert!(made.success());
}

fn skips(test: &str) -> bool {
    let is_missing = ["mke2fs", "python3"].iter().find(|tool| !is_installed(tool));
    if let Some(missing) = is_missing {
        std::io::stderr().write_all(format!("SKIPPED {test}: there is no {missing}\n").as_bytes()).unwrap();
    }
    is_missing.is_some()
}

#[test]
fn a_guests_own_texts_end() {
    if skips("a_guests_own_texts_end") {
        return;
    }
    let place = Place::new();
    let entry = |options: &str| {
        format!("title x\nlinux /vmlinuz-6.1\ninitrd /initrd.img-6.1\noptions root=/dev/sda1 {options}\n").into_bytes()
    };
    let environment = || format!("# GRUB Environment Block\nx={}\n", "y".repeat(16 << 10)).into_bytes();
    let many: Vec<(String, Vec<u8>)> =
        (0..1000).map(|number| (format!("boot/loader/entries/e{number}.conf"), entry("$x$x$x$x"))).collect();
    let mut entries: Vec<(&str, Vec<u8>)> = many.iter().map(|(path, bytes)| (path.as_str(), bytes.clone())).collect();
    entries.push(("boot/grub/grubenv", format!("{}x=1\n", "k=v\n".repeat(1 << 20)).into_bytes()));
    let menu = (0..90_000).fold(String::new(), |all, number| {
        all + &format!("menuentry 'e{number}' --id i{number} {{\n linux /vmlinuz-6.1 root=/dev/sda1\n}}\n")
    });
    let hostile = vec![
        (
            "options",
            vec![("boot/loader/entries/a.conf", entry(&"$x ".repeat(450_000))), ("boot/grub/grubenv", environment())],
        ),
        ("menu", vec![("boot/grub/grub.cfg", menu.into_bytes())]),
        (
            "images",
            vec![(
                "boot/grub/grub.cfg",
                format!("menuentry x {{\nlinux /vmlinuz-6.1 root=/dev/sda1\ninitrd {}\n}}\n", "/i ".repeat(450_000))
                    .into_bytes(),
            )],
        ),
        (
            "images of an entry",
            vec![(
                "boot/loader/entries/a.conf",
                format!("title x\nlinux /vmlinuz-6.1\ninitrd {}\noptions root=/dev/sda1\n", "/i ".repeat(450_000))
                    .into_bytes(),
            )],
        ),
        (
            "adapters",
            vec![(
                "etc/network/interfaces",
                (0..150_000)
                    .fold(String::new(), |all, number| {
                        all + &format!("auto eth{number}\niface eth{number} inet dhcp\n")
                    })
                    .into_bytes(),
            )],
        ),
        ("entries", entries),
    ];
    for (what, files) in hostile {
        disk(&place, "guest.raw", &files);
        let said = bounded(&place, &["survey", "guest.raw"]);
        assert!(said.contains("System: tidal"), "{what}: {said}");
        bounded(
            &place,
            &[
                "refit",
                "guest.raw",
                "--dest",
                "virtio-host",
                "--out",
                "new.raw",
                "--accept",
                "will-not-boot",
                "--force",
            ],
        );
    }
}

/// A setup information file with so many makers, systems and sections that each leads to all.
fn crowded(path: &Path) {
    let mut text = String::from(
        "[Version]\nSignature=\"$WINDOWS NT$\"\nClass=System\nProvider=%P%\n[Strings]\nP=\"x\"\n[Manufacturer]\n",
    );
    let systems: String = (0..64).map(|number| format!(",NTamd64.{number}.0")).collect();
    (0..256).for_each(|number| text += &format!("m{number}=T{systems}\n"));
    let mut number = 0u32;
    while text.len() < (4 << 20) - 40 {
        text += &format!("[T.{number:x}]\n");
        number += 1;
    }
    fs::write(path, text).unwrap();
}

/// One with many lines that each name one long string.
fn repeated(path: &Path) {
    let mut text = format!(
        "[Version]\nSignature=\"$WINDOWS NT$\"\nClass=System\nProvider=x\n[Strings]\ns=\"{}\"\n[Manufacturer]\nm=T,NTamd64\n[T.NTamd64]\n",
        "s".repeat(32_000)
    );
    (0..60_000).for_each(|_| text += "d=I,%s%\n");
    fs::write(path, text).unwrap();
}

#[test]
fn a_driver_medium_ends() {
    if skips("a_driver_medium_ends") {
        return;
    }
    let place = Place::new();
    for (name, make) in [("crowded", crowded as fn(&Path)), ("repeated", repeated)] {
        fs::create_dir(place.path(name)).unwrap();
        make(&place.path(&format!("{name}/x.inf")));
        bounded(&place, &["survey", name]);
    }
    // A hundred files of zeros, all of which the driver wants.
    let script = "import zipfile\n\
        inf = '[Version]\\nSignature=\"$WINDOWS NT$\"\\nClass=SCSIAdapter\\nClassGuid={4D36E97B-E325-11CE-BFC1-08002BE10318}\\nProvider=x\\n'\n\
        inf += 'DriverVer=01/01/2024,1.0.0.0\\n[Manufacturer]\\nm=T,NTamd64\\n[T.NTamd64]\\nd=I,PCI\\\\VEN_1AF4&DEV_1048\\n[I]\\nCopyFiles=F\\n[F]\\n'\n\
        inf += ''.join('f%d.sys\\n' % n for n in range(100))\n\
        inf += '[I.Services]\\nAddService=s,2,S\\n[S]\\nServiceType=1\\nStartType=0\\nErrorControl=1\\nServiceBinary=%12%\\\\f0.sys\\n[DestinationDirs]\\nDefaultDestDir=12\\n'\n\
        z = zipfile.ZipFile('medium.zip', 'w', zipfile.ZIP_DEFLATED)\nz.writestr('x.inf', inf)\n\
        for n in range(100): z.writestr('f%d.sys' % n, bytes(24 << 20))\nz.close()\n";
    let made = Command::new("python3").args(["-c", script]).current_dir(place.path("")).status().unwrap();
    assert!(made.success());
    bounded(&place, &["survey", "medium.zip"]);
    place.write("berths.vmdk", include_bytes!("../../../demo/berths.vmdk"));
    let words = ["refit", "berths.vmdk", "--dest", "virtio-host", "--drivers", "medium.zip", "--out", "new.vmdk"];
    bounded(&place, &[&words[..], &["--accept", "will-not-boot"]].concat());
}

#[test]
fn a_fleet_file_ends() {
    let place = Place::new();
    let most = 8 << 20;
    let row = "[[machine]]\nname=\"a\"\nsource=\"h:a\"\n";
    let shapes: [(&str, String); 8] = [
        ("fewer keys", (0..250_000).fold(String::new(), |all, number| all + &format!("k{number}=1\n"))),
        ("fewer dots", format!("{}=1", "a.".repeat(250_000) + "a")),
        ("keys", (0..most / 12).fold(String::new(), |all, number| all + &format!("k{number}=1\n"))),
        ("machines", row.repeat(most / row.len())),
        ("tables", "machine=[".to_string() + &"{},".repeat(most / 3 - 10) + "]"),
        ("arrays", format!("a={}", "[".repeat(most - 4))),
        ("names", format!("[[machine]]\nname=\"{}\"\n", "n".repeat(most - 40))),
        ("dots", format!("{}=1", "a.".repeat(most / 2 - 4) + "a")),
    ];
    for (what, text) in shapes {
        place.write("night.toml", text.as_bytes());
        let said = bounded(&place, &["fleet", "check", "night.toml"]);
        assert!(said.contains("night.toml"), "{what}: {}", &said[..said.len().min(400)]);
    }
}

/// A header that asks for rounds without end: it is told, and whoever does not want to wait is heard.
#[test]
fn an_encrypted_volumes_header_ends_when_a_person_says_so() {
    if skips("an_encrypted_volumes_header_ends_when_a_person_says_so") {
        return;
    }
    let place = Place::new();
    place.write("two.raw.zst", include_bytes!("../../../core/guest/tests/guest/locked/two.raw.zst"));
    place.run(&["recast", "two.raw.zst", "gauge.raw", "-q"]).expect(0);
    // Each slot's rounds are the most that are made of one, in both copies of the header, with sums that hold (LUKS2 On-Disk Format, 2.1).
    let script = "import hashlib, json, struct\n\
        disk = bytearray(open('gauge.raw', 'rb').read())\n\
        made = 0\nat = 0\n\
        while True:\n\
        \x20 at = min((p for p in (disk.find(b'LUKS\\xba\\xbe\\0\\x02', at), disk.find(b'SKUL\\xba\\xbe\\0\\x02', at)) if p >= 0), default=-1)\n\
        \x20 if at < 0: break\n\
        \x20 size = struct.unpack_from('>Q', disk, at + 8)[0]\n\
        \x20 text = json.loads(disk[at + 4096:at + size].split(b'\\0')[0])\n\
        \x20 slot = next(iter(text['keyslots'].values()))\n\
        \x20 slot['kdf'] = {'type': 'pbkdf2', 'hash': 'sha512', 'iterations': 90000000, 'salt': slot['kdf']['salt']}\n\
        \x20 text['keyslots'] = {str(n): slot for n in range(32)}\n\
        \x20 for d in text['digests'].values(): d['keyslots'] = [str(n) for n in range(32)]\n\
        \x20 new = json.dumps(text).encode()\n\
        \x20 disk[at + 4096:at + size] = new + bytes(size - 4096 - len(new))\n\
        \x20 disk[at + 448:at + 512] = bytes(64)\n\
        \x20 disk[at + 448:at + 480] = hashlib.sha256(disk[at:at + size]).digest()\n\
        \x20 made += 1\n\x20 at += size\n\
        assert made >= 2\nopen('gauge.raw', 'wb').write(disk)\n";
    let made = Command::new("python3").args(["-c", script]).current_dir(place.path("")).status().unwrap();
    assert!(made.success());
    place.write("key", b"high tide\n");
    fs::set_permissions(place.path("key"), std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    for signal in [rustix::process::Signal::INT, rustix::process::Signal::TERM] {
        let mut command = place.command(&["survey", "gauge.raw", "--unlock", "all=key"]);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(1500));
        assert!(child.try_wait().unwrap().is_none(), "it is at work");
        let begun = Instant::now();
        rustix::process::kill_process(rustix::process::Pid::from_child(&child), signal).unwrap();
        assert_eq!(child.wait().unwrap().code(), Some(130));
        assert!(begun.elapsed() < Duration::from_millis(2500), "{signal:?}: {:?}", begun.elapsed());
    }
}
