//! The other end is killed in the middle of a move, as a process is killed, and comes back: the move goes on by itself.

use std::{
    fs,
    net::{TcpListener, TcpStream},
    os::unix::fs::PermissionsExt,
    process::{Child, Stdio},
    sync::atomic::{AtomicU32, Ordering},
    time::{Duration, Instant},
};

use reformis_standin::{
    cloud::{Cloud, Options},
    content::Content,
};

use crate::{
    clouds::{KEY, TOKEN, carry},
    support::Place,
};

/// A port that nobody listens at, and that the system gives to nobody who asks for any: it has to be free again after each kill.
fn port() -> u16 {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    loop {
        let next = std::process::id().wrapping_mul(31).wrapping_add(NEXT.fetch_add(1, Ordering::Relaxed));
        let port = 20_000 + (next % 12_000) as u16;
        if TcpListener::bind(("127.0.0.1", port)).is_ok() {
            return port;
        }
    }
}

/// A cloud, and its store, in a process of their own.
struct Far {
    place: Place,
    ports: [u16; 2],
    process: Child,
}

impl Far {
    fn new() -> Self {
        let place = Place::new();
        let ports = [port(), port()];
        for (name, secret) in [("key", KEY), ("token", TOKEN)] {
            place.write(name, format!("{secret}\n").as_bytes());
            fs::set_permissions(place.path(name), fs::Permissions::from_mode(0o600)).unwrap();
        }
        let [cloud, store] = ports;
        let site = format!(
            "[cloud.estuary]\nkind = \"import\"\nat = \"http://127.0.0.1:{cloud}\"\nstore = \"jetty:moves\"\n\n\
             [link.\"http://127.0.0.1:{cloud}\"]\ntoken = {{ file = \"token\" }}\n\n\
             [store.jetty]\nkind = \"objects\"\nat = \"http://127.0.0.1:{store}/saltmarsh\"\nregion = \"estuary-1\"\n\
             key-id = \"keeper\"\nkey = {{ file = \"key\" }}\n"
        );
        place.write("reformis.toml", site.as_bytes());
        let process = Self::start(&place, ports);
        Self { place, ports, process }
    }

    fn start(place: &Place, [cloud, store]: [u16; 2]) -> Child {
        let (at, store_at) = (format!("127.0.0.1:{cloud}"), format!("127.0.0.1:{store}"));
        let mut words = vec!["standin", "cloud", "--data", "cloud", "--at", &at, "--store-at", &store_at];
        words.extend(["--token-file", "token", "--key-file", "key"]);
        let mut process = place.command(&words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let begun = Instant::now();
        while ![cloud, store].iter().all(|port| TcpStream::connect(("127.0.0.1", *port)).is_ok()) {
            assert!(begun.elapsed() < Duration::from_secs(60) && process.try_wait().unwrap().is_none());
            std::thread::sleep(Duration::from_millis(10));
        }
        process
    }

    /// Kills it, and starts it again after a moment.
    fn kill(&mut self) {
        self.end();
        std::thread::sleep(Duration::from_millis(100));
        self.process = Self::start(&self.place, self.ports);
    }

    /// Bytes that the process has written since it was started: how far a move is, whatever the clock says.
    fn written(&self) -> u64 {
        let told = fs::read_to_string(format!("/proc/{}/io", self.process.id())).unwrap();
        told.lines().find_map(|line| line.strip_prefix("wchar: ")).unwrap().parse().unwrap()
    }

    fn end(&mut self) {
        self.process.kill().unwrap();
        self.process.wait().unwrap();
    }
}

impl Drop for Far {
    fn drop(&mut self) {
        self.process.kill().ok();
        self.process.wait().ok();
    }
}

/// Kills the other end at so many moments of as many moves.
fn killed(points: u32) {
    let mut far = Far::new();
    let mut disk = vec![0; 20 << 20];
    Content::empty(20 << 20).with(0, 17 << 20, 7).read_at(0, &mut disk);
    disk[510..512].copy_from_slice(&[0x55, 0xaa]);
    far.place.write("ledger.raw", &disk);
    let begun = far.written();
    far.place.run(&carry("vmbus-cloud", &["--name", "first"])).expect(0);
    let whole = far.written() - begun;
    let mut felt = 0;
    for point in 0..points {
        let (name, landing) = (format!("ledger{point}"), format!("landing{point}"));
        let mut words = carry("vmbus-cloud", &["--name", &name]);
        words[5] = &landing;
        let begun = far.written();
        let mut child = far.place.command(&words).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
        let due = begun + whole * u64::from(point * 37 % points + 1) / u64::from(points + 1);
        while far.written() < due {
            assert!(child.try_wait().unwrap().is_none(), "{point}: it ended before");
            std::thread::sleep(Duration::from_micros(200));
        }
        far.kill();
        let output = child.wait_with_output().unwrap();
        let told = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success(), "{point}: {told}");
        felt += u32::from(told.contains("trying again"));
        far.place.run(&["prove", &format!("{landing}/{name}/receipt.json")]).expect(0);
        let receipt = fs::read_to_string(far.place.path(&format!("{landing}/{name}/receipt.json"))).unwrap();
        assert!(receipt.contains("\"cloud\": \"estuary\""), "{point}");
    }
    // One that was asked nothing while it was away was not missed.
    assert!(felt * 2 > points, "{felt} of {points} moves noticed it");
    // What is there in the end, read by another process.
    far.end();
    let cloud = Cloud::start(Options::new(far.place.path("cloud"))).unwrap();
    let (mut images, mut instances) = (cloud.images(), cloud.instances());
    images.sort();
    images.dedup_by(|one, other| one.1 == other.1);
    instances.sort();
    assert_eq!(
        (images.len(), cloud.images().len(), instances.len()),
        (1 + points as usize, 1 + points as usize, images.len())
    );
    assert!(cloud.store().uploads().is_empty(), "{:?}", cloud.store().uploads());
}

#[test]
fn a_cloud_that_is_killed_is_outlasted() {
    killed(5);
}

#[test]
#[ignore = "minutes: part of the slower checks"]
fn a_cloud_that_is_killed_at_fifty_points_is_outlasted() {
    // Most of it is waiting: two clouds take half the time.
    std::thread::scope(|scope| {
        scope.spawn(|| killed(25));
        killed(25);
    });
}
