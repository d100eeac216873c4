//! Files and devices by SSH, against OpenSSH's server.

use std::{fs, os::unix::fs::symlink, time::Duration};

use reformis_disk::{Error, source::Links};
use reformis_standin::servers::{Proxy, Sshd};
use reformis_wire::{Link, Wires};

use crate::common::{Pocket, content, failure, has, open, storage, whole, wires};

const NOBODY: Pocket = Pocket(&[]);

fn user() -> String {
    let out = std::process::Command::new("id").arg("-un").output().unwrap();
    String::from_utf8(out.stdout).unwrap().trim().into()
}

struct Place {
    folder: tempfile::TempDir,
    server: Sshd,
    bytes: Vec<u8>,
}

fn place(test: &str, sftp: bool) -> Option<Place> {
    if !has(test, &["ssh", "ssh-keygen", "/usr/sbin/sshd"]) {
        return None;
    }
    let folder = tempfile::tempdir().unwrap();
    let bytes = content(9 << 20);
    fs::create_dir(folder.path().join("data")).unwrap();
    fs::write(folder.path().join("data/disk one.img"), &bytes).unwrap();
    let server = Sshd::start(folder.path(), sftp).unwrap();
    Some(Place { folder, server, bytes })
}

impl Place {
    fn base(&self) -> String {
        format!("ssh://{}@127.0.0.1:{}", user(), self.server.port)
    }

    fn link(&self, name: &str) -> String {
        format!("{}{}/data/{name}", self.base(), self.folder.path().display())
    }

    fn wires(&self, more: &str) -> Wires {
        let text = format!("[link.\"{}\"]\nkey = \"id\"\nknown-hosts = \"known_hosts\"\n{more}", self.base());
        wires(self.folder.path(), &text, NOBODY).0
    }
}

#[test]
fn files_and_what_is_beside_them_are_read_by_sftp() {
    let Some(place) = place("files_and_what_is_beside_them_are_read_by_sftp", true) else { return };
    let wires = place.wires("");
    let disk = storage(&wires, &place.link("disk%20one.img"));
    assert!(whole(disk.as_ref()).unwrap() == place.bytes);
    let data = place.folder.path().join("data");
    fs::write(data.join("beside.txt"), "beside").unwrap();
    fs::create_dir(data.join("deep")).unwrap();
    fs::write(data.join("deep/down.txt"), "down").unwrap();
    symlink("/etc/hostname", data.join("out")).unwrap();
    symlink("beside.txt", data.join("in")).unwrap();
    let list = wires.list(&Link::parse(&place.link("")).unwrap()).unwrap().unwrap();
    assert!(list.contains(&"beside.txt".into()) && !list.contains(&"deep".into()), "{list:?}");
    assert_eq!(disk.neighbours().unwrap(), list);
    for (name, len) in [("beside.txt", 6), ("deep/down.txt", 4), ("in", 6)] {
        assert_eq!(disk.sibling(name, Links::OwnFolder).unwrap().len(), len, "{name}");
    }
    for name in ["out", "/etc/hostname", "../host", "deep"] {
        assert!(disk.sibling(name, Links::Trusted).is_err(), "{name}");
    }
    assert!(matches!(disk.sibling("nix", Links::OwnFolder), Err(Error::Wire(_))));
    assert_eq!(failure(open(&wires, &place.link("nix"))).0, "not-there");
    assert_eq!(failure(open(&wires, &format!("{}/dev/null", place.base()))).0, "refused-there");
    // A file that changes meanwhile.
    fs::write(data.join("disk one.img"), &place.bytes[1..]).unwrap();
    assert_eq!(failure(disk.check_unchanged()).0, "source-changed");
}

