//! Stores: what is put is there byte for byte, once, whatever breaks on the way; and what will not be taken is told with its remedy.

use std::{io::Write, process::Command};

use reformis_standin::store::{Faults, Options, Store};
use reformis_wire::{
    Wires,
    stores::{Begun, Upload},
};
use tempfile::TempDir;

use crate::common::{Kept, Pocket, content, has, whole, wires};

const MIB: u64 = 1 << 20;

struct Estuary {
    folder: TempDir,
    store: Store,
    site: String,
}

fn site(store: &Store, changed: &[(&str, &str)]) -> String {
    let mut site = format!(
        "[store.estuary]\nkind = \"objects\"\nat = \"{}/moves\"\nregion = \"estuary-1\"\nkey-id = \"keeper\"\nkey = {{ env = \"KEY\" }}\n",
        store.link()
    );
    for (from, to) in changed {
        assert!(site.contains(from), "{from}");
        site = site.replace(from, to);
    }
    site
}

/// By what a store may know that a part arrived as it was sent.
const CHECKSUMS: [&str; 2] = ["crc32c", "sha256"];

impl Estuary {
    fn new() -> Self {
        Self::with("crc32c")
    }

    fn with(checksum: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::start(Options::new(folder.path().join("store"))).unwrap();
        let site = site(&store, &[("region", &format!("checksum = \"{checksum}\"\nregion"))]);
        Self { folder, store, site }
    }

    /// Values of the header `name` in all requests that sent a part.
    fn headers_of_parts(&self, name: &str) -> Vec<String> {
        let log = self.store.log();
        let parts = log.iter().filter(|line| line.starts_with("PUT") && line.contains("partNumber"));
        let value = |line: &String| {
            let (_, rest) = line.split_once(&format!("{name}: "))?;
            rest.split([',', ' ']).next().map(String::from)
        };
        parts.filter_map(value).collect()
    }

    fn wires(&self) -> Wires {
        wires(self.folder.path(), &self.site, Pocket(&[("KEY", "a-key-for-tests")])).0
    }

    fn upload(&self, name: &str, begun: Option<Begun>, kept: &Kept) -> reformis_disk::Result<Upload> {
        let place = self.wires().store("estuary").unwrap();
        place.upload(name, 48 * MIB, self.folder.path(), begun, Box::new(kept.clone()))
    }

    /// Puts `bytes` in pieces of an odd length.
    fn put(&self, name: &str, bytes: &[u8], begun: Option<Begun>, kept: &Kept) -> reformis_disk::Result<u64> {
        let mut upload = self.upload(name, begun, kept)?;
        for piece in bytes.chunks(777_777) {
            if upload.write_all(piece).is_err() {
                return Err(upload.failure().unwrap());
            }
        }
        upload.finish()
    }

    fn has(&self, name: &str) -> Vec<u8> {
        std::fs::read(self.store.file(&format!("moves/{name}"))).unwrap()
    }

    /// Requests that sent a part.
    fn parts_sent(&self) -> usize {
        self.store.log().iter().filter(|line| line.starts_with("PUT") && line.contains("partNumber")).count()
    }
}

#[test]
fn what_is_put_is_there_byte_for_byte_and_is_read_again() {
    CHECKSUMS.iter().for_each(|checksum| put_and_read(checksum));
}

