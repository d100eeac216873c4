//! Our server of network block devices, judged by a client that shares no code with it, and by the emulator.

use std::{
    fs::{self, File},
    io::{Read, Write},
    os::unix::{fs::PermissionsExt, net::UnixStream},
    path::{Path, PathBuf},
    sync::{
        Arc, Mutex,
        atomic::{AtomicUsize, Ordering},
    },
};

use proptest::prelude::*;
use reformis_disk::{
    Disk, Error, Extent, ExtentKind, Result,
    container::Source,
    disk::EmptyDisk,
    scratch::{Scratch, Writable},
};
use reformis_standin::{emulator::Emulator, nbd::Client, servers::Authority};
use reformis_wire::{
    Link, Wires,
    nbd::serve::{At, Event, Export, Guard, Server},
};
use serde_json::json;

use crate::common::{Pocket, content, failure, has, open, storage, wires};

const SIZE: u64 = 3 << 20;

/// A disk of known bytes, with holes.
struct Known(Vec<u8>);

impl Disk for Known {
    fn size(&self) -> u64 {
        self.0.len() as u64
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        let from = offset as usize;
        let bytes = self.0.get(from..from + buf.len());
        buf.copy_from_slice(bytes.ok_or(Error::OutOfRange { offset, len: buf.len() as u64, size: self.size() })?);
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        let rest = &self.0[offset as usize..];
        let zeros = rest.iter().take_while(|byte| **byte == 0).count() as u64;
        let data = rest.iter().take_while(|byte| **byte != 0).count() as u64;
        Ok(if zeros > 4096 { Extent::zero(offset, zeros) } else { Extent::data(offset, zeros + data) })
    }

    fn check_unchanged(&self) -> Result<()> {
        Ok(())
    }
}

fn scratch(folder: &Path) -> Arc<Scratch> {
    let path = folder.join("scratch");
    let file = File::options().read(true).write(true).create(true).truncate(false).open(path).unwrap();
    let base = Arc::new(Known(content(SIZE as usize)));
    Arc::new(match file.metadata().unwrap().len() {
        0 => Scratch::create(file, "scratch", base).unwrap(),
        _ => Scratch::open(file, "scratch", base).unwrap(),
    })
}

type Events = Arc<Mutex<Vec<Event>>>;

fn serve(at: &At, disks: Vec<Export>, guard: Option<Guard>) -> (Server, Events) {
    let events = Events::default();
    let told = events.clone();
    let server = Server::start(at, disks, guard, Arc::new(move |event| told.lock().unwrap().push(event))).unwrap();
    (server, events)
}

fn at_socket(folder: &Path, disk: Arc<dyn Writable>) -> (Server, PathBuf, Events) {
    let path = folder.join("s");
    let (server, events) = serve(&At::Socket(path.clone()), vec![Export::writable("disk", disk)], None);
    (server, path, events)
}

#[derive(Debug, Clone)]
enum Step {
    Write(u64, usize, u8),
    Zero(u64, u32),
    Discard(u64, u32),
    Flush,
    /// A connection ends in the middle of a write.
    Break(u64),
}

fn step() -> impl Strategy<Value = Step> {
    let at = prop_oneof![0..SIZE - 700_000, (0..500u64).prop_map(|block| block * 4096), Just(0)];
    let len = prop_oneof![1..5000usize, 4096..=4096usize, 200_000..700_000usize];
    prop_oneof![
        4 => (at.clone(), len, any::<u8>()).prop_map(|(at, len, byte)| Step::Write(at, len, byte)),
        1 => (at.clone(), 1..400_000u32).prop_map(|(at, len)| Step::Zero(at, len)),
        1 => (at.clone(), 1..400_000u32).prop_map(|(at, len)| Step::Discard(at, len)),
        1 => Just(Step::Flush),
        1 => at.prop_map(Step::Break),
    ]
}

