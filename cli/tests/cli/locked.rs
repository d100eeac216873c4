//! Encrypted volumes as a person opens them: by a key in a file that nobody else may read, and by nothing else.

use std::{
    fs,
    io::Write,
    os::unix::fs::PermissionsExt,
    process::{Command, Stdio},
    time::Duration,
};

use reformis_standin::servers::is_installed;

use crate::support::{AS_IT_IS, PROGRAM, Place};

/// A disk with LUKS2, by the kernel and its own tools; in its last partition a file system with a file of 3000 lines.
const TWO: &[u8] = include_bytes!("../../../core/guest/tests/guest/locked/two.raw.zst");
const OPENED: [&str; 2] = ["--volume", "opened disk 1 partition 10"];

fn place() -> Place {
    let place = Place::new();
    place.write("two.raw.zst", TWO);
    place.run(&["recast", "two.raw.zst", "gauge.raw"]).expect(0);
    key(&place, "key", b"high tide\n", 0o600);
    key(&place, "wrong", b"low tide", 0o600);
    place
}

fn key(place: &Place, name: &str, bytes: &[u8], mode: u32) {
    let path = place.write(name, bytes);
    fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
}

#[test]
fn a_file_inside_is_read_and_changed_with_the_key() {
    let place = place();
    let peek =
        |disk: &'static str, more: &[&'static str]| place.run(&[&["peek", disk, "/file"], &OPENED[..], more].concat());
    let locked = place.run(&["peek", "gauge.raw", "/file", "--volume", "disk 1 partition 10"]).expect(1).err;
    assert!(locked.contains("LUKS"), "{locked}");
    assert!(peek("gauge.raw", &["--unlock", "disk 1 partition 10=wrong"]).expect(1).err.contains("there is no volume"));
    let read = peek("gauge.raw", &["--unlock", "disk 1 partition 10=key"]).expect(0).out;
    assert!(read.starts_with("two 1\ntwo 2\n") && read.ends_with("two 3000\n"), "{}", read.len());

    place.write("note", b"the gauge was moved\n");
    let words = ["patch", "gauge.raw", "--put", "note:/note", "--out", "new.raw", "--unlock", "all=key"];
    place.run(&[&words[..], &OPENED].concat()).expect(0);
    let words = ["peek", "new.raw", "/note", "--unlock", "all=key"];
    assert_eq!(place.run(&[&words[..], &OPENED].concat()).expect(0).out, "the gauge was moved\n");
    let bytes = fs::read(place.path("new.raw")).unwrap();
    assert!(!bytes.windows(19).any(|window| window == b"the gauge was moved"), "it lies there encrypted");
    // The survey tells what the key opened, and nothing tells the key.
    let survey = place.run(&["survey", "gauge.raw", "--unlock", "all=key", "--log", "log"]).expect(0);
    assert!(survey.out.contains("opened disk 1 partition 10"), "{}", survey.out);
    let log = fs::read_to_string(place.path("log")).unwrap();
    assert!(![&survey.out, &survey.err, &log].iter().any(|text| text.contains("high tide")));
}

/// Two disks of a server that was physical once.
#[test]
fn arrays_are_told_with_their_members() {
    let place = Place::new();
    for (name, packed) in [("two", TWO), ("one", include_bytes!("../../../core/guest/tests/guest/locked/one.raw.zst"))]
    {
        place.write("packed.raw.zst", packed);
        place.run(&["recast", "packed.raw.zst", &format!("{name}.raw")]).expect(0);
    }
    let disk = |name: &str, letter: &str| {
        format!(
            "<disk type='file' device='disk'><driver name='qemu' type='raw'/><source file='{name}.raw'/><target dev='{letter}' bus='sata'/></disk>"
        )
    };
    let machine = |disks: &str| {
        format!(
            "<domain type='kvm'><name>vault</name><memory unit='MiB'>512</memory><vcpu>1</vcpu><os><type arch='x86_64' machine='q35'>hvm</type></os><devices>{disks}</devices></domain>"
        )
    };
    place.write("both.xml", machine(&(disk("one", "sda") + &disk("two", "sdb"))).as_bytes());
    place.write("half.xml", machine(&disk("one", "sda")).as_bytes());
    let both = place.run(&["survey", "both.xml"]).expect(0).out;
    let row = |text: &str, name: &str| -> Vec<String> {
        let arrays = text.split("\nArrays\n").nth(1).unwrap();
        let line = arrays.lines().map(str::trim).find(|line| line.split_whitespace().next() == Some(name)).unwrap();
        line.split("  ").map(str::trim).filter(|cell| !cell.is_empty()).map(Into::into).collect()
    };
    assert_eq!(row(&both, "root"), ["root", "RAID 1", "1.2", "2 of 2", "clean"]);
    assert_eq!(row(&both, "4"), ["4", "RAID 10", "1.2", "4 of 4", "clean"]);
    assert!(!both.contains("array-incomplete"));
    let half = place.run(&["survey", "half.xml"]).expect(0).out;
    assert_eq!(row(&half, "root"), ["root", "RAID 1", "1.2", "1 of 2", "clean"]);
    // Lines are broken where the terminal ends.
    let told = half.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(told.contains("rray root: 1 of its 2 members are not here"), "{half}");
    assert!(told.contains("1 of its 2 members are not among the disks here"), "{half}");
    let peeked = place.run(&["peek", "both.xml", "/file", "--volume", "array root"]).expect(0).out;
    assert!(peeked.starts_with("mirror 1\nmirror 2\n"));
}

