//! What clients ask for, and what those ask that mean harm.

use std::{
    fs,
    io::{Read, Write},
    os::unix::net::UnixStream,
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
};

use proptest::prelude::*;
use reformis_disk::{
    Disk, Error, Extent, ExtentKind, Result,
    scratch::{Scratch, Writable},
};
use reformis_standin::nbd::Client;
use reformis_wire::{Wires, nbd::serve::Event};

use super::{SIZE, at_socket, pattern, scratch};
use crate::common::{content, storage};

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
    // Those who say nothing keep nobody out, however many they are.
    let idle: Vec<UnixStream> = (0..200).filter_map(|_| UnixStream::connect(&path).ok()).collect();
    std::thread::sleep(std::time::Duration::from_millis(500));
    let mut late = Client::connect(&path, "disk").unwrap();
    late.read_at(0, &mut [0; 100]).unwrap();
    assert!(!format!("{:?}", events.lock().unwrap()).contains("are open already"));
    drop(idle);
    // More than there may be at once that were let in.
    let many: Vec<Client> = (0..70).filter_map(|_| Client::connect(&path, "disk").ok()).collect();
    assert!(many.len() < 64, "{}", many.len());
    assert!(format!("{:?}", events.lock().unwrap()).contains("64 connections are open already"));
    let mut byte = [0; 100];
    good.read_at(1000, &mut byte).unwrap();
    assert_eq!(byte[..], content(2000)[1000..1100]);
    drop(many);
    // One that asks for much, and takes nothing: the end does not wait for it.
    for cookie in 0..40 {
        raw.request(0, 0, cookie, 0, SIZE as u32);
    }
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
