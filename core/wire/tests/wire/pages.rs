//! Page stores: what is put is there byte for byte, and no page that holds nothing is sent; what will not be taken is told.

use std::io::Write;

use reformis_disk::budget::Budget;
use reformis_standin::store::{Faults, PageOptions, PageStore};
use reformis_wire::{
    Wires,
    stores::{Begun, Place},
};
use tempfile::TempDir;

use crate::common::{Kept, Pocket, content, whole, wires};

const MIB: usize = 1 << 20;
const KEY: &str = "YSBrZXkgb2YgdGhpcnR5LXR3byBieXRlcywgcGxhaW4=";

struct Estuary {
    folder: TempDir,
    store: PageStore,
    site: String,
}

impl Estuary {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let store = PageStore::start(PageOptions::new(folder.path().join("pages"))).unwrap();
        let site = format!(
            "[store.quay]\nkind = \"pages\"\nat = \"{}/night\"\nkey-id = \"saltmarsh\"\nkey = {{ env = \"KEY\" }}\n",
            store.link()
        );
        Self { folder, store, site }
    }

    fn wires(&self) -> Wires {
        wires(self.folder.path(), &self.site, Pocket(&[("KEY", KEY)])).0
    }

    fn put(&self, name: &str, bytes: &[u8], begun: Option<Begun>, kept: &Kept) -> reformis_disk::Result<u64> {
        let place = self.wires().store("quay")?;
        let len = bytes.len() as u64;
        let mut upload = place.upload(name, len, self.folder.path(), begun, Box::new(kept.clone()))?;
        for piece in bytes.chunks(777_777) {
            if upload.write_all(piece).is_err() {
                return Err(upload.failure().unwrap());
            }
        }
        upload.finish()
    }

    fn page_puts(&self) -> usize {
        self.store.log().iter().filter(|line| line.contains("comp=page ")).count()
    }
}

/// Twenty-one MiB and a page, of which little holds something.
fn sparse() -> Vec<u8> {
    let mut disk = vec![0; 21 * MIB + 512];
    let bytes = content(600_000);
    disk[1000..601_000].copy_from_slice(&bytes);
    disk[7 * MIB - 5..7 * MIB + 5].copy_from_slice(&bytes[..10]);
    for at in [9 * MIB, 9 * MIB + 70_000, 9 * MIB + 300_000, 13 * MIB, 21 * MIB + 511] {
        disk[at] = 7;
    }
    disk
}

#[test]
fn only_pages_that_hold_something_are_sent() {
    let estuary = Estuary::new();
    let disk = sparse();
    assert_eq!(estuary.put("a disk.vhd", &disk, None, &Kept::default()).unwrap(), disk.len() as u64);
    let name = "night/a disk.vhd";
    assert!(estuary.store.bytes(name) == disk);
    let runs = estuary.store.runs(name);
    assert!(runs.len() > 5, "a list in several pages: {runs:?}");
    for (start, end) in &runs {
        let run = &disk[*start as usize..*end as usize];
        // A run begins and ends with a page that holds something, and has no long gap.
        assert!(run[..512].iter().any(|byte| *byte != 0) && run[run.len() - 512..].iter().any(|byte| *byte != 0));
        let longest = run.split(|byte| *byte != 0).map(<[u8]>::len).max().unwrap();
        assert!(longest < (64 << 10) + 1024, "{longest}");
    }
    assert!(estuary.store.unfinished().is_empty());
    // What is read again asks for those pages alone.
    let place = estuary.wires().store("quay").unwrap();
    let read = place.open("a disk.vhd", &Budget::whole()).unwrap().random_access().unwrap();
    assert!(whole(read.as_ref()).unwrap() == disk);
    let log = estuary.store.log();
    let ranges: Vec<_> = log.iter().filter(|line| line.starts_with("GET") && line.contains("range: bytes=")).collect();
    assert!(!ranges.iter().any(|line| line.contains("bytes=16777216-")), "{ranges:?}");
    // A link says nothing of what lets in.
    let link = place.link("a disk.vhd").unwrap();
    assert!(!link.to_string().contains("sig"), "{link}");
    assert!(!log.iter().any(|line| line.contains(KEY)));
}