/// Bytes that are not all the same.
fn pattern(byte: u8, len: usize) -> Vec<u8> {
    (0..len).map(|at| byte.wrapping_add((at / 97) as u8)).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// Three clients write in turn, and each sees what the others wrote; one that breaks off in a write leaves the rest as it is.
    /// What was flushed is there when the server has gone without a word.
    #[test]
    fn clients_see_one_disk(steps in prop::collection::vec(step(), 1..20)) {
        let folder = tempfile::tempdir().unwrap();
        let (server, path, _) = at_socket(folder.path(), scratch(folder.path()));
        let mut model = content(SIZE as usize);
        let mut clients: Vec<Client> = (0..3).map(|_| Client::connect(&path, "disk").unwrap()).collect();
        prop_assert_eq!(clients[0].size(), SIZE);
        for (index, step) in steps.iter().enumerate() {
            let client = &mut clients[index % 3];
            match *step {
                Step::Write(at, len, byte) => {
                    let bytes = pattern(byte, len);
                    client.write_at(at, &bytes).unwrap();
                    model[at as usize..at as usize + len].copy_from_slice(&bytes);
                }
                Step::Zero(at, len) => {
                    client.write_zeros(at, len).unwrap();
                    model[at as usize..(at + u64::from(len)) as usize].fill(0);
                }
                Step::Discard(at, len) => {
                    client.discard(at, len).unwrap();
                    model[at as usize..(at + u64::from(len)) as usize].fill(0);
                }
                Step::Flush => client.flush().unwrap(),
                Step::Break(at) => {
                    let mut raw = Raw::connect(&path);
                    raw.go("disk");
                    raw.request(0, 1, 1, at, 600_000);
                    raw.0.write_all(&[0x77; 300_000]).unwrap();
                    drop(raw);
                    // Some of it may have been written: it is written over before anybody looks.
                    let bytes = pattern(9, 600_000);
                    for _ in 0..50 {
                        std::thread::sleep(std::time::Duration::from_millis(1));
                        client.write_at(at, &bytes).unwrap();
                    }
                    model[at as usize..at as usize + bytes.len()].copy_from_slice(&bytes);
                }
            }
            let other = &mut clients[(index + 1) % 3];
            let mut read = vec![0; SIZE as usize];
            other.read_at(0, &mut read).unwrap();
            prop_assert!(read == model, "step {}", index);
        }
        clients[0].flush().unwrap();
        // As after a crash: what the server has in memory is not asked.
        let copy = folder.path().join("copy");
        fs::create_dir(&copy).unwrap();
        fs::copy(folder.path().join("scratch"), copy.join("scratch")).unwrap();
        let mut read = vec![0; SIZE as usize];
        scratch(&copy).read_at(0, &mut read).unwrap();
        prop_assert!(read == model);
        // Our own client, which talks of maps and chunks.
        let wires = Wires::plain();
        let disk = storage(&wires, &format!("nbd+unix:///disk?socket={}", path.display()));
        prop_assert!(crate::common::whole(disk.as_ref()).unwrap() == model);
        let mut at = 0;
        while at < SIZE {
            let extent = disk.extent_at(at).unwrap();
            let bytes = &model[at as usize..extent.end() as usize];
            prop_assert!(extent.kind == ExtentKind::Data || bytes.iter().all(|byte| *byte == 0));
            at = extent.end();
        }
        drop((clients, disk, wires));
        server.end().unwrap();
        prop_assert!(!path.exists(), "the socket file is gone with its server");
    }
}

/// A client by hand.
struct Raw(UnixStream);

impl Raw {
    fn connect(path: &Path) -> Self {
        let mut stream = UnixStream::connect(path).unwrap();
        stream.set_read_timeout(Some(std::time::Duration::from_secs(5))).unwrap();
        stream.read_exact(&mut [0; 18]).unwrap();
        stream.write_all(&3u32.to_be_bytes()).unwrap();
        Self(stream)
    }

    /// Asks, and gives the first reply: its kind and its bytes.
    fn ask(&mut self, option: u32, data: &[u8]) -> (u32, Vec<u8>) {
        let mut bytes = b"IHAVEOPT".to_vec();
        bytes.extend(option.to_be_bytes());
        bytes.extend((data.len() as u32).to_be_bytes());
        bytes.extend(data);
        self.0.write_all(&bytes).unwrap();
        self.answer()
    }

    fn answer(&mut self) -> (u32, Vec<u8>) {
        let mut head = [0; 20];
        self.0.read_exact(&mut head).unwrap();
        let number = |at: usize| u32::from_be_bytes(head[at..at + 4].try_into().unwrap());
        let mut data = vec![0; number(16) as usize];
        self.0.read_exact(&mut data).unwrap();
        (number(12), data)
    }

    fn go(&mut self, name: &str) {
        let mut data = (name.len() as u32).to_be_bytes().to_vec();
        data.extend(name.as_bytes());
        data.extend([0, 0]);
        let mut kind = self.ask(7, &data).0;
        while kind == 3 {
            kind = self.answer().0;
        }
        assert_eq!(kind, 1);
    }

