//! Servers that are killed at fifty points each, and are there again: what is read is right.

use std::{sync::Arc, time::Duration};

use reformis_disk::scratch::{Scratch, Writable};
use reformis_standin::{
    host::{Host, Options},
    servers::Sshd,
};
use reformis_wire::{
    Wires,
    nbd::serve::{At, Event, Export, Server},
};

use crate::common::{Pocket, content, has, storage, whole, wires};

/// How many there are.
const KILLS: u64 = 50;

/// Reads the disk at `link` once for each kill, with a server that goes away after some part of the time that it takes.
fn read_through_kills(wires: &(dyn Fn() -> Wires + Sync), link: &str, bytes: &[u8], mut kill: impl FnMut() + Send) {
    let start = std::time::Instant::now();
    assert!(whole(storage(&wires(), link).as_ref()).unwrap() == bytes);
    let time = start.elapsed();
    let mut late = 0;
    for round in 0..KILLS {
        std::thread::scope(|scope| {
            let reader = scope.spawn(|| {
                let disk = storage(&wires(), link);
                assert!(whole(disk.as_ref()).unwrap() == bytes, "round {round}");
            });
            std::thread::sleep(time * u32::try_from(round * 37 % KILLS).unwrap() / u32::try_from(KILLS).unwrap());
            late += usize::from(reader.is_finished());
            kill();
        });
    }
    assert!(late < 25, "{late} of {KILLS} came when all was read");
}

#[test]
fn a_server_of_files_is_killed() {
    let data = tempfile::tempdir().unwrap();
    let bytes = content(20 << 20);
    std::fs::write(data.path().join("disk.img"), &bytes).unwrap();
    let first = Host::start(Options::new(data.path())).unwrap();
    let (at, link) = (first.address(), first.link());
    let site = format!("[link.\"{link}\"]\ntoken = {{ env = \"TOKEN\" }}\n");
    let wires = || wires(data.path(), &site, Pocket(&[("TOKEN", "a-token-for-tests")])).0;
    let mut host = Some(first);
    read_through_kills(&wires, &format!("{link}/plain/disk.img"), &bytes, || {
        drop(host.take());
        host = Some(again(|| Host::start(Options { at: at.to_string(), ..Options::new(data.path()) })));
    });
}

#[test]
fn a_server_of_block_devices_is_killed() {
    let folder = tempfile::tempdir().unwrap();
    let bytes = content(20 << 20);
    let file = std::fs::File::options().read(true).write(true).create_new(true).open(folder.path().join("s")).unwrap();
    let disk = Scratch::create(file, "s", Arc::new(reformis_disk::disk::EmptyDisk::new(bytes.len() as u64))).unwrap();
    disk.write_at(0, &bytes).unwrap();
    let disk: Arc<dyn Writable> = Arc::new(disk);
    let start = move |place: &str| {
        let exports = vec![Export::writable("disk", disk.clone())];
        Server::start(&At::Port(place.into()), exports, None, Arc::new(|_: Event| ()))
    };
    let first = start("127.0.0.1:0").unwrap();
    let At::Port(place) = first.at().clone() else { panic!("{:?}", first.at()) };
    let mut server = Some(first);
    let link = format!("nbd://{place}/disk");
    read_through_kills(&Wires::plain, &link, &bytes, move || {
        drop(server.take());
        server = Some(again(|| start(&place)));
    });
}

#[test]
#[ignore = "takes half a minute, and needs openssh-server and procps"]
fn a_server_behind_ssh_is_killed() {
    if !has("a_server_behind_ssh_is_killed", &["ssh", "ssh-keygen", "/usr/sbin/sshd", "pkill"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let bytes = content(40 << 20);
    std::fs::write(folder.path().join("disk.img"), &bytes).unwrap();
    let server = Sshd::start(folder.path(), true).unwrap();
    let user = std::process::Command::new("id").arg("-un").output().unwrap();
    let base = format!("ssh://{}@127.0.0.1:{}", String::from_utf8(user.stdout).unwrap().trim(), server.port);
    let site = format!("[link.\"{base}\"]\nkey = \"id\"\nknown-hosts = \"known_hosts\"\n");
    let wires = || wires(folder.path(), &site, Pocket(&[])).0;
    let link = format!("{base}{}/disk.img", folder.path().display());
    read_through_kills(&wires, &link, &bytes, || server.kill_sessions().unwrap());
}

/// A port may be busy for a moment after it was given up.
fn again<T, E: std::fmt::Debug>(start: impl Fn() -> Result<T, E>) -> T {
    for _ in 0..100 {
        if let Ok(server) = start() {
            return server;
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    start().unwrap()
}
