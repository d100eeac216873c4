use std::sync::atomic::AtomicU32;

use proptest::prelude::*;
use reformis_disk::error::{WireError, WireKind};

use super::*;
use crate::remote::Limits;

/// Bytes with a rule, of which some tries fail.
struct Ruled {
    len: u64,
    holes: bool,
    /// What the tries to come are to be: each is used once.
    faults: Mutex<Vec<Fault>>,
    renewed: AtomicU32,
    fetched: Mutex<Vec<(u64, u64)>>,
}

const HOLE: u64 = 1 << 20;

/// The byte at `at`: every other MiB is zero.
fn byte(at: u64) -> u8 {
    if at / HOLE % 2 == 1 { 0 } else { (at % 251 + at / 70_001 % 5) as u8 | 1 }
}

impl Ruled {
    fn new(len: u64) -> Self {
        Self { len, holes: false, faults: Mutex::default(), renewed: AtomicU32::new(0), fetched: Mutex::default() }
    }

    fn failing(len: u64, faults: Vec<Fault>) -> Self {
        Self { faults: Mutex::new(faults), ..Self::new(len) }
    }
}

impl Remote for Ruled {
    fn name(&self) -> &str {
        "https://h/ruled"
    }

    fn len(&self) -> u64 {
        self.len
    }

    fn version(&self) -> reformis_disk::source::Version {
        reformis_disk::source::Version::Unknown
    }

    fn access(&self) -> Access {
        Access::ANYBODY
    }

    fn limits(&self) -> Limits {
        Limits { piece: 2 << 20, depth: 4 }
    }

    fn fetch(&self, at: u64, buf: &mut [u8], _: &Stop) -> Result<(), Fault> {
        if let Some(fault) = self.faults.lock().unwrap().pop() {
            return Err(fault);
        }
        self.fetched.lock().unwrap().push((at, buf.len() as u64));
        assert!(at + buf.len() as u64 <= self.len);
        buf.iter_mut().zip(at..).for_each(|(to, at)| *to = byte(at));
        Ok(())
    }

    fn has_map(&self) -> bool {
        self.holes
    }

    fn map(&self, at: u64, _: u64, _: &Stop) -> Result<Vec<Extent>, Fault> {
        let end = (at / HOLE + 1) * HOLE;
        let kind = if at / HOLE % 2 == 1 { ExtentKind::Zero } else { ExtentKind::Data };
        Ok(vec![Extent { start: at, len: end.min(self.len) - at, kind }])
    }

    fn renew(&self, _: &str, _: &Stop) -> Result<(), Fault> {
        self.renewed.fetch_add(1, Ordering::Relaxed);
        std::thread::sleep(Duration::from_millis(20));
        Ok(())
    }

    fn check(&self, _: &Stop) -> Result<(), Fault> {
        Ok(())
    }

    fn sibling(&self, _: &str, _: &Stop) -> Result<Arc<dyn Remote>, Fault> {
        Err(Fault::Fatal(WireKind::Absent, "there is nothing".into()))
    }
}

fn steady(remote: Arc<Ruled>) -> Steady {
    Steady::new(remote, Shared::quiet(), &Budget::whole())
}