    fn request(&mut self, flags: u16, kind: u16, cookie: u64, offset: u64, len: u32) {
        let mut bytes = 0x2560_9513_u32.to_be_bytes().to_vec();
        bytes.extend(flags.to_be_bytes());
        bytes.extend(kind.to_be_bytes());
        bytes.extend(cookie.to_be_bytes());
        bytes.extend(offset.to_be_bytes());
        bytes.extend(len.to_be_bytes());
        self.0.write_all(&bytes).unwrap();
    }

    /// The error of a simple reply, and the request that it answers.
    fn error(&mut self) -> (u32, u64) {
        let mut head = [0; 16];
        self.0.read_exact(&mut head).unwrap();
        assert_eq!(head[..4], 0x6744_6698_u32.to_be_bytes());
        (u32::from_be_bytes(head[4..8].try_into().unwrap()), u64::from_be_bytes(head[8..].try_into().unwrap()))
    }

    /// Whether the server has ended the connection.
    fn is_over(&mut self) -> bool {
        matches!(self.0.read(&mut [0]), Ok(0) | Err(_))
    }
}

/// A disk that counts its flushes, and has no room behind its first MiB.
struct Small(Arc<Scratch>, AtomicUsize);

impl Disk for Small {
    fn size(&self) -> u64 {
        self.0.size()
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        if offset > 2 << 20 {
            return Err(Error::Unsupported { path: "small".into(), what: "it is worn out there".into() });
        }
        self.0.read_at(offset, buf)
    }
    fn extent_at(&self, offset: u64) -> Result<Extent> {
        self.0.extent_at(offset)
    }
    fn check_unchanged(&self) -> Result<()> {
        Ok(())
    }
}

impl Writable for Small {
    fn write_at(&self, offset: u64, bytes: &[u8]) -> Result<()> {
        if offset > 1 << 20 {
            return Err(Error::io("writing", "small", None)(std::io::ErrorKind::StorageFull.into()));
        }
        self.0.write_at(offset, bytes)
    }
    fn write_zeroes(&self, offset: u64, len: u64) -> Result<()> {
        self.0.write_zeroes(offset, len)
    }
    fn flush(&self) -> Result<()> {
        self.1.fetch_add(1, Ordering::SeqCst);
        self.0.flush()
    }
}

#[test]
fn each_request_has_the_answer_that_the_protocol_has_for_it() {
    let folder = tempfile::tempdir().unwrap();
    let disk = Arc::new(Small(scratch(folder.path()), AtomicUsize::new(0)));
    let (server, path, events) = at_socket(folder.path(), disk.clone());
    let mut raw = Raw::connect(&path);
    raw.go("disk");
    let flushes = || disk.1.load(Ordering::SeqCst);
    // Flags, kind, offset, length, bytes that follow; the error, and flushes that were made for it.
    for (index, (flags, kind, offset, len, bytes, error, flushed)) in [
        (0, 3, 0, 0, 0, 0, 1),                          // flush
        (0, 1, 4096, 512, 512, 0, 0),                   // write
        (1, 1, 4096, 512, 512, 0, 1),                   // write through
        (1, 6, 8192, 4096, 0, 0, 1),                    // zeros, through
        (2, 6, 8192, 4096, 0, 0, 0),                    // zeros, no hole
        (0, 4, 8192, 4096, 0, 0, 0),                    // trim
        (0, 1, 2 << 20, 512, 512, 28, 0),               // no room
        (1, 1, 2 << 20, 512, 512, 28, 0),               // no room, and nothing to flush
        (0, 1, (2 << 20) + 1, 400_000, 400_000, 28, 0), // no room for a long one
        (0, 1, SIZE - 100, 512, 512, 28, 0),            // behind the end
        (0, 1, u64::MAX, 512, 512, 28, 0),              // far behind the end
        (0, 0, SIZE - 100, 512, 0, 22, 0),              // read behind the end
        (0, 0, u64::MAX - 5, 512, 0, 22, 0),
        (0, 0, (2 << 20) + 4096, 512, 0, 5, 0), // what cannot be read
        (0, 0, 0, 0, 0, 22, 0),                 // nothing
        (0, 7, 0, 4096, 0, 22, 0),              // a map that was not asked for
        (0, 99, 0, 4096, 0, 22, 0),             // no command
        (1 << 9, 0, 0, 512, 0, 22, 0),          // no flag
    ]
    .into_iter()
    .enumerate()
    {
        let before = flushes();
        raw.request(flags, kind, index as u64, offset, len);
        raw.0.write_all(&vec![7; bytes]).unwrap();
        assert_eq!(raw.error(), (error, index as u64), "{flags} {kind} {offset} {len}");
        assert_eq!(flushes() - before, flushed, "{flags} {kind} {offset} {len}");
    }
    let troubles = events.lock().unwrap().iter().filter(|event| matches!(event, Event::Trouble { .. })).count();
    assert_eq!(troubles, 2, "each kind is told once: {:?}", events.lock().unwrap());
    drop(raw);
    assert_eq!(server.exports()[0].tally.written(), 1024);
    assert_eq!(server.exports()[0].tally.zeroed(), 3 * 4096);
    server.end().unwrap();
}

