//! Who reaches disks that are lent, and how a hypervisor finds them.

use std::{fs, os::unix::fs::PermissionsExt, path::Path, sync::Arc};

use reformis_disk::{Disk, Extent, container::Source, disk::EmptyDisk};
use reformis_standin::{emulator::Emulator, nbd::Client, servers::Authority};
use reformis_wire::{
    Link, Wires,
    nbd::serve::{At, Event, Export, Guard, Server},
};
use serde_json::json;

use super::{SIZE, pattern, scratch, serve};
use crate::common::{Pocket, content, failure, has, open, storage, wires};

#[test]
fn places_are_those_that_only_the_right_ones_reach() {
    let folder = tempfile::tempdir().unwrap();
    let quiet = || Arc::new(|_: Event| ()) as Arc<dyn Fn(Event) + Send + Sync>;
    let exports = || vec![Export::read_only("disk", Arc::new(EmptyDisk::new(1 << 20)))];
    let start = |at: At| Server::start(&at, exports(), None, quiet());
    let (code, sentence) = failure(start(At::Port("0.0.0.0:0".into())));
    assert!(code == "link-settings" && sentence.contains("without TLS"), "{code}: {sentence}");
    let path = folder.path().join("s");
    // Someone's file is no socket file of ours.
    fs::write(&path, "x").unwrap();
    assert_eq!(failure(start(At::Socket(path.clone()))).0, "exists");
    fs::remove_file(&path).unwrap();
    // A server that was killed leaves its file; one that runs is not pushed aside.
    drop(std::os::unix::net::UnixListener::bind(&path).unwrap());
    let server = start(At::Socket(path.clone())).unwrap();
    assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
    assert_eq!(failure(start(At::Socket(path.clone()))).0, "busy");
    // For reading alone: what a client may write is refused, and what it reads is there.
    let mut client = Client::connect(&path, "disk").unwrap();
    assert!(client.write_at(0, b"x").is_err());
    drop(server);
    assert!(!path.exists());
    let server = start(At::Port("127.0.0.1:0".into())).unwrap();
    let At::Port(place) = server.at().clone() else { panic!("{:?}", server.at()) };
    let disk = storage(&Wires::plain(), &format!("nbd://{place}/disk"));
    assert_eq!((disk.len(), disk.extent_at(0).unwrap()), (1 << 20, Extent::zero(0, 1 << 20)));
    let names = Wires::plain().list(&Link::parse(&format!("nbd://{place}/")).unwrap()).unwrap().unwrap();
    assert_eq!(names, ["disk"]);
}

/// Certificates of one authority for both sides, and of another one.
fn authority(folder: &Path) -> Authority {
    let authority = Authority::new(folder).unwrap();
    authority.issue("local", "DNS:localhost,IP:127.0.0.1", "serverAuth").unwrap();
    authority.issue("client", "DNS:client.inner.example", "clientAuth").unwrap();
    for key in ["local.key", "client.key"] {
        fs::set_permissions(folder.join(key), PermissionsExt::from_mode(0o600)).unwrap();
    }
    authority
}

fn guard(folder: &Path) -> Guard {
    Guard::from_files(&folder.join("local.pem"), &folder.join("local.key"), &folder.join("ca.pem")).unwrap()
}