#[test]
fn what_breaks_on_the_way_is_sent_again_and_what_was_sent_is_not() {
    let disk = sparse();
    for faults in [
        Faults { cut: Some((100_000, 2)), ..Faults::default() },
        Faults { busy: 3, ..Faults::default() },
        Faults { lost: 2, ..Faults::default() },
    ] {
        let estuary = Estuary::new();
        let place = estuary.wires().store("quay").unwrap();
        let kept = Kept::default();
        let mut upload = place.upload("t.raw", disk.len() as u64, estuary.folder.path(), None, Box::new(kept)).unwrap();
        estuary.store.go_wrong(faults.clone());
        upload.write_all(&disk).unwrap();
        upload.finish().unwrap();
        assert!(estuary.store.bytes("night/t.raw") == disk, "{faults:?}");
    }
    // Another run goes on.
    let estuary = Estuary::new();
    let place = estuary.wires().store("quay").unwrap();
    let kept = Kept::default();
    let mut upload =
        place.upload("t.raw", disk.len() as u64, estuary.folder.path(), None, Box::new(kept.clone())).unwrap();
    upload.write_all(&disk[..17 * MIB]).unwrap();
    drop(upload);
    assert_eq!(place.len_of("t.raw").unwrap(), None, "it is not whole");
    let open = place.unfinished("").unwrap();
    assert_eq!((open.len(), open[0].0.as_str()), (1, "t.raw"));
    let (puts, begun) = (estuary.page_puts(), kept.begun());
    assert_eq!(begun.as_ref().unwrap().parts.len(), 1);
    estuary.put("t.raw", &disk, begun, &kept).unwrap();
    assert!(estuary.store.bytes("night/t.raw") == disk);
    assert_eq!(estuary.page_puts() - puts, 2, "what lies behind 16 MiB is cleared, and put");
    // What an earlier run put, and this one has nothing for, is cleared: whatever it noted of that.
    for noted in [false, true] {
        let (estuary, kept) = (Estuary::new(), Kept::default());
        let place = estuary.wires().store("quay").unwrap();
        let len = 53 * MIB + 512;
        let mut older = vec![0; len];
        for at in [700, 5 * MIB, 17 * MIB, 33 * MIB + 4096, 52 * MIB] {
            older[at..at + 9000].fill(9);
        }
        let mut upload =
            place.upload("v.raw", len as u64, estuary.folder.path(), None, Box::new(kept.clone())).unwrap();
        upload.write_all(&older).unwrap();
        drop(upload);
        let mut begun = kept.begun().unwrap();
        if !noted {
            begun.parts.clear();
        }
        let mut newer = vec![0; len];
        newer[6 * MIB..6 * MIB + 5].fill(7);
        newer[52 * MIB..52 * MIB + 9000].fill(9);
        let mut upload = place.upload("v.raw", len as u64, estuary.folder.path(), Some(begun), Box::new(kept)).unwrap();
        // As a writer tells them: bytes, and long runs of zeros.
        upload.write_all(&newer[..7 * MIB]).unwrap();
        upload.zeros(45 * MIB as u64).unwrap();
        upload.write_all(&newer[52 * MIB..]).unwrap();
        assert_eq!(upload.finish().unwrap(), len as u64);
        assert!(estuary.store.bytes("night/v.raw") == newer, "noted: {noted}");
        let runs = estuary.store.runs("night/v.raw");
        assert!(runs.iter().all(|(start, _)| *start == 6 << 20 || *start == 52 << 20), "{runs:?}");
    }
    // One that nobody goes on with is given up.
    let mut upload = place.upload("u.raw", 4096, estuary.folder.path(), None, Box::new(Kept::default())).unwrap();
    upload.write_all(&disk[..2048]).unwrap();
    drop(upload);
    let (name, id) = place.unfinished("").unwrap().remove(0);
    place.give_up(&name, &id).unwrap();
    assert!(estuary.store.unfinished().is_empty());
}

#[test]
fn what_is_refused_is_told_with_its_remedy() {
    let estuary = Estuary::new();
    let told = |site: &str, key: &'static str| {
        let wires = wires(estuary.folder.path(), site, Pocket(Box::leak(Box::new([("KEY", key)])))).0;
        wires.store("quay").and_then(|place| place.try_out("")).unwrap_err().to_string()
    };
    assert!(told(&estuary.site, "not base64").contains("base64"));
    assert!(told(&estuary.site, "YW5vdGhlciBrZXk=").contains("look at key-id and key"));
    let other = estuary.site.replace("/moves/night", "/nowhere");
    assert!(told(&other, KEY).contains("no container 'nowhere'"));
    estuary.store.deny(&["put"]);
    assert!(told(&estuary.site, KEY).contains("may not put objects in 'moves'"));
    estuary.store.deny(&[]);
    // A clock that is off is the store's business, and is said.
    estuary.store.set_clock(-20 * 60);
    let (own, said) = wires(estuary.folder.path(), &estuary.site, Pocket(&[("KEY", KEY)]));
    own.store("quay").and_then(|place| place.try_out("")).unwrap();
    assert!(said.lock().unwrap().iter().any(|line| line.contains("20 min behind ours")), "{said:?}");
    estuary.store.set_clock(0);
    estuary.store.set_quota(100_000);
    let full = estuary.put("t.raw", &content(MIB), None, &Kept::default()).unwrap_err().to_string();
    assert!(full.contains("ask for a larger quota"), "{full}");
}