fn put_and_read(checksum: &str) {
    let estuary = Estuary::with(checksum);
    let bytes = content(40 << 20);
    for (name, len) in [
        ("none", 0),
        ("one.raw", 1),
        ("a part.raw", 16 << 20),
        ("über/+&=?#%.raw", 16 << 20 | 1),
        ("three.raw", 40 << 20),
    ] {
        assert_eq!(estuary.put(name, &bytes[..len], None, &Kept::default()).unwrap(), len as u64);
        assert!(estuary.has(name) == bytes[..len], "{name}");
        let place = estuary.wires().store("estuary").unwrap();
        assert_eq!(place.len_of(name).unwrap(), Some(len as u64));
        // By a link that lets anybody in; it says nothing of that when it is shown.
        let link = place.link(name).unwrap();
        assert!(!link.to_string().contains("Signature"), "{link}");
        if len > 0 {
            let read =
                estuary.wires().open(&link, &reformis_disk::budget::Budget::whole()).unwrap().random_access().unwrap();
            assert!(whole(read.as_ref()).unwrap() == bytes[..len], "{name}");
        }
    }
    assert!(estuary.store.uploads().is_empty());
    let kept = estuary.wires().store("estuary").unwrap();
    assert_eq!(kept.len_of("nothing").unwrap(), None);
    // Every part came with its sum, and the sum was signed.
    let (sent, sums) = (estuary.parts_sent(), estuary.headers_of_parts("x-amz-checksum-crc32c").len());
    assert_eq!((sent > 5, sums), (true, if checksum == "crc32c" { sent } else { 0 }));
    let unsigned =
        estuary.headers_of_parts("x-amz-content-sha256").iter().filter(|said| *said == "UNSIGNED-PAYLOAD").count();
    assert_eq!(unsigned, sums);
}

/// What another run sent by another sum is not finished with this one.
#[test]
fn an_upload_with_another_checksum_is_begun_anew() {
    let bytes = content(17 << 20);
    for (first, then) in [("crc32c", "sha256"), ("sha256", "crc32c")] {
        let mut estuary = Estuary::with(first);
        let kept = Kept::default();
        let mut upload = estuary.upload("tidelog.raw", None, &kept).unwrap();
        upload.write_all(&bytes).unwrap();
        drop(upload);
        assert_eq!((estuary.parts_sent(), kept.begun().unwrap().parts.len()), (1, 1));
        estuary.site = estuary.site.replace(first, then);
        // Also where no part was noted.
        let none = Begun { parts: std::collections::BTreeMap::new(), ..kept.begun().unwrap() };
        estuary.put("other.raw", &bytes[..MIB as usize], Some(none), &Kept::default()).unwrap();
        estuary.put("tidelog.raw", &bytes, kept.begun(), &kept).unwrap();
        assert_eq!(estuary.parts_sent(), 4);
        assert!(estuary.has("tidelog.raw") == bytes && estuary.store.uploads().is_empty());
    }
}

/// Without TLS, a part goes on a network by a digest that is signed, and by nothing less.
#[test]
fn what_others_could_change_on_the_way_is_signed() {
    let estuary = Estuary::new();
    let away = format!("http://store.example:{}/saltmarsh", estuary.store.address().port());
    let site = estuary.site.replace(&estuary.store.link(), &away);
    let link = format!(
        "[link.\"http://store.example:{0}\"]\nconnect-to = \"127.0.0.1:{0}\"\n",
        estuary.store.address().port()
    );
    let error = reformis_wire::Settings::parse("site.toml", &format!("{site}{link}"));
    assert!(error.unwrap_err().to_string().contains("not safe without TLS"));
    let site = site.replace("checksum = \"crc32c\"\n", "");
    let wires = wires(estuary.folder.path(), &format!("{site}{link}"), Pocket(&[("KEY", "a-key-for-tests")])).0;
    let place = wires.store("estuary").unwrap();
    let mut upload = place.upload("a.raw", MIB, estuary.folder.path(), None, Box::new(Kept::default())).unwrap();
    upload.write_all(b"tide").unwrap();
    upload.finish().unwrap();
    let said = estuary.headers_of_parts("x-amz-content-sha256");
    assert!(said.len() == 1 && said[0].len() == 64, "{said:?}");
}