fn check(steady: &Steady, at: u64, len: u64) {
    let mut buf = vec![0xee; len as usize];
    steady.read_at(at, &mut buf).unwrap();
    let wrong = buf.iter().zip(at..).position(|(found, at)| *found != byte(at));
    assert_eq!(wrong, None, "{len} bytes at {at}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(16))]

    /// Whatever is read in which order, from several threads: the bytes are those of the remote, and pieces are not fetched
    /// twice at the same time.
    #[test]
    fn any_reads_give_the_bytes(
        len in 1u64..8 << 20,
        reads in prop::collection::vec((any::<u64>(), 1u64..3 << 20), 1..30),
        holes in any::<bool>(),
    ) {
        let remote = Arc::new(Ruled { holes, ..Ruled::new(len) });
        let steady = steady(remote.clone());
        std::thread::scope(|scope| {
            for part in reads.chunks(reads.len().div_ceil(3)) {
                scope.spawn(|| part.iter().for_each(|(at, count)| check(&steady, at % len, (*count).min(len - at % len))));
            }
        });
    }
}

#[test]
fn a_row_is_fetched_once_in_large_pieces_and_ahead() {
    let remote = Arc::new(Ruled::new(48 << 20));
    let steady = steady(remote.clone());
    (0..48).for_each(|mib| check(&steady, mib << 20, 1 << 20));
    let fetched = remote.fetched.lock().unwrap();
    assert_eq!(fetched.iter().map(|(_, len)| len).sum::<u64>(), 48 << 20, "nothing twice");
    assert!(fetched.len() < 40, "{} requests", fetched.len());
    assert_eq!(steady.fetched(), 48 << 20);
}

#[test]
fn known_zeros_are_not_fetched_ahead() {
    let remote = Arc::new(Ruled { holes: true, ..Ruled::new(48 << 20) });
    let steady = steady(remote.clone());
    for mib in (0..48).step_by(2) {
        assert_eq!(steady.extent_at((mib << 20) + 5).unwrap().kind, ExtentKind::Data);
        assert_eq!(steady.extent_at((mib + 1) << 20).unwrap(), Extent::zero((mib + 1) << 20, HOLE));
        check(&steady, mib << 20, 1 << 20);
    }
    assert_eq!(steady.fetched(), 24 << 20);
}

#[test]
fn tables_that_lie_apart_cost_little() {
    let steady = steady(Arc::new(Ruled::new(1 << 40)));
    (0..64).for_each(|index| check(&steady, (index * 7919) << 20, 512));
    assert!(steady.fetched() <= 64 * (32 << 10), "{}", steady.fetched());
}

#[test]
fn what_breaks_is_tried_again_and_what_expired_is_renewed_once() {
    let expired = || Fault::Expired("410".into());
    let faults = vec![expired(), expired(), expired(), Fault::again("the connection broke")];
    let remote = Arc::new(Ruled::failing(64 << 20, faults));
    let steady = steady(remote.clone());
    std::thread::scope(|scope| {
        for thread in 0..4 {
            let steady = &steady;
            scope.spawn(move || check(steady, thread << 24, 1 << 20));
        }
    });
    let renewed = remote.renewed.load(Ordering::Relaxed);
    assert!((1..=4).contains(&renewed), "{renewed} renewals for four threads at once");
}

#[test]
fn what_cannot_work_ends_with_the_place_and_the_reason() {
    let denied = Fault::Fatal(WireKind::Denied, "403\u{1b}[2J".into());
    let steady = steady(Arc::new(Ruled::failing(1 << 20, vec![denied])));
    let error = steady.read_at(70_000, &mut [0; 10]).unwrap_err();
    assert_eq!(error.to_string(), "reading 'https://h/ruled' at byte 70000: 403\\u{1b}[2J");
    assert_eq!(error.code(), "denied");
    assert!(matches!(steady.read_at(1 << 20, &mut [0]), Err(Error::CutShort { .. })));
    check(&steady, 70_000, 10);
    let changed = Fault::Changed("its version is another one".into());
    let steady = self::steady(Arc::new(Ruled::failing(1 << 20, vec![changed])));
    assert!(matches!(steady.read_at(0, &mut [0; 10]), Err(Error::Changed { .. })));
}

#[test]
fn patience_ends_and_a_reader_stops_at_once_when_it_is_told_to() {
    let broken = || vec![Fault::Again { what: "broke".into(), after: Some(Duration::from_millis(1)) }; 10_000];
    let shared = Shared { patience: Duration::from_millis(60), ..Shared::quiet() };
    let impatient = Steady::new(Arc::new(Ruled::failing(1 << 20, broken())), shared, &Budget::whole());
    let Err(Error::Wire(WireError { kind: WireKind::Unreachable, what, .. })) = impatient.read_at(0, &mut [0]) else {
        panic!("it works")
    };
    assert!(what.starts_with("broke; ") && what.contains("tries failed"), "{what}");

    let steady = steady(Arc::new(Ruled::failing(
        1 << 20,
        vec![Fault::Again { what: "busy".into(), after: Some(Duration::from_secs(100)) }],
    )));
    let stop = steady.core.shared.stop.clone();
    std::thread::scope(|scope| {
        scope.spawn(|| {
            std::thread::sleep(Duration::from_millis(100));
            stop.0.store(true, Ordering::Relaxed);
        });
        assert!(matches!(steady.read_at(0, &mut [0]), Err(Error::Interrupted)));
    });
}

#[test]
fn the_pace_is_kept_by_all_together() {
    let shared = Shared::quiet();
    shared.pace.limit(8 << 20);
    let start = std::time::Instant::now();
    std::thread::scope(|scope| {
        for _ in 0..2 {
            let steady = Steady::new(Arc::new(Ruled::new(2 << 20)), shared.clone(), &Budget::whole());
            scope.spawn(move || check(&steady, 0, 2 << 20));
        }
    });
    // The last piece waits for all before it.
    assert!(start.elapsed() > Duration::from_millis(200), "{:?}", start.elapsed());
}

#[test]
fn a_map_that_is_none_is_refused() {
    struct Liar(Ruled, Vec<Extent>);
    impl Remote for Liar {
        fn name(&self) -> &str {
            self.0.name()
        }
        fn len(&self) -> u64 {
            self.0.len
        }
        fn version(&self) -> reformis_disk::source::Version {
            self.0.version()
        }
        fn access(&self) -> Access {
            Access::ANYBODY
        }
        fn limits(&self) -> Limits {
            self.0.limits()
        }
        fn fetch(&self, at: u64, buf: &mut [u8], stop: &Stop) -> Result<(), Fault> {
            self.0.fetch(at, buf, stop)
        }
        fn has_map(&self) -> bool {
            true
        }
        fn map(&self, _: u64, _: u64, _: &Stop) -> Result<Vec<Extent>, Fault> {
            Ok(self.1.clone())
        }
        fn check(&self, _: &Stop) -> Result<(), Fault> {
            Ok(())
        }
        fn sibling(&self, name: &str, stop: &Stop) -> Result<Arc<dyn Remote>, Fault> {
            self.0.sibling(name, stop)
        }
    }
    for map in [
        vec![Extent::data(1, 5)],
        vec![Extent::zero(0, 0)],
        vec![Extent::data(0, 2 << 20)],
        vec![Extent::data(0, 5), Extent::zero(6, 5)],
    ] {
        let liar = Arc::new(Liar(Ruled::new(1 << 20), map.clone()));
        let steady = Steady::new(liar, Shared::quiet(), &Budget::whole());
        assert!(steady.extent_at(0).is_err(), "{map:?}");
    }
}