/// A link is good for a time and for one object.
#[test]
fn links_expire() {
    let estuary = Estuary::new();
    let place = estuary.wires().store("quay").unwrap();
    place.put("a.json", b"tide").unwrap();
    let link = place.link("a.json").unwrap();
    let read = |link: &reformis_wire::Link| estuary.wires().open(link, &Budget::whole()).map(drop);
    read(&link).unwrap();
    let other = reformis_wire::Link { query: link.query.clone(), ..place.link("b.json").unwrap() };
    assert!(read(&other).is_err());
    estuary.store.set_clock(13 * 3600);
    assert!(read(&link).is_err());
}

/// A disk that is in use is read as it was at one moment, and nothing of that stays there, but what was asked for by its time.
#[test]
fn a_disk_in_use_is_read_as_of_one_moment() {
    let estuary = Estuary::new();
    let disk = sparse();
    estuary.put("t.vhd", &disk, None, &Kept::default()).unwrap();
    let read = |place: &Place, name: &str| {
        whole(place.open_at_one_moment(name, &Budget::whole()).unwrap().random_access().unwrap().as_ref())
    };
    let wires = estuary.wires();
    let place = wires.store("quay").unwrap();
    assert!(read(&place, "t.vhd").unwrap() == disk);
    assert!(!estuary.store.log().iter().any(|line| line.contains("comp=snapshot")), "nobody asked for a snapshot");
    // What is written while it is read is found out.
    let opened = place.open("t.vhd", &Budget::whole()).unwrap().random_access().unwrap();
    estuary.store.change("night/t.vhd", 9 << 20, b"tide").unwrap();
    assert!(whole(opened.as_ref()).is_err());
    let mut disk = disk;
    disk[9 << 20..][..4].copy_from_slice(b"tide");
    // One moment of it is read to the end, and given back.
    wires.read_running();
    let opened = place.open_at_one_moment("t.vhd", &Budget::whole()).unwrap().random_access().unwrap();
    let [(own, time)] = &estuary.store.snapshots()[..] else { panic!("{:?}", estuary.store.snapshots()) };
    assert_eq!((own.as_str(), opened.name()), ("night/t.vhd", format!("quay:t.vhd@{time}").as_str()));
    let from = estuary.store.log().len();
    estuary.store.change("night/t.vhd", 9 << 20, b"ebb!").unwrap();
    assert!(whole(opened.as_ref()).unwrap() == disk);
    let log = estuary.store.log();
    assert!(log[from..].iter().all(|line| line.contains("snapshot=") && line.contains("sr=bs")), "{:?}", &log[from..]);
    drop(opened);
    assert!(estuary.store.snapshots().is_empty());
    disk[9 << 20..][..4].copy_from_slice(b"ebb!");
    assert!(estuary.store.bytes("night/t.vhd") == disk);
    // One that a killed run left is listed, and removing it leaves the disk.
    std::mem::forget(place.open_at_one_moment("t.vhd", &Budget::whole()).unwrap());
    let left = place.unfinished("").unwrap();
    assert!(left.len() == 1 && left[0].0.starts_with("t.vhd@"), "{left:?}");
    // By its time it is read, and not given back: it is not ours alone.
    assert!(read(&place, &left[0].0).unwrap() == disk);
    assert_eq!(place.unfinished("").unwrap(), left);
    // A new upload of the disk is no reason to remove it.
    let other = estuary.put("t.vhd.new", &disk, None, &Kept::default()).unwrap();
    assert_eq!((other, estuary.store.snapshots().len()), (disk.len() as u64, 1));
    place.give_up(&left[0].0, &left[0].1).unwrap();
    assert!(estuary.store.snapshots().is_empty() && estuary.store.bytes("night/t.vhd") == disk);
    assert!(place.unfinished("").unwrap().is_empty());
}