/// The bucket stands in the name of the host, which leads to another place.
#[test]
fn a_bucket_may_stand_in_the_name_of_the_host() {
    let estuary = Estuary::new();
    let at = format!("http://saltmarsh.store.example:{}", estuary.store.address().port());
    let site = site(&estuary.store, &[(&estuary.store.link(), &at), ("region", "style = \"host\"\nregion")]);
    let site = format!("{site}[link.\"{at}\"]\nconnect-to = \"{}\"\n", estuary.store.address());
    let wires = wires(estuary.folder.path(), &site, Pocket(&[("KEY", "a-key-for-tests")])).0;
    let place = wires.store("estuary").unwrap();
    place.try_out("night").unwrap();
    place.put("night/a b.raw", b"tide").unwrap();
    assert_eq!(estuary.has("night/a b.raw"), b"tide");
    let link = place.link("night/a b.raw").unwrap();
    assert!(link.to_string().starts_with(&at), "{link}");
    let read = wires.open(&link, &reformis_disk::budget::Budget::whole()).unwrap().random_access().unwrap();
    assert!(whole(read.as_ref()).unwrap() == b"tide");
}

#[test]
fn a_link_is_good_for_a_time_and_for_nothing_else() {
    let estuary = Estuary::new();
    let place = estuary.wires().store("estuary").unwrap();
    place.put("a.raw", b"tide").unwrap();
    let link = place.link("a.raw").unwrap();
    let read =
        |link: &reformis_wire::Link| estuary.wires().open(link, &reformis_disk::budget::Budget::whole()).map(drop);
    read(&link).unwrap();
    let other = reformis_wire::Link { query: link.query.clone(), ..place.link("b.raw").unwrap() };
    assert!(read(&other).is_err());
    estuary.store.set_clock(13 * 3600);
    assert!(read(&link).is_err());
}

#[test]
fn what_breaks_on_the_way_is_sent_again() {
    let bytes = content(34 << 20);
    for faults in [
        Faults { cut: Some((3 << 20, 2)), ..Faults::default() },
        Faults { busy: 3, ..Faults::default() },
        Faults { lost: 1, ..Faults::default() },
        Faults { late: 1, ..Faults::default() },
    ] {
        let estuary = Estuary::with(CHECKSUMS[usize::from(faults.lost > 0)]);
        let kept = Kept::default();
        let mut upload = estuary.upload("tidelog.raw", None, &kept).unwrap();
        estuary.store.go_wrong(faults.clone());
        upload.write_all(&bytes).unwrap();
        assert_eq!(upload.finish().unwrap(), bytes.len() as u64, "{faults:?}");
        assert!(estuary.has("tidelog.raw") == bytes, "{faults:?}");
        assert!(estuary.store.uploads().is_empty());
    }
}

/// The answer to the last request of all is lost: it is made whole, and that is seen.
#[test]
fn an_upload_that_was_finished_without_an_answer_is_finished() {
    let estuary = Estuary::new();
    let mut upload = estuary.upload("tidelog.raw", None, &Kept::default()).unwrap();
    upload.write_all(&content(16 << 20)).unwrap();
    while estuary.parts_sent() == 0 || estuary.store.log().len() < 2 {
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
    std::thread::sleep(std::time::Duration::from_millis(300));
    estuary.store.go_wrong(Faults { lost: 1, ..Faults::default() });
    assert_eq!(upload.finish().unwrap(), 16 * MIB);
    assert!(estuary.has("tidelog.raw") == content(16 << 20));
}

#[test]
fn another_run_sends_only_what_is_not_there() {
    CHECKSUMS.iter().for_each(|checksum| gone_on_with(checksum));
}

fn gone_on_with(checksum: &str) {
    let estuary = Estuary::with(checksum);
    let bytes = content(40 << 20);
    let kept = Kept::default();
    let mut upload = estuary.upload("tidelog.raw", None, &kept).unwrap();
    upload.write_all(&bytes[..35 << 20]).unwrap();
    // What was handed over is sent to its end when it is let go of.
    drop(upload);
    assert_eq!(estuary.parts_sent(), 2);
    let begun = kept.begun().unwrap();
    assert_eq!(begun.parts.keys().copied().collect::<Vec<_>>(), [1, 2]);
    // One byte of the second part is another one by now.
    let mut changed = bytes.clone();
    changed[20 << 20] ^= 1;
    estuary.put("tidelog.raw", &changed, Some(begun.clone()), &kept).unwrap();
    assert_eq!(estuary.parts_sent(), 4, "{:?}", estuary.store.log());
    assert!(estuary.has("tidelog.raw") == changed);
    // An upload that is over is begun anew, and so is one that somebody gave up.
    estuary.put("tidelog.raw", &bytes, Some(begun), &kept).unwrap();
    assert_eq!(estuary.parts_sent(), 7);
    assert!(estuary.has("tidelog.raw") == bytes && estuary.store.uploads().is_empty());
}

/// Whoever lets go of an upload does not wait until a store that is away answers again.
#[test]
fn an_upload_is_let_go_of_while_the_store_is_busy() {
    let estuary = Estuary::new();
    let mut upload = estuary.upload("tidelog.raw", None, &Kept::default()).unwrap();
    estuary.store.go_wrong(Faults { busy: u32::MAX, ..Faults::default() });
    upload.write_all(&content(16 << 20)).unwrap();
    while estuary.parts_sent() < 3 {
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
    let (sender, gone) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        drop(upload);
        sender.send(()).unwrap();
    });
    // Patience would last for 20 s.
    gone.recv_timeout(std::time::Duration::from_secs(10)).unwrap();
}