/// Whatever a client says, the others are served.
#[test]
fn clients_that_mean_harm_are_left_and_the_others_served() {
    let folder = tempfile::tempdir().unwrap();
    let (server, path, events) = at_socket(folder.path(), scratch(folder.path()));
    let mut good = Client::connect(&path, "disk").unwrap();
    let option = |number: u32, len: u32| [&b"IHAVEOPT"[..], &number.to_be_bytes(), &len.to_be_bytes()].concat();
    let endless = option(99, 0).repeat(1001);
    for (words, why) in [
        (b"GET / HTTP/1.1\r\n\r\n".to_vec(), "an option does not begin"),
        (option(7, u32::MAX), "longer than any"),
        (endless, "no end"),
        ([option(1, 3), b"nix".to_vec()].concat(), "not there"),
    ] {
        let mut raw = Raw::connect(&path);
        raw.0.write_all(&words).ok();
        std::io::copy(&mut raw.0, &mut std::io::sink()).ok();
        let told = format!("{:?}", events.lock().unwrap().last());
        assert!(told.contains(why), "{why}: {told}");
    }
    for (kind, len, follows) in [(1, 33 << 20, 0), (0, 512, 4)] {
        let mut raw = Raw::connect(&path);
        raw.go("disk");
        raw.request(0, kind, 0, 0, len);
        raw.0.write_all(&vec![0; follows * 1000]).ok();
        std::io::copy(&mut raw.0, &mut std::io::sink()).ok();
        assert!(raw.is_over());
    }
    // A name that is not there can be asked for again; an option that nobody knows is no harm.
    let mut raw = Raw::connect(&path);
    assert_eq!(raw.ask(7, &[&3u32.to_be_bytes()[..], b"nix", &[0, 0]].concat()).0, (1 << 31) + 6);
    assert_eq!(raw.ask(99, b"x").0, (1 << 31) + 1);
    assert_eq!(raw.ask(10, &[0; 3]).0, (1 << 31) + 3);
    assert_eq!(raw.ask(5, b"").0, (1 << 31) + 2, "there is no TLS at a socket file");
    raw.go("disk");
    // More than there may be at once.
    let many: Vec<UnixStream> = (0..70).filter_map(|_| UnixStream::connect(&path).ok()).collect();
    std::thread::sleep(std::time::Duration::from_millis(500));
    assert!(format!("{:?}", events.lock().unwrap()).contains("64 connections are open already"));
    let mut byte = [0; 100];
    good.read_at(1000, &mut byte).unwrap();
    assert_eq!(byte[..], content(2000)[1000..1100]);
    drop(many);
    server.end().unwrap();
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    /// What is said to the server by chance, behind a beginning that is right, ends, and is answered in order.
    #[test]
    fn any_words_end(said in prop::collection::vec(any::<u8>(), 0..600), begins in 0..3u8) {
        let go = [&b"\0\0\0\x03IHAVEOPT\0\0\0\x07\0\0\0\x0a\0\0\0\x04disk\0\0"[..]].concat();
        let start = match begins {
            0 => Vec::new(),
            1 => go[..4].to_vec(),
            _ => go,
        };
        let folder = tempfile::tempdir().unwrap();
        let disk = scratch(folder.path());
        let answered = reformis_wire::nbd::serve::answer(&[start, said].concat(), disk);
        prop_assert!(answered.is_err() || answered.unwrap().len() >= 18);
    }
}

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
    assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o700);
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