#[test]
fn a_machine_without_sftp_is_read_by_dd() {
    let Some(place) = place("a_machine_without_sftp_is_read_by_dd", false) else { return };
    let wires = place.wires("");
    let disk = storage(&wires, &place.link("disk%20one.img"));
    assert!(whole(disk.as_ref()).unwrap() == place.bytes);
    let mut some = vec![0; 100];
    disk.read_at(123_457, &mut some).unwrap();
    assert_eq!(some, place.bytes[123_457..][..100]);
    fs::write(place.folder.path().join("data/it's"), "abc").unwrap();
    assert_eq!(disk.sibling("it's", Links::OwnFolder).unwrap().len(), 3);
    assert_eq!(failure(open(&wires, &place.link("nix"))).0, "not-there");
}

#[test]
fn only_the_host_that_is_known_is_spoken_to() {
    let Some(place) = place("only_the_host_that_is_known_is_spoken_to", true) else { return };
    let link = place.link("disk%20one.img");
    let known = place.folder.path().join("known_hosts");
    let line = fs::read_to_string(&known).unwrap();
    fs::write(&known, "").unwrap();
    let (code, sentence) = failure(open(&place.wires(""), &link));
    assert!(code == "not-trusted" && sentence.contains("SHA256:"), "{sentence}");
    assert_eq!(fs::read_to_string(&known).unwrap(), "", "nothing is taken for known by itself");
    let other = fs::read_to_string(place.folder.path().join("id.pub")).unwrap();
    let other: Vec<_> = other.split(' ').take(2).collect();
    let port = place.server.port;
    fs::write(&known, format!("[127.0.0.1]:{port} {}\n", other.join(" "))).unwrap();
    let (code, sentence) = failure(open(&place.wires(""), &link));
    assert!(code == "not-trusted" && sentence.contains("not the one that is known"), "{sentence}");
    // What `ssh` knows of files of known hosts, we do: patterns, and keys that were revoked.
    let key = line.split_once(' ').unwrap().1;
    fs::write(&known, format!("[127.0.0.*]:{port} {key}")).unwrap();
    assert!(open(&place.wires(""), &link).is_ok());
    fs::write(&known, format!("{line}@revoked [127.0.0.1]:{port} {key}")).unwrap();
    assert_eq!(failure(open(&place.wires(""), &link)).0, "not-trusted");
    fs::write(&known, &line).unwrap();
    let stranger = format!("ssh://nobody-here@127.0.0.1:{port}/etc/hostname");
    let text = format!("[link.\"{stranger}\"]\nkey = \"id\"\nknown-hosts = \"known_hosts\"\n");
    assert_eq!(failure(open(&wires(place.folder.path(), &text, NOBODY).0, &stranger)).0, "denied");
}

#[test]
fn a_line_that_breaks_or_is_slow_does_no_harm() {
    let Some(place) = place("a_line_that_breaks_or_is_slow_does_no_harm", true) else { return };
    let proxy = Proxy::start(([127, 0, 0, 1], place.server.port).into(), Duration::from_millis(1)).unwrap();
    let known = fs::read_to_string(place.folder.path().join("known_hosts")).unwrap();
    let port = proxy.address().port();
    fs::write(
        place.folder.path().join("known_hosts"),
        known.replace(&place.server.port.to_string(), &port.to_string()),
    )
    .unwrap();
    let base = format!("ssh://{}@127.0.0.1:{port}", user());
    for compression in ["auto", "always", "never"] {
        let text = format!(
            "[link.\"{base}\"]\nkey = \"id\"\nknown-hosts = \"known_hosts\"\ncompression = \"{compression}\"\n"
        );
        let (wires, told) = wires(place.folder.path(), &text, NOBODY);
        let disk = storage(&wires, &format!("{base}{}/data/disk%20one.img", place.folder.path().display()));
        disk.read_at(0, &mut [0; 10]).unwrap();
        proxy.cut_after(if compression == "always" { 30_000 } else { 600_000 }, 1);
        let before = proxy.cuts();
        assert!(whole(disk.as_ref()).unwrap() == place.bytes, "{compression}");
        assert!(proxy.cuts() > before && !told.lock().unwrap().is_empty(), "{compression}");
    }
}