/// A part that the ledger has and the store lost, or has otherwise, is sent again.
#[test]
fn what_a_ledger_says_is_compared_with_the_store() {
    let estuary = Estuary::new();
    let bytes = content(40 << 20);
    let kept = Kept::default();
    let mut upload = estuary.upload("tidelog.raw", None, &kept).unwrap();
    upload.write_all(&bytes[..33 << 20]).unwrap();
    drop(upload);
    let mut begun = kept.begun().unwrap();
    begun.parts.get_mut(&1).unwrap().tag = "\"another\"".into();
    let second = begun.parts[&2].clone();
    begun.parts.insert(3, second);
    estuary.put("tidelog.raw", &bytes, Some(begun), &kept).unwrap();
    assert_eq!(estuary.parts_sent(), 4);
    assert!(estuary.has("tidelog.raw") == bytes);
}

/// A list of parts comes in pages, which are all asked for.
#[test]
fn many_parts_are_listed_to_the_last() {
    let estuary = Estuary::new();
    let place = estuary.wires().store("estuary").unwrap();
    let kept = Kept::default();
    let bytes = content(16 << 20);
    let mut upload = place.upload("long.raw", 300 * MIB, estuary.folder.path(), None, Box::new(kept.clone())).unwrap();
    for _ in 0..9 {
        upload.write_all(&bytes).unwrap();
    }
    drop(upload);
    let begun = kept.begun();
    let mut upload = place.upload("long.raw", 300 * MIB, estuary.folder.path(), begun, Box::new(kept.clone())).unwrap();
    for _ in 0..9 {
        upload.write_all(&bytes).unwrap();
    }
    assert_eq!(upload.finish().unwrap(), 144 * MIB);
    assert_eq!(estuary.parts_sent(), 9);
}

/// Of an upload that may be long, parts are larger than what is kept in memory, and leave nothing in the folder where they wait.
#[test]
fn large_parts_wait_in_files() {
    let estuary = Estuary::new();
    let place = estuary.wires().store("estuary").unwrap();
    let wait = estuary.folder.path().join("wait");
    std::fs::create_dir(&wait).unwrap();
    let bytes = content(50 << 20);
    let mut upload = place.upload("long.raw", 200 << 30, &wait, None, Box::new(Kept::default())).unwrap();
    estuary.store.go_wrong(Faults { cut: Some((4 << 20, 2)), ..Faults::default() });
    upload.write_all(&bytes).unwrap();
    assert_eq!(std::fs::read_dir(&wait).unwrap().count(), 0);
    assert_eq!(upload.finish().unwrap(), 50 * MIB);
    assert!(estuary.has("long.raw") == bytes);
    // Three parts, and two that were cut off; what was sent on a connection that went with either may be sent once more.
    assert!((5..=7).contains(&estuary.parts_sent()), "{}", estuary.parts_sent());
}