#[test]
fn a_move_with_a_wrong_key_is_refused() {
    let place = place();
    let carry = |more: &[&'static str]| {
        let words = ["carry", "gauge.raw", "--dest", "virtio-host", "--into", "landing", "--memory", "512MiB"];
        let words =
            [&words[..], &["--network", "default", "--firmware", "uefi", "--accept", "no-system"], &AS_IT_IS, more];
        place.run(&words.concat())
    };
    let refused = carry(&["--unlock", "disk 1 partition 10=wrong"]).expect(3).err;
    assert!(refused.contains("key-refused") && refused.contains("no key that was given opens it"), "{refused}");
    assert!(!place.path("landing").exists());
    carry(&["--unlock", "all=key"]).expect(0);
    place.run(&["prove", "gauge.raw", "landing/gauge/gauge-0.qcow2"]).expect(0);
}

#[test]
fn a_key_that_others_may_read_is_not_used() {
    let place = place();
    key(&place, "open", b"high tide", 0o644);
    key(&place, "empty", b"", 0o600);
    let survey = |unlock: &str| place.run(&["survey", "gauge.raw", "--unlock", unlock]);
    assert!(survey("all=open").expect(1).err.contains("may be read by others"));
    assert!(survey("all=empty").expect(1).err.contains("is empty"));
    assert!(survey("all=none").expect(1).err.contains("No such file"));
    assert!(survey("=key").expect(1).err.contains("VOLUME=FILE"));
}