#[test]
fn over_tls_those_with_a_certificate_alone_are_served() {
    if !has("over_tls_those_with_a_certificate_alone_are_served", &["openssl"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let other = folder.path().join("other");
    fs::create_dir(&other).unwrap();
    let _authorities = (authority(folder.path()), authority(&other));
    let disk = scratch(folder.path());
    let (server, events) =
        serve(&At::Port("localhost:0".into()), vec![Export::writable("disk", disk)], Some(guard(folder.path())));
    let At::Port(place) = server.at().clone() else { panic!("{:?}", server.at()) };
    let port = place.rsplit_once(':').unwrap().1.to_string();
    let link = format!("nbds://localhost:{port}/disk");
    let settings = |certificate: &str| {
        format!(
            "[link.\"nbds://localhost:{port}\"]\nauthorities = [\"ca.pem\"]\nconnect-to = \"{place}\"\n{certificate}"
        )
    };
    let own = |at: &str| format!("client-certificate = \"{at}client.pem\"\nclient-key = \"{at}client.key\"\n");
    let (good, _) = wires(folder.path(), &settings(&own("")), Pocket(&[]));
    let disk = storage(&good, &link);
    assert!(crate::common::whole(disk.as_ref()).unwrap() == content(SIZE as usize));
    let reads = |wires: &Wires, link: &str| {
        open(wires, link).and_then(Source::random_access).and_then(|disk| disk.read_at(0, &mut [0]))
    };
    for certificate in ["", &own("other/")] {
        let (stranger, _) = wires(folder.path(), &settings(certificate), Pocket(&[]));
        let (code, sentence) = failure(reads(&stranger, &link));
        assert!(matches!(code, "denied" | "unreachable"), "{code}: {sentence}");
    }
    let (code, sentence) = failure(reads(&Wires::plain(), &format!("nbd://{place}/disk")));
    assert!(code == "denied" && sentence.contains("nbds://"), "{code}: {sentence}");
    let refused = events.lock().unwrap().iter().filter(|event| matches!(event, Event::Refused { .. })).count();
    assert!(refused >= 2, "{:?}", events.lock().unwrap());
    // A key that others may read, and one of another certificate.
    fs::set_permissions(other.join("local.key"), PermissionsExt::from_mode(0o640)).unwrap();
    let with =
        |key: &Path| Guard::from_files(&folder.path().join("local.pem"), key, &folder.path().join("ca.pem")).err();
    assert!(with(&other.join("local.key")).unwrap().to_string().contains("chmod 600"));
    assert!(with(&other.join("client.key")).unwrap().to_string().contains("does not fit"));
    server.end().unwrap();
}

/// The emulator attaches our exports as a host does, and serves them on to a client of ours: over a socket file, and over TLS.
#[test]
fn the_emulator_finds_a_drive() {
    if !has("the_emulator_finds_a_drive", &["qemu-system-x86_64", "openssl"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let authority = authority(folder.path());
    let host = folder.path().join("host");
    fs::create_dir(&host).unwrap();
    for (from, to) in [("ca.pem", "ca-cert.pem"), ("client.pem", "client-cert.pem"), ("client.key", "client-key.pem")] {
        fs::copy(authority.folder().join(from), host.join(to)).unwrap();
    }
    let mut model = content(SIZE as usize);
    for tls in [false, true] {
        let disk = scratch(folder.path());
        let at = if tls { At::Port("127.0.0.1:0".into()) } else { At::Socket(folder.path().join("s")) };
        let guard = tls.then(|| guard(folder.path()));
        let (server, events) = serve(&at, vec![Export::writable("disk", disk)], guard);
        let mut node = match server.at() {
            At::Socket(path) => json!({ "server": { "type": "unix", "path": path } }),
            At::Port(place) => {
                let (host, port) = place.rsplit_once(':').unwrap();
                json!({ "server": { "type": "inet", "host": host, "port": port }, "tls-creds": "tls0" })
            }
        };
        for (key, value) in [("driver", "nbd"), ("node-name", "far"), ("export", "disk"), ("discard", "unmap")] {
            node[key] = value.into();
        }
        let credentials = format!("tls-creds-x509,id=tls0,dir={},endpoint=client", host.display());
        let options = if tls { vec!["-object".into(), credentials] } else { Vec::new() };
        let mut emulator = Emulator::start_with(&options).unwrap();
        emulator.command("blockdev-add", &node).unwrap();
        {
            let mut client = emulator.export("far", true).unwrap();
            let mut read = vec![0; SIZE as usize];
            client.read_at(0, &mut read).unwrap();
            assert!(read == model, "tls: {tls}");
            for (at, len, byte) in [(0, 512, 1), (70_001, 9000, 2), (1 << 20, 1 << 20, 3)] {
                client.write_at(at, &pattern(byte, len)).unwrap();
                model[at as usize..at as usize + len].copy_from_slice(&pattern(byte, len));
            }
            client.write_zeros(300_000, 100_000).unwrap();
            client.discard(2 << 20, 500_000).unwrap();
            model[300_000..400_000].fill(0);
            client.flush().unwrap();
            client.read_at(0, &mut read).unwrap();
            // A discarded place may read as anything; ours is zero, where the emulator passed it on.
            let discarded = (2 << 20)..(2 << 20) + 500_000;
            assert!(
                read[discarded.clone()].iter().all(|byte| *byte == 0)
                    || read[discarded.clone()] == model[discarded.clone()]
            );
            model[discarded.clone()].copy_from_slice(&read[discarded]);
            assert!(read == model, "tls: {tls}");
        }
        emulator.quit().unwrap();
        server.end().unwrap();
        assert!(!format!("{:?}", events.lock().unwrap()).contains("Trouble"), "{:?}", events.lock().unwrap());
        let mut read = vec![0; SIZE as usize];
        scratch(folder.path()).read_at(0, &mut read).unwrap();
        assert!(read == model, "what was flushed is kept (tls: {tls})");
    }
}