#[test]
fn what_will_not_be_taken_is_told_with_its_remedy() {
    let estuary = Estuary::new();
    const KEY: &str = "a-key-for-tests";
    let told = |changed: &[(&str, &str)], key: &str| {
        let wires = wires(
            estuary.folder.path(),
            &site(&estuary.store, changed),
            Pocket(if key == KEY { &[("KEY", KEY)] } else { &[("KEY", "another-key")] }),
        )
        .0;
        wires.store("estuary").and_then(|store| store.try_out("night")).unwrap_err().to_string()
    };
    let bucket = |name: &str| format!("/{name}/moves");
    for (changed, key, parts) in [
        (vec![("estuary-1", "bay-2")], KEY, ["'estuary-1'", "change 'region'"]),
        (vec![("keeper", "nobody")], KEY, ["does not know our key", "key-id"]),
        (vec![], "another-key", ["does not fit", "key-id and key"]),
        (vec![("/saltmarsh/moves", &bucket("nowhere"))], KEY, ["no bucket 'nowhere'", "make it"]),
        (vec![("/saltmarsh/moves", &bucket("others"))], KEY, ["may not put objects in 'others'", "of your own"]),
    ] {
        let error = told(&changed, key);
        assert!(parts.iter().all(|part| error.contains(part)), "{error}");
        assert!(!error.contains(key), "{error}");
    }
    for name in ["../others/x", "night/./x", ".."] {
        let error = estuary.wires().store("estuary").unwrap().put(name, b"x").unwrap_err().to_string();
        assert!(error.contains("no .. between"), "{error}");
    }
    estuary.store.deny(&["put"]);
    assert!(told(&[], KEY).contains("may not put objects in 'saltmarsh': grant it that"));
    for (word, what) in [("remove", "may not remove objects"), ("list", "may not list uploads")] {
        estuary.store.deny(&[word]);
        assert!(told(&[], KEY).contains(what));
    }
    estuary.store.deny(&[]);
    estuary.store.set_quota(10 * MIB);
    let error = estuary.put("tidelog.raw", &content(16 << 20), None, &Kept::default()).unwrap_err().to_string();
    assert!(error.contains("no room") && error.contains("quota"), "{error}");
}

/// Ten minutes are within what a store takes; sixteen are not, in either direction, and its own clock helps.
#[test]
fn a_clock_that_is_off_is_mended_and_told() {
    for (seconds, said) in [(600, None), (960, Some("16 min ahead of ours")), (-3600, Some("60 min behind ours"))] {
        let estuary = Estuary::new();
        estuary.store.set_clock(seconds);
        let (wires, heard) = wires(estuary.folder.path(), &estuary.site, Pocket(&[("KEY", "a-key-for-tests")]));
        let place = wires.store("estuary").unwrap();
        place.try_out("").unwrap();
        let heard = heard.lock().unwrap().join("\n");
        match said {
            Some(said) => assert!(heard.contains(said), "{heard}"),
            None => assert_eq!(heard, ""),
        }
        let link = place.link("x").unwrap();
        place.put("x", b"tide").unwrap();
        let read = wires.open(&link, &reformis_disk::budget::Budget::whole()).unwrap().random_access().unwrap();
        assert!(whole(read.as_ref()).unwrap() == b"tide");
    }
}

#[test]
fn what_was_left_unfinished_is_listed_and_given_up() {
    let estuary = Estuary::new();
    for name in ["night/a.raw", "night/b.raw", "day/c.raw"] {
        let mut upload = estuary.upload(name, None, &Kept::default()).unwrap();
        upload.write_all(b"some").unwrap();
    }
    let place = estuary.wires().store("estuary").unwrap();
    assert_eq!(place.unfinished("night/").unwrap().len(), 2);
    for (name, id) in place.unfinished("night/").unwrap() {
        place.give_up(&name, &id).unwrap();
        // Twice is no mistake: somebody else may have done it.
        place.give_up(&name, &id).unwrap();
    }
    let left: Vec<_> = place.unfinished("").unwrap().into_iter().map(|(name, _)| name).collect();
    assert_eq!(left, ["day/c.raw"]);
    assert!(place.about().unwrap().contains(&"one upload is left unfinished".to_string()));
}