/// A passphrase that is typed is not shown, and is in nothing that the terminal saw.
#[test]
fn a_passphrase_is_asked_for_at_the_terminal() {
    if !is_installed("script") {
        std::io::stderr()
            .write_all(b"SKIPPED a_passphrase_is_asked_for_at_the_terminal: there is no script\n")
            .unwrap();
        return;
    }
    let place = place();
    let typed = |secret: &[u8]| {
        let line = format!(
            "{PROGRAM} peek gauge.raw /file --volume 'opened disk 1 partition 10' --unlock 'disk 1 partition 10' >peeked"
        );
        // What the time before left is not waited for.
        drop(fs::remove_file(place.path("drawn")));
        let mut command = Command::new("script");
        command.args(["-qefc", &line, "drawn"]).current_dir(place.path(""));
        let mut terminal = command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let drawn = || fs::read_to_string(place.path("drawn")).unwrap_or_default();
        for _ in 0..200 {
            if drawn().contains("passphrase of disk 1 partition 10: ") {
                break;
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        // What is typed before the echo is off would be shown by the terminal itself.
        std::thread::sleep(Duration::from_millis(1500));
        terminal.stdin.take().unwrap().write_all(&[secret, b"\n"].concat()).unwrap();
        (terminal.wait().unwrap().success(), drawn())
    };
    let (is_right, drawn) = typed(b"high tide");
    assert!(is_right && !drawn.contains("high tide"), "{drawn}");
    let read = fs::read_to_string(place.path("peeked")).unwrap();
    assert!(read.starts_with("two 1\n") && read.ends_with("two 3000\n"), "{}", read.len());
    let (is_right, drawn) = typed(b"low tide");
    assert!(!is_right && !drawn.contains("low tide"), "{drawn}");
}

/// A key that a night is given is tried for each of its machines, and one that opens nothing moves none of them.
#[test]
fn a_night_takes_its_keys_along() {
    let place = place();
    place.write(
        "night.toml",
        b"[defaults]\ndestination = \"virtio-host\"\ninto = \"landing\"\naccept = [\"no-system\", \"will-not-boot\"]\nnetwork = \"default\"\n\n[[machine]]\nname = \"gauge\"\nsource = \"gauge.xml\"\n",
    );
    place.write(
        "gauge.xml",
        b"<domain type='kvm'><name>gauge</name><memory unit='MiB'>512</memory><vcpu>1</vcpu><os><type arch='x86_64' machine='q35'>hvm</type></os><devices><disk type='file' device='disk'><driver name='qemu' type='raw'/><source file='gauge.raw'/><target dev='sda' bus='sata'/></disk></devices></domain>",
    );
    let night = |key: &str| place.run(&["fleet", "run", "night.toml", "--unlock", key]);
    let refused = night("all=wrong").expect(1).out;
    assert!(refused.contains("disk 1 partition 10 is encrypted, and stays closed"), "{refused}");
    assert!(!place.path("landing/gauge").exists());
    night("all=key").expect(0);
    place.run(&["prove", "landing/gauge/receipt.json", "--unlock", "all=key"]).expect(0);
    let kept: Vec<_> = ["night.logs", "landing"].iter().map(|name| place.path(name)).collect();
    for file in kept.iter().filter(|path| path.is_dir()).flat_map(|path| files(path)) {
        let bytes = fs::read(&file).unwrap_or_default();
        let is_small = bytes.len() < 1 << 20;
        assert!(!is_small || !bytes.windows(9).any(|window| window == b"high tide"), "{}", file.display());
    }
}

/// All files below a folder.
fn files(folder: &std::path::Path) -> Vec<std::path::PathBuf> {
    let entries = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    entries.flat_map(|path| if path.is_dir() { files(&path) } else { vec![path] }).collect()
}

/// Of a system that stays closed, the loader's entries outside are made ready, and the receipt says so.
#[test]
fn what_starts_a_closed_system_is_edited_and_told() {
    if let Some(missing) = ["mke2fs", "sfdisk"].iter().find(|tool| !is_installed(tool)) {
        let told = format!("SKIPPED what_starts_a_closed_system_is_edited_and_told: there is no {missing}\n");
        std::io::stderr().write_all(told.as_bytes()).unwrap();
        return;
    }
    let place = Place::new();
    let uuid = "5a170000-0000-4000-8000-0000000000c1";
    place.write("root/vmlinuz-6.1", b"a kernel");
    place.write(
        "root/grub/grub.cfg",
        b"menuentry 'Vault' {\n\tlinux /vmlinuz-6.1 root=/dev/mapper/vault cryptdevice=/dev/sda2:vault\n}\n",
    );
    let shell = "truncate -s 16M boot; mke2fs -q -t ext4 -d root boot; truncate -s 40M vault.raw; \
                 printf 'label: dos\\nstart=2048, size=32768\\nstart=34816, size=40960\\n' | sfdisk -q vault.raw; \
                 dd if=boot of=vault.raw bs=1M seek=1 conv=notrunc status=none";
    let made = Command::new("sh").args(["-ec", shell]).current_dir(place.path("")).status().unwrap();
    assert!(made.success());
    // As much of a header as is read without a key (LUKS On-Disk Format, section 2.1).
    let mut bytes = fs::read(place.path("vault.raw")).unwrap();
    bytes[17 << 20..(17 << 20) + 8].copy_from_slice(b"LUKS\xba\xbe\0\x02");
    bytes[(17 << 20) + 168..(17 << 20) + 204].copy_from_slice(uuid.as_bytes());
    place.write("vault.raw", &bytes);
    let words = ["carry", "vault.raw", "--dest", "nvme-cloud", "--into", "landing", "--memory", "512MiB"];
    let more = ["--network", "default", "--firmware", "bios", "--accept", "will-not-boot"];
    let told = place.run(&[&words[..], &more].concat()).expect(0).out;
    let renamed = format!("/boot/grub/grub.cfg: /dev/sda2 is UUID={uuid}");
    assert!(told.contains(&renamed), "{told}");
    let receipt = place.run(&["prove", "landing/vault/receipt.json", "--json"]).expect(0).out;
    assert!(!receipt.is_empty());
    assert!(fs::read_to_string(place.path("landing/vault/receipt.json")).unwrap().contains(&renamed));
    let words = ["peek", "landing/vault/vault-0.vmdk", "/grub/grub.cfg", "--volume", "disk 1 partition 1"];
    assert!(place.run(&words).expect(0).out.contains(&format!("cryptdevice=UUID={uuid}:vault")));
}