/// Another program that signs, so that the stand-in's own reading of the rules is judged, and by it ours.
#[test]
fn the_stand_in_lets_another_client_in() {
    let estuary = Estuary::new();
    if !has("the_stand_in_lets_another_client_in", &["curl"]) {
        return;
    }
    let file = estuary.folder.path().join("up");
    std::fs::write(&file, content(100_000)).unwrap();
    let target = format!("{}/moves/by%20curl.raw", estuary.store.link());
    let curl = |key: &str, more: &[&str]| {
        let user = format!("keeper:{key}");
        let mut words =
            vec!["-s", "-o", "/dev/null", "-w", "%{http_code}", "--aws-sigv4", "aws:amz:estuary-1:s3", "--user", &user];
        let digest = "x-amz-content-sha256: e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855";
        if more.is_empty() {
            words.extend(["-H", digest]);
        }
        words.extend(more);
        words.push(&target);
        let out = Command::new("curl").args(&words).output().unwrap();
        String::from_utf8_lossy(&out.stdout).into_owned()
    };
    let sum = Command::new("sha256sum").arg(&file).output().unwrap();
    let sum = String::from_utf8(sum.stdout).unwrap()[..64].to_string();
    let digest = format!("x-amz-content-sha256: {sum}");
    assert_eq!(curl("a-key-for-tests", &["-H", &digest, "-T", &file.to_string_lossy()]), "200");
    assert!(estuary.has("by curl.raw") == content(100_000));
    assert_eq!(curl("a-key-for-tests", &[]), "200");
    // And not with another key, nor with what is not what it says.
    assert_eq!(curl("another-key", &[]), "403");
    let wrong = format!("x-amz-content-sha256: {}", "0".repeat(64));
    assert_eq!(curl("a-key-for-tests", &["-H", &wrong, "-T", &file.to_string_lossy()]), "400");
    // A body that is not signed comes with its sum. That of "123456789" is 0xe3069283 (RFC 3720, appendix B.4, is of the same code).
    std::fs::write(&file, "123456789").unwrap();
    let (unsigned, path) = ("x-amz-content-sha256: UNSIGNED-PAYLOAD", file.to_string_lossy());
    let with = |sum: &str| {
        curl("a-key-for-tests", &["-H", unsigned, "-H", &format!("x-amz-checksum-crc32c: {sum}"), "-T", &path])
    };
    assert_eq!(curl("a-key-for-tests", &["-H", unsigned, "-T", &path]), "400");
    assert_eq!((with("4waSgg=="), with("4waSgw==")), ("400".into(), "200".into()));
}

/// The link is cut at fifty points: what is there in the end is right, and was sent once where it was whole.
#[test]
fn the_connection_is_cut_at_fifty_points() {
    let bytes = content(17 << 20);
    let estuary = Estuary::new();
    let start = std::time::Instant::now();
    estuary.put("first.raw", &bytes, None, &Kept::default()).unwrap();
    // The others run at the same time now, and not for long.
    let time = start.elapsed().min(std::time::Duration::from_millis(700));
    for round in 0..50u32 {
        let name = format!("{round}.raw");
        std::thread::scope(|scope| {
            let writer = scope.spawn(|| estuary.put(&name, &bytes, None, &Kept::default()));
            std::thread::sleep(time * (round * 37 % 50) / 50);
            estuary.store.cut();
            assert_eq!(writer.join().unwrap().unwrap(), bytes.len() as u64, "round {round}");
        });
        assert!(estuary.has(&name) == bytes, "round {round}");
        std::fs::remove_file(estuary.store.file(&format!("moves/{name}"))).unwrap();
    }
    assert!(estuary.store.uploads().is_empty());
}
